package array

import (
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// Grow takes up the room that all members have beyond what the array uses, see task.Works.
func (a *Array) Grow() (task.Gain, error) { return a.works.Grow() }

// Measure finds out how large the disks are by now, see task.Works.
func (a *Array) Measure() { a.works.Measure() }

// Gain is what Grow would gain, with disks as large as when they were measured.
func (a *Array) Gain() task.Gain { return a.works.Gain() }

// Waits says what a change of layout has to wait for, see task.Works.
func (a *Array) Waits() string { return a.works.Waits() }

// MayShrink says why the array cannot be made smaller at the moment, see task.Works.
func (a *Array) MayShrink() error { return a.works.MayShrink() }

// PlanAfter is PlanConversion of the array as it will be when the change of layout that is under way is done.
func (a *Array) PlanAfter(to task.Target, sizes []int64) (task.Conversion, error) {
	return a.works.PlanAfter(to, sizes)
}

// WrittenOn is how much lies on a member in strips of stripes that were ever written, in bytes.
func (a *Array) WrittenOn(slot int) int64 { return a.stripes.WrittenFrom(slot, 0) }

// WrittenIn is how much of the volume on a slot was ever written, in bytes, by the tables of its disk; without that, what may have been.
func (a *Array) WrittenIn(slot int) int64 {
	m := a.slots.At(slot)
	if !m.Full() {
		return a.WrittenOn(slot)
	}
	return a.stripes.Written(slot, 0, a.Layout().Strips(slot), func(nth int64) int64 { return a.stripes.NextMarked(m, nth) })
}

// Alone says why the array cannot grow at this moment, see task.Works.
func (a *Array) Alone() error { return a.works.Alone() }

// PlanVolumes works out further data disks of a guarded set, see task.Works.
func (a *Array) PlanVolumes(names []string, sizes []int64) (task.NewVolumes, error) {
	return a.works.PlanVolumes(names, sizes)
}

// PlanParity says why a disk of some size cannot be a further parity disk of a guarded set, see task.Works.
func (a *Array) PlanParity(size int64) error {
	_, err := a.works.PlanParity(size)
	return err
}

// AddParity adds a parity disk to a guarded set, see task.Works.
func (a *Array) AddParity(d disk.Disk) error { return a.works.AddParity(d) }

// MayTakeOut says why a member cannot be taken out of a guarded set, see task.Works.
func (a *Array) MayTakeOut(slot int) error { return a.works.MayTakeOut(slot) }

// TakeOut takes a member out of a guarded set, see task.Works.
func (a *Array) TakeOut(slot int) error { return a.works.TakeOut(slot) }

// AddVolumes adds data disks to a guarded set, see task.Works.
func (a *Array) AddVolumes(names []string, disks []disk.Disk) error {
	return a.works.AddVolumes(names, disks)
}

// PlanWiden works out what Grow does where disks are of different sizes, see task.Works.
func (a *Array) PlanWiden() (task.Conversion, error) { return a.works.PlanWiden() }

// PlanShrink says what capacity the array has after Shrink, see task.Works.
func (a *Array) PlanShrink(to int64) (int64, error) { return a.works.PlanShrink(to) }

// Shrink gives the array less capacity, see task.Works.
func (a *Array) Shrink(to int64) (int64, error) { return a.works.Shrink(to) }

// Convert begins to change the array to another layout, see task.Works.
func (a *Array) Convert(to task.Target, disks []disk.Disk) error { return a.works.Convert(to, disks) }

// PlanConversion says what Convert would do.
func (a *Array) PlanConversion(to task.Target, sizes []int64) (task.Conversion, error) {
	return a.works.PlanConversion(to, sizes)
}

// settleRange brings to the members what the cache has of a stretch of the logical space from which clients are kept.
func (a *Array) settleRange(off, length int64) error {
	err, _ := a.flushStripes(&a.anybody, a.heldAt(a.Layout(), off, length), placeLater) // of which there are no others
	return err
}

// turning is the change of layout of an array that is being started.
type turning struct{ a *Array }

// at is the map with more moved than the record says; nil: it is not more.
func (t turning) at(moved int64) (*layout.Map, error) {
	rec := t.a.roster.Now()
	if moved == 0 || rec.Turn == nil || moved <= rec.Turn.Moved {
		return nil, nil
	}
	turn, err := rec.Turns()
	if err != nil {
		return nil, err
	}
	return turn.At(moved)
}

// Further is that of replay.Turn.
func (t turning) Further(moved int64) (bool, error) {
	now, err := t.at(moved)
	return now != nil, err
}

// Ahead is that of replay.Turn.
func (t turning) Ahead(moved int64) (back func(), err error) {
	now, err := t.at(moved)
	if now == nil || err != nil {
		return nil, err
	}
	was, before := t.a.Layout(), t.a.ahead
	if probe.BoundaryOfBatchForgotten.On() {
		return nil, nil
	}
	probe.BatchAhead.Seen()
	t.a.layout.Store(now)
	t.a.ahead = moved
	return func() {
		probe.BatchAheadDropped.Seen()
		t.a.layout.Store(was)
		t.a.ahead = before
	}, nil
}

// Layout is that of replay.Turn.
func (t turning) Layout() *layout.Map { return t.a.Layout() }

// Stretch is that of replay.Turn.
func (t turning) Stretch(to int64) (from, end int64) {
	rec := t.a.roster.Now()
	turn, err := rec.Turns()
	if err != nil {
		return 0, 0
	}
	return turn.Stretch(max(t.a.ahead, rec.Turn.Moved), to)
}

// Keep is that of replay.Turn.
func (t turning) Keep() error {
	if t.a.ahead == 0 || t.a.rescue != nil {
		return nil
	}
	return t.a.roster.Update(func(r *record.Record) { r.Turn.Moved = t.a.ahead })
}
