package service

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"nidalo/core/event"
	"nidalo/core/health"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/history"
	"nidalo/internal/service/queue"
)

const (
	vetPiece  = 1 << 20
	vetPasses = 3
	vetNotes  = 500 // times that the place of a proof is noted at least
	vetSample = 64  // a quick vet looks at one piece of so many
	vetPlaces = 20
	// vetSlow: a piece that takes so many times the median, and at least vetSlowLeast, is noted.
	vetSlow      = 20
	vetSlowLeast = 200 * time.Millisecond
)

// Vet starts, continues, stops or begins again the proof of a blank disk, or lists all proofs.
func (s *Service) Vet(req control.VetRequest) ([]control.Vetting, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if req.Disk == "" {
		return s.vettings(), nil
	}
	src, err := s.locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	id := info.Name()
	s.mu.Lock()
	run := s.vets[id]
	s.mu.Unlock()
	if req.Stop {
		if run == nil {
			return nil, &control.Error{What: fmt.Sprintf("disk %s is not being vetted", info.Identity)}
		}
		run.end()
		<-run.done
		return s.vettings(), nil
	}
	if run != nil {
		return nil, &control.Error{What: fmt.Sprintf("disk %s is being vetted already", info.Identity), Hints: []string{"nidalo vet   shows how far it is"}}
	}
	before, known := s.vetting(id)
	unfinished := known && before.Ended.IsZero()
	// A proof that was cut short leaves its own pattern behind; everything else on the disk is somebody's.
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
		if err := s.remember(info.Path); err != nil {
			return nil, err
		}
	}
	d, err := s.open(src)
	if err != nil {
		return nil, person(err)
	}
	s.startVet(v, d)
	return s.vettings(), nil
}

// diskRun is work on a disk under way that no array does: a proof or a surface test.
type diskRun struct {
	stop, done chan struct{}
	once       sync.Once
}

func (r *diskRun) end() { r.once.Do(func() { close(r.stop) }) }

// beginRun does work on a disk in a goroutine of its own, as one of runs, and closes the disk. What work returns is done when it
// is no longer one of them.
func (s *Service) beginRun(runs map[string]*diskRun, id string, d disk.Disk, work func(*diskRun) (after func())) {
	run := &diskRun{stop: make(chan struct{}), done: make(chan struct{})}
	s.mu.Lock()
	runs[id] = run
	s.mu.Unlock()
	s.wait.Go(func() {
		defer close(run.done)
		after := work(run)
		_ = d.Close()
		s.mu.Lock()
		delete(runs, id)
		s.mu.Unlock()
		after()
	})
}

// endRuns ends work on disks for now; it goes on at the next start.
func (s *Service) endRuns() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, runs := range []map[string]*diskRun{s.vets, s.surfaceRuns} {
		for _, run := range runs {
			run.end()
		}
	}
}

// halted is a proof that was ended: held, or, when the service stops, to go on at the next start.
func (s *Service) halted(v control.Vetting) control.Vetting {
	select {
	case <-s.done:
	default:
		v.State = state.TaskPaused
	}
	return v
}

func (s *Service) startVet(v control.Vetting, d disk.Disk) {
	v.State = state.TaskWaiting
	s.noteVet(v)
	s.event(event.Event{Kind: event.OfTask(state.TaskVet, event.Started), Disk: v.Name})
	s.beginRun(s.vets, v.Disk, d, func(run *diskRun) func() {
		v = s.prove(v, d, run)
		return func() {
			s.noteVet(v)
			if !v.Ended.IsZero() {
				s.tellVet(v)
			}
		}
	})
}

// resumeVets goes on with proofs that a stop or a crash cut short.
func (s *Service) resumeVets() {
	for _, v := range s.vettings() {
		if !v.Ended.IsZero() || v.State == state.TaskPaused {
			continue
		}
		src, err := s.locate(v.Disk)
		if err != nil {
			continue
		}
		if info := s.lookAt(src); info.Array == "" && info.Size == v.Size {
			if d, err := s.open(src); err == nil {
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

// vetted says whether a disk passed.
func (s *Service) vetted(id state.Identity) bool {
	v, ok := s.vetting(id.Name())
	return ok && passed(v)
}

// passed says that a proof came to its end and nothing was wrong.
func passed(v control.Vetting) bool { return !v.Ended.IsZero() && v.Errors == 0 && len(v.Failing) == 0 }

// noteVet remembers how far a proof is.
func (s *Service) noteVet(v control.Vetting) {
	if err := s.change(func(m *memory) {
		m.Vets = slices.DeleteFunc(m.Vets, func(o control.Vetting) bool { return o.Disk == v.Disk })
		m.Vets = append(m.Vets, v)
	}); err != nil {
		s.opt.Log.Warn("the proof of a disk cannot be noted", "disk", v.Name, "reason", err)
	}
}

func (s *Service) tellVet(v control.Vetting) {
	severity := event.Info
	if !passed(v) {
		severity = event.Warning
	}
	s.event(event.Event{Kind: event.OfTask(state.TaskVet, v.State), Severity: severity, Disk: v.Name, Detail: v.Result})
	bytes := vetBytes(v)
	s.chron.Task(history.Task{Kind: state.TaskVet, Disk: v.Name, Started: v.Started, Ended: v.Ended, State: v.State, Bytes: bytes,
		Rate: float64(bytes) / max(v.Ended.Sub(v.Started).Seconds(), 1e-3), Result: v.Result})
}

// bytes is what all passes move altogether.
func vetBytes(v control.Vetting) int64 {
	n := v.Size * vetPasses
	if v.Quick {
		n /= vetSample
	}
	return n
}

// next is the first piece at or after the cursor that the proof looks at: all, or samples with both ends.
func vetNext(v control.Vetting, at int64) int64 {
	if !v.Quick || at == 0 || at >= v.Size-vetPiece {
		return at
	}
	step := int64(vetPiece * vetSample)
	return min((at+step-1)/step*step, max(at, (v.Size-1)/vetPiece*vetPiece))
}

// prove does the passes from where the proof is, and returns it as it is in the end.
func (s *Service) prove(v control.Vetting, d disk.Disk, run *diskRun) control.Vetting {
	p := disk.NewPatient(d, disk.DefaultPatience, func() bool { return false })
	t := &queue.Entry{Kind: state.TaskVet, Name: v.Name, Disks: []string{spindle(d.Identity())}}
	if !s.turns.Enter(t, run.stop) {
		return s.halted(v)
	}
	defer s.turns.Leave(t)
	v.State = state.TaskRunning
	if r, err := p.Health(); err == nil && v.Before == nil {
		v.Before = &r
	}
	began, moved := time.Now(), int64(0)
	saved, noted := began, int64(0)
	var times []time.Duration
	buf, want := make([]byte, vetPiece), make([]byte, vetPiece)
	fault := func(at int64, what string) {
		v.Errors++
		if len(v.Places) < vetPlaces {
			v.Places = append(v.Places, fmt.Sprintf("%s at byte %d", what, at))
		}
	}
	for ; v.Pass < vetPasses; v.Pass, v.Cursor = v.Pass+1, 0 {
		for at := vetNext(v, v.Cursor); at < v.Size; at = vetNext(v, at+vetPiece) {
			select {
			case <-run.stop:
				return s.halted(v)
			default:
			}
			n := min(vetPiece, v.Size-at)
			took := time.Now()
			var err error
			switch v.Pass {
			case 0:
				vetPattern(buf[:n], at, v.Started)
				err = p.WriteAt(buf[:n], at)
			case 1:
				vetPattern(want[:n], at, v.Started)
				if err = p.ReadAt(buf[:n], at); err == nil && string(buf[:n]) != string(want[:n]) {
					fault(at, "came back different")
				}
			case 2:
				clear(buf[:n])
				err = p.WriteAt(buf[:n], at)
			}
			if err != nil {
				fault(at, []string{"could not be written", "could not be read", "could not be written"}[v.Pass])
				if errors.Is(err, disk.ErrGone) || errors.Is(err, disk.ErrHung) {
					v.State, v.Ended, v.Result = state.TaskFailed, s.opt.Now(), err.Error()
					return v
				}
			}
			times = append(times, time.Since(took))
			if len(times) > 200 {
				times = times[1:]
			}
			if d := times[len(times)-1]; len(times) > 20 && d > vetSlowLeast && d > vetSlow*median(times) {
				v.Slow++
			}
			moved += n
			v.Cursor = at + n
			v.Rate = float64(moved) / time.Since(began).Seconds()
			v.Percent = 100 * (float64(v.Pass) + float64(v.Cursor)/float64(v.Size)) / vetPasses
			if time.Since(saved) > time.Second || moved-noted >= vetBytes(v)/vetNotes {
				// What is noted as written must be: a proof that goes on reads it back.
				if err := p.Sync(); err != nil {
					fault(at, "could not be synced")
				}
				s.noteVet(v)
				saved, noted = time.Now(), moved
			}
		}
		if err := p.Sync(); err != nil {
			fault(v.Size, "could not be synced")
		}
		if v.Pass == 0 {
			p.Refresh(0, v.Size) // so that the disk is read, not the system's memory
		}
	}
	v.Pass, v.Percent, v.Ended, v.State = vetPasses-1, 100, s.opt.Now(), state.TaskDone
	v.Rate = float64(moved) / time.Since(began).Seconds()
	what := "all of it"
	if v.Quick {
		what = "samples"
	}
	v.Result = fmt.Sprintf("%s written and read back, %d pieces wrong, %d slow", what, v.Errors, v.Slow)
	if r, err := p.Health(); err == nil {
		v.After = &r
		if v.Before != nil {
			v.Worse = health.Worse(*v.Before, r)
		}
		verdict := health.Judge(r, *cmp.Or(v.Before, &r), health.DefaultRules)
		if len(v.Worse) > 0 {
			v.Result += "; " + strings.Join(v.Worse, ", ")
		}
		if verdict.Grade != health.Fine {
			v.Failing = verdict.Reasons
			v.Result += "; it says of itself: " + strings.Join(verdict.Reasons, "; ")
		}
	}
	return v
}

// vetPattern fills a piece so that every word tells where it belongs and which proof wrote it.
func vetPattern(p []byte, at int64, proof time.Time) {
	x := uint64(proof.UnixNano())
	for i := 0; i+8 <= len(p); i += 8 {
		v := (x ^ uint64(at+int64(i))) * 0x9e3779b97f4a7c15
		binary.LittleEndian.PutUint64(p[i:], v^v>>29|1)
	}
}

func median(times []time.Duration) time.Duration {
	sorted := slices.Clone(times)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}
