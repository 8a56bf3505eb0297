package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/history"
	"nidalo/internal/service/queue"
)

// A surface test reads every sector of a disk, whatever it holds and whoever uses it, and writes nothing. It has a handle of its
// own, so it sees the medium even where the array never reads.

const (
	surfacePiece  = 1 << 20
	surfacePlaces = 200
	surfaceUses   = 4
	surfaceSaves  = 5 * time.Second
)

// Surface does what a request asks, and lists all surface tests.
func (s *Service) Surface(req control.SurfaceRequest) ([]control.Surface, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if req.Disk == "" {
		return s.surfaces(), nil
	}
	only := func(id string) ([]control.Surface, error) {
		return slices.DeleteFunc(s.surfaces(), func(t control.Surface) bool { return t.Disk != id }), nil
	}
	src, err := s.locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	id := info.Name()
	s.mu.Lock()
	run := s.surfaceRuns[id]
	s.mu.Unlock()
	before, known := s.surfaceOf(id)
	switch {
	case req.Stop && run == nil:
		return nil, &control.Error{What: fmt.Sprintf("disk %s is not being tested", info.Identity)}
	case req.Stop:
		run.end()
		<-run.done
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
	d, err := s.peek(src)
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
	if err := s.change(func(m *memory) {
		m.Surfaces = slices.DeleteFunc(m.Surfaces, func(o control.Surface) bool { return o.Disk == t.Disk })
		m.Surfaces = append(m.Surfaces, t)
	}); err != nil {
		s.opt.Log.Warn("the surface test of a disk cannot be noted", "disk", t.Name, "reason", err)
	}
}

func (s *Service) startSurface(t control.Surface, d disk.Disk) {
	t.State = state.TaskWaiting
	s.noteSurface(t)
	s.event(event.Event{Kind: event.OfTask(state.TaskSurface, event.Started), Disk: t.Name})
	s.beginRun(s.surfaceRuns, t.Disk, d, func(run *diskRun) func() {
		t = s.readSurface(t, d, run)
		return func() {
			s.noteSurface(t)
			if !t.Ended.IsZero() {
				s.tellSurface(t)
			}
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
		if src, err := s.locate(t.Disk); err == nil && s.lookAt(src).Size == t.Size {
			if d, err := s.peek(src); err == nil {
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
	return task.NewPacer(func() task.Pace { return s.schedule("").At(s.opt.Now()) }, nil)
}

// readSurface reads from where the test is to the end, and returns it as it is then.
func (s *Service) readSurface(t control.Surface, d disk.Disk, run *diskRun) control.Surface {
	halt := func() control.Surface {
		t.ETA = nil
		select {
		case <-s.done: // it goes on at the next start
		default:
			t.State = state.TaskPaused
		}
		return t
	}
	p := disk.NewPatient(d, disk.DefaultPatience, func() bool { return false })
	turn := &queue.Entry{Kind: state.TaskSurface, Name: t.Name, Disks: []string{spindle(d.Identity())}}
	if !s.turns.Enter(turn, run.stop) {
		return halt()
	}
	defer s.turns.Leave(turn)
	t.State = state.TaskRunning
	pacer, buf := s.pacerFor(d.Identity()), make([]byte, surfacePiece)
	began, from, saved := time.Now(), t.Cursor, time.Now()
	var times []time.Duration
	for t.Cursor < t.Size {
		n := min(surfacePiece, t.Size-t.Cursor)
		for wait := pacer.Wait(n); wait > 0; wait = pacer.Wait(n) {
			select {
			case <-run.stop:
				return halt()
			case <-time.After(min(wait, 100*time.Millisecond)):
			}
		}
		if s.turns.Yields(turn) {
			s.turns.Leave(turn)
			t.State, t.ETA = state.TaskWaiting, nil
			s.noteSurface(t)
			if !s.turns.Enter(turn, run.stop) {
				return halt()
			}
			t.State, began, from = state.TaskRunning, time.Now(), t.Cursor
		}
		select {
		case <-run.stop:
			return halt()
		default:
		}
		p.Refresh(t.Cursor, n)
		at := time.Now()
		err := p.ReadAt(buf[:n], t.Cursor)
		took := time.Since(at)
		switch {
		case errors.Is(err, disk.ErrGone), errors.Is(err, disk.ErrHung):
			t.State, t.Ended, t.ETA, t.Result = state.TaskFailed, s.opt.Now(), nil, err.Error()
			return t
		case err != nil:
			s.narrow(&t, p, buf, t.Cursor, n)
		}
		if times = append(times, took); len(times) > 200 {
			times = times[1:]
		}
		if len(times) > 20 && took > vetSlowLeast && took > vetSlow*median(times) {
			if t.Slow++; len(t.SlowAt) < surfacePlaces {
				t.SlowAt = append(t.SlowAt, t.Cursor)
			}
		}
		t.Cursor += n
		t.Rate = float64(t.Cursor-from) / max(time.Since(began).Seconds(), 1e-3)
		left := float64(t.Size-t.Cursor) / t.Rate
		t.Percent, t.ETA = 100*float64(t.Cursor)/float64(t.Size), &left
		if time.Since(saved) > surfaceSaves || t.Size < 1<<30 {
			s.noteSurface(t)
			saved = time.Now()
		}
	}
	t.Percent, t.ETA = 100, nil
	if t.Heal {
		s.healSurface(&t, d.Identity())
		s.readAgain(&t, d.Identity())
	}
	t.Ended, t.State, t.Result = s.opt.Now(), state.TaskDone, surfaceSummary(t)
	return t
}

// narrow finds the places of a piece that cannot be read, in steps of one block.
func (s *Service) narrow(t *control.Surface, p *disk.Patient, buf []byte, off, n int64) {
	const step = 64 << 10
	for at := off; at < off+n; at += step {
		m := min(step, off+n-at)
		if p.ReadAt(buf[:m], at) == nil {
			continue
		}
		for b := at; b < at+m; b += array.Block {
			if k := min(array.Block, off+n-b); p.ReadAt(buf[:k], b) != nil {
				noteBad(t, b, k)
			}
		}
	}
	if r, m, ok := s.memberAt(p.Identity()); ok {
		for i := range t.Places {
			if b := &t.Places[i]; b.Offset+b.Length > off {
				b.Uses = r.Uses(m.Slot, b.Offset, b.Length, surfaceUses)
			}
		}
	}
}

// bad notes an unreadable stretch, together with the one before it where they touch.
func noteBad(t *control.Surface, off, n int64) {
	t.Bad += n
	if l := len(t.Places) - 1; l >= 0 && t.Places[l].Offset+t.Places[l].Length == off {
		t.Places[l].Length += n
	} else if len(t.Places) < surfacePlaces {
		t.Places = append(t.Places, control.BadPlace{Offset: off, Length: n})
	}
}

// healSurface restores the unreadable places of a member from redundancy.
func (s *Service) healSurface(t *control.Surface, id state.Identity) {
	r, m, ok := s.memberAt(id)
	if !ok || m.Condition != record.Active && m.Condition != record.Failing {
		return
	}
	t.Healed, t.Lost = 0, 0
	for _, b := range t.Places {
		if b.Mended {
			continue
		}
		healed, lost, err := r.HealPlaces(m.Slot, b.Offset, b.Length)
		t.Healed, t.Lost = t.Healed+healed, t.Lost+lost
		if err != nil {
			s.opt.Log.Warn("a place cannot be healed", "disk", t.Name, "offset", b.Offset, "reason", err)
			return
		}
	}
}

// readAgain looks which of the places can be read by now, with a handle that remembers nothing of before.
func (s *Service) readAgain(t *control.Surface, id state.Identity) {
	d, err := s.peek(s.sourceOf(id))
	if err != nil {
		return
	}
	defer d.Close()
	p := disk.NewPatient(d, disk.DefaultPatience, func() bool { return false })
	for i := range t.Places {
		b := &t.Places[i]
		if !b.Mended && p.ReadAt(make([]byte, b.Length), b.Offset) == nil {
			b.Mended = true
			t.Bad -= b.Length
		}
	}
}

// summary is the result in words.
func surfaceSummary(t control.Surface) string {
	mended := 0
	for _, b := range t.Places {
		if b.Mended {
			mended++
		}
	}
	out := "every sector was read, none is bad"
	switch {
	case t.Bad > 0:
		out = fmt.Sprintf("%s in %s cannot be read", say.Size(t.Bad), say.Count(len(t.Places)-mended, "place", "places"))
	case mended > 0:
		out = "every sector can be read now"
	}
	if mended > 0 {
		out += fmt.Sprintf("; %s mended, %d blocks rewritten", say.Count(mended, "place", "places"), t.Healed)
	}
	if t.Lost > 0 {
		out += fmt.Sprintf(", %d blocks could not be restored", t.Lost)
	}
	if t.Slow > 0 {
		out += fmt.Sprintf(", %d slow pieces", t.Slow)
	}
	return out
}
