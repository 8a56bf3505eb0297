package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/alert"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/history"
)

// chronicle takes events from wherever they happen, without making anybody wait, and passes them on in order: to the log,
// to the history, and to the alerts.
type chronicle struct {
	mu      sync.Mutex
	waiting []happened
	told    map[string]string // what was last said of a thing that is watched all the time
	signal  chan struct{}
	done    chan struct{}
	store   *history.Store
	failed  time.Time // when it could not be opened last
	sender  *alert.Sender
}

// happened is an event, and the task that it tells the end of.
type happened struct {
	control.Event
	task *task.State
}

// event tells of something. A command that only looks leaves no trace.
func (s *Service) event(e control.Event) { s.tell(happened{Event: e}) }

func (s *Service) tell(h happened) {
	if s.opt.Looks {
		return
	}
	if h.Time.IsZero() {
		h.Time = s.opt.Now()
	}
	c := &s.chron
	c.mu.Lock()
	c.waiting = append(c.waiting, h)
	c.mu.Unlock()
	select {
	case c.signal <- struct{}{}:
	default:
	}
}

// once tells of a state of a thing only when it is another than the last time.
func (s *Service) once(kind, of, state string, e control.Event) {
	c := &s.chron
	c.mu.Lock()
	key := kind + "/" + of
	known := c.told[key] == state
	c.told[key] = state
	c.mu.Unlock()
	if !known {
		s.event(e)
	}
}

// severity of what the engine tells.
func severity(e array.Event) string {
	switch {
	case e.Kind == "array-failed", e.Kind == "write-lost":
		return control.Critical
	case e.Kind == "member-returned", e.Kind == "member-retired":
		return control.Info
	case e.Kind == "batch-dropped":
		return control.Warning
	case strings.HasPrefix(e.Kind, "member-"), strings.HasSuffix(e.Kind, "-failed"), e.Kind == "table-damaged", e.Kind == "journal-damaged", e.Kind == "healed":
		return control.Warning
	}
	return control.Info
}

// engineEvent is called by the engine, which may hold any of its locks.
func (s *Service) engineEvent(e array.Event) {
	s.tell(happened{control.Event{Time: e.Time, Severity: severity(e), Kind: e.Kind, Array: e.Array, Disk: e.Disk, Detail: strings.TrimPrefix(e.Detail, e.Disk+": ")}, e.Task})
}

func (s *Service) startChronicle() {
	s.chron.signal, s.chron.done, s.chron.told = make(chan struct{}, 1), make(chan struct{}), map[string]string{}
	s.wait.Go(func() {
		for {
			select {
			case <-s.chron.signal:
				s.pass()
			case <-s.chron.done:
				s.pass()
				return
			}
		}
	})
}

// pass hands on what has happened.
func (s *Service) pass() {
	c := &s.chron
	c.mu.Lock()
	events := c.waiting
	c.waiting = nil
	c.mu.Unlock()
	for _, h := range events {
		e, ended := h.Event, s.ended(h)
		if ended != nil && e.Detail == "" {
			e.Detail = fmt.Sprintf("%s in %s", say.Size(ended.Bytes), ended.Ended.Sub(ended.Started).Round(100*time.Millisecond))
			if ended.Kind == state.TaskCatchUp {
				e.Detail = fmt.Sprintf("%s of %s were behind; %s", say.Size(ended.Moved), say.Size(ended.Bytes), ended.Ended.Sub(ended.Started).Round(100*time.Millisecond))
			} else if ended.Result != "" {
				e.Detail += "; " + ended.Result
			}
		}
		level := slog.LevelInfo
		switch e.Severity {
		case control.Warning:
			level = slog.LevelWarn
		case control.Critical:
			level = slog.LevelError
		}
		s.opt.Log.Log(context.Background(), level, e.Kind, "array", e.Array, "disk", e.Disk, "detail", e.Detail)
		if h := s.history(); h != nil {
			if _, err := h.AddEvent(e); err != nil {
				s.opt.Log.Warn("the history cannot be written", "reason", err)
			}
			if ended != nil {
				if err := h.AddTask(*ended); err != nil {
					s.opt.Log.Warn("the history cannot be written", "reason", err)
				}
			}
		}
		s.react(e)
		if sender := s.sender(); sender != nil && !s.quiet(e) {
			host, _ := os.Hostname()
			sender.Send(alert.Message{Time: e.Time, Host: host, Severity: e.Severity, Kind: e.Kind, Array: e.Array, Disk: e.Disk, Detail: e.Detail, Next: s.nextFor(e.Array)})
		}
	}
}

// ended is what the history keeps of a task that has ended.
func (s *Service) ended(h happened) *history.Task {
	t := h.task
	if t == nil || t.State == state.TaskStopped {
		return nil
	}
	result := ""
	if t.Check != nil {
		result = fmt.Sprintf("%d mismatches, %d repaired, %d beyond repair", t.Check.Mismatches, t.Check.Repaired, t.Check.Unrepairable)
		if t.Check.Mismatches > 0 {
			s.event(control.Event{Severity: control.Warning, Kind: "mismatches", Array: h.Array, Detail: result})
		}
	} else if t.Err != nil {
		result = t.Err.Error()
	}
	return &history.Task{Array: h.Array, Kind: t.Kind, Disk: h.Disk, Started: t.Started, Ended: t.Ended, State: t.State,
		Bytes: t.Done, Moved: t.Moved, Rate: float64(t.Done) / max(t.Ended.Sub(t.Started).Seconds(), 1e-3), Result: result}
}

// historyRest is how long a history that cannot be opened is left alone.
const historyRest = 10 * time.Second

// history opens the history when it is first needed. Without it everything else goes on.
func (s *Service) history() *history.Store {
	c := &s.chron
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.store == nil && time.Since(c.failed) > historyRest {
		open := history.Open
		if s.opt.Looks {
			open = history.OpenReadOnly
		}
		store, err := open(filepath.Join(s.opt.Home, "history.db"))
		if errors.Is(err, os.ErrNotExist) {
			c.failed = time.Now()
			return nil
		}
		if err != nil {
			c.failed = time.Now()
			s.opt.Log.Error("there is no history", "reason", err)
			return nil
		}
		c.store = store
	}
	return c.store
}

func (s *Service) endChronicle() {
	c := &s.chron
	close(c.done)
	s.wait.Wait()
	if sender := s.sender(); sender != nil {
		sender.Close()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.store != nil {
		_ = c.store.Close()
	}
}

// sender is how alerts go out, or nil when none are configured or the service does not stay.
func (s *Service) sender() *alert.Sender {
	s.chron.mu.Lock()
	defer s.chron.mu.Unlock()
	return s.chron.sender
}

// conditions tells when an array's condition changes, and of tasks that do not move.
func (s *Service) conditions() {
	for _, r := range s.running() {
		c := r.Condition()
		certain, _ := r.Margin()
		e := control.Event{Array: r.Name(), Detail: fmt.Sprintf("margin %d", max(certain, 0))}
		switch c {
		case state.Healthy:
			e.Kind, e.Severity = "healthy", control.Info
		case state.Degraded:
			e.Kind, e.Severity = "degraded", control.Warning
		case state.Exposed:
			e.Kind, e.Severity, e.Detail = "exposed", control.Critical, "the next loss of a member loses data"
		default:
			e.Kind, e.Severity, e.Detail = "failed", control.Critical, "its data cannot be reached"
		}
		s.chron.mu.Lock()
		_, known := s.chron.told["condition/"+r.Name()]
		s.chron.mu.Unlock()
		if !known && c == state.Healthy {
			s.once("condition", r.Name(), string(c), control.Event{Kind: "healthy", Severity: control.Info, Array: r.Name(), Detail: e.Detail})
			continue
		}
		s.once("condition", r.Name(), string(c), e)
		for _, t := range r.TaskStates() {
			if t.State != state.TaskRunning {
				continue
			}
			key := fmt.Sprintf("%s/%s/%d", r.Name(), t.Kind, t.Slot)
			if s.stuck(key, t.Done) {
				s.once("stuck", key, fmt.Sprint(t.Done), control.Event{Kind: "task-stuck", Severity: control.Warning, Array: r.Name(), Detail: fmt.Sprintf("the %s has not moved for %s, at %.1f%%", t.Kind, stuckAfter, t.Percent)})
			}
		}
	}
}

// stuckAfter is how long a task may run without progress.
const stuckAfter = 5 * time.Minute

func (s *Service) stuck(key string, done int64) bool {
	p, ok := s.moves[key]
	if !ok || p.done != done {
		s.moves[key] = move{done, time.Now()}
		return false
	}
	return time.Since(p.at) > stuckAfter
}

// move is how far a task was, and when.
type move struct {
	done int64
	at   time.Time
}

// History answers from the history.
func (s *Service) History(req control.HistoryRequest) (*control.HistoryReply, error) {
	h := s.history()
	if h == nil && s.opt.Looks && !there(filepath.Join(s.opt.Home, "history.db")) {
		return &control.HistoryReply{Events: []control.Event{}, Tasks: []history.Task{}}, nil
	}
	if h == nil {
		return nil, &control.Error{What: "there is no history: " + filepath.Join(s.opt.Home, "history.db") + " cannot be opened"}
	}
	f := history.Filter{Array: req.Array, Disk: req.Disk, Kind: req.Kind, Since: req.Since, Until: req.Until, Limit: req.Limit}
	events, err := h.Events(f)
	if err != nil {
		return nil, err
	}
	tasks, err := h.Tasks(f)
	return &control.HistoryReply{Events: events, Tasks: tasks}, err
}

// Readings answers from the history.
func (s *Service) Readings(req control.ReadingsRequest) ([]history.Reading, error) {
	h := s.history()
	if h == nil {
		return []history.Reading{}, nil
	}
	return h.Readings(req.Of, req.Name, req.Since, req.Most)
}

// TestAlerts sends a test message through every channel, once, and says how each went.
func (s *Service) TestAlerts() ([]control.AlertResult, error) {
	host, _ := os.Hostname()
	m := alert.Message{Time: s.opt.Now(), Host: host, Severity: control.Info, Kind: "test", Detail: "this is a test: if you can read it, alerts arrive"}
	out := []control.AlertResult{}
	for _, c := range s.config().Alerts.channels() {
		r := control.AlertResult{Channel: c.String(), Least: c.Least()}
		if err := alert.Try(context.Background(), c, m); err != nil {
			r.Error = err.Error()
		}
		out = append(out, r)
	}
	return out, nil
}

// Acknowledge quiets alerts about an array until its condition, or that of a member, changes.
func (s *Service) Acknowledge(name string) error {
	r, err := s.named(name)
	if err != nil {
		return err
	}
	state := s.stateOf(r)
	return s.change(func(m *memory) { m.Quiet[name] = state })
}

// stateOf is all that makes an alert about an array worth another one.
func (s *Service) stateOf(r *running) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s", r.Condition())
	for _, m := range r.MemberStates() {
		fmt.Fprintf(&b, " %s", m.Condition)
	}
	return b.String()
}

// quiet says whether an event was acknowledged: nothing about the array changed since.
func (s *Service) quiet(e control.Event) bool {
	if e.Array == "" {
		return false
	}
	s.mu.Lock()
	state, ok := s.mem.Quiet[e.Array]
	s.mu.Unlock()
	if !ok {
		return false
	}
	r, err := s.named(e.Array)
	if err != nil || s.stateOf(r) != state {
		_ = s.change(func(m *memory) { delete(m.Quiet, e.Array) })
		return false
	}
	return true
}
