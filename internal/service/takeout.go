package service

import (
	"errors"
	"fmt"
	"slices"

	"nidalo/core/say"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
)

// leaveSet takes a parity disk, or a data disk with nothing on it, out of a guarded set, or says what that would mean.
func (s *Service) leaveSet(r *running, req control.ChangeRequest) (*control.ChangeReply, error) {
	if len(req.Free) != 1 {
		return nil, &control.Error{What: fmt.Sprintf("members leave the guarded set %s one at a time", r.Name())}
	}
	slot, err := s.slot(r, req.Free[0])
	if err != nil {
		return nil, err
	}
	m := r.member(slot)
	if err := r.MayTakeOut(slot); err != nil {
		return nil, &control.Error{What: fmt.Sprintf("%s cannot be taken out of the set %s: %v", m.Disk, r.Name(), err)}
	}
	e, empties := s.emptyingOf(r)
	if empties && e.Member != m.Disk.Name() {
		return nil, busyEmptying(r)
	}
	out := &control.ChangeReply{Array: r.Name(), Before: layoutOf(r), Then: layoutOf(r), Stays: s.opt.Stays, Spares: req.Spares}
	out.Then.Members--
	out.Free = append(out.Free, m.Disk)
	v, data := r.Layout().Volume(slot)
	if data {
		out.Then.Capacity -= v.Size
		out.Gone = r.Record().Roster[slot].Volume
		if out.Beyond, err = r.writtenIn(v.Start, v.Size); err != nil {
			return nil, person(err)
		}
	} else {
		out.Then.Margin--
	}
	if req.DryRun {
		return out, nil
	}
	if empties && out.Beyond > 0 {
		return nil, busyEmptying(r)
	}
	if data {
		if err := s.givenUp(r, slot, out, req.Discard); err != nil {
			return nil, err
		}
	}
	if req.Spares {
		if err := s.willBeSpare(m.Disk.Name()); err != nil {
			return nil, err
		}
	}
	if out.Beyond > 0 {
		out.Empties = true
		return out, s.empty(r, m, out.Gone)
	}
	if err := s.vacate(r, slot); err != nil {
		s.forgetFreed(r)
		if errors.Is(err, task.ErrWritten) {
			return nil, &control.Error{What: fmt.Sprintf("the volume %s was written meanwhile", out.Gone), Hints: []string{"stop what writes there; then give the command again"}}
		}
		return nil, person(err)
	}
	s.note(func(m *memory) { delete(m.Emptying, r.ID().String()) })
	return out, nil
}

// willBeSpare notes that a disk is to be a hot spare once it is freed.
func (s *Service) willBeSpare(name string) error {
	return s.change(func(m *memory) {
		if !slices.Contains(m.KeepFreed, name) {
			m.KeepFreed = append(m.KeepFreed, name)
		}
	})
}

// vacate takes a member out, with clients kept away from what changes.
func (s *Service) vacate(r *running, slot int) error {
	r.served.growing.Lock()
	defer r.served.growing.Unlock()
	return r.TakeOut(slot)
}

// givenUp says why a volume cannot leave: somebody uses it, or something is written in it that is not to be given up.
func (s *Service) givenUp(r *running, slot int, out *control.ChangeReply, discard bool) error {
	name := r.Name() + "/" + out.Gone
	if s.devices.Devices()[attachID(r, slot)] != nil {
		return &control.Error{What: fmt.Sprintf("the volume %s is attached", name), Hints: []string{"nidalo detach " + say.Quote(name)}}
	}
	s.mu.Lock()
	clients := r.seat(slot).clients
	s.mu.Unlock()
	if clients > 0 {
		return &control.Error{What: fmt.Sprintf("%s %s connected to the volume %s", say.Count(int64(clients), "client", "clients"), map[bool]string{true: "is", false: "are"}[clients == 1], name),
			Hints: []string{"end them first: what is given up must not be in use"}}
	}
	if out.Beyond == 0 {
		return nil
	}
	if !discard {
		return &control.Error{What: fmt.Sprintf("%s is written in the volume %s", say.Size(out.Beyond), name), Hints: []string{"copy what is wanted to another volume first; -discard gives up the rest, after a question"}}
	}
	return nil
}

// writtenIn is how much is written in a stretch of the logical space, in bytes.
func (r *running) writtenIn(from, length int64) (bytes int64, err error) {
	for end := from + length; from < end; {
		var list []array.Extent
		if list, err = r.Extents(from, end-from, 256); err != nil || len(list) == 0 {
			return bytes, err
		}
		for _, x := range list {
			if from += x.Length; x.Written {
				bytes += x.Length
			}
		}
	}
	return bytes, nil
}

// seated are the members that an array has, without slots that are vacant.
func seated(members []array.MemberState) []array.MemberState {
	return slices.DeleteFunc(slices.Clone(members), func(m array.MemberState) bool { return m.Vacant() })
}
