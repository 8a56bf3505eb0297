package test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// Of two disks that carry the same member none is used until one is chosen; the other stays out, whatever happens to the first.
func TestOfCopiesTheChosenOneIsUsed(t *testing.T) {
	b := newBench(t)
	folder := filepath.Join(b.home, "d")
	require.NoError(t, os.Mkdir(folder, 0o700))
	b.configure("disk_patterns = ['" + folder + "/*']\n")
	one, two, three := filepath.Join(folder, "1"), filepath.Join(folder, "2"), filepath.Join(folder, "3")
	for _, path := range []string{one, two, three} {
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 64<<20))
	}
	b.nidalo("create", "-yes", "-name", "tides", "-level", "5", one, two, three)
	b.start()
	image, raw := b.home+"/image", noise(20<<20)
	require.NoError(t, os.WriteFile(image, raw, 0o600))
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	b.refused(1, []string{"nothing to choose"}, "choose", one)
	require.Zero(t, b.stop(syscall.SIGTERM))

	// An old copy: the array goes on afterwards, with the original, and with other data.
	old := filepath.Join(folder, "0")
	b.tool("cp", "--sparse=always", one, b.home+"/old")
	b.start()
	for i := range raw {
		raw[i] ^= 0x55
	}
	require.NoError(t, os.WriteFile(image, raw, 0o600))
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	require.Zero(t, b.stop(syscall.SIGTERM))
	require.NoError(t, os.Rename(b.home+"/old", old))

	b.start()
	require.Equal(t, "exposed", b.condition(), "neither is used")
	require.Contains(t, b.nidalo("next"), "nidalo choose")
	b.nidalo("stop", "tides")
	_, out, _ := b.try("rescue", "tides")
	require.Contains(t, out, "not there", "a rescue guesses no better")
	b.nidalo("start", "tides")
	require.Contains(t, b.nidalo("disks"), "one is a copy of the other")
	b.nidalo("choose", "-yes", one)
	b.healthy()
	b.refused(1, []string{"in service already"}, "choose", "-yes", old)
	require.Contains(t, b.nidalo("disks"), "which was chosen")
	same := func() {
		b.tool("nbdcopy", b.uri("tides"), image+".back")
		back, err := os.ReadFile(image + ".back")
		require.NoError(t, err)
		require.Equal(t, raw, back[:len(raw)])
		require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
	}
	same()

	// Without the chosen one its copy is not used either.
	require.Zero(t, b.stop(syscall.SIGTERM))
	require.NoError(t, os.Rename(one, b.home+"/away"))
	b.start()
	require.Equal(t, "exposed", b.condition())

	// The old one is too old to catch up. Erased, it is as good as any disk.
	b.refused(1, []string{"cannot be the member", "erase"}, "choose", "-yes", old)
	b.nidalo("erase", "-yes", old)
	b.nidalo("replace", "-wait", "tides", one, old)
	b.healthy()
	same()
}
