package service

import (
	"fmt"
	"slices"

	"nidalo/core/event"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/history"
	"nidalo/internal/service/vet"
)

// Vet starts, continues, stops or begins again the vet of a blank disk, or lists all vets.
func (s *Service) Vet(req control.VetRequest) ([]control.Vetting, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if req.Disk == "" {
		return s.vettings(), nil
	}
	src, err := s.seen.Locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	id := info.Name()
	run := s.vets.Of(id)
	if req.Stop {
		if run == nil {
			return nil, &control.Error{What: fmt.Sprintf("disk %s is not being vetted", info.Identity)}
		}
		run.End()
		return s.vettings(), nil
	}
	if run != nil {
		return nil, &control.Error{What: fmt.Sprintf("disk %s is being vetted already", info.Identity), Hints: []string{"nidalo vet   shows how far it is"}}
	}
	before, known := s.vetting(id)
	unfinished := known && before.Ended.IsZero()
	// A vet that was cut short leaves its own pattern behind; everything else on the disk is data.
	if info.State != state.DiskBlank && info.State != state.DiskSpare && !(unfinished && info.Array == "" && info.State != state.DiskEmpty && info.State != state.DiskRetired) {
		if info.State == state.DiskEmpty {
			return nil, &control.Error{What: fmt.Sprintf("bay %s is empty", req.Disk)}
		}
		return nil, notBlank(info)
	}
	v := before
	if !unfinished || req.Again || v.Size != info.Size {
		v = control.Vetting{Disk: id, Name: info.Identity.String(), Size: info.Size, Quick: req.Quick, Started: s.opt.Now()}
	}
	if info.Bay == "" {
		if err := s.seen.Remember(info.Path); err != nil {
			return nil, err
		}
	}
	d, err := s.seen.Open(src)
	if err != nil {
		return nil, person(err)
	}
	s.startVet(v, d)
	return s.vettings(), nil
}

func (s *Service) vetHost() vet.Host {
	return vet.Host{Now: s.opt.Now, Ends: s.done, Queue: s.turns.Queue}
}

func (s *Service) startVet(v control.Vetting, d disk.Disk) {
	v.State = state.TaskWaiting
	s.noteVet(v)
	s.event(event.Event{Kind: event.OfTask(state.TaskVet, event.Started), Disk: v.Name})
	s.vets.Begin(v.Disk, d, s.wait.Go,
		func(run *vet.Run) { v = s.vetHost().Vet(v, d, spindle(d.Identity()), run.Stop, s.noteVet) },
		func() {
			s.noteVet(v)
			if !v.Ended.IsZero() {
				s.tellVet(v)
			}
		})
}

// resumeVets goes on with vets that a stop or a crash cut short.
func (s *Service) resumeVets() {
	for _, v := range s.vettings() {
		if !v.Ended.IsZero() || v.State == state.TaskPaused {
			continue
		}
		src, err := s.seen.Locate(v.Disk)
		if err != nil {
			continue
		}
		if info := s.lookAt(src); info.Array == "" && info.Size == v.Size {
			if d, err := s.seen.Open(src); err == nil {
				s.startVet(v, d)
			}
		}
	}
}

func (s *Service) vettings() []control.Vetting {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := slices.Clone(s.mem.Vets)
	if out == nil {
		out = []control.Vetting{}
	}
	return out
}

func (s *Service) vetting(id string) (control.Vetting, bool) {
	for _, v := range s.vettings() {
		if v.Disk == id {
			return v, true
		}
	}
	return control.Vetting{}, false
}

// noteVet remembers how far a vet is.
func (s *Service) noteVet(v control.Vetting) {
	s.note(func(m *memory) {
		m.Vets = slices.DeleteFunc(m.Vets, func(o control.Vetting) bool { return o.Disk == v.Disk })
		m.Vets = append(m.Vets, v)
	})
}

func (s *Service) tellVet(v control.Vetting) {
	severity := event.Info
	if !vet.Passed(v) {
		severity = event.Warning
	}
	s.event(event.Event{Kind: event.OfTask(state.TaskVet, v.State), Severity: severity, Disk: v.Name, Detail: v.Result})
	bytes := vet.Bytes(v)
	s.chron.Task(history.Task{Kind: state.TaskVet, Disk: v.Name, Started: v.Started, Ended: v.Ended, State: v.State, Bytes: bytes,
		Rate: float64(bytes) / max(v.Ended.Sub(v.Started).Seconds(), 1e-3), Result: v.Result})
}
