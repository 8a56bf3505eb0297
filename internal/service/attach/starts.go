package attach

import (
	"fmt"
	"os"
	"path/filepath"

	"nidalo/internal/keeper"
)

// A keeper sends again what was not flushed when the service goes away and comes back. That is right only while the array was nowhere else
// meanwhile, which its number of starts tells: this host remembers, until it is booted anew, which starts were its own.

// Continue notes that this host is about to start an array that was started so many times, and returns the first of the starts
// that were all on this host since it was booted, up to that one.
func Continue(id string, starts uint64) (since uint64) {
	next := starts + 1
	since = next
	var last, first uint64
	if raw, err := os.ReadFile(startsPath(id)); err == nil {
		if _, err := fmt.Sscanf(string(raw), "%d %d", &last, &first); err == nil && (starts == last || starts+1 == last) { // the second: it was killed before it counted
			since = first
		}
	}
	noteStarts(id, next, since)
	return since
}

// Begin notes the first start of an array that was just created, and returns it.
func Begin(id string, starts uint64) uint64 {
	noteStarts(id, starts, starts)
	return starts
}

func startsPath(id string) string { return filepath.Join(keeper.RunFolder(), "starts", id) }

// noteStarts writes that down, in memory: a reboot of the host begins anew.
func noteStarts(id string, last, since uint64) {
	if keeper.RunFolder() == "" || os.Geteuid() != 0 {
		return
	}
	if err := os.MkdirAll(filepath.Dir(startsPath(id)), 0o700); err == nil {
		_ = os.WriteFile(startsPath(id), fmt.Appendf(nil, "%d %d\n", last, since), 0o600)
	}
}

// attachedBefore says whether an array had a device since this host was booted.
func attachedBefore(id string) bool {
	_, err := os.Stat(filepath.Join(keeper.RunFolder(), "carry-over", id))
	return err == nil
}
