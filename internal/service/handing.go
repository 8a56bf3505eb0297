package service

import (
	"fmt"
	"slices"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// In a guarded set no data disk may be larger than a parity disk. A new disk that is takes the parity over, and the parity disk that it relieves takes the
// place of a data disk, in two steps:
//
//	1  the parity disk is copied onto the new one, which then takes its place      until then it can be taken back: cancel ends the copying
//	2  the old parity disk becomes blank, and is rebuilt in the place of the data disk; where that works, it is copied onto it
//
// The margin is never lower than before. What is noted here outlives the service, and so do both tasks.

// handing is such an exchange, until both steps are done.
type handing struct {
	Slot   int       `json:"slot"`   // of the data disk
	Parity int       `json:"parity"` // slot that the new disk takes over
	New    string    `json:"new"`    // disks, by name
	Old    string    `json:"old"`
	Member string    `json:"member"` // the data disk
	From   string    `json:"from"`   // the disks as people know them: that with the parity,
	Of     string    `json:"of"`     // and the data disk
	Noted  time.Time `json:"noted"`
	Second time.Time `json:"second"` // when the second step began; zero: it has not
	Bytes  int64     `json:"bytes"`  // that the first step copied
}

// handingOf is the one of a set.
func (s *Service) handingOf(r *running) (h handing, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h, ok = s.mem.Handings[r.ID().String()]
	return h, ok
}

// handOver begins such an exchange, or says what it would be.
func (s *Service) handOver(r *running, slot int, req control.ReplaceRequest) (*control.ReplaceReply, error) {
	lay := r.Layout()
	if _, there := lay.Volume(slot); lay.Level != layout.Guarded || !there {
		return nil, &control.Error{What: fmt.Sprintf("%s has no volume of a guarded set: only such a disk can give way to a parity disk", req.Old), Hints: []string{"nidalo replace " + say.Quote(r.Name()) + " OLD NEW   puts a disk in its place"}}
	}
	if _, there := s.handingOf(r); there {
		return nil, &control.Error{What: fmt.Sprintf("a disk takes over parity of array %s already", r.Name()), Hints: []string{"nidalo status " + r.Name() + "   shows how far it is"}}
	}
	parity, err := relieved(r)
	if err != nil {
		return nil, err
	}
	old, m := r.member(parity), r.member(slot)
	disks, err := s.takeBlank([]string{req.New}, true)
	if err != nil {
		return nil, err
	}
	d := disks[0]
	defer d.Close()
	switch need := r.NeedSize(slot); {
	case d.Size() <= old.Size:
		return nil, &control.Error{What: fmt.Sprintf("%s is not larger than %s, which has the parity", d.Identity(), old.Disk), Hints: []string{fmt.Sprintf("nidalo replace %s %s %s   puts it in the place of %s", r.Name(), say.Quote(req.Old), say.Argument(d.Identity()), say.Short(m.Disk))}}
	case old.Size < need:
		return nil, &control.Error{What: fmt.Sprintf("%s, which has the parity, has %s; the place of %s needs at least %s", old.Disk, say.Size(old.Size), m.Disk, say.Size(need))}
	}
	moves := []control.RoleMove{{Disk: d.Identity(), Size: d.Size(), Before: "blank", After: "parity"}, {Disk: old.Disk, Size: old.Size, Before: "parity", After: r.Record().Roster[slot].Volume},
		{Disk: m.Disk, Size: m.Size, Before: r.Record().Roster[slot].Volume + ", " + m.Condition.String(), After: "none"}}
	if req.DryRun {
		return &control.ReplaceReply{Slot: slot, Member: m.Disk.String(), Disk: control.DiskInfo{Identity: d.Identity(), Size: d.Size()}, Moves: moves, Stays: s.opt.Stays}, nil
	}
	// Noted first: after a kill in between it is found that nothing has begun.
	h := handing{Slot: slot, Parity: parity, New: d.Identity().Name(), Old: old.Disk.Name(), Member: m.Disk.Name(), From: say.Short(old.Disk), Of: say.Short(m.Disk), Noted: s.opt.Now()}
	if err := s.change(func(m *memory) {
		if m.Handings == nil {
			m.Handings = map[string]handing{}
		}
		m.Handings[r.ID().String()] = h
	}); err != nil {
		return nil, err
	}
	out, err := s.putIn(req.New, req.AlthoughBad, old, r.NeedSize(parity), func(d disk.Disk) error { return r.Retire(parity, d) })
	if err != nil {
		s.note(func(m *memory) { delete(m.Handings, r.ID().String()) })
		return nil, err
	}
	out.Moves, out.Slot, out.Member = moves, slot, m.Disk.String()
	return out, nil
}

// relieved is the slot of the parity disk that a larger one takes over from: the smallest that works.
func relieved(r *running) (slot int, err error) {
	members, slot := r.MemberStates(), -1
	for i, m := range members {
		if _, data := r.Layout().Volume(i); !data && m.Condition == record.Active && (slot < 0 || m.Size < members[slot].Size) {
			slot = i
		}
	}
	if slot < 0 {
		return 0, &control.Error{What: fmt.Sprintf("no parity disk of array %s works, so none can be relieved", r.Name()), Hints: []string{"nidalo next   says what to do"}}
	}
	return slot, nil
}

// goHandings goes on with such exchanges, whose first step is over.
func (s *Service) goHandings() {
	for _, r := range s.running() {
		h, there := s.handingOf(r)
		if !there || r.Failure() != nil {
			continue
		}
		if !h.Second.IsZero() {
			s.endHanding(r, h)
			continue
		}
		if _, copying := r.Onto(h.Parity); copying || !s.unasked() {
			continue
		}
		over, err := s.handOn(r, h)
		key := "handing/" + r.ID().String()
		since, tried := s.unable[key]
		switch {
		case over || err != nil && tried && s.opt.Now().Sub(since) > unableFor:
			delete(s.unable, key)
			s.note(func(m *memory) { delete(m.Handings, r.ID().String()) })
		case err != nil && !tried:
			s.unable[key] = s.opt.Now()
			s.opt.Log.Info("a parity disk does not take the place of a data disk yet", "array", r.Name(), "reason", err)
			err = nil
		default:
			err = nil
		}
		s.admin.Unlock()
		if err != nil {
			s.event(event.Event{Kind: event.MemberNotFreed, Array: r.Name(), Disk: h.Old, Detail: fmt.Sprintf("it does not take the place of a data disk: %v", err)})
		}
	}
}

// handOn begins the second step. over says that nothing is to be done any more, with an error when it came to nothing.
func (s *Service) handOn(r *running, h handing) (over bool, err error) {
	if r.member(h.Parity).Disk.Name() != h.New {
		if slices.ContainsFunc(r.TaskStates(), func(t task.State) bool { return t.Kind == state.TaskRetire && t.Ended.IsZero() }) {
			return false, nil // it is about to take over
		}
		return true, fmt.Errorf("%s did not take over the parity; %s still has it", h.New, h.Old)
	}
	switch m := r.member(h.Slot); {
	case m.Disk.Name() != h.Member: // a spare stepped in, or somebody replaced it
		return true, fmt.Errorf("%s has another disk by now, %s", r.Record().Roster[h.Slot].Volume, m.Disk)
	case m.Condition == record.Rebuilding: // it came back, and catches up
		return false, nil
	}
	info, err := s.unmark(r, h.Old)
	if err != nil {
		return false, err
	}
	if info.State != state.DiskBlank && info.State != state.DiskSpare {
		return true, fmt.Errorf("%s is %s", h.Old, info.State)
	}
	m := r.member(h.Slot)
	put := func(d disk.Disk) error { return r.Replace(h.Slot, d) }
	if works(m) {
		put = func(d disk.Disk) error { return r.Retire(h.Slot, d) }
	}
	bytes := r.WrittenOn(h.Parity)
	if t, there := taskOf(r, h.Parity); there {
		bytes = t.Done
	}
	if _, err = s.putIn(h.Old, false, m, r.NeedSize(h.Slot), put); err != nil {
		return false, err
	}
	h.Second, h.Bytes = s.opt.Now(), bytes
	s.note(func(m *memory) { m.Handings[r.ID().String()] = h })
	return false, nil
}

// taskOf is the last task that fills a slot, or copies its member.
func taskOf(r *running, slot int) (last task.State, there bool) {
	for _, t := range r.TaskStates() {
		if t.Slot == slot && (t.Kind == state.TaskRetire || t.Kind == state.TaskRebuild) {
			last, there = t, true
		}
	}
	return last, there
}

// endHanding tells of an exchange when its second step is done, with what both took.
func (s *Service) endHanding(r *running, h handing) {
	m := r.member(h.Slot)
	_, copying := r.Onto(h.Slot)
	if copying || m.Disk.Name() == h.Old && m.Condition == record.Rebuilding {
		return
	}
	if err := s.change(func(m *memory) { delete(m.Handings, r.ID().String()) }); err != nil {
		return // it is told when that can be noted
	}
	s.mu.Lock()
	delete(s.handed, r.ID().String())
	s.mu.Unlock()
	if m.Disk.Name() != h.Old {
		return // it came to nothing, and the task has told of it
	}
	second := h.Second
	bytes, now := r.WrittenOn(h.Slot), s.opt.Now()
	if t, there := taskOf(r, h.Slot); there && !t.Ended.IsZero() {
		bytes, now = t.Done, t.Ended
	}
	step := func(n int64, d time.Duration) string {
		return fmt.Sprintf("%s in %s, %s/s", say.Size(n), d.Round(100*time.Millisecond), say.Size(int64(float64(n)/max(d.Seconds(), 0.001))))
	}
	s.event(event.Event{Kind: event.ParityHandedOver, Array: r.Name(), Disk: r.member(h.Parity).Disk.String(), Detail: fmt.Sprintf("it has the parity, and %s the volume %s; step 1: %s; step 2: %s; in all: %s",
		say.Short(m.Disk), r.Record().Roster[h.Slot].Volume, step(h.Bytes, second.Sub(h.Noted)), step(bytes, now.Sub(second)), step(h.Bytes+bytes, now.Sub(h.Noted)))})
}

func works(m array.MemberState) bool {
	return m.Condition == record.Active || m.Condition == record.Failing
}

// handingStatus is what status says of one; nil: there is none.
func (s *Service) handingStatus(r *running) *control.Handing {
	h, there := s.handingOf(r)
	if !there {
		return nil
	}
	out := &control.Handing{New: h.New, Old: h.From, Member: h.Of, Volume: r.Record().Roster[h.Slot].Volume, Step: 1}
	slot, before, after := h.Parity, int64(0), r.WrittenOn(h.Slot)
	if id, copying := r.Onto(h.Parity); copying {
		out.New = say.Short(id)
	}
	if !h.Second.IsZero() {
		slot, before, after, out.Step = h.Slot, h.Bytes, 0, 2
		out.New = say.Short(r.member(h.Parity).Disk)
	}
	if m := r.member(h.Slot); out.Step == 2 && m.Disk.Name() == h.Old && m.Condition.Counts() {
		return nil // it is done, and about to be told
	}
	s.mu.Lock()
	out.Percent = s.handed[r.ID().String()]
	s.mu.Unlock()
	t, there := taskOf(r, slot)
	if !there || !t.Ended.IsZero() {
		return out
	}
	out.StepPercent, out.Rate, out.Waits = t.Percent, t.Rate, t.Waits
	if all := before + t.Total + after; all > 0 { // what a step has to do is known when it begins
		out.Percent = max(out.Percent, float64(before+t.Done)/float64(all)*100)
	}
	s.mu.Lock()
	if s.handed == nil {
		s.handed = map[string]float64{}
	}
	out.Percent = max(out.Percent, s.handed[r.ID().String()])
	s.handed[r.ID().String()] = out.Percent
	s.mu.Unlock()
	if t.Left >= 0 && t.Rate > 0 {
		left := t.Left.Seconds() + float64(after)/t.Rate
		out.ETA, out.Unsure = &left, t.Spread
		if after > 0 {
			out.Unsure = 1 // how fast the second step will be is not known
		}
	}
	return out
}
