package array

import (
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
)

// MemberSpread is where data lies on one member, its strips divided into equal parts from the first to the last.
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
		m := a.slots.At(slot)
		mm := MemberSpread{Slot: slot, Strips: lay.Strips(slot), Bytes: lay.Bytes(slot), Cursor: -1, Copied: -1}
		if m.Condition() == record.Rebuilding {
			mm.Cursor = m.Cursor.Load()
		}
		if c := a.slots.Onto(slot); c != nil {
			mm.Copied = c.Cursor.Load()
		}
		if m.Live() {
			mm.Written = make([]bool, parts)
			for i := range int64(parts) {
				mm.Written[i] = a.anyWritten(m, lay, mm.Strips*i/int64(parts), mm.Strips*(i+1)/int64(parts))
			}
		}
		out[slot] = mm
	}
	return out
}

// anyWritten says whether something was written, in steps of a checksum page, in some strips of a member: at least in one.
func (a *Array) anyWritten(m *member.Member, lay *layout.Map, nth, end int64) bool {
	for end = min(max(end, nth+1), lay.Strips(m.Slot)); nth < end; {
		st, left := lay.Strip(m.Slot, nth)
		n := min(left, end-nth)
		first := st.Block(m.Slot)
		last := (first + n*int64(st.StripBlocks()) - 1) / record.SumsPerPage
		if number, ok := a.tables.NextBit(m, first/record.SumsPerPage, last); ok && number <= last {
			return true
		}
		nth += n
	}
	return false
}

// CheckCursor is how far the consistency check under way is, as a share of the stripes; negative when none is.
func (a *Array) CheckCursor() float64 {
	if t := a.roster.View().Task; t.Kind == record.Check && t.Ended.IsZero() && !t.Started.IsZero() {
		return float64(t.Cursor) / float64(a.Layout().Stripes())
	}
	return -1
}
