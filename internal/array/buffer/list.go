// Package buffer has the memory of the engine: for the strips of the cache, and for the time of one operation.
package buffer

import (
	"runtime"

	"golang.org/x/sys/unix"

	"nidalo/core/layout"
	"nidalo/internal/env"
)

// List hands out buffers of one strip. They are pieces of anonymous maps: a buffer in which one block is dirty takes
// one page of memory, not a strip, and yet whole strips lie in one piece for parity and for large writes. So the cache
// can count dirty blocks, and hold as many of them scattered as in a row.
//
// A few buffers keep their memory for the next that needs just as much of it: those that were used whole, and those of which one
// block was used, by that block. If any would do, buffers would fill with blocks of earlier uses, which nothing counts.
type List struct {
	env.Mutex
	size  int64
	keep  int64 // bytes that may stay resident
	kept  int64
	whole [][]byte
	one   map[int][][]byte // by the block that is resident
	empty [][]byte
	slab  int64 // bytes of address space taken at a time
}

// NewList makes a list of buffers of size bytes, of which about limit bytes are in use at a time.
func NewList(size, limit int64) *List {
	return &List{size: size, keep: limit / 8, one: map[int][][]byte{}, slab: min(max(limit, 4*size), 64<<20) / size * size}
}

// Get is a buffer with any contents, of which n blocks from one on are to be used first.
func (f *List) Get(block, n int) []byte {
	f.Lock()
	defer f.Unlock()
	if b := f.resident(block, n); b != nil {
		return b
	}
	if len(f.empty) == 0 {
		mem, err := unix.Mmap(-1, 0, int(f.slab), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE|unix.MAP_NORESERVE)
		if err != nil {
			return make([]byte, f.size) // no address space; the heap will do
		}
		singlePages(mem)
		// The maps go when nothing can reach the list any more, and with it any buffer.
		runtime.AddCleanup(f, func(mem []byte) { _ = unix.Munmap(mem) }, mem)
		for at := int64(0); at < f.slab; at += f.size {
			f.empty = append(f.empty, mem[at:at+f.size:at+f.size])
		}
	}
	return pop(&f.empty)
}

// resident is a buffer that kept just the memory that is wanted; nil: there is none.
func (f *List) resident(block, n int) []byte {
	if one := f.one[block]; n == 1 && len(one) > 0 {
		f.kept -= layout.Block
		b := pop(&one)
		f.one[block] = one
		return b
	}
	if n > 1 && len(f.whole) > 0 {
		f.kept -= f.size
		return pop(&f.whole)
	}
	return nil
}

func pop(list *[][]byte) []byte {
	last := len(*list) - 1
	b := (*list)[last]
	(*list)[last] = nil
	*list = (*list)[:last]
	return b
}

// Put takes a buffer back of which some blocks were used. Of most the memory is given back, so that what is resident never is much more
// than what the cache counts.
func (f *List) Put(b []byte, used *layout.Columns) {
	blocks := used.Count()
	f.Lock()
	switch {
	case blocks == 1 && f.kept+layout.Block <= f.keep:
		f.kept += layout.Block
		f.one[used.First()] = append(f.one[used.First()], b)
		f.Unlock()
		return
	case int64(blocks)*layout.Block == f.size && f.kept+f.size <= f.keep:
		f.kept += f.size
		f.whole = append(f.whole, b)
		f.Unlock()
		return
	}
	f.Unlock()
	giveBack(b)
	f.Lock()
	f.empty = append(f.empty, b)
	f.Unlock()
}
