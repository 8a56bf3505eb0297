//go:build machine

package crash

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	oneSeed = flag.Uint64("seed", 0, "replay this seed and tell its story")
	from    = flag.Uint64("from", 1, "the first seed")
	share   = flag.String("share", "", "play every so manyth seed and write down here what happened")
	stride  = flag.Uint64("stride", 1, "how many processes share the seeds")
)

func TestSeed(t *testing.T) {
	if *oneSeed == 0 {
		t.Skip("replays one seed: -seed N")
	}
	log, err := story(*oneSeed)
	for _, line := range log {
		t.Log(line)
	}
	require.NoError(t, err)
}

// seen counts how often something happened, over all seeds.
func seen(what string) { coverage[what]++ }

var coverage = map[string]int{}

// wanted is what must happen in a run of many seeds: one in which it never did proves nothing about it.
var wanted = []string{"power cut in the work", "power cut in recovery", "replaced", "returned", "retirement begun", "check begun", "set back",
	"set back and noticed by its pages", "event member-missing", "event member-failed", "event member-returned", "event member-retired", "event rebuild-done", "event catch-up-done",
	"event journal-replayed", "event journal-damaged", "event table-damaged", "event batch-dropped", "part of a block written", "brought back in place",
	"rescued", "read from outside", "a disk hangs", "all disks stall", "a sync failed", "rot while it runs"}

// report is what one process found.
type report struct {
	Seeds    int
	Failures []string
	Coverage map[string]int
}

// TestPowerCuts plays NIDALO_SEEDS seeds (a hundred when not set), and no longer than NIDALO_MINUTES if that is set. A process has one
// scheduler, so there is one process for each processor.
func TestPowerCuts(t *testing.T) {
	if *share != "" {
		t.Skip("TestShare does this process's part")
	}
	began, workers := time.Now(), runtime.NumCPU()
	self, err := os.Executable()
	require.NoError(t, err)
	folder, parts := t.TempDir(), make([]*exec.Cmd, workers)
	for i := range parts {
		cmd := exec.Command(self, "-test.run", "^TestShare$", "-test.timeout", "0", "-share", filepath.Join(folder, strconv.Itoa(i)),
			"-from", strconv.FormatUint(*from+uint64(i), 10), "-stride", strconv.Itoa(workers))
		cmd.Env = append(os.Environ(), "GOGC=400")
		cmd.Stderr = os.Stderr
		alive, err := cmd.StdinPipe() // it ends when this process does
		require.NoError(t, err)
		defer alive.Close()
		require.NoError(t, cmd.Start())
		parts[i] = cmd
	}
	all := report{Coverage: map[string]int{}}
	for i, cmd := range parts {
		failed := cmd.Wait()
		var part report
		raw, err := os.ReadFile(filepath.Join(folder, strconv.Itoa(i)))
		if err == nil {
			err = json.Unmarshal(raw, &part)
		}
		require.NoError(t, err, "a process ended before its time: %v", failed)
		all.Seeds += part.Seeds
		all.Failures = append(all.Failures, part.Failures...)
		for what, n := range part.Coverage {
			all.Coverage[what] += n
		}
	}
	for _, failure := range all.Failures {
		t.Error(failure)
	}
	table := fmt.Sprintf("%d seeds from %d, %.0f a minute with %d processes\n", all.Seeds, *from, float64(all.Seeds)/time.Since(began).Minutes(), workers)
	for _, what := range slices.Sorted(maps.Keys(all.Coverage)) {
		table += fmt.Sprintf("%10d  %s\n", all.Coverage[what], what)
	}
	fmt.Print(table)
	for _, what := range wanted {
		if all.Seeds >= 1000 && all.Coverage[what] == 0 {
			t.Errorf("it never happened: %s", what)
		}
	}
}

// TestShare plays one process's part of the seeds.
func TestShare(t *testing.T) {
	if *share == "" {
		t.Skip("TestPowerCuts starts it")
	}
	go func() {
		_, _ = io.Copy(io.Discard, os.Stdin)
		os.Exit(1)
	}()
	number := func(name string) uint64 {
		n, _ := strconv.ParseUint(os.Getenv(name), 10, 32)
		return n
	}
	seeds, minutes := number("NIDALO_SEEDS"), number("NIDALO_MINUTES")
	switch {
	case seeds > 0:
	case minutes > 0:
		seeds = 1 << 40
	default:
		seeds = 100
	}
	part, end := report{Coverage: coverage}, time.Now().Add(time.Duration(minutes)*time.Minute)
	for seed := *from; uint64(part.Seeds)**stride < seeds && len(part.Failures) < 3; seed += *stride {
		if minutes > 0 && time.Now().After(end) {
			break
		}
		part.Seeds++
		if err := Run(seed); err != nil {
			part.Failures = append(part.Failures, err.Error())
		}
	}
	raw, err := json.Marshal(part)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(*share, raw, 0o600))
}

// TestASeedRepeatsExactly: the story of a run is the same each time.
func TestASeedRepeatsExactly(t *testing.T) {
	for seed := *from; seed < *from+20; seed++ {
		first, err := story(seed)
		require.NoError(t, err)
		for range 2 {
			again, err := story(seed)
			require.NoError(t, err)
			require.Equal(t, first, again, "seed %d", seed)
		}
	}
}
