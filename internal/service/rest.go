package service

import (
	"fmt"
	"time"

	"nidalo/core/layout"
	"nidalo/core/say"
	"nidalo/internal/array"
	"nidalo/internal/control"
)

// leastSpinDown is the shortest time after which a disk is put to sleep: starting and stopping wears disks out.
const leastSpinDown = time.Minute

// rest puts disks to sleep that had nothing to do for as long as their arrays say. That may take a while, with disks that are late.
func (s *Service) rest() {
	for _, r := range s.running() {
		if r.SpinDown() > 0 && r.resting.CompareAndSwap(false, true) {
			go func() {
				defer r.resting.Store(false)
				r.Rest()
			}()
		}
	}
}

// SpinDown says, or only tells, after which time disks of a guarded set are put to sleep.
func (s *Service) SpinDown(req control.SpinDownRequest) ([]control.ArrayStatus, error) {
	out := []control.ArrayStatus{}
	if req.Array == "" {
		for _, r := range s.running() {
			if r.Layout().Volumes() != nil {
				out = append(out, s.describe(r))
			}
		}
		return out, nil
	}
	r, err := s.named(req.Array)
	if err != nil {
		return nil, err
	}
	if r.Layout().Volumes() == nil {
		return nil, &control.Error{What: fmt.Sprintf("%s is an array of level %s: each read and write needs several of its disks, so none could sleep for long", r.Name(), r.Record().Level),
			Hints: []string{"only the disks of a guarded set sleep; nidalo plan -level guarded shows what one would be"}}
	}
	if req.After != nil {
		if err := sleepsAfter(*req.After); err != nil {
			return nil, err
		}
		if err := r.SetSpinDown(*req.After); err != nil {
			return nil, &control.Error{What: err.Error()}
		}
	}
	return append(out, s.describe(r)), nil
}

// sleepsAfter says what is wrong with a time after which disks are to sleep.
func sleepsAfter(d time.Duration) error {
	if d != 0 && (d < leastSpinDown || d > array.MostSpinDown) {
		return &control.Error{What: fmt.Sprintf("%s: disks sleep after %s at the earliest, since stopping and starting wears them out, and after 7 days at the latest", say.Span(d), say.Span(leastSpinDown))}
	}
	return nil
}

// fitsSpinDown is sleepsAfter for an array that is to be made.
func fitsSpinDown(req control.CreateRequest) error {
	if req.SpinDown != 0 && layout.Level(req.Level) != layout.Guarded {
		return &control.Error{What: "only the disks of a guarded set sleep"}
	}
	return sleepsAfter(req.SpinDown)
}
