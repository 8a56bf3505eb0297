package service

import (
	"errors"
	"fmt"
	"slices"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
)

// A volume of a guarded set that is given up is emptied by a task, and then its disk is taken out. No client gets the volume meanwhile. What is
// noted outlives the service; a cancel ends it, and what is not emptied yet stays.

// emptying is such a volume.
type emptying struct {
	Member string `json:"member"` // its disk, by name
	Volume string `json:"volume"`
}

// emptyingOf is the one of a set.
func (s *Service) emptyingOf(r *running) (e emptying, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e, ok = s.mem.Emptying[r.ID().String()]
	return e, ok
}

// empty begins to empty the volume of a member that is to be taken out.
func (s *Service) empty(r *running, m array.MemberState, volume string) error {
	err := s.change(func(mem *memory) {
		if mem.Emptying == nil {
			mem.Emptying = map[string]emptying{}
		}
		mem.Emptying[r.ID().String()] = emptying{m.Disk.Name(), volume}
	})
	if err == nil {
		err = r.Empty(m.Slot)
	}
	if err != nil {
		s.stays(r)
	}
	return person(err)
}

// stays forgets that a member is to be taken out.
func (s *Service) stays(r *running) {
	s.note(func(m *memory) { delete(m.Emptying, r.ID().String()) })
	s.forgetFreed(r)
}

// leaves says whether the volume in a slot is being given up; s.mu is held.
func (s *Service) leaves(r *running, slot int) bool {
	e, there := s.mem.Emptying[r.ID().String()]
	if slot < 0 {
		return false
	}
	v, ok := r.Layout().Volume(slot)
	return there && ok && r.Record().Roster[v.Slot].Volume == e.Volume
}

// goEmptying goes on with volumes that are being emptied, and takes the disks out of those that are.
func (s *Service) goEmptying() {
	for _, r := range s.running() {
		e, there := s.emptyingOf(r)
		if !there || r.Condition() != state.Healthy || !s.unasked() {
			continue
		}
		if err := s.goOnEmptying(r, e); err != nil {
			s.stays(r)
			s.event(event.Event{Kind: event.MemberNotFreed, Array: r.Name(), Disk: e.Member, Detail: fmt.Sprintf("%v; what is left in the volume %s stays", err, e.Volume)})
		}
		s.admin.Unlock()
	}
}

func (s *Service) goOnEmptying(r *running, e emptying) error {
	slot := slices.IndexFunc(r.MemberStates(), func(m array.MemberState) bool { return !m.Vacant() && m.Disk.Name() == e.Member })
	if slot < 0 {
		return errors.New("its disk is no member any more")
	}
	if slices.ContainsFunc(r.TaskStates(), func(t task.State) bool { return t.Kind == state.TaskEmpty && t.Ended.IsZero() }) {
		return nil
	}
	switch err := s.vacate(r, slot); {
	case err == nil:
		s.note(func(m *memory) { delete(m.Emptying, r.ID().String()) })
		return nil
	case !errors.Is(err, task.ErrWritten):
		s.opt.Log.Info("a disk cannot be taken out yet", "array", r.Name(), "member", e.Member, "reason", err)
		return nil
	}
	if last := lastTask(r, slot, state.TaskEmpty); last != nil && last.Kind == state.TaskEmpty && last.State == state.TaskFailed {
		return last.Err
	}
	return r.Empty(slot)
}

// stillEmptying refuses a client a volume that is being given up.
func stillEmptying(set, volume string) error {
	return &control.Error{What: fmt.Sprintf("the volume %s is being given up", volume), Hints: []string{"nidalo cancel " + say.Quote(set) + " emptying   ends that; what is not emptied yet stays"}}
}

// busyEmptying refuses a second volume.
func busyEmptying(r *running) error {
	return &control.Error{What: fmt.Sprintf("a volume of %s is being emptied already", r.Name()), Hints: []string{"nidalo status " + say.Quote(r.Name()) + "   shows how far it is"}}
}
