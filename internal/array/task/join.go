package task

import (
	"errors"
	"fmt"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// ErrMargin is wrapped by Fail when the array would lose data.
var ErrMargin = errors.New("the data would be out of reach")

// ByAdministrator is the reason of members that Fail declared failed: it says nothing about the disk.
const ByAdministrator = "declared failed by the administrator"

// Fail declares the member in slot failed. Unless force is set it refuses when the array would fail with it.
func (w *Works) Fail(slot int, force bool) error {
	if slot < 0 || slot >= w.host.Slots.Len() {
		return fmt.Errorf("slot %d: the array has slots 0 to %d", slot, w.host.Slots.Len()-1)
	}
	m := w.host.Slots.At(slot)
	if !m.Live() {
		return fmt.Errorf("%s is %s already", m.Name(), m.Condition())
	}
	if !force && w.host.Roster.Needs(slot) {
		return ErrMargin
	}
	if w.host.Layout().Volumes() != nil && w.host.Roster.Needs(slot) {
		_ = w.host.Flush() // of its volume nothing can be written any more; clients are told what could not be kept
	}
	if m.Condition() != record.Rebuilding {
		// What is in its journal gets into place, so that nothing of what it holds is in doubt if it comes back.
		if err := w.host.Journal.Checkpoint(); err != nil && w.host.Alive() != nil {
			return err
		}
	}
	w.host.Roster.Fail(m, record.Failed, errors.New(ByAdministrator))
	m.Released()
	return nil
}

// NeedSize is the smallest disk that can take the place of the member in slot, in bytes.
func (w *Works) NeedSize(slot int) int64 {
	rec := w.host.Roster.View()
	if slot >= len(rec.Roster) {
		return 0 // it was let go
	}
	return needSize(rec.Roster[slot], w.strip())
}

// strip is the largest strip of the array, whose changes must fit into every journal.
func (w *Works) strip() (most int64) {
	rec := w.host.Roster.View()
	most = rec.Strip
	if rec.Turn != nil {
		most = max(most, rec.Turn.Strip)
	}
	for _, r := range rec.Regions {
		most = max(most, r.Strip)
	}
	return most
}

// needSize is the smallest disk for an entry of the roster.
func needSize(e record.Entry, strip int64) int64 {
	data := e.DataSize
	for _, more := range e.More {
		data += more
	}
	lo, hi := int64(1<<20), data*2+(1<<30)
	for lo < hi {
		mid := (lo + hi) / 2
		if p, err := record.PlaceFor(mid, e.DataSize, e.More...); err == nil && p.DataSize >= e.DataSize && p.MaxStripFor() >= strip {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	return (lo + record.Block - 1) &^ (record.Block - 1)
}

// Replace puts a disk in the place of the member in slot, whatever the disk holds, and starts to rebuild onto it. A
// member that still works is failed first. The disk belongs to the array when nil is returned.
func (w *Works) Replace(slot int, d disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	return w.replace(slot, d)
}

// ErrTaken is wrapped by StandIn when there is a member that works.
var ErrTaken = errors.New("its place is taken")

// StandIn is Replace for a member that is lost: it does nothing to one that works, or is being rebuilt.
func (w *Works) StandIn(slot int, d disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	if slot < 0 || slot >= w.host.Slots.Len() || w.host.Slots.At(slot).Live() {
		return fmt.Errorf("slot %d: %w", slot, ErrTaken)
	}
	return w.replace(slot, d)
}

// replace is Replace for a caller that holds joins. Everything that can be refused is refused before the disk is a member:
// from there on only the disk itself can still fail.
func (w *Works) replace(slot int, d disk.Disk) error {
	if slot < 0 || slot >= w.host.Slots.Len() {
		return fmt.Errorf("slot %d: the array has slots 0 to %d", slot, w.host.Slots.Len()-1)
	}
	if !w.host.Layout().Redundant() {
		return fmt.Errorf("level %s has no redundancy to rebuild a member from", w.host.Layout().Level)
	}
	if w.host.Slots.At(slot).Condition() == record.Vacant {
		return fmt.Errorf("slot %d is vacant: its member was taken out", slot)
	}
	place, err := w.placeFor(slot, d)
	if err != nil {
		return err
	}
	if w.host.Roster.Needs(slot) {
		return ErrMargin
	}
	if w.host.Roster.Partial() {
		return ErrPartial
	}
	m := member.New(w.host.Judge, member.Known{Slot: slot, Disk: d, Identity: env.NewID(), Place: place, Condition: record.Missing})
	return w.join(m, func() error { return w.blank(m) })
}

// join makes a disk the member of its slot, in the one way there is for all that take a place: a replacement, a spare that steps in, a
// copy whose original failed, and a member that comes back.
//
//	1  tasks and copying for the slot end, and the member that is there fails
//	2  a checkpoint brings the journals in place: the batches of the old member are not needed any more, and the rings need
//	   not agree
//	3  the disk is made ready                a crash up to here leaves a disk that belongs to nothing, or is away as before
//	4  the roster names it                   a crash leaves it being filled, from its first strip
//	5  it is filled
func (w *Works) join(m *member.Member, ready func() error) error {
	old := w.host.Slots.At(m.Slot)
	w.clearSlot(m.Slot)
	if old.Live() {
		if err := w.Fail(m.Slot, false); err != nil {
			return err
		}
	}
	if err := w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	if err := ready(); err != nil {
		return err
	}
	if err := w.host.Roster.Join(m); err != nil {
		return err
	}
	old.Release()
	if m.Base != 0 {
		w.host.Say(event.MemberReturned, m.Name(), fmt.Sprintf("it catches up what it missed since epoch %d", m.Base))
	}
	w.resumeRebuild(m.Slot)
	return nil
}

// blank makes a disk, whatever it holds, an empty member but for its record.
func (w *Works) blank(m *member.Member) error {
	if err := disk.Wipe(m.Bare()); err != nil {
		return err
	}
	return w.host.Journal.Prepare(m)
}

// placeFor lays out a disk that is to take the place of the member in slot.
func (w *Works) placeFor(slot int, d disk.Disk) (record.Place, error) {
	e := w.host.Roster.View().Roster[slot]
	place, err := record.PlaceFor(d.Size(), e.DataSize, e.More...)
	if err != nil || place.DataSize < e.DataSize || place.MaxStripFor() < w.strip() {
		return place, fmt.Errorf("%s has %d bytes; the place of slot %d needs at least %d", d.Identity(), d.Size(), slot, w.NeedSize(slot))
	}
	return place, nil
}

// clearSlot ends the tasks and the copying that are under way for a slot which is about to get another disk.
func (w *Works) clearSlot(slot int) {
	if !probe.TaskNotSuperseded.On() {
		w.tasks.Supersede(slot)
	}
	if m := w.host.Slots.Onto(slot); m != nil {
		w.abandonCopy(slot, m, true)
	}
}

// resumeRebuild starts to rebuild onto the member in slot. That it cannot be started, because the array is being stopped, is
// no error: the record says that it is to go on.
func (w *Works) resumeRebuild(slot int) {
	_, _ = w.startRebuild(slot)
}

// LetGo closes the disk of a member that no longer takes part, so that it can be opened anew.
func (w *Works) LetGo(slot int) {
	if m := w.host.Slots.At(slot); !m.Live() {
		m.Released()
	}
}

// Return takes a member back that was away: it catches up what changed meanwhile, and what was on its way to it when it
// went. The disk belongs to the array when nil is returned. The error wraps ErrStale when it must be rebuilt from nothing.
//
//	1  in its own tables, what its journal names is marked lost     a crash leaves a member that is away, as before
//	2  its journal is emptied                                       the same: nothing in it is needed after 1
//	3  it joins                                                     until its own record says so, it is away as before
func (w *Works) Return(d disk.Disk, own *record.Record, failed bool) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	slot, err := w.host.Roster.Awaits(own, failed)
	if err != nil {
		return err
	}
	if d.Size() < own.Place.Size {
		return fmt.Errorf("%w: the disk is smaller than it was", roster.ErrStale)
	}
	e := w.host.Roster.View().Roster[slot]
	place, err := e.PlaceOf(own.Place)
	if err != nil {
		return fmt.Errorf("%w: %w", roster.ErrStale, err)
	}
	has := own.State() // until it has the next: it may vanish before
	if probe.ReturnLosesState.On() {
		has = record.State{}
	}
	m := member.New(w.host.Judge, member.Known{Slot: slot, Disk: d, Identity: own.Member, Place: place, Condition: record.Missing,
		Base: e.Base, Errors: w.host.Slots.At(slot).Errors(), Has: has})
	return w.join(m, func() error {
		for i := len(own.Place.More); i < len(place.More); i++ { // it left while the array grew
			if err := w.host.Journal.Blank(m, &place.More[i]); err != nil {
				return err
			}
		}
		return w.catchable(m, own)
	})
}

// catchable makes a member that was away ready to catch up: what is not certain of what it holds is marked lost in its own tables.
func (w *Works) catchable(m *member.Member, own *record.Record) error {
	left, err := journal.LeftoverOf(m)
	if err != nil {
		return err
	}
	if probe.OwnJournalForgotten.On() {
		left.Runs = nil
	}
	if err := w.keepOwn(m, &left); err != nil {
		return err
	}
	if err := w.host.Journal.Lose(m, left.Runs, own.Epoch); err != nil {
		return err
	}
	m.Ring.Sequence = left.Sequence
	return w.host.Journal.Empty(m)
}

// Retire starts to copy a member that can still be read onto another disk, see retire.go. The disk, whatever it holds, belongs to the array
// when nil is returned.
func (w *Works) Retire(slot int, d disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	if slot < 0 || slot >= w.host.Slots.Len() {
		return fmt.Errorf("slot %d: the array has slots 0 to %d", slot, w.host.Slots.Len()-1)
	}
	old := w.host.Slots.At(slot)
	if c := old.Condition(); c != record.Active && c != record.Failing {
		return fmt.Errorf("%s is %s: there is nothing to copy from; replace it", old.Name(), c)
	}
	if o := w.host.Slots.Onto(slot); o != nil {
		return fmt.Errorf("%s is being retired already, onto %s", old.Name(), o.Name())
	}
	place, err := w.placeFor(slot, d)
	if err != nil {
		return err
	}
	w.tasks.Supersede(slot)
	m := member.New(w.host.Judge, member.Known{Slot: slot, Disk: d, Identity: env.NewID(), Place: place, Condition: record.Rebuilding})
	if err := w.blank(m); err != nil {
		return err
	}
	if err := w.signCopy(m); err != nil {
		return err
	}
	if err := w.host.Roster.CopyOnto(m); err != nil {
		return err
	}
	w.host.Slots.CopyOnto(m)
	_, _ = w.startRetire(slot) // while the array is being stopped it goes on at the next start
	return nil
}

// signCopy writes the record of the array as it is now, with the copy's own identity, onto the copy.
func (w *Works) signCopy(m *member.Member) error {
	own := w.host.Roster.View()
	own.Roster[m.Slot].Onto = m.Identity
	return m.PutRecord(own)
}

// standsIn says whether the copy of a member may take its place although it is not whole: it is rebuilt then.
func (w *Works) standsIn(old, m *member.Member) bool {
	return m.Live() && w.host.Slots.Has(old) && !old.Live() && w.host.Layout().Redundant()
}

// fallBack ends a copying that came to nothing. When the member failed before its copy was whole, the disk that was meant
// for its place is rebuilt instead, unless another one took the place meanwhile.
func (w *Works) fallBack(old, m *member.Member) {
	w.joins.Lock()
	defer w.joins.Unlock()
	if !w.host.Slots.IsCopy(m) || w.host.Alive() != nil {
		return // it became the member, or another task has seen to it
	}
	takes := w.standsIn(old, m)
	w.abandonCopy(m.Slot, m, !takes)
	if !takes {
		return
	}
	probe.StandInTookOver.Seen()
	if err := w.replace(m.Slot, m.Patient.Disk); err != nil {
		m.Release()
		w.host.Say(event.CopyFailed, m.Name(), fmt.Sprintf("it could not take the place of %s, which failed: %v", old.Name(), err))
	}
}

// abandonCopy forgets about a copy that came to nothing.
func (w *Works) abandonCopy(slot int, m *member.Member, letGo bool) {
	if !w.host.Slots.EndCopy(m) {
		return
	}
	m.Become(record.Failed)
	w.host.Tables.Forget(m)
	_ = w.host.Roster.Update(func(r *record.Record) {
		r.Roster[slot].Onto, r.Roster[slot].Cursor = uuid.Nil, 0
	})
	if letGo {
		m.Release()
	}
}
