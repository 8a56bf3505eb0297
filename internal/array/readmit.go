package array

import (
	"fmt"

	"github.com/google/uuid"

	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/probe"
)

// Members that had left before an array failed can be brought back in place: what of theirs is not proven to be current is
// given up, durably, and the rest counts again. What a rescue of the same state reads is what the array then has.
//
//	1  in their own tables, what they lack is marked lost      a crash here leaves members that are away, as before
//	2  what the others have in their journals gets in place    a crash here leaves the same, as any replay does
//	3  they get the roster there is, in which they are out     a crash here leaves members that are away
//	4  the roster is raised with all of them in it, on them    a crash here leaves all of them back: one that does not have
//	   first                                                   the new roster is one epoch behind it, which is current

// Readmit writes to the disks that a rescue only reads, so that the array can be started with the members that had left.
// The rescue must not be used for anything but Abandon afterwards. sofar is told how much of the array is done with, in
// bytes, and may stop it by an error; it can be begun again.
func (a *Array) Readmit(sofar func(off int64) error) error {
	s := a.rescue.state
	slots, err := s.Readmits()
	if err != nil {
		return err
	}
	back := make([]*member.Member, len(slots))
	for i, slot := range slots {
		m := a.slots.At(slot)
		if m.Condition() != record.Active {
			return fmt.Errorf("%w: %s cannot be made use of", roster.ErrNoReadmission, m.Name())
		}
		if back[i], err = a.giveUp(m, s.Use[slot], sofar); err != nil {
			return fmt.Errorf("%s: %w", m.Name(), err)
		}
	}
	b, err := a.settled()
	if err != nil {
		return err
	}
	return b.admit(back)
}

// placeOf is where the parts of a disk in a rescue lie, with the segments that the roster names, as far as they fit.
func placeOf(p roster.Part, rec *record.Record) record.Place {
	if fits, err := rec.Roster[p.Record.Slot].PlaceOf(p.Record.Place); err == nil {
		return fits
	}
	return p.Record.Place
}

// giveUp marks as lost, on the disk of a member of a rescue, what of it is not proven to be current.
func (a *Array) giveUp(stale *member.Member, p roster.Part, sofar func(int64) error) (*member.Member, error) {
	m := member.New(a.judge, member.Known{Slot: stale.Slot, Disk: p.Disk, Identity: p.Record.Member, Place: placeOf(p, a.rescue.state.Record), Condition: record.Missing,
		Base: p.Left, Errors: stale.Errors()})
	own, err := journal.LeftoverOf(m)
	if err != nil {
		return nil, err
	}
	if probe.BroughtBackWithJournal.On() {
		own.Runs = nil
	}
	epoch := a.rescue.state.Record.Epoch + 1
	if err := a.journal.Lose(m, own.Runs, epoch); err != nil {
		return nil, err
	}
	const most = 1 << 16 // blocks of which the tables are changed at a time
	var runs []record.Run
	blocks := 0
	lay := a.Layout()
	strips := lay.Strips(m.Slot)
	for nth := a.stripes.NextWrittenStrip(m.Slot, 0); nth < strips; nth = a.stripes.NextWrittenStrip(m.Slot, nth+1) {
		st, _ := lay.Strip(m.Slot, nth)
		if err := sofar(st.Offset()); err != nil {
			return nil, err
		}
		if probe.NothingGivenUp.On() || a.rescue.Trusts(st, st.Role(m.Slot), stale) {
			continue
		}
		if l := len(runs) - 1; l >= 0 && runs[l].Start+int64(runs[l].Count) == st.Block(m.Slot) {
			runs[l].Count += st.StripBlocks()
		} else {
			runs = append(runs, record.Run{Start: st.Block(m.Slot), Count: st.StripBlocks()})
		}
		if blocks += st.StripBlocks(); blocks >= most {
			if err := a.journal.Lose(m, runs, epoch); err != nil {
				return nil, err
			}
			runs, blocks = nil, 0
		}
	}
	return m, a.journal.Lose(m, runs, epoch)
}

// settled is an array of the members that never left, with everything they have in their journals in place. It is there
// to change their records; it is not started, and shares its disks with the rescue.
func (a *Array) settled() (*Array, error) {
	s := a.rescue.state
	rec := s.Record.Clone()
	lay, err := rec.Layout()
	if err != nil {
		return nil, err
	}
	b := newArray(a.cfg, roster.ToSalvage, lay, rec)
	b.rescues(s, false, a.rescue.Batches)
	for slot, p := range s.Use {
		k := namedBy(rec, slot)
		if p.Stale || p.Disk == nil {
			k.Condition = record.Missing
		} else {
			k.Disk, k.Place = p.Disk, placeOf(p, rec)
		}
		b.slots.Put(member.New(b.judge, k))
		rec.Roster[slot].Onto = uuid.Nil
	}
	if err := b.roster.Update(func(r *record.Record) { r.Clean, r.Starts = false, r.Starts+1 }); err != nil {
		return nil, err
	}
	if probe.BroughtBackUnsettled.On() {
		return b, nil
	}
	return b, b.replay()
}

// admit makes members active, and those that are not there missing, for good: what they hold cannot be told any more from
// what is given up here.
func (a *Array) admit(back []*member.Member) error {
	if err := a.allThere(); err != nil {
		return err
	}
	for _, m := range back {
		if err := a.journal.Empty(m); err != nil {
			return fmt.Errorf("%s: %w", m.Name(), err)
		}
	}
	if err := a.roster.BringBack(back); err != nil {
		return err
	}
	return a.allThere()
}

// allThere says whether no member failed of those that a rescue found current.
func (a *Array) allThere() error {
	for slot, p := range a.rescue.state.Use {
		if m := a.slots.At(slot); p.Disk != nil && !p.Stale && !m.Live() {
			return fmt.Errorf("%s failed meanwhile", m.Name())
		}
	}
	return nil
}
