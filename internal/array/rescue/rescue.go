// Package rescue judges what can still be read of an array that cannot be started any more: what a member that left earlier may serve for,
// what is lost, and where no member that is there records whether anything was written. It reads tables, not data.
package rescue

import (
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/table"
	"nidalo/internal/disk"
)

// Host is the rooms of the array that is rescued.
type Host struct {
	Layout  func() *layout.Map
	Roster  *roster.Roster
	Slots   *member.Slots
	Stripes *stripe.Stripes
	Tables  *table.Tables
}

// Rescue is what is known of an array that is being rescued.
type Rescue struct {
	Host
	Old bool // take what a member that left earlier holds, unless it is proven to have changed
	// Settled: the journals are in place. Before, the tables do not tell of all that changed, and no member that left is trusted.
	Settled bool
	// Batches are those that members which had left have their part of, by slot.
	Batches map[int]map[uint64]bool
}

// Trusts says whether what a member that left earlier holds of a stripe is still right. Where the change map has no mark it
// is. So is the data of a volume of a guarded set where that was not written without its disk. Otherwise, a change of its data is a change of every parity as well, so one parity that has been there all the while
// and did not change is proof; one that changed is proof of nothing, but makes it too likely. Parity of a stale member
// proves nothing about data that is not there.
func (r *Rescue) Trusts(st layout.Stripe, role int, m *member.Member) bool {
	if !r.Settled {
		return false
	}
	if r.Roster.Now().Changes.Unchanged(record.ChangePart(st.Ordinal(), r.Layout().Stripes()), m.Base) {
		return true
	}
	if role >= st.Data && st.Data > 1 {
		return false
	}
	if st.Fixed && !r.Roster.Owed(m.Slot, st) {
		return true // its own data did not change without it
	}
	changed := false
	for witness := range st.Width() {
		if witness == role || witness < st.Data && st.Data > 1 {
			continue
		}
		o := r.Slots.At(st.Slot(witness))
		if o.Stale || !o.Usable(st) {
			continue
		}
		if !r.Stripes.Differ(st, m, o) {
			return true
		}
		changed = true
	}
	return !changed && r.Old
}

// Losses foretells what cannot be read of the regions that may ever have been written, without reading the data: lost is
// called with spans in ascending order; sofar, now and then, with how far it is. Whatever turns out to be unreadable or
// wrong on a member that is not known to be comes on top.
func (r *Rescue) Losses(lost func(state.Span), sofar func(off int64) error) error {
	var open state.Span
	flush := func() {
		if open.Length > 0 {
			lost(open)
		}
	}
	add := func(at, length int64, unsure bool) {
		if open.Offset+open.Length == at && open.Unsure == unsure && open.Length > 0 {
			open.Length += length
			return
		}
		flush()
		open = state.Span{Offset: at, Length: length, Unsure: unsure}
	}
	var look columnsKnown
	lay := r.Layout()
	for number := r.Stripes.NextWritten(0); number < lay.Stripes(); number = r.Stripes.NextWritten(number + 1) {
		st := lay.Stripe(number)
		if err := sofar(st.Offset()); err != nil {
			return err
		}
		if r.Unsure(st) {
			for role := range st.Data {
				if !r.Stripes.Reads(st, role, r.Slots.At(st.Slot(role))) {
					add(lay.At(st, role), st.Strip, true)
				}
			}
			continue
		}
		look.fill(r, st)
		for role := range st.Data {
			for col := range st.StripBlocks() {
				if look.given[role][col] || look.unknown[role][col] && !look.empty[col] && look.count[col] > st.Parity {
					add(lay.At(st, role)+int64(col)*layout.Block, layout.Block, false)
				}
			}
		}
	}
	flush()
	return nil
}

// Unsure says whether no remaining member could show that something was written to a stripe: whatever is written there
// is written to a data block and to every parity block, but none of those that were is there.
func (r *Rescue) Unsure(st layout.Stripe) bool {
	missing, parities := 0, 0
	for role := range st.Width() {
		m := r.Slots.At(st.Slot(role))
		if !r.Stripes.Reads(st, role, m) {
			missing++
			continue
		}
		if role >= st.Data || st.Data == 1 {
			parities++
		}
		for number := range stripe.PagesOf(st, m.Slot) {
			if written, _, err := r.Tables.Changed(m, number); err != nil || written {
				return false
			}
		}
	}
	return missing > st.Parity && parities == 0
}

// NextUnsure is the first unsure row of a group from row on; end when there is none before it.
func (r *Rescue) NextUnsure(region *layout.Region, group int, row, end int64) int64 {
	missing := 0
	for _, slot := range region.Members(group) {
		if m := r.Slots.At(slot); m.Stale || !m.Condition().Counts() {
			missing++
		}
	}
	if missing <= region.Parity {
		return end
	}
	for ; row < end; row++ {
		if r.Unsure(region.At(group, row)) {
			return row
		}
	}
	return end
}

// columnsKnown is what the tables tell of the columns of a stripe.
type columnsKnown struct {
	sums    []uint32
	unknown [][]bool // by role and column
	given   [][]bool // the same: contents that were lost and given up
	count   []int    // by column: how many are unknown
	empty   []bool   // by column: a parity block tells that it was never written, see recoverEmpty
}

func (k *columnsKnown) fill(r *Rescue, st layout.Stripe) {
	n := st.StripBlocks()
	*k = columnsKnown{sums: make([]uint32, n), unknown: make([][]bool, st.Width()), given: make([][]bool, st.Width()), count: make([]int, n), empty: make([]bool, n)}
	for role := range k.unknown {
		k.unknown[role], k.given[role] = make([]bool, n), make([]bool, n)
		m := r.Slots.At(st.Slot(role))
		there := r.Stripes.Reads(st, role, m) && r.Tables.Sums(m, st.Block(m.Slot), k.sums) == nil
		for col := range n {
			u := !there || record.Unknown(k.sums[col]) || k.sums[col] != record.SumNever && r.badAt(m, st.Block(m.Slot)+int64(col))
			k.given[role][col] = !u && st.Fixed && role < st.Data && k.sums[col] == record.SumGivenUp
			if k.unknown[role][col] = u; u {
				k.count[col]++
			} else if role >= st.Data && k.sums[col] == record.SumNever {
				k.empty[col] = true
			}
		}
	}
}

func (r *Rescue) badAt(m *member.Member, block int64) bool {
	s, ok := m.Bare().(*disk.Shadow)
	return ok && s.Bad(m.Offset(block))
}
