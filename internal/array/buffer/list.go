// Package buffer has the memory of the engine: for the strips of the cache, and for the time of one operation.
package buffer

import (
	"runtime"

	"golang.org/x/sys/unix"

	"nidalo/internal/env"
)

// List hands out buffers of one strip. They are pieces of anonymous maps: a buffer in which one block is dirty takes
// one page of memory, not a strip, and yet whole strips lie in one piece for parity and for large writes. So the cache
// can count dirty blocks, and hold as many of them scattered as in a row.
type List struct {
	env.Mutex
	size     int64
	keep     int // buffers that stay resident
	resident [][]byte
	empty    [][]byte
	slab     int64 // bytes of address space taken at a time
}

// NewList makes a list of buffers of size bytes, of which about limit bytes are in use at a time.
func NewList(size, limit int64) *List {
	return &List{size: size, keep: int(limit / 8 / size), slab: min(max(limit, 4*size), 64<<20) / size * size}
}

// Get is a buffer with any contents.
func (f *List) Get() []byte {
	f.Lock()
	defer f.Unlock()
	if n := len(f.resident); n > 0 {
		b := f.resident[n-1]
		f.resident = f.resident[:n-1]
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
	n := len(f.empty) - 1
	b := f.empty[n]
	f.empty = f.empty[:n]
	return b
}

// Put takes a buffer back. A few stay resident for the next; of the others the memory is given back, so that what is
// resident never is much more than what the cache counts.
func (f *List) Put(b []byte) {
	f.Lock()
	if len(f.resident) < f.keep {
		f.resident = append(f.resident, b)
		f.Unlock()
		return
	}
	f.Unlock()
	_ = unix.Madvise(b, unix.MADV_DONTNEED)
	f.Lock()
	f.empty = append(f.empty, b)
	f.Unlock()
}
