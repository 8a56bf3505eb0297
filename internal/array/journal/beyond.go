package journal

import (
	"iter"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/probe"
)

// Beyond parity. A guarded set goes on when it has lost more members than it has parity. What such a member has of a batch that was on its way when it left is not
// known: its blocks are the old or the new ones, and nothing tells which. The parity of those columns was computed of the new ones, so it would restore
// another member's data wrong if they are the old ones. It is marked as lost, on every parity disk, before the batch counts; what a start does of it
// is in package replay.

// Owed is a slot of a guarded set whose own data changes in a stripe without it.
type Owed struct {
	Slot    int
	Ordinal int64 // of the stripe
}

// forsake marks the parity as lost in the columns in which members that have left were to have new data that nothing else tells.
func (j *Journal) forsake(group []*Change) {
	if j.host.Layout().Volumes() == nil || probe.ParityKeptBeyond.On() {
		return
	}
	for _, c := range group {
		for _, w := range slices.Clone(c.Writes) {
			if st, col, ok := j.lacking(w); ok && !j.host.Slots.Protects(st) {
				probe.ParityForsaken.Seen()
				c.loseParity(st, col, w.N)
			}
		}
	}
}

// lacking says whether a write is one of data, in a guarded set, that its member has left, and where.
func (j *Journal) lacking(w Write) (st layout.Stripe, col int, ok bool) {
	if w.M.Live() {
		return st, 0, false
	}
	st, col, ok = j.host.Layout().On(w.M.Slot, w.Block)
	return st, col, ok && st.Fixed && st.Role(w.M.Slot) < st.Data
}

// loseParity makes the parity of n columns of a stripe, as far as the change is about it, lost.
func (c *Change) loseParity(st layout.Stripe, col, n int) {
	var out []Write
	for _, w := range c.Writes {
		if !st.Has(w.M.Slot) || st.Role(w.M.Slot) < st.Data {
			out = append(out, w)
			continue
		}
		from := st.Block(w.M.Slot) + int64(col)
		before, inside, after := w.cut(from, from+int64(n))
		inside.Kind, inside.Buf, inside.Sums, inside.Hole = record.RunLost, nil, nil, false
		for _, part := range []Write{before, inside, after} {
			if part.N > 0 {
				out = append(out, part)
			}
		}
	}
	c.Writes = out
}

// cut is what of a write lies before one block, from there on to another, and behind that.
func (w Write) cut(from, to int64) (before, inside, after Write) {
	part := func(from, to int64) Write {
		from, to = max(from, w.Block), min(to, w.Block+int64(w.N))
		if from >= to {
			return Write{}
		}
		p := w
		p.Block, p.N = from, int(to-from)
		if i := int(from - w.Block); w.Buf != nil {
			p.Buf, p.Sums = w.Buf[i*record.Block:(i+p.N)*record.Block], w.Sums[i:i+p.N]
		}
		return p
	}
	end := w.Block + int64(w.N)
	return part(w.Block, from), part(from, to), part(to, end)
}

// owed are the members whose own data some changes change without them, where the others tell it.
func (j *Journal) owed(group []*Change) iter.Seq2[int, int64] {
	return func(yield func(slot int, ordinal int64) bool) {
		if j.host.Layout().Volumes() == nil {
			return
		}
		for _, c := range group {
			for _, o := range c.Owed {
				if !yield(o.Slot, o.Ordinal) {
					return
				}
			}
			for _, w := range c.Writes {
				if st, _, ok := j.lacking(w); ok && j.host.Slots.Protects(st) && !yield(w.M.Slot, st.Ordinal()) {
					return
				}
			}
		}
	}
}
