// Package buffer has the memory of the engine: for what is in the cache, and for the time of one operation.
package buffer

import (
	"runtime"

	"golang.org/x/sys/unix"

	"nidalo/core/layout"
	"nidalo/internal/env"
)

// List hands out buffers of one strip, for writes of many blocks in a row. They are pieces of anonymous maps: a buffer of which half is used takes
// half of the memory, and yet whole strips lie in one piece for parity and for large writes. So the cache can count dirty blocks.
//
// A few buffers that were used whole keep their memory for the next. If others did, they would fill with blocks of earlier uses, which nothing counts.
type List struct {
	env.Mutex
	size  int64
	keep  int64 // bytes that may stay resident
	kept  int64
	whole [][]byte
	empty [][]byte
	slab  int64 // bytes of address space taken at a time
}

// NewList makes a list of buffers of size bytes, of which about limit bytes are in use at a time.
func NewList(size, limit int64) *List {
	return &List{size: size, keep: limit / 8, slab: min(max(limit, 4*size), 64<<20) / size * size}
}

// Get is a buffer with any contents.
func (f *List) Get() []byte {
	f.Lock()
	defer f.Unlock()
	if len(f.whole) > 0 {
		f.kept -= f.size
		return pop(&f.whole)
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
	f.Lock()
	if int64(used.Count())*layout.Block == f.size && f.kept+f.size <= f.keep {
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
