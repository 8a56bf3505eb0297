package task

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"nidalo/core/state"
	"nidalo/internal/env"
)

// List is the tasks of one array: those that run and the last few that ended.
type List struct {
	mu      env.Mutex
	list    []*Task
	closing bool
	host    Host
}

// Host is what tasks take from outside.
type Host struct {
	Now   func() time.Time   // the clock by which they are dated
	Turns Turns              // nil: every task runs at once
	Pace  func() Pace        // how hard they may push
	Moved func() int64       // bytes that clients have read and written so far
	Began func(*Task)        // its turn came
	Ended func(*Task, State) // with what can be told of it
}

// NewList makes an empty list.
func NewList(host Host) *List { return &List{host: host} }

// ended tasks that are kept
const kept = 16

// Start starts a task unless one of its kind for that slot is running already. count sets its counters before its turn comes, so
// that what is shown of a task that goes on is where it was.
func (l *List) Start(kind state.TaskKind, slot int, count func(*Task), work func(*Task) error) (*Task, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closing {
		return nil, ErrStopped
	}
	for _, t := range l.list {
		if t.kind == kind && t.slot == slot && t.running() {
			return t, fmt.Errorf("a %s is running already", kind)
		}
	}
	t := Alone(kind)
	t.slot, t.turns, t.pacer = slot, l.host.Turns, NewPacer(l.host.Pace, l.host.Moved)
	t.started, t.began, t.changed = l.host.Now(), env.Now(), make(chan struct{})
	if len(l.list) > kept {
		l.list = l.list[1:]
	}
	l.list = append(l.list, t)
	env.Go(func() { l.perform(t, count, work) })
	return t, nil
}

// perform runs a task to its end, when its turn comes.
func (l *List) perform(t *Task, count func(*Task), work func(*Task) error) {
	count(t)
	err := t.begin()
	if err == nil {
		t.measureAnew(env.Now())
		l.host.Began(t)
		err = work(t)
		t.end()
	}
	t.finish(l.host.Now(), err)
	l.host.Ended(t, t.view(env.Now()))
}

// ErrNone is wrapped when there is no such task.
var ErrNone = errors.New("no such task is running")

// Steer pauses, continues or cancels a task: to is TaskPaused, TaskRunning or TaskCancelled. A rebuild cannot be
// cancelled, since redundancy waits for it.
func (l *List) Steer(kind state.TaskKind, slot int, to state.TaskState) error {
	list := l.running(func(t *Task) bool { return t.kind == kind && (slot < 0 || t.slot == slot) })
	switch {
	case len(list) == 0:
		return ErrNone
	case to == state.TaskCancelled && (kind == state.TaskRebuild || kind == state.TaskCatchUp):
		return fmt.Errorf("a %s cannot be cancelled: redundancy waits for it; it can be paused", kind)
	}
	list[0].steer(to)
	return nil
}

// running lists the tasks that have not ended and are of a sort.
func (l *List) running(of func(*Task) bool) (out []*Task) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, t := range l.list {
		if t.running() && of(t) {
			out = append(out, t)
		}
	}
	return out
}

func all(*Task) bool { return true }

func about(slot int) func(*Task) bool { return func(t *Task) bool { return t.slot == slot } }

// StopAll ends all tasks for now, and lets no more begin.
func (l *List) StopAll() {
	l.mu.Lock()
	l.closing = true
	l.mu.Unlock()
	stopAll(l.running(all))
}

// Supersede ends the tasks about the member in a slot, which is about to be another, and waits for them.
func (l *List) Supersede(slot int) { stopAll(l.running(about(slot))) }

func stopAll(list []*Task) {
	for _, t := range list {
		t.stop()
	}
	for _, t := range list {
		t.Wait()
	}
}

// Any says whether any task runs, or waits.
func (l *List) Any() bool { return len(l.running(all)) > 0 }

// Busy says whether a task about the member in a slot is under way.
func (l *List) Busy(slot int) bool { return len(l.running(about(slot))) > 0 }

// Running says whether a task of a kind is under way.
func (l *List) Running(kind state.TaskKind) bool {
	return len(l.running(func(t *Task) bool { return t.kind == kind })) > 0
}

// Wait returns when none of the tasks there are is running.
func (l *List) Wait() {
	for _, t := range l.running(all) {
		t.Wait()
	}
}

// States lists the tasks that run and those that ended lately, oldest first.
func (l *List) States() (out []State) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, t := range l.list {
		out = append(out, t.view(env.Now()))
	}
	return out
}

// Invariants says what is wrong with the tasks, if anything: one at most fills a slot, none has done more than there is, and none came
// to a state that it cannot come to. It waits for nothing.
func (l *List) Invariants() error {
	if !l.mu.TryLock() {
		return nil
	}
	defer l.mu.Unlock()
	fills := map[int]bool{}
	for _, t := range l.list {
		if t.mu.TryLock() {
			err := t.misstep
			t.mu.Unlock()
			if err != nil {
				return err
			}
		}
		if !t.running() {
			continue
		}
		if done, total := t.done.Load(), t.total.Load(); total > 0 && done > total {
			return fmt.Errorf("a %s has done %d of %d bytes", t.kind, done, total)
		}
		if !slices.Contains([]state.TaskKind{state.TaskRebuild, state.TaskCatchUp}, t.kind) {
			continue
		}
		if fills[t.slot] {
			return fmt.Errorf("two tasks fill slot %d", t.slot)
		}
		fills[t.slot] = true
	}
	return nil
}
