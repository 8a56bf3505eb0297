//go:build linux

package buffer_test

import (
	"encoding/binary"
	"os"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nidalo/core/layout"
	"nidalo/internal/array/buffer"
)

// resident is how many pages of a buffer have memory.
func resident(t *testing.T, b []byte) (n int) {
	t.Helper()
	f, err := os.Open("/proc/self/pagemap")
	if err != nil {
		t.Skip(err)
	}
	defer f.Close()
	page := int64(os.Getpagesize())
	entries := make([]byte, int64(len(b))/page*8)
	_, err = f.ReadAt(entries, int64(uintptr(unsafe.Pointer(unsafe.SliceData(b))))/page*8)
	require.NoError(t, err)
	for i := 0; i < len(entries); i += 8 {
		if binary.LittleEndian.Uint64(entries[i:])>>63 == 1 {
			n++
		}
	}
	return n
}

func TestBuffersHoldNoMemoryOfEarlierUses(t *testing.T) {
	const strip, blocks = 64 << 10, 16
	list := buffer.NewList(strip, 16<<20)
	for round := range 3 * blocks {
		var out [][]byte
		var used layout.Columns
		used.Add(round % blocks)
		for range 40 {
			b := list.Get(round%blocks, 1)
			b[round%blocks*layout.Block] = 1
			require.Equal(t, 1, resident(t, b), "round %d", round)
			out = append(out, b)
		}
		for _, b := range out {
			list.Put(b, &used)
		}
		if round%5 == 0 { // whole strips in between
			b := list.Get(0, blocks)
			clear(b)
			var all layout.Columns
			all.AddRun(0, blocks)
			list.Put(b, &all)
		}
	}
	b := list.Get(0, blocks)
	require.Equal(t, blocks, resident(t, b), "one that was used whole keeps its memory for the next")
}

// The service has its memory locked. What a buffer had used is given back all the same.
func TestLockedMemoryIsGivenBack(t *testing.T) {
	if err := unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT); err != nil {
		t.Skip("memory cannot be locked here:", err)
	}
	defer func() { _ = unix.Munlockall() }()
	list := buffer.NewList(64<<10, 16<<20)
	var used layout.Columns
	used.AddRun(3, 2)
	b := list.Get(3, 2)
	clear(b[3*layout.Block : 5*layout.Block])
	require.Equal(t, 2, resident(t, b))
	list.Put(b, &used)
	require.Zero(t, resident(t, b))
}
