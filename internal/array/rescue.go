package array

import (
	"errors"
	"fmt"

	"github.com/google/uuid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/dirty"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/disk"
)

// A rescue reads what is left of an array that cannot be started any more. It is the engine itself over shadows of the
// members: journals are replayed, sums entered and rosters raised in memory only. What redundancy cannot give is an error
// block by block instead of the end of the array. Three things are different from an array in service:
//
//   - a batch that members beyond redundancy would be needed for is applied for those that are there
//   - nothing is healed, and losing a member never stops the array
//   - a member that left earlier may serve for what is proven not to have changed since (trusts)

// rescue is what is different about an array that is being rescued.
type rescue struct {
	state roster.State
	old   bool // take what a member that left earlier holds, unless it is proven to have changed
	notes []string
	// batches are those that members which had left have their part of, by slot.
	batches map[int]map[uint64]bool
	// settled: the journals are in place. Before, the tables do not tell of all that changed, and no member that left is trusted.
	settled bool
}

// Rescue opens a state read-only: nothing is written to its disks. With old, what a member that left earlier holds is
// taken unless it is proven to have changed since; otherwise only when it is proven not to have. bad is what is known to be
// unreadable of each disk. Notes say what could not be made use of, and why. The disks belong to the array when nil is
// returned.
func Rescue(s roster.State, bad map[disk.Disk][]disk.Range, old bool, cfg Config) (a *Array, notes []string, err error) {
	rec := s.Record.Clone()
	rec.Starts++ // for numbers of checkpoints that none of its pages has
	lay, err := rec.Layout()
	if err != nil {
		return nil, nil, err
	}
	a = newArray(cfg, roster.ToSalvage, lay, rec)
	a.stripes.Trust = trust{a}
	a.rescue = &rescue{state: s, old: old, batches: map[int]map[uint64]bool{}}
	for slot := range rec.Roster {
		e, p := &rec.Roster[slot], s.Use[slot]
		e.Onto = uuid.Nil
		k := namedBy(rec, slot)
		if p.Disk == nil {
			e.Condition, k.Condition = record.Missing, record.Missing
		} else {
			k.Disk, k.Place = disk.NewShadow(p.Disk, bad[p.Disk]), p.Record.Place
		}
		if p.Stale {
			k.Condition, k.Stale, k.Base = record.Missing, true, p.Left
		}
		m := member.New(a.judge, k)
		a.slots.Put(m)
		if !p.Stale {
			continue
		}
		own, err := journal.LeftoverOf(m)
		if err == nil {
			err = a.journal.Lose(m, own.Runs, m.Base)
		}
		if err != nil {
			a.note("%s is not made use of: %v", m.Name(), err)
			m.Become(record.Missing)
			continue
		}
		a.rescue.batches[slot] = own.Batches
		m.Become(record.Active)
	}
	if err = a.roster.NewEpoch(); err == nil {
		err = a.replay()
	}
	if err != nil {
		a.freeze(err)
		return nil, a.rescue.notes, err
	}
	a.rescue.settled = true
	return a, a.rescue.notes, nil
}

func (a *Array) note(format string, args ...any) {
	a.rescue.notes = append(a.rescue.notes, fmt.Sprintf(format, args...))
}

// trust is what a rescue says of members that left earlier.
type trust struct{ a *Array }

func (t trust) Trusts(st layout.Stripe, role int, m *member.Member) bool {
	return t.a.trusts(st, role, m)
}

func (t trust) NextUnsure(r *layout.Region, group int, row, end int64) int64 {
	return t.a.nextUnsureRow(r, group, row, end)
}

// trusts says whether what a member that left earlier holds of a stripe is still right. Where the change map has no mark it
// is. Otherwise, a change of its data is a change of every parity as well, so one parity that has been there all the while
// and did not change is proof; one that changed is proof of nothing, but makes it too likely. Parity of a stale member
// proves nothing about data that is not there.
func (a *Array) trusts(st layout.Stripe, role int, m *member.Member) bool {
	if !a.rescue.settled {
		return false
	}
	if a.roster.Now().Changes.Unchanged(record.ChangePart(st.Ordinal(), a.Layout().Stripes()), m.Base) {
		return true
	}
	if role >= st.Data && st.Data > 1 {
		return false
	}
	changed := false
	for witness := range st.Width() {
		if witness == role || witness < st.Data && st.Data > 1 {
			continue
		}
		o := a.slots.At(st.Slot(witness))
		if o.Stale || !o.Usable(st) {
			continue
		}
		if !a.stripes.Differ(st, m, o) {
			return true
		}
		changed = true
	}
	return !changed && a.rescue.old
}

// Losses foretells what cannot be read of the regions that may ever have been written, without reading the data: lost is
// called with spans in ascending order; sofar, now and then, with how far it is. Whatever turns out to be unreadable or
// wrong on a member that is not known to be comes on top.
func (a *Array) Losses(lost func(state.Span), sofar func(off int64) error) error {
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
	lay := a.Layout()
	for number := a.stripes.NextWritten(0); number < lay.Stripes(); number = a.stripes.NextWritten(number + 1) {
		st := lay.Stripe(number)
		at := st.Offset()
		if err := sofar(at); err != nil {
			return err
		}
		if a.unsure(st) {
			for role := range st.Data {
				if !a.stripes.Reads(st, role, a.slots.At(st.Slot(role))) {
					add(at+int64(role)*st.Strip, st.Strip, true)
				}
			}
			continue
		}
		look.fill(a, st)
		for role := range st.Data {
			for col := range st.StripBlocks() {
				if look.unknown[role][col] && !look.empty[col] && look.count[col] > st.Parity {
					add(at+int64(role)*st.Strip+int64(col)*Block, Block, false)
				}
			}
		}
	}
	flush()
	return nil
}

// unsure says whether no remaining member could show that something was written to a stripe: whatever is written there
// is written to a data block and to every parity block, but none of those that were is there.
func (a *Array) unsure(st layout.Stripe) bool {
	missing, parities := 0, 0
	for role := range st.Width() {
		m := a.slots.At(st.Slot(role))
		if !a.stripes.Reads(st, role, m) {
			missing++
			continue
		}
		if role >= st.Data || st.Data == 1 {
			parities++
		}
		for number := range stripe.PagesOf(st, m.Slot) {
			if written, _, err := a.tables.Changed(m, number); err != nil || written {
				return false
			}
		}
	}
	return missing > st.Parity && parities == 0
}

// nextUnsureRow is the first unsure row of a group from row on; end when there is none before it.
func (a *Array) nextUnsureRow(r *layout.Region, group int, row, end int64) int64 {
	missing := 0
	for _, slot := range r.Members(group) {
		if m := a.slots.At(slot); m.Stale || !m.Condition().Counts() {
			missing++
		}
	}
	if missing <= r.Parity {
		return end
	}
	for ; row < end; row++ {
		if a.unsure(r.At(group, row)) {
			return row
		}
	}
	return end
}

// columnsKnown is what the tables tell of the columns of a stripe.
type columnsKnown struct {
	sums    []uint32
	unknown [][]bool // by role and column
	count   []int    // by column: how many are unknown
	empty   []bool   // by column: a parity block tells that it was never written, see recoverEmpty
}

func (k *columnsKnown) fill(a *Array, st layout.Stripe) {
	n := st.StripBlocks()
	*k = columnsKnown{sums: make([]uint32, n), unknown: make([][]bool, st.Width()), count: make([]int, n), empty: make([]bool, n)}
	for role := range k.unknown {
		k.unknown[role] = make([]bool, n)
		m := a.slots.At(st.Slot(role))
		there := a.stripes.Reads(st, role, m) && a.tables.Sums(m, st.Block(m.Slot), k.sums) == nil
		for col := range n {
			u := !there || record.Unknown(k.sums[col]) || k.sums[col] != record.SumNever && a.badAt(m, st.Block(m.Slot)+int64(col))
			if k.unknown[role][col] = u; u {
				k.count[col]++
			} else if role >= st.Data && k.sums[col] == record.SumNever {
				k.empty[col] = true
			}
		}
	}
}

func (a *Array) badAt(m *member.Member, block int64) bool {
	s, ok := m.Bare().(*disk.Shadow)
	return ok && s.Bad(m.Offset(block))
}

// ReadKnown fills p from byte offset off, both in whole blocks, with what can be read, and with zeros where nothing can:
// those spans it returns, ascending.
func (a *Array) ReadKnown(p []byte, off int64) (lost []state.Span, err error) {
	lay, unsure := a.Layout(), false // unsure: there is no use in trying the quick way
	_ = pieces(lay, p, off, func(pc dirty.Piece) error {
		unsure = unsure || a.unsure(pc.Stripe)
		return nil
	})
	if !unsure {
		if _, err = a.ReadSparse(p, off); err == nil || !errors.Is(err, ErrUnreadable) {
			return nil, err
		}
	}
	lose := func(at, length int64) {
		if l := len(lost) - 1; l >= 0 && lost[l].Offset+lost[l].Length == at {
			lost[l].Length += length
		} else {
			lost = append(lost, state.Span{Offset: at, Length: length})
		}
	}
	err = pieces(lay, p, off, func(pc dirty.Piece) error {
		first, n := int(pc.From/Block), len(pc.Buf)/Block
		start := pc.Stripe.Offset() + int64(pc.Role)*pc.Stripe.Strip + pc.From
		if a.unsure(pc.Stripe) && !a.stripes.Reads(pc.Stripe, pc.Role, a.slots.At(pc.Stripe.Slot(pc.Role))) {
			clear(pc.Buf)
			lose(start, int64(len(pc.Buf)))
			return nil
		}
		defer a.stripes.Lock([]layout.ID{pc.Stripe.ID()}, false)()
		c, err := a.stripes.Load(pc.Stripe, first, n, nil)
		if err != nil {
			return err
		}
		defer c.Free()
		_ = c.Recover() // a rescue goes on without a disk that hangs
		for col := range n {
			if c.Known[pc.Role][col] {
				copy(pc.Buf[col*Block:][:Block], c.Bufs[pc.Role][col*Block:])
				continue
			}
			clear(pc.Buf[col*Block:][:Block])
			lose(start+int64(col)*Block, Block)
		}
		return nil
	})
	return lost, err
}

// NextWritten is the first byte at or after off, at the start of a stripe, that may ever have been written, and
// where that stripe ends; the capacity twice when there is none.
func (a *Array) NextWritten(off int64) (from, to int64) {
	lay := a.Layout()
	number := lay.Stripes()
	if off < lay.Capacity() {
		st, _ := lay.Locate(off)
		number = a.stripes.NextWritten(st.Ordinal())
	}
	return lay.Offset(number), lay.Offset(number + 1)
}
