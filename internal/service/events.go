package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nidalo/core/event"
	"nidalo/core/state"
	"nidalo/internal/alert"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/history"
	"nidalo/internal/service/chronicle"
)

// event tells of something. A command that only looks leaves no trace.
func (s *Service) event(e event.Event) { s.chron.Tell(e, nil) }

// once tells of a state of a thing only when it is another than the last time.
func (s *Service) once(kind, of, state string, e event.Event) { s.chron.Once(kind+"/"+of, state, e) }

// engineEvent is called by the engine, which may hold any of its locks.
func (s *Service) engineEvent(e array.Event) {
	e.Detail = strings.TrimPrefix(e.Detail, e.Disk+": ")
	s.chron.Tell(e.Event, e.Task)
}

// newChronicle begins the chronicle of the service.
func (s *Service) newChronicle() *chronicle.Chronicle {
	return chronicle.New(chronicle.Host{Log: s.opt.Log, Now: s.opt.Now, Path: s.historyPath(), Looks: s.opt.Looks, React: s.react, Quiet: s.quiet, Next: s.nextFor})
}

func (s *Service) historyPath() string { return filepath.Join(s.opt.Home, "history.db") }

// conditions tells when an array's condition changes, and of tasks that do not move.
func (s *Service) conditions() {
	for _, r := range s.running() {
		c := r.Condition()
		certain, _ := r.Margin()
		e := event.Event{Array: r.Name(), Detail: fmt.Sprintf("margin %d", max(certain, 0))}
		switch c {
		case state.Healthy:
			e.Kind, e.Severity = "healthy", event.Info
		case state.Degraded:
			e.Kind, e.Severity = "degraded", event.Warning
		case state.Exposed:
			e.Kind, e.Severity, e.Detail = "exposed", event.Critical, "the next loss of a member loses data"
		case state.Partial:
			e.Kind, e.Severity, e.Detail = event.Partial, event.Critical, "more disks are lost than there are parity disks; the volumes on the others are in service"
		default:
			e.Kind, e.Severity, e.Detail = "failed", event.Critical, "its data cannot be reached"
		}
		if c == state.Healthy && !s.chron.Told("condition/"+r.Name()) {
			s.once("condition", r.Name(), string(c), event.Event{Kind: event.Healthy, Array: r.Name(), Detail: e.Detail})
			continue
		}
		s.once("condition", r.Name(), string(c), e)
		for _, t := range r.TaskStates() {
			if t.State != state.TaskRunning {
				continue
			}
			key := fmt.Sprintf("%s/%s/%d", r.Name(), t.Kind, t.Slot)
			if s.stuck(key, t.Done) {
				s.once("stuck", key, fmt.Sprint(t.Done), event.Event{Kind: event.TaskStuck, Array: r.Name(), Detail: fmt.Sprintf("the %s has not moved for %s, at %.1f%%", t.Kind, stuckAfter, t.Percent)})
			}
		}
	}
}

// stuckAfter is how long a task may run without progress.
const stuckAfter = 5 * time.Minute

func (s *Service) stuck(key string, done int64) bool {
	p, ok := s.moves[key]
	if !ok || p.done != done {
		s.moves[key] = move{done, s.opt.Now()}
		return false
	}
	return s.opt.Now().Sub(p.at) > stuckAfter
}

// move is how far a task was, and when.
type move struct {
	done int64
	at   time.Time
}

// History answers from the history.
func (s *Service) History(req control.HistoryRequest) (*control.HistoryReply, error) {
	h := s.chron.History()
	if _, err := os.Stat(s.historyPath()); h == nil && s.opt.Looks && errors.Is(err, os.ErrNotExist) {
		return &control.HistoryReply{Events: []event.Event{}, Tasks: []history.Task{}}, nil
	}
	if h == nil {
		return nil, &control.Error{What: "there is no history: " + s.historyPath() + " cannot be opened"}
	}
	unwritten := s.chron.Unwritten()
	f := history.Filter{Array: req.Array, Disk: req.Disk, Kind: req.Kind, Since: req.Since, Until: req.Until, Limit: req.Limit}
	events, err := h.Events(f)
	if err != nil {
		return nil, err
	}
	tasks, err := h.Tasks(f)
	return withUnwritten(&control.HistoryReply{Events: events, Tasks: tasks}, unwritten, f), err
}

// Readings answers from the history.
func (s *Service) Readings(req control.ReadingsRequest) ([]history.Reading, error) {
	h := s.chron.History()
	if h == nil {
		return []history.Reading{}, nil
	}
	return h.Readings(req.Of, req.Name, req.Since, req.Most)
}

// TestAlerts sends a test message through every channel, once, and says how each went.
func (s *Service) TestAlerts() ([]control.AlertResult, error) {
	host, _ := os.Hostname()
	m := alert.Message{Time: s.opt.Now(), Host: host, Severity: event.Info, Kind: event.Test, Detail: "this is a test: if you can read it, alerts arrive"}
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
func (s *Service) quiet(e event.Event) bool {
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
		s.note(func(m *memory) { delete(m.Quiet, e.Array) })
		return false
	}
	return true
}
