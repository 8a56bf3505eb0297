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
	i, _ := slices.BinarySearch(h.dirty, number)
	if h.dirty = h.dirty[i:]; len(h.dirty) > 0 && h.dirty[0] == number {
		return number
	}
	next := h.a.stripes.NextWrittenOf(h.lay, number)
	if len(h.dirty) > 0 {
		next = min(next, h.dirty[0])
	}
	return next
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
	parts := a.ranges.parts(off, length)
	a.ranges.share(parts)
	defer a.ranges.unshare(parts)
	lay := a.Layout()
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
	held := a.holdings(lay)
	for length > 0 {
		st, in := lay.Locate(off)
		if next := held.next(st.Ordinal()); next > st.Ordinal() {
			n := min(length, lay.Offset(next)-off)
			if !add(n, false) {
				return out, nil
			}
			off, length = off+n, length-n
			continue
		}
		n := min(length, st.StripeSize()-in)
		written, err := a.writtenBlocks(st)
		if err != nil {
			return nil, err
		}
		for left := n; left > 0; {
			step := min(left, Block-in%Block)
			if !add(step, written[in/Block]) {
				return out, nil
			}
			in, off, left, length = in+step, off+step, left-step, length-step
		}
	}
	return out, nil
}
