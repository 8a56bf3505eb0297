package buffer

import (
	"math/bits"
	"sync"
	"unsafe"

	"nidalo/core/layout"
	"nidalo/internal/probe"
)

// Scratch hands out buffers for the time of one operation. They count against no limit: the number of operations at a time
// bounds them. Sizes go in powers of two, so that a plan for one block takes one block.
type Scratch struct{ pools [9]sync.Pool } // 1, 2, 4 … 256 blocks

// Get is a buffer of n blocks with any contents.
func (s *Scratch) Get(n int) []byte {
	class := bits.Len(uint(n - 1))
	if first, ok := s.pools[class].Get().(*byte); ok { // the first byte alone, since a slice would be copied to the heap
		b := unsafe.Slice(first, layout.Block<<class)
		probe.Soil(b)
		return b[:n*layout.Block]
	}
	b := make([]byte, layout.Block<<class)
	probe.Soil(b)
	return b[:n*layout.Block]
}

// Put takes buffers back; nil is none.
func (s *Scratch) Put(bufs ...[]byte) {
	for _, b := range bufs {
		if b != nil {
			s.pools[bits.Len(uint(cap(b)/layout.Block-1))].Put(unsafe.SliceData(b))
		}
	}
}
