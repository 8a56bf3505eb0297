// Package task is the long work on an array: what begins it, its turn, its state, its pace and its progress (list.go, task.go, pace.go,
// progress.go), and the work itself: rebuilding (rebuild.go), copying a member onto another disk (retire.go), checking (check.go).
// A disk takes a place in join.go.
package task

import (
	"errors"
	"sync/atomic"
	"time"

	"nidalo/core/state"
	"nidalo/internal/env"
)

// Task is one piece of long work. Its counters only ever grow.
type Task struct {
	kind  state.TaskKind
	slot  int
	began time.Time // by env, as all times from which rates are made
	done  atomic.Int64
	total atomic.Int64
	moved atomic.Int64

	earlier atomic.Int64 // of done, before started

	turns  Turns         // or nil
	pacer  *Pacer        // nil: in the caller's goroutine, on its own
	cancel chan struct{} // closed to end it for now
	halt   env.Once      // guards the closing of cancel
	ended  chan struct{}

	mu      env.Mutex
	state   state.TaskState
	misstep error           // a change of state that the table does not allow; see Invariants
	waits   string          // for what, when waiting
	wanted  state.TaskState // TaskPaused or TaskCancelled, by an administrator
	changed chan struct{}   // closed and renewed when wanted changes
	resting bool            // gave up its turn for now
	idle    time.Duration   // waited or paused in all, not counted in the rate
	percent float64
	samples []sample
	base    sample    // where measuring the rate began; zero: with the task
	started time.Time // by the clock of dates, as the next
	endTime time.Time
	over    time.Time // by env
	err     error
	check   CheckResult
}

// Turns decides when the tasks of one array may run.
type Turns interface {
	// Begin returns when the task may run. why is told what it waits for whenever that changes. When stop is closed first
	// it returns false.
	Begin(kind state.TaskKind, slot int, stop <-chan struct{}, why func(string)) bool
	// Yield is asked now and then by a running task: when it is true the task must End and Begin anew.
	Yield(kind state.TaskKind, slot int) bool
	End(kind state.TaskKind, slot int)
}

var (
	// ErrStopped is how work ends that is stopped for now.
	ErrStopped = errors.New("stopped")
	// ErrCancelled is how work ends that was cancelled.
	ErrCancelled = errors.New("cancelled by the administrator")
)

// Alone is a task that is done in the caller's goroutine: it never waits, and cannot be stopped.
func Alone(kind state.TaskKind) *Task {
	return &Task{kind: kind, slot: -1, state: state.TaskRunning, cancel: make(chan struct{}), ended: make(chan struct{})}
}

// become changes the state, if the table of states allows it.
func (t *Task) become(to state.TaskState, waits string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.state != to && !t.state.Goes(to) {
		t.misstep = errors.New("a " + string(t.kind) + " that is " + string(t.state) + " is to be " + string(to))
		return
	}
	t.state, t.waits = to, waits
}

// begin waits for the task's turn.
func (t *Task) begin() error {
	if t.turns != nil && !t.turns.Begin(t.kind, t.slot, t.cancel, func(why string) { t.become(state.TaskWaiting, why) }) {
		return ErrStopped
	}
	t.become(state.TaskRunning, "")
	return nil
}

func (t *Task) end() {
	if t.turns != nil {
		t.turns.End(t.kind, t.slot)
	}
}

// finish notes how the work ended.
func (t *Task) finish(now time.Time, err error) state.TaskState {
	last := state.TaskFailed
	switch {
	case err == nil:
		last = state.TaskDone
	case errors.Is(err, ErrCancelled):
		last = state.TaskCancelled
	case errors.Is(err, ErrStopped):
		last = state.TaskStopped
	}
	t.become(last, "")
	t.mu.Lock()
	t.endTime, t.over, t.err = now, env.Now(), err
	t.mu.Unlock()
	close(t.ended)
	return last
}

// Point is called between pieces of work: it is where a task stops, is paused, gives way to one that is more urgent, and
// keeps to its pace. bytes is how much the piece before was. nil means: go on.
func (t *Task) Point(bytes int64) error {
	if t.pacer == nil {
		return nil
	}
	began := env.Now()
	defer func() {
		if d := env.Since(began); d > 10*time.Millisecond {
			t.mu.Lock()
			t.idle += d
			t.mu.Unlock()
		}
	}()
	for {
		t.mu.Lock()
		wanted, changed := t.wanted, t.changed
		t.mu.Unlock()
		rest := false // whether its turn is given up for now
		switch {
		case t.Stopped():
			return ErrStopped
		case wanted == state.TaskCancelled:
			return ErrCancelled
		case wanted == state.TaskPaused:
			t.rest(true)
			t.end()
			t.become(state.TaskPaused, "")
			if env.Wait(env.Never, t.cancel, changed) == 0 {
				return ErrStopped
			}
			rest = true
		case t.turns != nil && t.turns.Yield(t.kind, t.slot):
			t.rest(true)
			t.end()
			rest = true
		}
		if rest {
			err := t.begin()
			t.rest(false)
			if err != nil {
				return err
			}
			t.pacer.restart()
			continue
		}
		pace := t.pacer.now
		wait := t.pacer.Wait(bytes)
		if t.pacer.now != pace {
			t.measureAnew(env.Now())
		}
		if wait == 0 {
			return nil
		}
		env.Wait(min(wait, paceLook), t.cancel, changed)
	}
}

// await gives up the task's turn until it is ready to go on, and says meanwhile what it waits for: why is empty then. It looks again every second.
func (t *Task) await(why func() string) error {
	if why() == "" {
		return nil
	}
	t.rest(true)
	t.end()
	for reason := why(); reason != ""; reason = why() {
		t.become(state.TaskWaiting, reason)
		if env.Wait(time.Second, t.cancel) == 0 {
			return ErrStopped
		}
	}
	err := t.begin()
	t.rest(false)
	if t.pacer != nil {
		t.pacer.restart()
	}
	return err
}

func (t *Task) rest(resting bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.resting = resting
}

// going says whether the task works, and nobody wants it to stop.
func (t *Task) going() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return !t.resting && t.wanted == "" && !t.Stopped()
}

// rested notes that the task waited for another of its own accord.
func (t *Task) rested(d time.Duration) {
	t.mu.Lock()
	t.idle += d
	t.mu.Unlock()
	t.pacer.restart()
	t.measureAnew(env.Now())
}

// Yields says whether the task leaves room for others at the moment; its pieces then go one at a time, so that what one
// costs can be told.
func (t *Task) Yields() bool { return t.pacer != nil && t.pacer.yields() }

// steer says what an administrator wants of it.
func (t *Task) steer(to state.TaskState) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.wanted = to; to == state.TaskRunning {
		t.wanted = ""
	}
	close(t.changed)
	t.changed = make(chan struct{})
}

func (t *Task) running() bool {
	select {
	case <-t.ended:
		return false
	default:
		return true
	}
}

// Stopped says whether the task is to end for now.
func (t *Task) Stopped() bool {
	select {
	case <-t.cancel:
		return true
	default:
		return false
	}
}

// Rest waits, but no longer than until the task is to end for now: then it says false.
func (t *Task) Rest(d time.Duration) bool { return env.Wait(d, t.cancel) != 0 }

func (t *Task) stop() { t.halt.Do(func() { close(t.cancel) }) }

// Wait returns when the task has ended.
func (t *Task) Wait() { env.Recv(t.ended) }

// failure is the first error of work that goes on in several goroutines.
type failure struct {
	mu  env.Mutex
	err error
}

func (f *failure) fail(err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.err == nil {
		f.err = err
	}
}

func (f *failure) failed() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.err
}
