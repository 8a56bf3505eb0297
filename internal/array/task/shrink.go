package task

import (
	"fmt"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
)

// UsedError says that an array cannot be made smaller, because something lies beyond its new end.
type UsedError struct {
	End int64 // that the array would have, bytes
	At  int64 // byte at which the first stripe begins that holds anything there
}

func (e UsedError) Error() string {
	return fmt.Sprintf("beyond its new end of %s (byte %d) something is written, first at byte %d", say.Size(e.End), e.End, e.At)
}

// PlanShrink says what capacity an array has that is to have some capacity at least: whole rows.
func (w *Works) PlanShrink(to int64) (after int64, err error) {
	lay := w.host.Layout()
	switch {
	case w.host.Roster.View().Turn != nil:
		return 0, errConverting
	case lay.Level == layout.Guarded:
		return 0, errGuarded
	case to <= 0 || to > lay.Capacity():
		return 0, fmt.Errorf("the array has %s (%d bytes)", say.Size(lay.Capacity()), lay.Capacity())
	}
	return lay.Ceil(to), nil
}

// MayShrink says why the array cannot be made smaller at the moment, whatever is written.
func (w *Works) MayShrink() error {
	why := w.Waits()
	if why == "" && w.tasks.Running(state.TaskCheck) {
		why = "for the consistency check"
	}
	switch {
	case w.host.Alive() != nil:
		return w.host.Alive()
	case why != "":
		return fmt.Errorf("the array cannot be made smaller at the moment: it has to wait %s", why)
	}
	return nil
}

// Shrink gives the array less capacity, of whole rows: what PlanShrink says. Nothing that was written and not trimmed since may lie beyond that. No data moves.
func (w *Works) Shrink(to int64) (after int64, err error) {
	w.joins.Lock()
	defer w.joins.Unlock()
	if after, err = w.PlanShrink(to); err != nil || after == w.host.Layout().Capacity() {
		return after, err
	}
	return after, w.cut(after)
}

// cut makes the array end at the end of a row.
//
//	1  clients are kept away, and the cache is brought to the members
//	2  nothing may be written beyond the new end; a checkpoint      no batch that is needed speaks of what is beyond
//	3  the record has fewer rows, on all members                    a crash leaves the old size or the new one
//
// The cells beyond are never-written, so the room is empty when the array grows again.
func (w *Works) cut(after int64) error {
	if err := w.MayShrink(); err != nil {
		return err
	}
	lay := w.host.Layout()
	if err := w.host.Settle(after, lay.Capacity()-after); err != nil {
		return err
	}
	defer w.host.Hold(0, lay.Capacity())()
	if err := w.host.Settle(0, lay.Capacity()); err != nil {
		return err
	}
	defer w.host.Stripes.LockAll()()
	if at := w.firstUsed(lay, after); at >= 0 {
		return UsedError{End: after, At: at}
	}
	if err := w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	cut, err := lay.Cut(after)
	if err != nil {
		return err
	}
	if err := w.host.Roster.Cut(record.RegionsOf(cut), w.host.Remap); err != nil {
		return err
	}
	w.host.Say(event.ArrayShrunk, "", fmt.Sprintf("to %s", say.Size(cut.Capacity())))
	return nil
}

// firstUsed is the byte at which the first stripe from a byte on begins that holds anything; -1: there is none.
func (w *Works) firstUsed(lay *layout.Map, from int64) int64 {
	if from >= lay.Capacity() {
		return -1
	}
	st, _ := lay.Locate(from)
	for i := st.Ordinal(); ; i++ {
		if i = w.host.Stripes.NextWrittenOf(lay, i); i >= lay.Stripes() {
			return -1
		}
		if st := lay.Stripe(i); !w.host.Stripes.Untouched(st, nil) {
			return st.Offset()
		}
	}
}

// retireWitnesses lets the member that keeps the witnesses of the last one, when some members behind that are let go, know what was known of it so far.
// With clients kept away nothing is added to that meanwhile.
func (w *Works) retireWitnesses(members int) error {
	now := w.host.Roster.Holder(members - 1)
	then := record.WitnessOf(members-1, members)
	if now < members || then < 0 {
		return nil
	}
	from, onto := w.host.Slots.At(now), w.host.Slots.At(then)
	for number, there := range from.Place().SameWitnesses(onto.Place(), w.host.Slots.At(members-1).Place()) {
		if err := w.host.Tables.CopyWitnesses(from, number, onto, there); err != nil {
			return err
		}
	}
	return w.host.Journal.Checkpoint()
}

// letGo makes disks blank that are no members any more. One that hangs takes no longer than the patience with it.
func (w *Works) letGo(freed []*member.Member) {
	for _, m := range freed {
		w.host.Tables.Forget(m)
		text := "it is blank"
		if err := disk.Wipe(m.Disk); err != nil {
			text = fmt.Sprintf("it could not be made blank, and still says that it is a member: %v", err)
		}
		w.host.Say(event.MemberFreed, m.Name(), text)
		m.Release()
	}
}
