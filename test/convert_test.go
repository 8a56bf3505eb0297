package test

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
)

// TestConversionsGoOnAfterEveryKill kills the service in the middle of conversions, again and again, while a client writes: of each block the one it
// flushed is there or a later one, and what was there before reads the same. NIDALO_CYCLES says how many times.
func TestConversionsGoOnAfterEveryKill(t *testing.T) {
	kills := 6
	if n, err := strconv.Atoi(os.Getenv("NIDALO_CYCLES")); err == nil {
		kills = n
	}
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "7", "-size", "96MiB")
	b.configure("pace = '4MiB/s'\n")
	b.nidalo("create", "-name", "tides", "-level", "5", "-strip", "16KiB", "A1", "A2", "A3", "A4")
	b.start()
	const size = 96 * mib
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, size)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	v := &versions{off: size, may: make([][]uint64, 4000)}
	for i := range v.may {
		v.may[i] = []uint64{0}
	}
	r := rand.New(rand.NewPCG(3, 4))
	// Each of these leads to the next, and the last two to each other.
	steps := [][]string{{"-level", "6", "tides", "A5"}, {"-level", "10", "tides", "A6"}, {"-level", "6", "tides"}, {"-strip", "64KiB", "tides"}, {"-strip", "16KiB", "tides"}}
	at, moved := 0, 0
	for range kills {
		if !strings.Contains(b.nidalo("status", "tides"), "being converted") {
			b.nidalo(append([]string{"convert", "-yes"}, steps[at]...)...)
			if at++; at == len(steps) {
				at -= 2
			}
		}
		c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
		require.NoError(t, err)
		v.write(c, r, 200+r.IntN(1500), b.serve.Process.Kill)
		b.stop(syscall.SIGKILL)
		b.start()
		if strings.Contains(b.nidalo("status", "tides"), "being converted") {
			moved++
		}
		c, err = nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
		require.NoError(t, err)
		v.verify(t, c)
		require.NoError(t, c.Close())
		b.tool("nbdcopy", b.uri("tides"), out)
		same(t, in, out, size)
	}
	require.Positive(t, moved, "no kill came in a conversion")
	b.pace("pace = 'full'\n")
	b.eventually("the conversion ends", func() bool { return !strings.Contains(b.nidalo("status", "tides"), "being converted") })
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, size)
}

// One change waits for another and begins by itself, over a kill too. The file system on an array that grew is known by name until it has grown as well.
func TestAChangeWaitsForAnotherAndTheFileSystemIsNext(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "8", "-size", "96MiB")
	b.configure("pace = '1MiB/s'\n")
	b.nidalo("create", "-yes", "-name", "tides", "-level", "5", "-strip", "16KiB", "A1", "A2", "A3")
	b.start()
	image := filepath.Join(b.home, "image")
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	capacity := b.status().Arrays[0].Capacity
	require.NoError(t, os.Truncate(image, capacity))
	b.tool("mkfs.ext4", "-q", "-F", "-E", "lazy_itable_init=0", image)
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	require.NotContains(t, b.nidalo("next"), "file system")
	_, _, plan := b.try("convert", "-yes", "-level", "6", "tides", "A4", "A5")
	require.Contains(t, plan, "on each member now, about")
	require.Contains(t, b.nidalo("convert", "-yes", "-level", "10", "tides", "A6"), "begins by itself when what is under way is done")
	require.Contains(t, b.nidalo("status", "tides"), "Another change waits for that: to level 10 of 6 members with A6")
	b.refused(1, []string{"another change waits for that already", "nidalo cancel tides conversion"}, "convert", "-yes", "-level", "5", "tides")
	require.Contains(t, b.nidalo("cancel", "tides", "conversion"), "that waited is dropped; what is under way goes on")
	require.NotContains(t, b.nidalo("status", "tides"), "Another change")
	b.nidalo("grow", "-yes", "tides", "A6", "A7")
	b.stop(syscall.SIGKILL)
	b.start()
	b.nidalo("pace", "tides", "full")
	b.eventually("both are done", func() bool {
		return strings.Contains(b.nidalo("status", "tides"), "level 6, healthy") && b.status().Arrays[0].Capacity > capacity*2
	})
	require.Len(t, b.status().Arrays[0].Members, 7)
	require.Contains(t, b.nidalo("next"), "resize2fs DEVICE")
	b.tool("nbdcopy", b.uri("tides"), image)
	b.tool("e2fsck", "-f", "-n", image)
	b.tool("resize2fs", image)
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	require.NotContains(t, b.nidalo("next"), "resize2fs")
}
