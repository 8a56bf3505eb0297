package stripe

import (
	"slices"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/array/table"
)

// LastChange tells, for the pages of a stripe on one member, the epoch in which the stripe was changed last there, by what the other members say.
func (s *Stripes) LastChange(st layout.Stripe, but *member.Member) table.Epochs {
	own := st.Block(but.Slot)
	return func(page int64) (last uint64) {
		from := max(page*record.SumsPerPage-own, 0) // of the strip, blocks
		to := min((page+1)*record.SumsPerPage-own, int64(st.StripBlocks()))
		for role := range st.Width() {
			o := s.host.Slots.At(st.Slot(role))
			if o == but || !o.Usable(st) {
				continue
			}
			first := st.Block(o.Slot) // it need not lie at the same block there
			for number := (first + from) / record.SumsPerPage; number <= (first+to-1)/record.SumsPerPage; number++ {
				_, epoch, err := s.host.Tables.Changed(o, number)
				if err != nil {
					return s.host.Epoch()
				}
				last = max(last, epoch)
			}
		}
		return last
	}
}

// ChangesOf tells in which epoch the pages of a member were changed last.
func (s *Stripes) ChangesOf(m *member.Member) table.Epochs {
	return func(page int64) uint64 {
		_, epoch, err := s.host.Tables.Changed(m, page)
		if err != nil {
			return s.host.Epoch()
		}
		return epoch
	}
}

// Lacks says whether a member that was away may lack anything of a stripe: some other member's checksums there were
// changed since, or the two do not agree whether anything was ever written, or it knows itself that it lost something. The
// caller holds the stripe exclusively. A change of a stripe touches more members than can be away.
func (s *Stripes) Lacks(st layout.Stripe, m *member.Member) bool {
	for role := range st.Width() {
		if o := s.host.Slots.At(st.Slot(role)); o != m && o.Usable(st) && s.Differ(st, m, o) {
			return true
		}
	}
	if s.Unsure(st, m) {
		return true
	}
	sums := make([]uint32, st.StripBlocks())
	return s.host.Tables.Sums(m, st.Block(m.Slot), sums) != nil || slices.ContainsFunc(sums, record.Unknown)
}

// Differ says whether a stripe may have changed on a member since another left the array, at the epoch left, or the two do not agree
// whether anything was ever written there.
func (s *Stripes) Differ(st layout.Stripe, away, o *member.Member) bool {
	all, aligned := true, st.Block(away.Slot) == st.Block(o.Slot)
	for number := range PagesOf(st, o.Slot) {
		written, epoch, err := s.host.Tables.Changed(o, number)
		if err != nil || written && epoch > away.Base || aligned && !written && s.hasPage(away, number) {
			return true
		}
		all = all && written
	}
	for number := range PagesOf(st, away.Slot) {
		if !aligned && !all && s.hasPage(away, number) {
			return true
		}
	}
	return false
}

// hasPage says whether a disk may have anything in a checksum page.
func (s *Stripes) hasPage(m *member.Member, number int64) bool {
	written, _, err := s.host.Tables.Changed(m, number)
	return written || err != nil
}

// PagesOf are the checksum pages of a stripe's blocks on a slot.
func PagesOf(st layout.Stripe, slot int) func(yield func(number int64) bool) {
	return func(yield func(number int64) bool) {
		first := st.Block(slot)
		for number := first / record.SumsPerPage; number <= (first+int64(st.StripBlocks())-1)/record.SumsPerPage && yield(number); number++ {
		}
	}
}

// Untouched says that no member whose contents count, nor also, has anything in a stripe. The caller holds the stripe.
func (s *Stripes) Untouched(st layout.Stripe, also *member.Member) bool {
	var hold [layout.MaxStrip / layout.Block]uint32
	sums := hold[:st.StripBlocks()]
	for role := range st.Width() {
		m := s.host.Slots.At(st.Slot(role))
		if !m.Usable(st) && m != also {
			continue
		}
		if s.host.Tables.Sums(m, st.Block(m.Slot), sums) != nil || !record.AllAre(sums, record.SumNever) {
			return false
		}
	}
	return true
}
