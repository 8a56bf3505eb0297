package array

import "nidalo/core/record"

// MemberMap is where data lies on one member, its data area divided into equal parts from its first byte to its last.
type MemberMap struct {
	Slot    int
	Rows    int64  // of strips
	Written []bool // by part: something in it was ever written, in steps of a checksum page; nil when it cannot be asked
	Cursor  int64  // rows below it are current; -1 when all or none are
	Copied  int64  // rows below it are on the disk it is being copied onto; -1 when it is not
}

// Map tells for each member where data lies, in the given number of parts.
func (a *Array) Map(parts int) []MemberMap {
	out := make([]MemberMap, len(a.members))
	per := int64(a.geo.StripBlocks())
	for slot := range a.members {
		m, rows := a.members[slot].Load(), a.geo.Rows[a.geo.GroupOf(slot)]
		mm := MemberMap{Slot: slot, Rows: rows, Cursor: -1, Copied: -1}
		if m.condition() == record.Rebuilding {
			mm.Cursor = m.cursor.Load()
		}
		if c := a.onto[slot].Load(); c != nil {
			mm.Copied = c.cursor.Load()
		}
		if m.live() {
			mm.Written = make([]bool, parts)
			for i := range int64(parts) {
				first := rows * per * i / int64(parts) / record.SumsPerPage
				last := (rows*per*(i+1)/int64(parts) - 1) / record.SumsPerPage
				number, ok := a.tables.nextBit(m, first, max(first, last))
				mm.Written[i] = ok && number <= max(first, last)
			}
		}
		out[slot] = mm
	}
	return out
}

// CheckCursor is how far the consistency check under way is, as a share of the stripes; negative when none is.
func (a *Array) CheckCursor() float64 {
	if t := a.roster.view().Task; t.Kind == record.Check && t.Ended.IsZero() && !t.Started.IsZero() {
		return float64(t.Cursor) / float64(a.geo.Stripes())
	}
	return -1
}
