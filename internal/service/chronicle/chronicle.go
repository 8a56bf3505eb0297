// Package chronicle passes on what happens, in order: to the log, to the history, to what follows from it, and to the alerts.
// Whatever tells of something never waits for a disk or a network.
package chronicle

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
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

	opening  sync.Mutex // guards what follows; mu is never held while the history is opened, since Tell takes it
	store    *history.Store
	failed   time.Time // when it could not be opened last
	unopened error     // why
	aside    time.Time // when a damaged one was set aside last

	unwritten unwritten // guarded by mu
}

// entry is one thing that waits to be passed on; what is not set is not.
type entry struct {
	event    *event.Event
	ended    *task.State // what the event tells the end of
	task     *history.Task
	readings []history.Reading
	forget   time.Time // what is older
}

// unwritten is what should be in the history and could not be written yet.
type unwritten struct {
	entries []entry // events and tasks, the oldest first
	lost    int     // that were let go because there were too many
	why     error   // of the last try; nil: it could be written
	since   time.Time
}

// mostUnwritten is how many entries wait for a history that cannot be written.
const mostUnwritten = 4096

// New begins a chronicle.
func New(host Host) *Chronicle {
	c := &Chronicle{host: host, signal: make(chan struct{}, 1), done: make(chan struct{}), told: map[string]string{}}
	c.wait.Go(func() {
		for {
			select {
			case <-c.signal:
				c.pass()
				c.catchUp()
			case <-c.done:
				c.pass()
				c.catchUp()
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
	c.poke()
}

func (c *Chronicle) poke() {
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
			} else {
				c.keep(e)
			}
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
		defer c.keep(entry{task: &t})
	}
	level := map[event.Severity]slog.Level{event.Warning: slog.LevelWarn, event.Critical: slog.LevelError}[e.Severity]
	c.host.Log.Log(context.Background(), level, string(e.Kind), "array", e.Array, "disk", e.Disk, "detail", e.Detail)
	c.keep(entry{event: &e})
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

// keep writes an entry into the history, after those that could not be written before.
func (c *Chronicle) keep(e entry) {
	if !c.catchUp() || !c.written(e) {
		c.hold(e)
	}
}

// hold has an event or a task wait until the history can be written; readings and what is to be forgotten come again.
func (c *Chronicle) hold(e entry) {
	if e.event == nil && e.task == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	u := &c.unwritten
	if len(u.entries) == mostUnwritten {
		u.entries = slices.Delete(u.entries, 0, 1)
		u.lost++
	}
	u.entries = append(u.entries, e)
}

// catchUp writes what could not be written before, and says whether nothing is left of it.
func (c *Chronicle) catchUp() bool {
	for {
		c.mu.Lock()
		list := c.unwritten.entries
		c.mu.Unlock()
		if len(list) == 0 {
			return true
		}
		if !c.written(list[0]) {
			return false
		}
		c.mu.Lock()
		c.unwritten.entries = list[1:]
		c.mu.Unlock()
	}
}

// written writes an entry, and says whether it could.
func (c *Chronicle) written(e entry) bool {
	err := c.put(e)
	if history.Damaged(err) && c.setAside(err) {
		err = c.put(e)
	}
	c.mu.Lock()
	u := &c.unwritten
	before, lost := u.why, u.lost
	if u.why = err; err == nil {
		u.lost = 0
	} else if before == nil {
		u.since = c.host.Now()
	}
	c.mu.Unlock()
	switch {
	case err != nil && before == nil:
		c.host.Log.Warn("the history cannot be written", "reason", err)
	case err == nil && before != nil:
		c.host.Log.Info("the history is written again", "lost", lost)
	}
	return err == nil
}

func (c *Chronicle) put(e entry) error {
	h, err := c.opened()
	if err != nil {
		return err
	}
	switch {
	case e.event != nil:
		_, err = h.AddEvent(*e.event)
	case e.task != nil:
		err = h.AddTask(*e.task)
	case e.readings != nil:
		err = h.AddReadings(e.readings)
	case !e.forget.IsZero():
		err = h.Forget(e.forget)
	}
	return err
}

// asideEvery is how long a new history stays, whatever is wrong with it: a disk that spoils each is not filled with them.
const asideEvery = time.Hour

// setAside has a new history begin in place of one that is damaged, and says whether it does.
func (c *Chronicle) setAside(damage error) bool {
	c.opening.Lock()
	defer c.opening.Unlock()
	if !c.aside.IsZero() && time.Since(c.aside) < asideEvery {
		return false
	}
	c.aside = time.Now()
	if c.store != nil {
		_ = c.store.Close()
		c.store = nil
	}
	to, err := history.SetAside(c.host.Path, c.host.Now())
	if err != nil {
		c.failed, c.unopened = time.Now(), err
		c.host.Log.Error("a damaged history cannot be set aside", "reason", err)
		return false
	}
	c.failed = time.Time{}
	c.Tell(event.Event{Kind: event.HistorySetAside, Detail: fmt.Sprintf("it is damaged (%v), and kept as %s; a new one has begun", damage, to)}, nil)
	return true
}

// Unwritten is what the history should tell and does not, because it cannot be written.
type Unwritten struct {
	Why    error // nil: it is written
	Since  time.Time
	Events []event.Event  // the oldest first
	Tasks  []history.Task // the oldest first
	Lost   int            // events and tasks of which nothing is known any more
}

// CatchUp has what could not be written into the history be tried once more, soon.
func (c *Chronicle) CatchUp() {
	c.mu.Lock()
	waits := len(c.unwritten.entries) > 0
	c.mu.Unlock()
	if waits {
		c.poke()
	}
}

// Unwritten tells what is not in the history yet.
func (c *Chronicle) Unwritten() Unwritten {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := Unwritten{Why: c.unwritten.why, Since: c.unwritten.since, Lost: c.unwritten.lost}
	for _, e := range c.unwritten.entries {
		if e.event != nil {
			out.Events = append(out.Events, *e.event)
		} else {
			out.Tasks = append(out.Tasks, *e.task)
		}
	}
	return out
}

// rest is how long a history that cannot be opened is left alone.
const rest = 10 * time.Second

// History opens the history when it is first needed; nil: it cannot be opened, and everything else goes on.
func (c *Chronicle) History() *history.Store {
	h, _ := c.opened()
	return h
}

func (c *Chronicle) opened() (*history.Store, error) {
	c.opening.Lock()
	defer c.opening.Unlock()
	if c.store != nil || time.Since(c.failed) < rest {
		return c.store, c.unopened
	}
	open := history.Open
	if c.host.Looks {
		open = history.OpenReadOnly
	}
	c.store, c.unopened = open(c.host.Path)
	if err := c.unopened; err != nil {
		c.failed = time.Now()
		if !errors.Is(err, os.ErrNotExist) {
			c.host.Log.Error("there is no history", "reason", err)
		}
	}
	return c.store, c.unopened
}
