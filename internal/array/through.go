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
// That pays where members answer as quickly as memory does; behind disks that are waited for, joint flushes have a tenth more.
//
// What is guessed wrong costs little: a few writes are committed one by one.

// habit is how a client flushes: a balance that each flush raises and each write lowers. Where a flush follows each write it becomes high, also with several
// writes on their way. Where two writes come before each flush it stays low.
type habit struct{ balance atomic.Int32 }

const (
	flushRaises = 3
	writeLowers = 2
	throughFrom = 8 // from this balance on writes go through
	mostBalance = 64
)

// wrote notes a write, and says whether a flush will probably follow it.
func (h *habit) wrote() bool {
	b := h.balance.Load()
	h.balance.Store(max(0, b-writeLowers)) // one that is noted at the same time may be forgotten
	return b >= throughFrom
}

// flushed notes a flush.
func (h *habit) flushed() { h.balance.Store(min(mostBalance, h.balance.Load()+flushRaises)) }

// inOneStrip says whether a stretch is some whole blocks of one strip.
func inOneStrip(lay *layout.Map, off, n int64) bool {
	if off%Block != 0 || n%Block != 0 || n == 0 {
		return false
	}
	st, in := lay.Locate(off)
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
	if _, failed := a.destage(ids, placeHere); failed == nil { // what failed the next flush tells
		probe.WentThrough.Seen()
	}
	return err
}

// nothingVolatile says that a crash would lose nothing that was answered, of any client.
func (a *Array) nothingVolatile() bool {
	if a.cache.Answered() > 0 {
		return false
	}
	probe.NothingToFlush.Seen()
	return true
}
