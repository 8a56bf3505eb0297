package service

import (
	"fmt"
	"slices"

	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// A guarded set that lacks more disks than it has parity: what can be put into the place of a lost one.

// beyond judges a replacement where nothing can restore what was on the old disk, and says how the new one is put in. It is nil when the replacement is one like others.
func (s *Service) beyond(r *running, slot int, req control.ReplaceRequest) (put func(disk.Disk) error, err error) {
	m, partial := r.member(slot), r.Condition() == state.Partial
	volume := r.Record().Roster[slot].Volume
	old, name, fresh := say.Short(m.Disk), say.Quote(r.Name()), say.Quote(req.New)
	lost := m.Condition == record.Failed || m.Condition == record.Missing
	switch {
	case req.Empty && volume == "":
		return nil, &control.Error{What: fmt.Sprintf("%s has no volume that could be given up; -empty is for the data disks of a guarded set", m.Disk)}
	case req.Empty && (!partial || !lost):
		return nil, &control.Error{What: fmt.Sprintf("nothing of the volume %s has to be given up: what is on %s can be read, or restored", volume, m.Disk),
			Hints: []string{fmt.Sprintf("nidalo replace %s %s %s   restores it on the new disk", name, say.Argument(m.Disk), fresh)}}
	case !partial || !lost:
		return nil, nil
	case req.Empty && !req.Force:
		return nil, &control.Error{Fatal: true, What: fmt.Sprintf("the volume %s will be empty: all that was on %s is given up, also if that disk turns up again", volume, old), Hints: []string{"-yes does it"}}
	case req.Empty:
		return func(d disk.Disk) error { return r.GiveUp(slot, d) }, nil
	}
	e := &control.Error{What: fmt.Sprintf("%s of array %q are lost, and there is parity for %d: nothing tells what a new disk in the place of %s should hold",
		say.Count(int64(len(lostMembers(r))), "disk", "disks"), r.Name(), r.Layout().Shape.Parity, old),
		Hints: []string{"put the lost disks back, in any bay; each catches up by itself: " + say.List(lostMembers(r))}}
	if volume != "" {
		e.Hints = append(e.Hints, fmt.Sprintf("nidalo replace -empty %s %s %s   gives up what was on it: the volume %s is empty then", name, say.Argument(m.Disk), fresh, volume))
	} else {
		e.Hints = append(e.Hints, "parity is filled on a new disk when no more data disks are lost than the other parity disks tell")
	}
	return nil, e
}

// lostMembers names the members of an array that are out.
func lostMembers(r *running) (names []string) {
	for _, m := range r.MemberStates() {
		if m.Condition == record.Failed || m.Condition == record.Missing {
			names = append(names, say.Short(m.Disk))
		}
	}
	return names
}

// checkAfter sees to it that a guarded set is checked that had lost more disks than it has parity, and has not any more: what parity could not tell meanwhile is
// worked out anew. That this is owed is remembered until such a check has ended.
func (s *Service) checkAfter() {
	for _, r := range s.running() {
		c := r.Condition()
		if c == state.Partial {
			r.wasPartial.Store(true)
			r.unchecked.Store(false)
		}
		if c == state.Failed || !r.wasPartial.Load() {
			continue
		}
		switch t, checked := r.lastCheck(); {
		case checked && t.Ended.IsZero():
			if t.Check != nil {
				r.proving.Store(t.Check.Repair)
			}
		case r.proving.Swap(false) && checked && c != state.Partial && (t.Err == nil || t.State == state.TaskCancelled):
			r.wasPartial.Store(t.Err != nil)
			r.unchecked.Store(t.Err != nil) // whoever cancelled it begins another one
		case c == state.Partial || r.unchecked.Load() || slices.ContainsFunc(r.MemberStates(), func(m array.MemberState) bool { return m.Condition == record.Rebuilding }):
		default:
			r.proving.Store(r.StartCheck(true) == nil)
		}
		s.noteUnproven(r.ID().String(), r.wasPartial.Load())
	}
}

// lastCheck is the check that is under way, or that ended last.
func (r *running) lastCheck() (last task.State, ok bool) {
	for _, t := range r.TaskStates() {
		if t.Kind == state.TaskCheck {
			last, ok = t, true
		}
	}
	return last, ok
}

// noteUnproven remembers over the end of the service whether a set still has to be checked.
func (s *Service) noteUnproven(id string, is bool) {
	s.mu.Lock()
	was := slices.Contains(s.mem.Unproven, id)
	s.mu.Unlock()
	if was == is {
		return
	}
	s.note(func(m *memory) {
		if m.Unproven = slices.DeleteFunc(m.Unproven, func(x string) bool { return x == id }); is {
			m.Unproven = append(m.Unproven, id)
		}
	})
}

// unproven says that parity does not protect all of a set yet; empty: it does as far as that is known.
func (r *running) unproven() string {
	if c := r.Array.Condition(); !r.wasPartial.Load() || c == state.Partial || c == state.Failed {
		return ""
	}
	return "more disks were lost than there is parity: until the check that follows their return has ended, a further loss may cost places of any volume"
}

// Condition is that of the array; exposed as long as parity does not protect all of it.
func (r *running) Condition() state.Condition {
	if r.unproven() != "" {
		return state.Exposed
	}
	return r.Array.Condition()
}

// Margin is that of the array; none is certain as long as parity does not protect all of it.
func (r *running) Margin() (certain, best int) {
	certain, best = r.Array.Margin()
	if r.unproven() != "" {
		certain = min(certain, 0)
	}
	return certain, best
}

// tells is how much of the volume on a slot that is lost the others tell, in bytes.
func tells(r *running, slot int) (bytes int64) {
	lay := r.Layout()
	for _, g := range lay.Regions() {
		if !slices.Contains(g.Slots[:g.Data], slot) {
			continue
		}
		lost := 0
		for _, other := range g.Slots {
			if !r.member(other).Condition.Counts() {
				lost++
			}
		}
		if lost <= g.Parity {
			bytes += g.Rows * g.Strip
		}
	}
	return bytes
}
