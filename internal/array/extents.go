package array

import (
	"slices"

	"nidalo/core/layout"
	"nidalo/internal/probe"
)

// holdings tells which stripes may hold anything. What is acknowledged is in the cache or in the tables, and goes from the
// one to the other at any moment, entering the tables before it leaves the cache: so the cache must be looked at first.
type holdings struct {
	a     *Array
	lay   *layout.Map
	dirty []int64 // ordinals, ascending: what the cache held
}

func (a *Array) holdings(lay *layout.Map) *holdings {
	return &holdings{a, lay, a.cache.Ordinals(lay)}
}

// next is the ordinal of the first stripe at or after one that may hold anything; the number of stripes when there is none.
func (h *holdings) next(number int64) int64 {
	if probe.TablesBeforeCache.On() {
		next := h.a.stripes.NextWrittenOf(h.lay, number)
		dirty := h.a.cache.Ordinals(h.lay)
		if i, _ := slices.BinarySearch(dirty, number); i < len(dirty) {
			next = min(next, dirty[i])
		}
		return next
	}
	i, found := slices.BinarySearch(h.dirty, number)
	if found {
		return number
	}
	next := h.a.stripes.NextWrittenOf(h.lay, number)
	if i < len(h.dirty) {
		next = min(next, h.dirty[i])
	}
	return next
}

// walk goes through a stretch of the array stripe by stripe. It holds only the stripe that it has come to, so it keeps no change of layout waiting, and goes
// by the map that is in force there.
type walk struct {
	a    *Array
	off  int64
	held *holdings
}

func (a *Array) walk(off int64) *walk { return &walk{a: a, off: off} }

// enter finds the stripe at which the walk is, and where in it, and holds it until leave is called.
func (w *walk) enter() (st layout.Stripe, in int64, leave func(), err error) {
	for {
		lay := w.a.Layout()
		st, in = lay.Locate(w.off)
		parts := w.a.ranges.parts(w.off, st.Left(in))
		w.a.ranges.share(parts)
		if w.a.Layout() != lay {
			w.a.ranges.unshare(parts)
			continue
		}
		if err := lay.Check(w.off, 1); err != nil { // the array has become smaller
			w.a.ranges.unshare(parts)
			return st, 0, nil, err
		}
		if w.held == nil || w.held.lay != lay {
			w.held = w.a.holdings(lay)
		}
		return st, in, func() { w.a.ranges.unshare(parts) }, nil
	}
}

// never is how far nothing was ever written from where the walk is, in bytes; 0: something may be there. Of what lies beyond the stripe that is held that is
// known only as long as the map is the same: then nothing was given up there.
func (w *walk) never(st layout.Stripe) int64 {
	if w.a.blind(w.off, st) {
		return 0
	}
	next := w.held.next(st.Ordinal())
	if next == st.Ordinal() || w.a.Layout() != w.held.lay {
		return 0
	}
	return w.held.lay.Ahead(w.off, next) - w.off
}

// blind says whether no disk tells where anything was written in the volume at a place of a guarded set: neither its own nor a parity disk is there in full.
func (a *Array) blind(off int64, st layout.Stripe) bool {
	if !st.Fixed {
		return false
	}
	_, in := a.Layout().Locate(off)
	slots := append([]int{st.Slot(int(in / st.Strip))}, st.Slots[st.Data:]...)
	return !slices.ContainsFunc(slots, func(slot int) bool { return a.slots.At(slot).Full() })
}

// Extent is a stretch of the array that was written, or never.
type Extent struct {
	Length  int64
	Written bool
}

// Extents describes [off, off+length) in order, at most limit of them; what it leaves out at the end is not described.
// Blocks count as written when they may hold anything but zeros.
func (a *Array) Extents(off, length int64, limit int) ([]Extent, error) {
	if err := a.Layout().Check(off, length); err != nil {
		return nil, err
	}
	var out []Extent
	add := func(n int64, written bool) bool {
		if len(out) > 0 && out[len(out)-1].Written == written {
			out[len(out)-1].Length += n
			return true
		}
		if len(out) == limit {
			return false
		}
		out = append(out, Extent{n, written})
		return true
	}
	for w := a.walk(off); length > 0; {
		n, whole, err := w.describe(length, add)
		if err != nil {
			return nil, err
		}
		if !whole {
			break
		}
		w.off, length = w.off+n, length-n
	}
	return out, nil
}

// describe tells add of what a walk has come to: at most length bytes of one stripe, or of what was never written. It says how far that goes, and
// whether add took all of it.
func (w *walk) describe(length int64, add func(n int64, written bool) bool) (n int64, whole bool, err error) {
	st, in, leave, err := w.enter()
	if err != nil {
		return 0, false, err
	}
	defer leave()
	if skip := w.never(st); skip > 0 {
		n = min(length, skip)
		return n, add(n, false), nil
	}
	n = min(length, st.Left(in))
	written, err := w.a.writtenBlocks(st, in)
	if err != nil {
		return 0, false, err
	}
	for left := n; left > 0; {
		step := min(left, Block-in%Block)
		if !add(step, written[in/Block]) {
			return n, false, nil
		}
		in, left = in+step, left-step
	}
	return n, true, nil
}
