package service

import (
	"fmt"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Changes of layout wait for one another: one that is asked for while another is under way is noted, and begins by itself when that is done.

// laterChange is a change of layout that is to begin when the one before is done.
type laterChange struct {
	Request control.ChangeRequest `json:"request"`
	Change  control.WaitingChange `json:"change"`
}

// waitingOf is the change of an array that waits.
func (s *Service) waitingOf(r *running) (w laterChange, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w, ok = s.mem.Waiting[r.ID().String()]
	return w, ok
}

// changeLater notes a change of an array that is changing, or says what it would mean then.
func (s *Service) changeLater(r *running, req control.ChangeRequest) (*control.ChangeReply, error) {
	rec := r.Record().Clone()
	if err := s.mayWait(r, rec, req); err != nil {
		return nil, err
	}
	if rec.Turn != nil {
		rec.EndTurn()
	}
	lay, err := rec.Layout()
	if err != nil {
		return nil, person(err)
	}
	to, err := target(r, lay, req)
	if err != nil {
		return nil, err
	}
	slots, err := s.slotsOf(r, req.Free)
	if err != nil {
		return nil, err
	}
	to.Free = len(slots)
	disks, err := s.takeBlank(req.Disks, true)
	if err != nil {
		return nil, err
	}
	sizes := make([]int64, len(disks))
	for i, d := range disks {
		defer d.Close()
		sizes[i] = d.Size()
		if why := s.doubt(d); why != "" && !req.AlthoughBad {
			return nil, badDisk(d.Identity(), why)
		}
	}
	c, err := r.PlanAfter(to, sizes)
	switch {
	case err != nil:
		return nil, notChanged(r, c, err)
	case c.Cut > 0:
		return nil, &control.Error{What: fmt.Sprintf("array %s has to be made smaller for that, which cannot be planned before its conversion is done", r.Name()), Hints: []string{"give the command again then"}}
	}
	out := s.changeReply(r, c)
	margin, _ := lay.Margin(func(int) bool { return false })
	out.Before = control.LayoutStatus{Level: string(lay.Level), Members: len(rec.Roster), Groups: lay.Shape.Groups, Strip: lay.Shape.Strip, Capacity: lay.Capacity(), Margin: margin}
	out.Waits, out.Written = "when what is under way is done", nil
	for _, d := range disks {
		out.Disks = append(out.Disks, d.Identity())
	}
	if out.Free, out.Copies, err = frees(r, slots); err != nil || req.DryRun {
		return out, err
	}
	req.Array = r.Name()
	w := laterChange{req, control.WaitingChange{To: out.Then, Disks: req.Disks, Free: req.Free, Noted: s.opt.Now()}}
	return out, s.change(func(m *memory) {
		if m.Waiting == nil {
			m.Waiting = map[string]laterChange{}
		}
		m.Waiting[r.ID().String()] = w
	})
}

// mayWait says why a change cannot wait for the one that is under way.
func (s *Service) mayWait(r *running, rec *record.Record, req control.ChangeRequest) error {
	refused := func(what string, hints ...string) error {
		return &control.Error{What: fmt.Sprintf("array %s is being changed, and %s", r.Name(), what), Hints: hints}
	}
	_, there := s.waitingOf(r)
	leaves := s.stillLeaves(r)
	switch again := "give the command again when that is done"; {
	case there:
		return refused("another change waits for that already", fmt.Sprintf("nidalo cancel %s conversion   drops the one that waits", r.Name()))
	case rec.Turn != nil && rec.Turn.Way != record.Onward:
		return refused("goes back to the layout before", again)
	case len(req.Free) > 0 && leaves != nil:
		return leaves
	case len(req.Free) > 0 && rec.Turn != nil && rec.Turn.Members > 0:
		return refused("some of its members leave", again)
	case req.Discard:
		return refused("what would be lost cannot be said before it is done", again)
	}
	return nil
}

// dropWaiting forgets a change that waits, and says whether there was one.
func (s *Service) dropWaiting(r *running) (dropped bool, err error) {
	if _, dropped = s.waitingOf(r); !dropped {
		return false, nil
	}
	return true, s.change(func(m *memory) { delete(m.Waiting, r.ID().String()) })
}

// goWaiting begins changes that waited, of arrays of which nothing changes any more.
func (s *Service) goWaiting() {
	for _, r := range s.running() {
		w, there := s.waitingOf(r)
		if !there || r.Record().Turn != nil || converts(r) || s.stillLeaves(r) != nil || r.Condition() != state.Healthy || r.Waits() != "" || !s.unasked() {
			continue
		}
		w.Request.Array = r.Name() // it may have another name by now
		_, err := s.changeNow(r, w.Request)
		s.note(func(m *memory) { delete(m.Waiting, r.ID().String()) })
		s.admin.Unlock()
		if err != nil {
			s.event(event.Event{Kind: event.ChangeNotBegun, Array: r.Name(), Detail: fmt.Sprintf("to level %s, which waited since %s: %v", w.Change.To.Level, say.Moment(s.opt.Now(), w.Change.Noted), err)})
		}
	}
}
