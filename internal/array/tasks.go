package array

import (
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/record"
)

// Task states.
const (
	TaskRunning = "running"
	TaskDone    = "done"
	TaskFailed  = "failed"
	TaskStopped = "stopped" // goes on at the next start
)

// TaskState is what can be told of a task.
type TaskState struct {
	Kind    string
	Slot    int // the member it is about, or -1
	State   string
	Done    int64 // bytes
	Total   int64 // bytes; grows when more is written meanwhile
	Percent float64
	Rate    float64       // bytes per second over the last minute
	Left    time.Duration // negative when not known
	Started time.Time
	Ended   time.Time
	Err     error
	Check   *CheckResult
}

// CheckResult is what a consistency check found. Counts are blocks of 4 KiB on one member.
type CheckResult struct {
	Mismatches   int64
	Repaired     int64
	Unrepairable int64
	Repair       bool
	Places       []Mismatch // the first ones
}

// Mismatch is one block that does not agree with the rest of its stripe.
type Mismatch struct {
	Stripe int64
	Slot   int    // the member at fault, or of the parity that does not match
	Block  int64  // of the member's data
	What   string // in words
}

// task is one piece of long work in progress. Counters only ever grow.
type task struct {
	kind    string
	slot    int
	started time.Time
	done    atomic.Int64
	total   atomic.Int64
	cancel  chan struct{}
	ended   chan struct{}

	mu      sync.Mutex
	percent float64
	samples []sample
	state   string
	endTime time.Time
	err     error
	check   CheckResult
}

type sample struct {
	at   time.Time
	done int64
}

// tasks is the tasks of one array: those that run and the last few that ended.
type tasks struct {
	mu      sync.Mutex
	list    []*task
	closing bool
}

var errTaskStopped = errors.New("stopped")

// run starts a task unless one of its kind for that slot is running already.
func (a *Array) runTask(kind string, slot int, work func(t *task) error) (*task, error) {
	a.tasks.mu.Lock()
	defer a.tasks.mu.Unlock()
	if a.tasks.closing {
		return nil, ErrStopped
	}
	for _, t := range a.tasks.list {
		if t.kind == kind && t.slot == slot && t.running() {
			return t, errors.New("a " + kind + " is running already")
		}
	}
	t := &task{kind: kind, slot: slot, started: a.now(), state: TaskRunning, cancel: make(chan struct{}), ended: make(chan struct{})}
	if len(a.tasks.list) > 16 {
		a.tasks.list = a.tasks.list[1:]
	}
	a.tasks.list = append(a.tasks.list, t)
	a.event(kind+"-started", a.slotName(slot), "")
	go func() {
		err := work(t)
		t.mu.Lock()
		t.endTime, t.err = a.now(), err
		switch {
		case err == nil:
			t.state = TaskDone
		case errors.Is(err, errTaskStopped):
			t.state = TaskStopped
		default:
			t.state = TaskFailed
		}
		state := t.state
		t.mu.Unlock()
		if state == TaskFailed {
			a.event(kind+"-failed", a.slotName(slot), "%v", err)
		} else {
			a.event(kind+"-"+state, a.slotName(slot), "")
		}
		close(t.ended)
	}()
	return t, nil
}

func (a *Array) slotName(slot int) string {
	if slot < 0 {
		return ""
	}
	return a.members[slot].Load().name()
}

func (t *task) running() bool {
	select {
	case <-t.ended:
		return false
	default:
		return true
	}
}

func (t *task) stopped() bool {
	select {
	case <-t.cancel:
		return true
	default:
		return false
	}
}

// stopAll ends all tasks for now; those with a place in the record go on at the next start.
func (ts *tasks) stopAll() {
	ts.mu.Lock()
	ts.closing = true
	list := append([]*task(nil), ts.list...)
	ts.mu.Unlock()
	for _, t := range list {
		if t.running() && !t.stopped() {
			close(t.cancel)
		}
	}
	for _, t := range list {
		<-t.ended
	}
}

// advance notes progress; now is the engine's clock.
func (t *task) advance(now time.Time, bytes int64) {
	done := t.done.Add(bytes)
	if t.total.Load() < done {
		t.total.Store(done)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if n := len(t.samples); n == 0 || now.Sub(t.samples[n-1].at) >= 200*time.Millisecond {
		t.samples = append(t.samples, sample{now, done})
		for len(t.samples) > 2 && now.Sub(t.samples[0].at) > time.Minute {
			t.samples = t.samples[1:]
		}
	}
}

func (t *task) view(now time.Time) TaskState {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := TaskState{Kind: t.kind, Slot: t.slot, State: t.state, Done: t.done.Load(), Total: t.total.Load(), Left: -1,
		Started: t.started, Ended: t.endTime, Err: t.err}
	if s.Total > 0 {
		// What is written meanwhile adds to the total, but what was shown is never taken back.
		t.percent = max(t.percent, min(100*float64(s.Done)/float64(s.Total), 99.9))
	}
	if t.state == TaskDone {
		t.percent = 100
	}
	s.Percent = t.percent
	end := now
	if !t.endTime.IsZero() {
		end = t.endTime
	}
	if len(t.samples) > 0 {
		first := t.samples[0]
		if len(t.samples) == 1 || end.Sub(t.started) <= time.Minute {
			first = sample{t.started, 0}
		}
		if d := end.Sub(first.at).Seconds(); d > 0 {
			s.Rate = float64(s.Done-first.done) / d
		}
	}
	if s.Rate > 0 && t.state == TaskRunning {
		s.Left = time.Duration(float64(s.Total-s.Done) / s.Rate * float64(time.Second))
	}
	if t.kind == TaskCheck {
		c := t.check
		s.Check = &c
	}
	return s
}

// TaskStates lists the tasks that run and those that ended lately, oldest first.
func (a *Array) TaskStates() []TaskState {
	a.tasks.mu.Lock()
	defer a.tasks.mu.Unlock()
	var out []TaskState
	for _, t := range a.tasks.list {
		out = append(out, t.view(a.now()))
	}
	return out
}

// WaitTasks returns when no task is running. For tests and for commands that bring their own service.
func (a *Array) WaitTasks() {
	a.tasks.mu.Lock()
	list := append([]*task(nil), a.tasks.list...)
	a.tasks.mu.Unlock()
	for _, t := range list {
		<-t.ended
	}
}

// resumeTasks goes on with what the record says was under way.
func (a *Array) resumeTasks() {
	if a.cfg.Serial {
		return
	}
	for slot := range a.members {
		if a.members[slot].Load().condition() == record.Rebuilding {
			_, _ = a.startRebuild(slot)
		}
	}
	if t := a.roster.view().Task; t.Kind == record.Check && t.Ended.IsZero() {
		_, _ = a.startCheck(t.Repair, true)
	}
}
