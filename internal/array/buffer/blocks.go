package buffer

import (
	"math/bits"
	"runtime"

	"golang.org/x/sys/unix"

	"nidalo/core/layout"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Blocks hands out buffers of one block, for writes that are scattered. Memory is asked for and given back 64 blocks at a time, and the lowest place is
// taken first: to fault a page in and to give it back takes several times as long as to fill it.
type Blocks struct {
	env.Mutex
	keep  int // blocks that may stay resident without being used
	idle  int // that are
	runs  []*blockRun
	some  []uint64 // bit i of word w: run 64w+i has a block that is free
	fresh []byte   // address space that no run has yet
}

// Block is a buffer of one block.
type Block struct {
	Bytes []byte
	run   *blockRun
	bit   int
}

// blockRun is 64 blocks in a row.
type blockRun struct {
	number int
	mem    []byte
	blocks [runBlocks]Block
	free   uint64
	warm   bool // some of it is resident
}

const (
	runBlocks = 64
	runBytes  = runBlocks * layout.Block
	mapBytes  = 16 << 20 // address space taken at a time
)

// NewBlocks makes a list of blocks of which about limit bytes are in use at a time.
func NewBlocks(limit int64) *Blocks { return &Blocks{keep: int(limit / 8 / layout.Block)} }

// Get is a block with any contents.
func (f *Blocks) Get() *Block {
	f.Lock()
	defer f.Unlock()
	r := f.lowest()
	if r == nil {
		r = f.grow()
	}
	if !r.warm {
		r.warm = true
		f.idle += runBlocks
	}
	bit := bits.TrailingZeros64(r.free)
	r.free &^= 1 << bit
	f.idle--
	if r.free == 0 {
		f.some[r.number/64] &^= 1 << (r.number % 64)
	}
	b := &r.blocks[bit]
	probe.Soil(b.Bytes)
	return b
}

// lowest is the lowest run with a block that is free; nil: there is none.
func (f *Blocks) lowest() *blockRun {
	for w, runs := range f.some {
		if runs != 0 {
			return f.runs[64*w+bits.TrailingZeros64(runs)]
		}
	}
	return nil
}

// grow adds a run.
func (f *Blocks) grow() *blockRun {
	if len(f.fresh) == 0 {
		mem, err := unix.Mmap(-1, 0, mapBytes, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE|unix.MAP_NORESERVE)
		if err != nil {
			mem = make([]byte, runBytes) // no address space; the heap will do
		} else {
			singlePages(mem)
			runtime.AddCleanup(f, func(mem []byte) { _ = unix.Munmap(mem) }, mem)
		}
		f.fresh = mem
	}
	r := &blockRun{number: len(f.runs), mem: f.fresh[:runBytes:runBytes], free: ^uint64(0)}
	for i := range r.blocks {
		r.blocks[i] = Block{r.mem[i*layout.Block:][:layout.Block:layout.Block], r, i}
	}
	f.fresh = f.fresh[runBytes:]
	f.runs = append(f.runs, r)
	if r.number%64 == 0 {
		f.some = append(f.some, 0)
	}
	f.some[r.number/64] |= 1 << (r.number % 64)
	return r
}

// Put takes blocks back. Runs of which nothing is used any more give their memory back, where too much would stay.
func (f *Blocks) Put(blocks ...*Block) {
	var cold []*blockRun
	f.Lock()
	for _, b := range blocks {
		r := b.run
		f.some[r.number/64] |= 1 << (r.number % 64)
		r.free |= 1 << b.bit
		if f.idle++; r.free == ^uint64(0) && f.idle > f.keep {
			f.idle -= runBlocks
			r.free, r.warm = 0, false // nobody takes a block of it while its memory is given back
			f.some[r.number/64] &^= 1 << (r.number % 64)
			cold = append(cold, r)
		}
	}
	f.Unlock()
	if len(cold) == 0 {
		return
	}
	for _, r := range cold {
		giveBack(r.mem)
	}
	f.Lock()
	for _, r := range cold {
		r.free = ^uint64(0)
		f.some[r.number/64] |= 1 << (r.number % 64)
	}
	f.Unlock()
}
