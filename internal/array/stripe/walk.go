package stripe

import (
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
)

// Where anything was ever written is asked of the written maps, in steps of a checksum page. Stripes are named by their ordinals
// here, and the strips of one member by how many lie before them on it.

// NextWritten is the first stripe at or after number that may hold anything; the number of stripes when there is none.
func (s *Stripes) NextWritten(number int64) int64 { return s.NextWrittenOf(s.host.Layout(), number) }

// NextWrittenOf is NextWritten by the ordinals of a map, which may be one that was in force before: what has moved since looks never-written
// in it, or not.
func (s *Stripes) NextWrittenOf(lay *layout.Map, number int64) int64 {
	if number >= lay.Stripes() {
		return lay.Stripes()
	}
	here := lay.Stripe(number)
	for _, r := range lay.Regions() {
		switch {
		case r == here.Region:
		case r.Ordinal(r.Skip*int64(r.Groups)) > number:
			here = r.At(0, r.Skip)
		default:
			continue
		}
		if next := s.nextWrittenIn(here); next < r.Stripes() {
			return r.Ordinal(next)
		}
	}
	return lay.Stripes()
}

// nextWrittenIn is the number of the first stripe of a region at or after one of them that may hold anything; the number of
// stripes there when there is none. Groups take turns, so what is found in one bounds where the others need be looked at: all
// are looked at for a stretch before any is for a longer one.
func (s *Stripes) nextWrittenIn(here layout.Stripe) int64 {
	best := here.Stripes()
	for from, step := here.Row, int64(64); ; from, step = from+step, step*8 {
		more := false
		for group := range here.Groups {
			row, end := from, min(from+step, here.Rows)
			if group < here.Group {
				row = max(row, here.Row+1)
			}
			more = more || end < here.Rows
			if next := s.nextWrittenRow(here.Region, group, row, end); next < end {
				best = min(best, here.At(group, next).Number)
			}
		}
		if best < here.Stripes() || !more {
			return best
		}
	}
}

// nextWrittenRow is the first row of a group at or after row, below end, that may hold anything; end when there is none.
func (s *Stripes) nextWrittenRow(r *layout.Region, group int, row, end int64) int64 {
	best := end
	for _, slot := range r.Members(group) {
		m, here := s.host.Slots.At(slot), r.At(group, row)
		if row >= best {
			return best
		}
		if !m.Usable(here) {
			continue
		}
		next, ok := s.nextOn(m, here, best)
		if !ok {
			return row // the member is on its way out: be careful and look at every row
		}
		best = min(best, next)
	}
	if s.Trust != nil {
		return s.Trust.NextUnsure(r, group, row, best)
	}
	return best
}

// nextOn is the first row from a stripe's on, below end, in which a disk of one of its slots may hold anything; end when there is
// none. It is not known when the disk's tables cannot be read.
func (s *Stripes) nextOn(m *member.Member, here layout.Stripe, end int64) (row int64, ok bool) {
	if here.Row >= end {
		return end, true
	}
	per, first := int64(here.StripBlocks()), here.Block(m.Slot)
	begin := first - here.Row*per
	last := (begin + end*per - 1) / record.SumsPerPage
	number, ok := s.host.Tables.NextBit(m, first/record.SumsPerPage, last)
	if !ok || number > last {
		return end, ok
	}
	return min(end, max(here.Row, (number*record.SumsPerPage-begin)/per)), true
}

// NextWrittenStrip is the first strip of a slot at or after the nth in whose stripe there may be anything; the number of its
// strips when there is none.
func (s *Stripes) NextWrittenStrip(slot int, nth int64) int64 {
	lay := s.host.Layout()
	all := lay.Strips(slot)
	for nth < all {
		st, left := lay.Strip(slot, nth)
		if row := s.nextWrittenRow(st.Region, st.Group, st.Row, st.Rows); row < st.Rows {
			return nth + row - st.Row
		}
		nth += left
	}
	return all
}

// pageEnd is the row of a stripe's region behind those that share the checksum page of its strip on a slot.
func pageEnd(st layout.Stripe, slot int) int64 {
	per, first := int64(st.StripBlocks()), st.Block(slot)
	end := (first/record.SumsPerPage + 1) * record.SumsPerPage
	return min(st.Row+(end-first+per-1)/per, st.Rows)
}

// Written is how many bytes of a slot, from the nth strip to that before end, lie where there may be anything. next finds the next such strip.
func (s *Stripes) Written(slot int, nth, end int64, next func(nth int64) int64) (total int64) {
	for lay := s.host.Layout(); ; {
		if nth = next(nth); nth >= end {
			return total
		}
		st, _ := lay.Strip(slot, nth)
		n := min(pageEnd(st, slot)-st.Row, end-nth)
		total += n * st.Strip
		nth += n
	}
}

// WrittenIn is written for the stripes of a slot.
func (s *Stripes) WrittenIn(slot int, nth, end int64) int64 {
	return s.Written(slot, nth, end, func(nth int64) int64 { return s.NextWrittenStrip(slot, nth) })
}

// WrittenFrom is WrittenIn up to the last strip.
func (s *Stripes) WrittenFrom(slot int, nth int64) int64 {
	return s.WrittenIn(slot, nth, s.host.Layout().Strips(slot))
}

// Used is how much of the usable capacity lies in regions that were ever written, in bytes: an upper bound, in steps of
// a checksum page.
func (s *Stripes) Used() (total int64) {
	for _, r := range s.host.Layout().Regions() {
		for group := range r.Groups {
			for row := r.Skip; ; {
				if row = s.nextWrittenRow(r, group, row, r.Rows); row >= r.Rows {
					break
				}
				end := pageEnd(r.At(group, row), r.Members(group)[0])
				total += (end - row) * r.StripeSize()
				row = end
			}
		}
	}
	return total
}

// UsedFrom is used for the stripes from number on.
func (s *Stripes) UsedFrom(number int64) (total int64) {
	lay := s.host.Layout()
	for {
		if number = s.NextWritten(number); number >= lay.Stripes() {
			return total
		}
		here := lay.Stripe(number)
		end := here.At(here.Group, pageEnd(here, here.Slot(0))-1)
		next := max(end.Ordinal(), number) + 1
		total += (next - number) * here.StripeSize()
		number = next
	}
}

// NextMarked is the first strip from the nth on in which a disk has anything by its own tables; the number of strips when there
// is none, or when they cannot be read.
func (s *Stripes) NextMarked(m *member.Member, nth int64) int64 {
	lay := s.host.Layout()
	all := lay.Strips(m.Slot)
	for nth < all {
		st, left := lay.Strip(m.Slot, nth)
		row, ok := s.nextOn(m, st, st.Rows)
		if !ok {
			return all
		}
		if row < st.Rows {
			return nth + row - st.Row
		}
		nth += left
	}
	return all
}
