package stripe

import (
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// Beyond parity. A member of a guarded set may come back when more members are lost than the set has parity, so that others do not tell what it missed. Then
// a data disk goes by what it holds itself, but where its own data may have changed without it (record.Entry.Owed), and a parity disk by nothing
// where anything may have changed. What is not known is marked as lost, and restored when another member is back.

// Unsure says whether a member that catches up may lack something of a stripe although the pages of the others do not say so: some of the others are not there, and a
// change is noted for that part of the array.
func (s *Stripes) Unsure(st layout.Stripe, m *member.Member) bool {
	if !st.Fixed || m.Base == 0 || probe.UnsureRowsSkipped.On() {
		return false
	}
	away := false
	for role := range st.Width() {
		if o := s.host.Slots.At(st.Slot(role)); o != m && !o.Usable(st) {
			away = true
		}
	}
	if !away {
		return false
	}
	if st.Role(m.Slot) < st.Data && s.host.Owed(m.Slot, st) {
		return true
	}
	return st.Role(m.Slot) >= st.Data && !s.host.Changes().Unchanged(record.ChangePart(st.Ordinal(), s.host.Layout().Stripes()), m.Base)
}

// NextUnsure is the first strip of a member from the nth on in a stripe that is unsure; the number of its strips when there is none.
func (s *Stripes) NextUnsure(m *member.Member, nth int64) int64 {
	lay := s.host.Layout()
	all := lay.Strips(m.Slot)
	if lay.Volumes() == nil || m.Base == 0 {
		return all
	}
	for nth < all {
		st, left := lay.Strip(m.Slot, nth)
		if s.Unsure(st, m) {
			return nth
		}
		part, stripes := record.ChangePart(st.Ordinal(), lay.Stripes()), lay.Stripes()
		// The first stripe of the next part, or the next region.
		next := ((int64(part)+1)*stripes + record.ChangeParts - 1) / record.ChangeParts
		nth += min(left, max(1, next-st.Ordinal()))
	}
	return all
}

// Own takes what a data disk that catches up holds itself where nothing else tells, unless that may be old, and works out anew what follows.
func (c *Columns) Own(m *member.Member) error {
	if !c.St.Fixed || m.Base == 0 || c.St.Role(m.Slot) >= c.St.Data {
		return nil
	}
	role, some := c.St.Role(m.Slot), false
	for _, known := range c.Known[role] {
		some = some || !known
	}
	if !some {
		return nil
	}
	if c.s.host.Owed(m.Slot, c.St) && !probe.OwnAlwaysKept.On() {
		probe.OwnNotKept.Seen()
		return nil
	}
	sums := make([]uint32, c.n)
	if err := c.s.host.Tables.Sums(m, c.Block(m, 0), sums); err != nil {
		return c.s.host.Alive() // it is on its way out
	}
	for col := range c.n {
		if c.Known[role][col] {
			continue
		}
		block := c.Bufs[role][col*layout.Block:][:layout.Block]
		switch {
		case sums[col] == record.SumNever:
			clear(block)
		case record.Unknown(sums[col]) || m.ReadData([][]byte{block}, c.Block(m, col)) != nil || record.Sum(block) != sums[col]:
			continue
		}
		probe.OwnKept.Seen()
		c.Known[role][col] = true
	}
	return c.Recover()
}
