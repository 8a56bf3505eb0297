package task

import (
	"errors"
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/env"
)

// emptyPiece is how much of a volume is emptied between two flushes, bytes.
const emptyPiece = 16 << 20

// Empty starts to make all that was written in the volume of a slot never-written, so that its disk can be taken out of the set. It can be
// started again at any time, and goes on with what is left; clients must be kept away from the volume.
func (w *Works) Empty(slot int) error {
	v, ok := w.host.Layout().Volume(slot)
	if !ok {
		return errors.New("it has no volume")
	}
	if err := w.MayTakeOut(slot); err != nil {
		return err
	}
	if w.tasks.Busy(slot) {
		return fmt.Errorf("a task of this disk is under way")
	}
	begin := w.emptied(slot, v)
	_, err := w.tasks.Start(state.TaskEmpty, slot, func(t *Task) { t.Count(begin, v.Size) }, func(t *Task) error { return w.empty(t, slot, v, begin) })
	return err
}

// emptied is how much at the beginning of a volume is never-written, in bytes.
func (w *Works) emptied(slot int, v layout.Volume) int64 {
	nth := w.host.Stripes.NextMarked(w.host.Slots.At(slot), 0)
	return min(nth*w.host.Layout().Shape.Strip, v.Size)
}

func (w *Works) empty(t *Task, slot int, v layout.Volume, at int64) error {
	for at < v.Size {
		if err := w.host.Alive(); err != nil {
			return err
		}
		if !w.host.Slots.At(slot).Condition().Counts() {
			return errors.New("its disk was lost")
		}
		n := min(emptyPiece, v.Size-at)
		if err := w.host.Zero(v.Start+at, n); err != nil {
			return err
		}
		if err := w.host.Flush(); err != nil {
			return err
		}
		at += n
		t.Advance(env.Now(), n)
		if err := t.Point(n); err != nil {
			return err
		}
	}
	return w.host.Journal.Checkpoint()
}
