// Package chronicle passes on what happens, in order: to the log, to the history, to what follows from it, and to the alerts.
// Whatever tells of something never waits for a disk or a network.
package chronicle

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/alert"
	"nidalo/internal/array/task"
	"nidalo/internal/history"
)

// Host is what the chronicle needs of the service.
type Host struct {
	Log   *slog.Logger
	Now   func() time.Time
	Path  string // of the history
	Looks bool   // nothing is told, and the history is only read
	// React does what follows from an event.
	React func(event.Event)
	// Quiet says whether alerts about an event are not wanted.
	Quiet func(event.Event) bool
	// Next is what to do about an array, in lines, for the alert that tells of an event.
	Next func(array string) []string
}

// Chronicle is under way from New until Close.
type Chronicle struct {
	host    Host
	wait    sync.WaitGroup
	signal  chan struct{}
	done    chan struct{}
	mu      sync.Mutex
	waiting []entry
	told    map[string]string // what was last said of a thing that is watched all the time
	sender  *alert.Sender

	opening sync.Mutex // guards what follows; mu is never held while the history is opened, since Tell takes it
	store   *history.Store
	failed  time.Time // when it could not be opened last
}

// entry is one thing that waits to be passed on; what is not set is not.
type entry struct {
	event    *event.Event
	ended    *task.State // what the event tells the end of
	task     *history.Task
	readings []history.Reading
	forget   time.Time // what is older
}

// New begins a chronicle.
func New(host Host) *Chronicle {
	c := &Chronicle{host: host, signal: make(chan struct{}, 1), done: make(chan struct{}), told: map[string]string{}}
	c.wait.Go(func() {
		for {
			select {
			case <-c.signal:
				c.pass()
			case <-c.done:
				c.pass()
				return
			}
		}
	})
	return c
}

// Close passes on what waits, and ends.
func (c *Chronicle) Close() {
	close(c.done)
	c.wait.Wait()
	c.SetSender(nil)
	c.opening.Lock()
	defer c.opening.Unlock()
	if c.store != nil {
		_ = c.store.Close()
	}
}

// SetSender has alerts go out another way; nil: none go out.
func (c *Chronicle) SetSender(fresh *alert.Sender) {
	c.mu.Lock()
	old := c.sender
	c.sender = fresh
	c.mu.Unlock()
	if old != nil {
		old.Close()
	}
}

func (c *Chronicle) add(e entry) {
	if c.host.Looks {
		return
	}
	c.mu.Lock()
	c.waiting = append(c.waiting, e)
	c.mu.Unlock()
	select {
	case c.signal <- struct{}{}:
	default:
	}
}

// Tell tells of something. Its time is now, and its severity that of its kind, where they are not set. Of a task that ended the
// history keeps the figures.
func (c *Chronicle) Tell(e event.Event, ended *task.State) {
	if e.Time.IsZero() {
		e.Time = c.host.Now()
	}
	if e.Severity == "" {
		e.Severity = e.Kind.Severity()
	}
	c.add(entry{event: &e, ended: ended})
}

// Once tells of the state of a thing only when it is another than the last time.
func (c *Chronicle) Once(of, state string, e event.Event) {
	c.mu.Lock()
	known := c.told[of] == state
	c.told[of] = state
	c.mu.Unlock()
	if !known {
		c.Tell(e, nil)
	}
}

// Told says whether a state of a thing was ever told.
func (c *Chronicle) Told(of string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, ok := c.told[of]
	return ok
}

// Task keeps a task that no array did.
func (c *Chronicle) Task(t history.Task) { c.add(entry{task: &t}) }

// Readings keeps some readings.
func (c *Chronicle) Readings(list []history.Reading) { c.add(entry{readings: list}) }

// Forget drops what is older.
func (c *Chronicle) Forget(before time.Time) { c.add(entry{forget: before}) }

// pass hands on what waits.
func (c *Chronicle) pass() {
	for {
		c.mu.Lock()
		list := c.waiting
		c.waiting = nil
		c.mu.Unlock()
		if len(list) == 0 {
			return
		}
		for _, e := range list {
			if e.event != nil {
				c.passEvent(*e.event, e.ended)
			}
			c.write(func(h *history.Store) error {
				switch {
				case e.task != nil:
					return h.AddTask(*e.task)
				case e.readings != nil:
					return h.AddReadings(e.readings)
				case !e.forget.IsZero():
					return h.Forget(e.forget)
				}
				return nil
			})
		}
	}
}

func (c *Chronicle) passEvent(e event.Event, ended *task.State) {
	if ended != nil && ended.State != state.TaskStopped {
		t := kept(e, *ended)
		if e.Detail == "" {
			e.Detail = figures(t)
		}
		if ended.Check != nil && ended.Check.Mismatches > 0 {
			c.Tell(event.Event{Kind: event.Mismatches, Array: e.Array, Detail: t.Result}, nil)
		}
		defer c.write(func(h *history.Store) error { return h.AddTask(t) })
	}
	level := map[event.Severity]slog.Level{event.Warning: slog.LevelWarn, event.Critical: slog.LevelError}[e.Severity]
	c.host.Log.Log(context.Background(), level, string(e.Kind), "array", e.Array, "disk", e.Disk, "detail", e.Detail)
	c.write(func(h *history.Store) error {
		_, err := h.AddEvent(e)
		return err
	})
	c.host.React(e)
	c.mu.Lock()
	sender := c.sender
	c.mu.Unlock()
	if sender != nil && !c.host.Quiet(e) {
		host, _ := os.Hostname()
		sender.Send(alert.Message{Time: e.Time, Host: host, Severity: e.Severity, Kind: e.Kind, Array: e.Array, Disk: e.Disk, Detail: e.Detail, Next: c.host.Next(e.Array)})
	}
}

// kept is what the history keeps of a task of an array that has ended.
func kept(e event.Event, t task.State) history.Task {
	out := history.Task{Array: e.Array, Kind: t.Kind, Disk: e.Disk, Started: t.Started, Ended: t.Ended, State: t.State, Bytes: t.Done, Moved: t.Moved,
		Rate: float64(t.Done-t.Earlier) / max(t.Ended.Sub(t.Started).Seconds(), 1e-3)}
	switch {
	case t.Check != nil:
		out.Result = fmt.Sprintf("%s, %d repaired, %d beyond repair", say.Count(t.Check.Mismatches, "mismatch", "mismatches"), t.Check.Repaired, t.Check.Unrepairable)
	case t.Err != nil:
		out.Result = t.Err.Error()
	}
	return out
}

// figures is what a task did, in words.
func figures(t history.Task) string {
	took := t.Ended.Sub(t.Started).Round(100 * time.Millisecond)
	switch {
	case t.Kind == state.TaskCatchUp:
		return fmt.Sprintf("%s of %s were behind; %s", say.Size(t.Moved), say.Size(t.Bytes), took)
	case t.Result != "":
		return fmt.Sprintf("%s in %s; %s", say.Size(t.Bytes), took, t.Result)
	}
	return fmt.Sprintf("%s in %s", say.Size(t.Bytes), took)
}

func (c *Chronicle) write(put func(*history.Store) error) {
	if h := c.History(); h != nil {
		if err := put(h); err != nil {
			c.host.Log.Warn("the history cannot be written", "reason", err)
		}
	}
}

// rest is how long a history that cannot be opened is left alone.
const rest = 10 * time.Second

// History opens the history when it is first needed; nil: it cannot be opened, and everything else goes on.
func (c *Chronicle) History() *history.Store {
	c.opening.Lock()
	defer c.opening.Unlock()
	if c.store != nil || time.Since(c.failed) < rest {
		return c.store
	}
	open := history.Open
	if c.host.Looks {
		open = history.OpenReadOnly
	}
	store, err := open(c.host.Path)
	if err != nil {
		c.failed = time.Now()
		if !errors.Is(err, os.ErrNotExist) {
			c.host.Log.Error("there is no history", "reason", err)
		}
		return nil
	}
	c.store = store
	return store
}
