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
	"nidalo/internal/array/rescue"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
)

// A rescue reads what is left of an array that cannot be started any more. It is the engine itself over shadows of the
// members: journals are replayed, sums entered and rosters raised in memory only. What redundancy cannot give is an error
// block by block instead of the end of the array. Three things are different from an array in service:
//
//   - a batch that members beyond redundancy would be needed for is applied for those that are there
//   - nothing is healed, and losing a member never stops the array
//   - a member that left earlier may serve for what is proven not to have changed since (trusts)

// rescued is what an array that is being rescued has besides.
type rescued struct {
	*rescue.Rescue
	state roster.State
	notes []string
}

// rescues makes an array one that is being rescued.
func (a *Array) rescues(s roster.State, old bool, batches map[int]map[uint64]bool) {
	r := &rescue.Rescue{Host: rescue.Host{Layout: a.Layout, Roster: a.roster, Slots: a.slots, Stripes: a.stripes, Tables: a.tables}, Old: old, Batches: batches}
	a.rescue, a.stripes.Trust = &rescued{Rescue: r, state: s}, r
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
	a.rescues(s, old, map[int]map[uint64]bool{})
	for slot := range rec.Roster {
		e, p := &rec.Roster[slot], s.Use[slot]
		e.Onto = uuid.Nil
		k := namedBy(rec, slot)
		if p.Disk == nil {
			e.Condition, k.Condition = record.Missing, record.Missing
		} else {
			k.Disk, k.Place = disk.NewShadow(p.Disk, bad[p.Disk]), placeOf(p, rec)
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
		a.rescue.Batches[slot] = own.Batches
		m.Become(record.Active)
	}
	if err = a.roster.NewEpoch(); err == nil {
		err = a.replay()
	}
	if err != nil {
		a.freeze(err)
		return nil, a.rescue.notes, err
	}
	a.rescue.Settled = true
	return a, a.rescue.notes, nil
}

func (a *Array) note(format string, args ...any) {
	a.rescue.notes = append(a.rescue.notes, fmt.Sprintf(format, args...))
}

// lacksBatch says whether a member that is away lacks a batch.
func (a *Array) lacksBatch(m *member.Member, batch uint64) bool {
	if a.rescue == nil {
		return !m.Live()
	}
	own, away := a.rescue.Batches[m.Slot]
	return away && !own[batch]
}

// Losses is rescue.Losses.
func (a *Array) Losses(lost func(state.Span), sofar func(off int64) error) error {
	return a.rescue.Losses(lost, sofar)
}

// ReadKnown fills p from byte offset off, both in whole blocks, with what can be read, and with zeros where nothing can:
// those spans it returns, ascending.
func (a *Array) ReadKnown(p []byte, off int64) (lost []state.Span, err error) {
	lay, unsure := a.Layout(), false // unsure: there is no use in trying the quick way
	_ = pieces(lay, p, off, func(pc dirty.Piece) error {
		unsure = unsure || a.rescue.Unsure(pc.Stripe)
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
		start := lay.At(pc.Stripe, pc.Role) + pc.From
		if a.rescue.Unsure(pc.Stripe) && !a.stripes.Reads(pc.Stripe, pc.Role, a.slots.At(pc.Stripe.Slot(pc.Role))) {
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
			if c.Known[pc.Role][col] && !c.GivenUp(pc.Role, col) {
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
	for off < lay.Capacity() {
		st, _ := lay.Locate(off)
		number := a.stripes.NextWritten(st.Ordinal())
		if from = lay.Ahead(off, number); lay.Volumes() == nil {
			return lay.Offset(number), lay.Offset(number + 1)
		}
		if from < lay.Capacity() {
			if st, in := lay.Locate(from); st.Ordinal() == number {
				return from, from + st.Left(in)
			}
		}
		off = from // the next volume
	}
	return lay.Capacity(), lay.Capacity()
}
