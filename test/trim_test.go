package test

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// room is how much the images of the lab take on the file system, bytes.
func (b *bench) room(bays ...string) (n int64) {
	b.t.Helper()
	for _, bay := range bays {
		info, err := os.Stat(b.home + "/lab/" + bay + "/disk.img")
		require.NoError(b.t, err)
		n += info.Sys().(*syscall.Stat_t).Blocks * 512
	}
	return n
}

// What a client trims takes no room on the members any more, and the rest stays what it was.
func TestTrimmedBlocksAreGivenBack(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	b.nidalo("create", "-yes", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4")
	b.start()
	empty := b.room("A1", "A2", "A3", "A4")
	image, raw := b.home+"/image", noise(24<<20)
	require.NoError(t, os.WriteFile(image, raw, 0o600))
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	full := b.room("A1", "A2", "A3", "A4")
	require.Greater(t, full-empty, int64(40<<20))

	// All but 64 KiB in the middle, which is not a whole stripe.
	b.tool("qemu-io", "-f", "raw", "-c", "discard 0 12M", "-c", "discard 12352k 11M", "-c", "flush", b.uri("tides"))
	b.eventually("the room comes back", func() bool { return b.room("A1", "A2", "A3", "A4")-empty < 8<<20 })
	clear(raw[:12<<20])
	clear(raw[12352<<10:][:11<<20])
	b.tool("nbdcopy", b.uri("tides"), image+".back")
	back, err := os.ReadFile(image + ".back")
	require.NoError(t, err)
	require.Equal(t, raw, back[:len(raw)])
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")

	// It can be turned off.
	b.configure("give_back = false\n")
	b.stop(syscall.SIGTERM)
	b.start()
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	full = b.room("A1", "A2", "A3", "A4")
	b.tool("qemu-io", "-f", "raw", "-c", "discard 0 24M", "-c", "flush", b.uri("tides"))
	b.stop(syscall.SIGTERM)
	require.GreaterOrEqual(t, b.room("A1", "A2", "A3", "A4"), full)
}

// An array that is made while the service runs is served like any other.
func TestAnArrayMadeWhileTheServiceRunsIsServed(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.start()
	b.nidalo("create", "-yes", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	image, raw := b.home+"/image", noise(1<<20)
	require.NoError(t, os.WriteFile(image, raw, 0o600))
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	b.tool("nbdcopy", b.uri("tides"), image+".back")
	back, err := os.ReadFile(image + ".back")
	require.NoError(t, err)
	require.Equal(t, raw, back[:len(raw)])
}
