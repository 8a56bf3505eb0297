package journal

import (
	"cmp"
	"maps"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// InPlace is the runs of the journals whose contents went in place without them, by member. Older payload of the same blocks must
// not be put over them.
type InPlace map[*member.Member][]inPlaceRun

type inPlaceRun struct {
	batch      uint64
	start, end int64
}

// InPlaceRuns collects them.
func InPlaceRuns(scans []*Scan) InPlace {
	out := InPlace{}
	for _, s := range scans {
		for n, e := range s.Entries {
			for _, r := range e.Runs {
				if r.Kind == record.RunInPlace {
					out[s.M] = append(out[s.M], inPlaceRun{n, r.Start, r.Start + int64(r.Count)})
				}
			}
		}
		slices.SortFunc(out[s.M], func(x, y inPlaceRun) int { return cmp.Compare(x.start, y.start) })
	}
	return out
}

// longestRun of an entry is a strip.
const longestRun = layout.MaxStrip / layout.Block

// After says whether a block of a member went in place in a later batch.
func (p InPlace) After(m *member.Member, batch uint64, block int64) bool {
	runs := p[m]
	i, _ := slices.BinarySearchFunc(runs, block-longestRun, func(r inPlaceRun, b int64) int { return cmp.Compare(r.start, b) })
	for ; i < len(runs) && runs[i].start <= block; i++ {
		if runs[i].batch > batch && block < runs[i].end && !probe.OlderOverNewer.On() {
			return true
		}
	}
	return false
}

// Batch is the entries of one batch.
type Batch struct {
	Number  uint64
	Entries map[*member.Member]*Found
	Lacking []*member.Member // live, involved, without a whole entry
	Usable  bool
}

// Members are those that have an entry, by slot.
func (b *Batch) Members() []*member.Member {
	return slices.SortedFunc(maps.Keys(b.Entries), func(x, y *member.Member) int { return cmp.Compare(x.Slot, y.Slot) })
}

// GatherBatch judges one batch.
func (j *Journal) GatherBatch(scans []*Scan, number uint64) Batch {
	b := Batch{Number: number, Entries: map[*member.Member]*Found{}, Usable: true}
	var involved uint64
	for _, s := range scans {
		if e := s.Entries[number]; e != nil && s.M.Live() {
			b.Entries[s.M] = e
			involved = e.Involved
		}
	}
	if len(b.Entries) == 0 {
		b.Usable = false
		return b
	}
	lost := make([]bool, j.host.Slots.Len())
	for slot := range j.host.Slots.Len() {
		m := j.host.Slots.At(slot)
		switch {
		case !m.Live():
			lost[slot] = true
		case m.Stale:
			lost[slot] = true // what was on its way to it when it left is not trusted
		case involved>>slot&1 == 1 && b.Entries[m] == nil:
			lost[slot] = true
			b.Lacking = append(b.Lacking, m)
		case m.Condition() == record.Rebuilding:
			lost[slot] = true
		}
	}
	lay := j.host.Layout()
	b.Usable = lay.Survives(func(slot int) bool { return lost[slot] }) || lay.Volumes() != nil && len(b.Lacking) == 0
	return b
}

// Touched is some columns of a stripe.
type Touched struct {
	St     layout.Stripe
	Col, N int
}

// Unmarked lists the ordinals of the stripes of a batch that a member which is away may lack without their being marked: it was to take
// part in it, and left meanwhile. A batch that was to be without it was marked before. away says whether a member lacks a batch.
func (j *Journal) Unmarked(b Batch, away func(m *member.Member, batch uint64) bool) (stripes []int64) {
	var involved uint64
	for _, e := range b.Entries {
		involved = e.Involved
	}
	lacks := false
	for slot := range j.host.Slots.Len() {
		if involved>>slot&1 == 0 {
			continue
		}
		lacks = lacks || away(j.host.Slots.At(slot), b.Number)
	}
	for m, e := range b.Entries {
		for _, r := range e.Runs {
			if st, _, ok := j.host.Layout().On(m.Slot, r.Start); ok && lacks {
				stripes = append(stripes, st.Ordinal())
			}
		}
	}
	return stripes
}

// Columns lists the columns that the batch touches of stripes in which any of the given members has a strip.
func (j *Journal) Columns(b Batch, of []*member.Member) []Touched {
	lay := j.host.Layout()
	set := map[layout.Stripe]*layout.Columns{}
	for m, e := range b.Entries {
		for _, r := range e.Runs {
			for block := r.Start; block < r.Start+int64(r.Count); block++ {
				st, col, ok := lay.On(m.Slot, block)
				if !ok || !slices.ContainsFunc(of, func(m *member.Member) bool { return st.Has(m.Slot) }) {
					continue
				}
				if set[st] == nil {
					set[st] = &layout.Columns{}
				}
				set[st].Add(col)
			}
		}
	}
	var out []Touched
	for st, cols := range set {
		for col := range st.StripBlocks() {
			if !cols.Has(col) {
				continue
			}
			if l := len(out) - 1; l >= 0 && out[l].St == st && out[l].Col+out[l].N == col {
				out[l].N++
			} else {
				out = append(out, Touched{st, col, 1})
			}
		}
	}
	slices.SortFunc(out, func(x, y Touched) int {
		return cmp.Or(x.St.ID().Compare(y.St.ID()), cmp.Compare(x.Col, y.Col))
	})
	return out
}

// LackingBlocks lists the columns of a batch in which members that should have an entry of it have none.
func (j *Journal) LackingBlocks(b Batch) []Touched {
	if len(b.Lacking) == 0 {
		return nil
	}
	return j.Columns(b, b.Lacking)
}
