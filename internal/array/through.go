package array

import (
	"slices"
	"sync/atomic"

	"nidalo/core/layout"
	"nidalo/internal/array/dirty"
	"nidalo/internal/probe"
)

// Writes that go through.
//
// A client that flushes after each of its writes waits for the commit in any case. So its writes go through: the goroutine that brings one has it
// committed before it is answered, and the flush that follows has nothing left to do. Then no client waits for what another one's flush does, and none
// has to be woken when that is done.
//
//  1. A write that could not be committed is answered all the same, and stays dirty as any other: the next flush tries again, and tells.
//  2. The cache counts what was answered while a crash could still lose it (dirty.Cache.Answered). A flush that begins when that is nothing returns
//     at once: it does not concern itself with writes that have no answer yet.
//  3. What goes back into the cache counts as answered, since its writer may go on.
//
// What is guessed wrong costs little: the write that is the first not to be followed by a flush was committed by itself.

// throughRow is how many flushes in a row must have come after one write each for the next write to go through.
const throughRow = 2

// habit is how a client flushes.
type habit struct {
	writes atomic.Int32 // since its last flush
	row    atomic.Int32 // flushes in a row that came after one write each
}

// wrote notes a write, and says whether a flush will probably follow before the next.
func (h *habit) wrote() bool { return h.writes.Add(1) == 1 && h.row.Load() >= throughRow }

// flushed notes a flush. One that no write came before says nothing.
func (h *habit) flushed() {
	switch h.writes.Swap(0) {
	case 0:
	case 1:
		h.row.Store(min(h.row.Load()+1, throughRow))
	default:
		h.row.Store(0)
	}
}

// goesThrough says whether a write may go through: some whole blocks of one strip.
func (a *Array) goesThrough(p []byte, off int64) bool {
	n := int64(len(p))
	if off%Block != 0 || n%Block != 0 || n == 0 {
		return false
	}
	st, in := a.Layout().Locate(off)
	return in%st.Strip+n <= st.Strip
}

// through is put for a write that is to be committed before it is answered.
func (c *Client) through(p []byte, off int64) error {
	a := c.a
	lay, parts, err := a.enter(off, int64(len(p)))
	if err != nil {
		return err
	}
	one := [2]layout.ID{} // another map may be in force by now, by which it is in several stripes
	ids := one[:0]
	err = pieces(lay, p, off, func(pc dirty.Piece) error {
		if err := a.lost(pc.Stripe, pc.Role); err != nil {
			return err
		}
		pc.By, pc.Through = c, true
		if id := pc.Stripe.ID(); !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
		return a.cache.Put(pc)
	})
	a.ranges.unshare(parts)
	if err != nil {
		return err
	}
	probe.WentThrough.Seen()
	_, _ = a.destage(ids, placeHere) // what went wrong the next flush tells
	return nil
}

// nothingVolatile says that a crash would lose nothing that was answered, of any client.
func (a *Array) nothingVolatile() bool {
	if a.cache.Answered() > 0 {
		return false
	}
	probe.NothingToFlush.Seen()
	return true
}
