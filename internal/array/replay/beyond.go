package replay

import (
	"iter"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/probe"
)

// beyond is what a start also does with the journals of a guarded set when members are missing, see journal/beyond.go. A missing member may lack
// its last batches, as many as may be in flight. Where the others cannot tell, their own data counts, and the parity does not.
type beyond struct {
	r        *replaying
	doubtful map[uint64]uint64 // by batch: bit per slot, of those that are not there and may lack it
	owed     []journal.Owed
	dropped  uint64 // the first batch that never happened; 0: none was dropped
}

func (x *beyond) of(r *replaying) {
	*x = beyond{r: r, doubtful: map[uint64]uint64{}}
	if r.Note != nil || !guarded(r) {
		return
	}
	for slot := range r.Slots.Len() {
		if r.Slots.At(slot).Live() {
			continue
		}
		left := journal.Overlap
		for i := len(r.numbers) - 1; i >= 0 && left > 0; i-- {
			if n := r.numbers[i]; involved(r, n)>>slot&1 == 1 {
				x.doubtful[n] |= 1 << slot
				left--
			}
		}
	}
}

func guarded(r *replaying) bool { return r.Roster.Now().Level == layout.Guarded }

func involved(r *replaying, n uint64) uint64 {
	for _, s := range r.scans {
		if e := s.Entries[n]; e != nil {
			return e.Involved
		}
	}
	return 0
}

// placed sees to a batch that was brought in place.
func (x *beyond) placed(b journal.Batch) {
	slots := x.doubtful[b.Number]
	if slots == 0 {
		return
	}
	lay := x.r.Roster.LayoutNow()
	for _, m := range b.Members() {
		for _, run := range b.Entries[m].Runs {
			st, _, ok := lay.On(m.Slot, run.Start)
			if !ok {
				continue
			}
			for role := range st.Data {
				slot := st.Slot(role)
				switch {
				case slots>>slot&1 == 0:
				case x.r.Slots.Protects(st):
					x.owed = append(x.owed, journal.Owed{Slot: slot, Ordinal: st.Ordinal()})
				case st.Role(m.Slot) >= st.Data && !probe.ParityTrustedAtStart.On():
					probe.ParityDoubted.Seen()
					x.r.Tables.Set(m, run.Start, run.Count, nil, record.SumLost)
				}
			}
		}
	}
}

// owes are the members whose own data may have changed without them.
func (x *beyond) owes() iter.Seq2[int, int64] {
	return func(yield func(slot int, ordinal int64) bool) {
		for _, o := range x.owed {
			if !yield(o.Slot, o.Ordinal) {
				return
			}
		}
	}
}

// unseen is the first batch that may not have been committed and of which no member here has an entry. A later one may be here all the same: two are in
// flight at a time, and the only member of the first that is here may be a parity disk that it had not reached.
func (x *beyond) unseen() uint64 {
	n := max(x.r.first, x.r.sure+1)
	if probe.GapTakenForNone.On() {
		return x.r.last + 1
	}
	for slices.Contains(x.r.numbers, n) {
		n++
	}
	return n
}

// limit notes, for members that are not there, from which batch on their journals do not count. Whatever changes in a volume changes the parity too, so when a parity disk is
// here, a batch of which it has nothing never happened. Without one, only those never happened that this start drops.
func (x *beyond) limit() error {
	r := x.r
	if r.Note != nil || !guarded(r) || probe.DroppedThoughKept.On() {
		return nil
	}
	away, void := false, x.dropped
	for slot, e := range r.Roster.Now().Roster {
		switch m := r.Slots.At(slot); {
		case e.Volume != "" && !e.Condition.TakesPart():
			away = true
		case e.Volume == "" && m.Full():
			void = x.unseen()
		}
	}
	if x.dropped > 0 {
		void = min(void, x.dropped)
	}
	if !away || void == 0 {
		return nil
	}
	return r.Roster.Limit(void)
}
