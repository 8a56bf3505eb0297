package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/event"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/history"
	"nidalo/internal/service/vet"
)

// surfaceUses is how many uses of a bad place are told.
const surfaceUses = 4

// Surface does what a request asks, and lists all surface tests.
func (s *Service) Surface(req control.SurfaceRequest) ([]control.Surface, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if req.Disk == "" {
		return s.surfaces(), nil
	}
	return s.surface(req)
}

// surface is Surface of one disk. admin is held.
func (s *Service) surface(req control.SurfaceRequest) ([]control.Surface, error) {
	only := func(id string) ([]control.Surface, error) {
		return slices.DeleteFunc(s.surfaces(), func(t control.Surface) bool { return t.Disk != id }), nil
	}
	src, err := s.seen.Locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	id := info.Name()
	run := s.surfaceRuns.Of(id)
	before, known := s.surfaceOf(id)
	switch {
	case req.Stop && run == nil:
		return nil, &control.Error{What: fmt.Sprintf("disk %s is not being tested", info.Identity)}
	case req.Stop:
		s.letRoundGo(id)
		run.End()
		return only(id)
	case run != nil:
		return nil, &control.Error{What: fmt.Sprintf("disk %s is being tested already", info.Identity), Hints: []string{"nidalo surface   shows how far it is"}}
	case info.State == state.DiskEmpty:
		return nil, &control.Error{What: fmt.Sprintf("bay %s is empty", req.Disk)}
	case info.State == state.DiskClosed:
		return nil, &control.Error{What: fmt.Sprintf("disk %s: %s", info.Identity, strings.Join(info.Holds, "; "))}
	}
	if _, _, member := s.memberAt(info.Identity); req.Heal && !member {
		return nil, &control.Error{What: fmt.Sprintf("disk %s is no member of an array in service: there is nothing to heal it from", info.Identity)}
	}
	t := control.Surface{Disk: id, Name: info.Identity.String(), Size: info.Size, Started: s.opt.Now()}
	if known && !req.Again && before.Size == info.Size && (before.Ended.IsZero() || req.Heal) {
		t = before
		t.Ended, t.Result = time.Time{}, ""
	}
	t.Heal = req.Heal
	d, err := s.seen.Peek(src)
	if err != nil {
		return nil, person(err)
	}
	s.startSurface(t, d)
	return only(id)
}

func (s *Service) surfaces() []control.Surface {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]control.Surface{}, s.mem.Surfaces...)
}

func (s *Service) surfaceOf(id string) (control.Surface, bool) {
	all := s.surfaces()
	i := slices.IndexFunc(all, func(t control.Surface) bool { return t.Disk == id })
	if i < 0 {
		return control.Surface{}, false
	}
	return all[i], true
}

func (s *Service) noteSurface(t control.Surface) {
	s.note(func(m *memory) {
		m.Surfaces = slices.DeleteFunc(m.Surfaces, func(o control.Surface) bool { return o.Disk == t.Disk })
		m.Surfaces = append(m.Surfaces, t)
	})
}

func (s *Service) startSurface(t control.Surface, d disk.Disk) {
	t.State = state.TaskWaiting
	s.noteSurface(t)
	s.event(event.Event{Kind: event.OfTask(state.TaskSurface, event.Started), Disk: t.Name})
	id := d.Identity()
	w := &vet.Surface{Host: s.vetHost(), Surface: t, Disk: d, Spindle: spindle(id), Pacer: s.pacerFor(id), Note: s.noteSurface,
		Member: func() *vet.Member { return s.surfaceMember(id) },
		Reopen: func() (disk.Disk, error) { return s.seen.Peek(s.seen.SourceOf(id)) },
		Warn: func(off int64, reason error) {
			s.opt.Log.Warn("a place cannot be healed", "disk", t.Name, "offset", off, "reason", reason)
		}}
	s.surfaceRuns.Begin(t.Disk, d, s.wait.Go, func(run *vet.Run) { w.Run(run.Stop) }, func() {
		s.noteSurface(w.Surface)
		if !w.Ended.IsZero() {
			s.tellSurface(w.Surface)
		}
	})
}

func (s *Service) tellSurface(t control.Surface) {
	severity := event.Info
	if t.Bad > 0 || t.State == state.TaskFailed {
		severity = event.Warning
	}
	s.event(event.Event{Kind: event.OfTask(state.TaskSurface, t.State), Severity: severity, Disk: t.Name, Detail: t.Result})
	s.chron.Task(history.Task{Kind: state.TaskSurface, Disk: t.Name, Started: t.Started, Ended: t.Ended, State: t.State, Bytes: t.Size, Rate: t.Rate, Result: t.Result})
}

// resumeSurfaces goes on with tests that a stop or a crash cut short.
func (s *Service) resumeSurfaces() {
	for _, t := range s.surfaces() {
		if !t.Ended.IsZero() || t.State == state.TaskPaused {
			continue
		}
		if src, err := s.seen.Locate(t.Disk); err == nil && s.lookAt(src).Size == t.Size {
			if d, err := s.seen.Peek(src); err == nil {
				s.startSurface(t, d)
			}
		}
	}
}

// pacerFor keeps a test to the pace of the array that the disk is a member of, or to that of the configuration.
func (s *Service) pacerFor(id state.Identity) *task.Pacer {
	if r, _, ok := s.memberAt(id); ok {
		return r.NewPacer()
	}
	return task.NewPacer(func() task.Pace {
		if p, ok := s.roundPace(id.Name()); ok {
			return p
		}
		return s.schedule("").At(s.opt.Now())
	}, nil)
}

// surfaceMember is the member that a disk is, for a surface test; nil: it is none.
func (s *Service) surfaceMember(id state.Identity) *vet.Member {
	r, m, ok := s.memberAt(id)
	if !ok {
		return nil
	}
	out := &vet.Member{Uses: func(off, n int64) []state.Use { return r.Uses(m.Slot, off, n, surfaceUses) }}
	if m.Condition.Counts() {
		out.Heal = func(off, n int64) (healed, lost int64, err error) { return r.HealPlaces(m.Slot, off, n) }
	}
	return out
}
