package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/alert"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/ownership"
	"nidalo/internal/service/disks"
)

// Reload reads the configuration again. A wrong one changes nothing.
func (s *Service) Reload() error {
	cfg, err := ReadConfig(s.opt.Home)
	if err != nil {
		return err
	}
	s.cfg.Store(&cfg)
	s.setSender()
	s.applyPaces()
	s.wake()
	return nil
}

// setSender makes alerts go where the configuration says.
func (s *Service) setSender() {
	if !s.opt.Stays {
		return
	}
	a := s.config().Alerts
	opt := alert.DefaultOptions
	opt.Log = s.opt.Log
	if a.Fold > 0 {
		opt.Fold = time.Duration(a.Fold)
	}
	if a.Retry > 0 {
		opt.Wait = time.Duration(a.Retry)
	}
	s.chron.SetSender(alert.NewSender(a.channels(), opt))
}

// Stop takes an array out of service until it is started again.
func (s *Service) Stop(req control.StopRequest) error {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.named(req.Array)
	if err != nil {
		return err
	}
	if loses := s.losesByStopping(r); loses != nil && !req.Force {
		return loses
	}
	if err := s.takeOut(r); err != nil {
		return err
	}
	id := r.ID().String()
	rec := r.Record()
	if r.Failure() != nil {
		r.Abandon()
	} else if err := r.Close(); err != nil {
		return person(err)
	}
	s.note(func(m *memory) {
		if !slices.Contains(m.Out, id) {
			m.Out = append(m.Out, id)
		}
	})
	if err := s.seen.LookAnew(); err != nil {
		return err
	}
	s.leave(s.peeked(s.carriers(id), id), errTakenOut)
	s.unclaim(id, (*ownership.Claim).Rest)
	s.event(event.Event{Kind: event.ArrayStopped, Array: rec.Name, Detail: "flushed; it stays out of service until it is started"})
	return nil
}

// losesByStopping says what is lost when an array stops: what members hold whose files were removed; nil: nothing.
func (s *Service) losesByStopping(r *running) error {
	members := r.MemberStates()
	gone := func(slot int) bool { return r.Lacks(slot) == disk.FileRemoved }
	var names []string
	for _, m := range members {
		if gone(m.Slot) {
			names = append(names, say.Short(m.Disk))
		}
	}
	if len(names) == 0 || r.Failure() != nil {
		return nil
	}
	before, _ := r.Margin()
	after, _ := r.Layout().Margin(func(slot int) bool { return gone(slot) || !members[slot].Condition.Counts() })
	cost := fmt.Sprintf("the margin falls from %d to %d", before, after)
	if after < 0 {
		cost = "data is lost for good"
	}
	what := fmt.Sprintf("the file of %s was removed, and what it holds", names[0])
	if len(names) > 1 {
		what = fmt.Sprintf("the files of %s were removed, and what they hold", say.List(names))
	}
	return &control.Error{Fatal: true, What: fmt.Sprintf("%s is gone as soon as array %q stops: %s", what, r.Name(), cost),
		Hints: []string{fmt.Sprintf("nidalo retire %s %s DISK   copies it first", r.Name(), names[0]), "-yes stops it all the same"}}
}

// carriers are the sources whose disks carry a record of an array.
func (s *Service) carriers(id string) (out []disks.Source) {
	order, known := s.seen.Seen()
	for _, src := range order {
		if f := known[src]; f.Record != nil && f.Record.Array.String() == id {
			out = append(out, src)
		}
	}
	return out
}

// Start puts an array into service: one that was stopped, that comes from elsewhere, or that could not be started before.
// One that has failed is let go first, and started from what its disks hold.
func (s *Service) Start(req control.StartRequest) (*control.ArrayStatus, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if err := s.rescues.Busy(req.Array); err != nil {
		return nil, err
	}
	return s.start(req)
}

// letGoFailed takes an array that has failed out of service, so that its disks can be opened anew.
func (s *Service) letGoFailed(name string) {
	r, err := s.named(name)
	if err != nil || r.Failure() == nil {
		return
	}
	s.setAside(r, r.Failure())
	r.Abandon()
}

// start is Start while s.admin is held.
func (s *Service) start(req control.StartRequest) (*control.ArrayStatus, error) {
	if r, err := s.named(req.Array); err == nil && r.Failure() == nil {
		return nil, &control.Error{What: fmt.Sprintf("array %q is in service already", req.Array)}
	}
	s.letGoFailed(req.Array)
	wanted, err := s.identify(req.Array)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	at := slices.IndexFunc(s.idle, func(i idle) bool { return i.set.Newest.Array.String() == wanted })
	var was idle
	if at >= 0 {
		was = s.idle[at]
		s.idle = slices.Delete(s.idle, at, at+1)
	}
	s.mu.Unlock()
	if at < 0 {
		_, err := s.named(req.Array)
		return nil, err
	}
	if err := s.seen.LookAnew(); err != nil {
		return nil, err
	}
	id := was.set.Newest.Array.String()
	found, err := s.claimed(id)
	if err != nil {
		return s.notOwned(req, was, err)
	}
	if len(found) == 0 {
		s.unclaim(id, forOthers)
		s.mu.Lock()
		s.idle = append(s.idle, was)
		s.mu.Unlock()
		return nil, &control.Error{What: fmt.Sprintf("none of the disks of array %q is there", req.Array)}
	}
	if err := s.startOne(found, req.Surviving); err != nil {
		s.unclaim(id, forOthers)
		return nil, &control.Error{What: fmt.Sprintf("array %q cannot be started: %v", req.Array, err), Hints: s.hintsFor(was.set.Newest, found, err)}
	}
	r, err := s.named(id)
	if err == nil {
		s.own(id, r.Name())
		s.applyPaces()
		err = s.attachAsAsked(req, r.Record())
	}
	if err != nil {
		return nil, err
	}
	s.event(event.Event{Kind: event.ArrayStarted, Array: r.Name(), Detail: string(r.Condition())})
	s.takeBackOf(r.ID()) // those that left before the others, and came back while it was not in service
	snap, err := s.snapshot()
	if err != nil {
		return nil, err
	}
	status := s.describe(r)
	status.Next = advice.Lines(advice.Next(snap).Of(id))
	return &status, nil
}

// claimed makes this host the owner of an array, where others could have it, and opens its disks.
func (s *Service) claimed(id string) ([]roster.Candidate, error) {
	if err := s.claim(id, s.carriers(id), true); err != nil {
		return nil, err
	}
	found, err := s.candidates(s.carriers(id), id)
	if err != nil {
		s.unclaim(id, forOthers)
	}
	return found, err
}

func (s *Service) hintsFor(rec *record.Record, found []roster.Candidate, err error) []string {
	switch {
	case errors.Is(err, array.ErrFailed) && servesInPart(found):
		return []string{"bring the missing disks back, in any bay, then: nidalo start " + rec.Name,
			"nidalo start -surviving " + rec.Name + "   starts the volumes whose disks are there, if the others are lost and in use nowhere else"}
	case errors.Is(err, roster.ErrDoubt):
		return []string{"two sets of disks went on without each other: take out those that are not to count, then start it again",
			"nidalo disks   shows which disk carries which epoch"}
	case errors.Is(err, array.ErrFailed):
		return []string{"bring the missing disks back, in any bay, then: nidalo start " + rec.Name,
			"nidalo rescue " + rec.Name + "   reports what can be read without them, copies it out, or brings back members that left before"}
	}
	return nil
}

// servesInPart says whether some disks of a guarded set are enough for some of its volumes.
func servesInPart(found []roster.Candidate) bool {
	set := roster.Judge(found)
	set.Surviving = true
	return set.Doubt == nil && set.Serves()
}

// Rename gives an array another name. Clients know it by its name, so none may be connected.
func (s *Service) Rename(req control.RenameRequest) error {
	s.admin.Lock()
	defer s.admin.Unlock()
	if err := record.CheckName(req.To); err != nil {
		return &control.Error{What: err.Error()}
	}
	if s.nameTaken(req.To) {
		return &control.Error{What: fmt.Sprintf("there is an array %q already", req.To)}
	}
	r, err := s.named(req.Array)
	if err != nil {
		return err
	}
	if err := s.takeOut(r); err != nil {
		return err
	}
	err = r.Rename(req.To)
	s.mu.Lock()
	s.arrays[r.Name()] = r
	s.mu.Unlock()
	if err != nil {
		return person(err)
	}
	s.event(event.Event{Kind: event.ArrayRenamed, Array: req.To, Detail: "it was " + req.Array})
	s.note(func(m *memory) {
		m.Names[r.ID().String()] = req.To
		if p, ok := m.Paces[req.Array]; ok {
			m.Paces[req.To] = p
			delete(m.Paces, req.Array)
		}
		for i := range m.Spares {
			for j, n := range m.Spares[i].Arrays {
				if n == req.Array {
					m.Spares[i].Arrays[j] = req.To
				}
			}
		}
		for k, v := range m.Took {
			if rest, ok := strings.CutPrefix(k, req.Array+"/"); ok {
				delete(m.Took, k)
				m.Took[req.To+"/"+rest] = v
			}
		}
	})
	return nil
}

// Retire copies a member onto a blank disk, or a spare, and lets it go.
func (s *Service) Retire(req control.RetireRequest) (*control.ReplaceReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(req.Array)
	if err != nil {
		return nil, err
	}
	slot, err := s.slot(r, req.Disk)
	if err != nil {
		return nil, err
	}
	m := r.member(slot)
	if m.Condition == record.Failed || m.Condition == record.Missing {
		return nil, &control.Error{What: fmt.Sprintf("%s is %s: there is nothing to copy from", m.Disk, m.Condition), Hints: []string{"nidalo replace " + r.Name() + " " + say.Argument(m.Disk) + " DISK"}}
	}
	need := r.NeedSize(slot)
	if req.Onto == "" {
		snap, err := s.snapshot()
		if err != nil {
			return nil, err
		}
		best := advice.Fit(snap.Disks, need, "", m.Disk.OnDevice())
		if best == nil {
			return nil, &control.Error{What: fmt.Sprintf("there is no blank disk of at least %s (%d bytes)", say.Size(need), need), Hints: []string{"insert one, then give the command again"}}
		}
		req.Onto = best.Name()
	}
	return s.putIn(req.Onto, req.AlthoughBad, m, need, func(d disk.Disk) error { return r.Retire(slot, d) })
}

// noSpare notes that a disk is in use now and waits for nothing any more.
func (s *Service) noSpare(id state.Identity) {
	s.note(func(m *memory) {
		m.Spares = slices.DeleteFunc(m.Spares, func(p Spare) bool { return p.Disk == id.Serial && id.Serial != "" || p.Disk == id.Path })
	})
}

// Steer pauses, continues or cancels a task.
func (s *Service) Steer(req control.SteerRequest) error {
	r, err := s.named(req.Array)
	if err != nil {
		return err
	}
	done, known := map[state.TaskState]state.TaskState{state.TaskRunning: event.Continued, state.TaskPaused: state.TaskPaused, state.TaskCancelled: state.TaskCancelled}[req.State]
	if !known {
		return &control.Error{What: fmt.Sprintf("%q: a task can be paused, running or cancelled", req.State)}
	}
	kinds := []state.TaskKind{req.Kind}
	if req.Kind == "" {
		kinds = []state.TaskKind{state.TaskRebuild, state.TaskCatchUp, state.TaskRetire, state.TaskCheck, state.TaskConvert, state.TaskEmpty}
	}
	slot, found := -1, false
	if req.Slot != nil {
		slot = *req.Slot
	}
	if req.State == state.TaskCancelled && (req.Kind == "" || req.Kind == state.TaskConvert) {
		dropped, err := s.dropWaiting(r)
		if err != nil || dropped && req.Kind == state.TaskConvert {
			return err // the one under way goes on
		}
		found = dropped
	}
	for _, k := range kinds {
		switch err := r.Steer(k, slot, req.State); {
		case err == nil:
			found = true
			if k == state.TaskCheck {
				s.letRoundGo(r.ID().String())
			}
			if req.State == state.TaskCancelled {
				switch k {
				case state.TaskConvert:
					s.forgetFreed(r)
				case state.TaskEmpty:
					s.stays(r)
				}
				continue // its end tells that
			}
			s.event(event.Event{Kind: event.OfTask(k, done), Array: r.Name()})
		case !errors.Is(err, task.ErrNone):
			return person(err)
		}
	}
	if !found {
		return &control.Error{What: fmt.Sprintf("no such task of array %q is under way", req.Array), Hints: []string{"nidalo status " + req.Array + "   shows its tasks"}}
	}
	return nil
}

// react does what follows from an event.
func (s *Service) react(e event.Event) {
	if e.Kind == event.MemberFailed && !strings.Contains(e.Detail, task.ByAdministrator) {
		if r, err := s.named(e.Array); err == nil {
			for _, m := range r.MemberStates() {
				if m.Disk.String() == e.Disk {
					s.noteBad(m.Disk, fmt.Sprintf("it failed in array %s on %s: %s", e.Array, e.Time.Local().Format("2006-01-02"), e.Detail))
				}
			}
		}
	}
	if e.Kind == event.MemberFreed {
		s.keepFreed(e.Disk)
	}
	if e.Kind != event.MemberRetired {
		return
	}
	// A spare whose stand-in is over is a spare again: what it holds was copied off it just now.
	s.mu.Lock()
	var was string
	for k := range s.mem.Took {
		if name, serial, _ := strings.Cut(k, "/"); name == e.Array && state.Tells(e.Disk, serial) {
			was = serial
		}
	}
	s.mu.Unlock()
	if was == "" {
		return
	}
	s.wait.Go(func() {
		if !s.unasked() {
			return
		}
		defer s.admin.Unlock()
		r, err := s.named(e.Array)
		if err != nil {
			return
		}
		if info, err := s.unmark(r, was); err != nil || info.State != state.DiskBlank {
			return
		}
		s.note(func(m *memory) {
			delete(m.Took, e.Array+"/"+was)
			m.Spares = append(m.Spares, Spare{Disk: was})
		})
		s.event(event.Event{Kind: event.SpareFree, Array: e.Array, Disk: e.Disk, Detail: "it is a hot spare for all arrays again"})
	})
}
