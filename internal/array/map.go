package array

import "nidalo/core/record"

// MemberSpread is where data lies on one member, its data area divided into equal parts from its first byte to its last.
type MemberSpread struct {
	Slot    int
	Strips  int64
	Bytes   int64  // of them all
	Written []bool // by part: something in it was ever written, in steps of a checksum page; nil when it cannot be asked
	Cursor  int64  // strips below it are current; -1 when all or none are
	Copied  int64  // strips below it are on the disk it is being copied onto; -1 when it is not
}

// Spread tells for each member where data lies, in the given number of parts.
func (a *Array) Spread(parts int) []MemberSpread {
	out := make([]MemberSpread, a.slots.Len())
	lay := a.Layout()
	for slot := range a.slots.Len() {
		m, blocks := a.slots.At(slot), lay.Blocks(slot)
		mm := MemberSpread{Slot: slot, Strips: lay.Strips(slot), Bytes: blocks * Block, Cursor: -1, Copied: -1}
		if m.Condition() == record.Rebuilding {
			mm.Cursor = m.Cursor.Load()
		}
		if c := a.slots.Onto(slot); c != nil {
			mm.Copied = c.Cursor.Load()
		}
		if m.Live() {
			mm.Written = make([]bool, parts)
			for i := range int64(parts) {
				first := blocks * i / int64(parts) / record.SumsPerPage
				last := (blocks*(i+1)/int64(parts) - 1) / record.SumsPerPage
				number, ok := a.tables.NextBit(m, first, max(first, last))
				mm.Written[i] = ok && number <= max(first, last)
			}
		}
		out[slot] = mm
	}
	return out
}

// CheckCursor is how far the consistency check under way is, as a share of the stripes; negative when none is.
func (a *Array) CheckCursor() float64 {
	if t := a.roster.View().Task; t.Kind == record.Check && t.Ended.IsZero() && !t.Started.IsZero() {
		return float64(t.Cursor) / float64(a.Layout().Stripes())
	}
	return -1
}
