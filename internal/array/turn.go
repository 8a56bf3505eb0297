package array

import (
	"fmt"

	"nidalo/core/record"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// Grow takes up the room that all members have beyond what the array uses, see task.Works.
func (a *Array) Grow() (task.Gain, error) { return a.works.Grow() }

// Gain is what Grow would gain.
func (a *Array) Gain() task.Gain { return a.works.Gain() }

// Convert begins to change the array to another layout, see task.Works.
func (a *Array) Convert(to task.Target, disks []disk.Disk) error { return a.works.Convert(to, disks) }

// PlanConversion says what Convert would do.
func (a *Array) PlanConversion(to task.Target, sizes []int64) (task.Conversion, error) {
	return a.works.PlanConversion(to, sizes)
}

// settleRange brings to the members what the cache has of a stretch of the logical space from which clients are kept.
func (a *Array) settleRange(off, length int64) error {
	return a.flushStripes(&a.anybody, a.heldAt(a.Layout(), off, length))
}

// turning is the change of layout of an array that is being started.
type turning struct{ a *Array }

// Ahead is that of replay.Turn.
func (t turning) Ahead(boundary int64) (back func(), err error) {
	rec, was := t.a.roster.Now(), t.a.Layout()
	if boundary == 0 || rec.Turn == nil || boundary <= rec.Turn.Boundary {
		return nil, nil
	}
	turn, err := rec.Turns()
	if err != nil {
		return nil, err
	}
	now, err := turn.At(boundary)
	if err != nil {
		return nil, fmt.Errorf("%w: a batch of the journals moves to byte %d: %w", ErrFailed, boundary, err)
	}
	if probe.BoundaryOfBatchForgotten.On() {
		return nil, nil
	}
	probe.BatchAhead.Seen()
	t.a.layout.Store(now)
	t.a.ahead = boundary
	return func() {
		probe.BatchAheadDropped.Seen()
		t.a.layout.Store(was)
		t.a.ahead = 0
	}, nil
}

// Keep is that of replay.Turn.
func (t turning) Keep() error {
	if t.a.ahead == 0 || t.a.rescue != nil {
		return nil
	}
	return t.a.roster.Update(func(r *record.Record) { r.Turn.Boundary = t.a.ahead })
}
