package service

import (
	"errors"
	"fmt"

	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// Members that are declared failed, and come back.

// Fail declares a member failed.
func (s *Service) Fail(req control.FailRequest) error {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(req.Array)
	if err != nil {
		return err
	}
	slot, err := s.slot(r, req.Disk)
	if err != nil {
		return err
	}
	states := r.MemberStates()
	m := states[slot]
	switch works := m.Condition.TakesPart(); {
	case req.Undo:
		return s.undoFail(r, m, req.Sure)
	case r.WouldFail(slot) && !(req.Sure && req.Force):
		return fatal(r, slot)
	case r.WouldFail(slot) && !s.opt.Stays:
		return &control.Error{What: fmt.Sprintf("array %q cannot be made to fail by a command: it would be back with the next one, since no service is running for it", r.Name()),
			Hints: []string{"nidalo may-pull " + say.Argument(m.Disk) + "   says what it means to take the disk out"}}
	case works && !req.Sure:
		before, _ := r.Margin()
		after, _ := r.Layout().Margin(func(other int) bool { return other == slot || !states[other].Condition.Counts() })
		cost := fmt.Sprintf("without it the margin of array %q falls from %d to %d", r.Name(), before, after)
		if after == before {
			cost = fmt.Sprintf("the margin of array %q stays %d without it", r.Name(), before)
		}
		return &control.Error{Fatal: true, What: fmt.Sprintf("%s works: %s", m.Disk, cost), Hints: []string{"-yes does it"}}
	}
	err = r.Fail(slot, req.Force)
	s.seen.Expire()
	if errors.Is(err, task.ErrMargin) {
		return fatal(r, slot)
	}
	return person(err)
}

// undoFail lets a member come back that was declared failed: it catches up what it missed. admin is held.
func (s *Service) undoFail(r *running, m array.MemberState, sure bool) error {
	switch {
	case r.Failure() != nil:
		return &control.Error{What: fmt.Sprintf("array %q has failed, and cannot take members back while it is in service", r.Name()),
			Hints: []string{"nidalo start " + r.Name() + "   starts it again with what its members have"}}
	case m.Condition != record.Failed:
		return &control.Error{What: fmt.Sprintf("%s is %s: there is nothing to take back", m.Disk, m.Condition)}
	}
	if m.Reason != task.ByAdministrator && !sure {
		why := "it is not known why it failed: that was before the service was started"
		if m.Reason != "" {
			why = "it failed by itself: " + m.Reason
		}
		return &control.Error{Fatal: true, What: fmt.Sprintf("%s was not declared failed since the service was started; %s", m.Disk, why),
			Hints: []string{"-yes takes it back all the same; what it holds is checked as it is read"}}
	}
	order, known := s.seen.Seen()
	for _, src := range order {
		f := known[src]
		if f.Record == nil || f.Record.Array != r.ID() || f.Info.Identity.Name() != m.Disk.Name() {
			continue
		}
		if why := s.ambiguous(f); why != nil {
			return person(why)
		}
		r.LetGo(m.Slot)
		d, err := s.seen.Open(src)
		if err != nil {
			return person(err)
		}
		own, err := disk.ReadRecord(d)
		if own == nil {
			_ = d.Close()
			return &control.Error{What: fmt.Sprintf("%s: its record cannot be read: %v", m.Disk, err)}
		}
		if err := r.Return(d, own, true); err != nil {
			_ = d.Close()
			told := &control.Error{What: fmt.Sprintf("%s: %v", m.Disk, err)}
			if errors.Is(err, roster.ErrStale) {
				told.Hints = []string{"nidalo erase makes it blank; then it can be put in as a new disk, by nidalo replace"}
			}
			return told
		}
		return nil
	}
	return &control.Error{What: fmt.Sprintf("%s is not here with what it had when it left", m.Disk), Hints: []string{"nidalo disks shows what is"}}
}

func fatal(r *running, slot int) error {
	m := r.member(slot)
	why := "its margin is 0"
	if !r.Layout().Redundant() {
		why = fmt.Sprintf("level %s cannot lose any member", r.Layout().Level)
	}
	if r.volumes() != nil {
		return &control.Error{Fatal: true, What: fmt.Sprintf("without %s nothing could restore a volume of array %q that is on a lost disk: %s", m.Disk, r.Name(), why),
			Hints: []string{"-yes -although-fatal does it all the same"}}
	}
	return &control.Error{Fatal: true, What: fmt.Sprintf("array %q would fail without %s: %s, and its data (%s written) would be unreachable", r.Name(), m.Disk, why, say.Size(r.Used())),
		Hints: []string{"-yes -although-fatal does it all the same"}}
}
