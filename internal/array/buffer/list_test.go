//go:build linux

package buffer_test

import (
	"encoding/binary"
	"math/rand/v2"
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
	for round := range blocks {
		b := list.Get()
		was := resident(t, b)
		require.Contains(t, []int{0, blocks}, was, "nothing of it, or all")
		clear(b[:(round+1)*layout.Block])
		var used layout.Columns
		used.AddRun(0, round+1)
		list.Put(b, &used)
	}
	require.Equal(t, blocks, resident(t, list.Get()), "one that was used whole keeps its memory for the next")
}

// Each block has one user. Blocks that have memory are handed out first, and when all are back no more memory stays than may.
func TestBlocksGiveTheirMemoryBack(t *testing.T) {
	const limit, keep = 8 << 20, 1 << 20 / layout.Block
	list := buffer.NewBlocks(limit)
	var out []*buffer.Block
	pages := func() (n int) {
		for _, b := range out {
			n += resident(t, b.Bytes)
		}
		return n
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 20 {
		for len(out) < limit/layout.Block {
			b := list.Get()
			binary.LittleEndian.PutUint64(b.Bytes, uint64(len(out)))
			out = append(out, b)
		}
		for i, b := range out {
			require.EqualValues(t, i, binary.LittleEndian.Uint64(b.Bytes))
		}
		r.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
		n := r.IntN(len(out))
		list.Put(out[n:]...)
		out = out[:n]
		for i, b := range out {
			binary.LittleEndian.PutUint64(b.Bytes, uint64(i))
		}
		require.Equal(t, len(out), pages())
	}
	list.Put(out...)
	out = []*buffer.Block{list.Get()}
	require.Equal(t, 1, pages(), "what has memory is used first")
	for range limit/layout.Block - 1 {
		out = append(out, list.Get())
	}
	require.LessOrEqual(t, pages(), keep)
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
	b := list.Get()
	clear(b[3*layout.Block : 5*layout.Block])
	require.Equal(t, 2, resident(t, b))
	list.Put(b, &used)
	require.Zero(t, resident(t, b))
}
