package array

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"sync/atomic"
	"time"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Turns decides which tasks may run at the same time; several arrays may share it.
type Turns interface {
	// Begin returns when the task may run. why is told what it waits for whenever that changes. When stop is closed first
	// it returns false.
	Begin(t TaskRef, stop <-chan struct{}, why func(string)) bool
	// Yield is asked now and then by a running task: when it is true the task must End and Begin anew.
	Yield(t TaskRef) bool
	End(t TaskRef)
}

// TaskRef names a task for Turns.
type TaskRef struct {
	Array *Array
	Kind  state.TaskKind
	Slot  int
}

// TaskState is what can be told of a task.
type TaskState struct {
	Kind    state.TaskKind
	Slot    int // the member it is about, or -1
	State   state.TaskState
	Done    int64 // bytes
	Total   int64 // bytes; grows when more is written meanwhile
	Moved   int64 // bytes written to the member; less than Done when it had the rest
	Percent float64
	Rate    float64       // bytes per second over the last minute
	Left    time.Duration // negative when not known
	Started time.Time
	Ended   time.Time
	Err     error
	Check   *CheckResult
	Waits   string        // for what, when waiting
	Spread  float64       // of the rate over the last minute, as a share of it: how unsure Left is
	Idle    time.Duration // spent waiting or paused
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
	kind    state.TaskKind
	slot    int
	started time.Time // by the clock of dates
	began   time.Time // by env, as all times from which rates are made
	done    atomic.Int64
	total   atomic.Int64
	moved   atomic.Int64  // bytes written to the member it is about
	cancel  chan struct{} // closed to end it for now
	halt    env.Once      // guards the closing of cancel
	ended   chan struct{}
	ref     TaskRef
	turns   Turns // or nil
	pacer   pacer

	mu      env.Mutex
	waits   string          // what it waits for
	wanted  state.TaskState // TaskPaused or TaskCancelled, by an administrator
	changed chan struct{}   // closed and renewed when wanted changes
	idle    time.Duration   // waited or paused in all, not counted in the rate
	percent float64
	samples []sample
	base    sample // where measuring the rate began; zero: with the task
	state   state.TaskState
	endTime time.Time // by the clock of dates
	over    time.Time // by env
	err     error
	check   CheckResult
}

type sample struct {
	at   time.Time
	done int64
}

// tasks is the tasks of one array: those that run and the last few that ended.
type tasks struct {
	mu      env.Mutex
	list    []*task
	closing bool
}

var errTaskStopped = errors.New("stopped")

// runTask starts a task unless one of its kind for that slot is running already.
func (a *Array) runTask(kind state.TaskKind, slot int, count func(t *task), work func(t *task) error) (*task, error) {
	a.tasks.mu.Lock()
	defer a.tasks.mu.Unlock()
	if a.tasks.closing {
		return nil, ErrStopped
	}
	for _, t := range a.tasks.list {
		if t.kind == kind && t.slot == slot && t.running() {
			return t, fmt.Errorf("a %s is running already", kind)
		}
	}
	t := &task{kind: kind, slot: slot, started: a.now(), began: env.Now(), state: state.TaskRunning, cancel: make(chan struct{}), ended: make(chan struct{}),
		changed: make(chan struct{}), ref: TaskRef{a, kind, slot}, turns: a.cfg.Turns}
	if len(a.tasks.list) > 16 {
		a.tasks.list = a.tasks.list[1:]
	}
	a.tasks.list = append(a.tasks.list, t)
	env.Go(func() { a.perform(t, count, work) })
	return t, nil
}

// perform runs a task to its end, when its turn comes.
func (a *Array) perform(t *task, count func(t *task), work func(t *task) error) {
	count(t) // before its turn comes, so that what is shown of a task that goes on is where it was
	err := t.begin()
	if err == nil {
		t.measureAnew(env.Now())
		a.event(string(t.kind)+"-started", a.slotName(t.slot), "")
		err = work(t)
		t.end()
	}
	t.mu.Lock()
	t.endTime, t.over, t.err = a.now(), env.Now(), err
	switch {
	case err == nil:
		t.state = state.TaskDone
	case errors.Is(err, errTaskCancelled):
		t.state = state.TaskCancelled
	case errors.Is(err, errTaskStopped):
		t.state = state.TaskStopped
	default:
		t.state = state.TaskFailed
	}
	last := t.state
	t.mu.Unlock()
	detail := ""
	if last == state.TaskFailed {
		detail = err.Error()
	}
	close(t.ended)
	if a.cfg.Event != nil {
		ended := t.view(env.Now())
		a.cfg.Event(Event{Time: a.now(), Kind: string(t.kind) + "-" + string(last), Array: a.Name(), Disk: a.slotName(t.slot), Detail: detail, Task: &ended})
	}
}

var errTaskCancelled = errors.New("cancelled by the administrator")

// begin waits for the task's turn.
func (t *task) begin() error {
	if t.turns == nil {
		return nil
	}
	defer t.setState(state.TaskRunning)
	if !t.turns.Begin(t.ref, t.cancel, func(why string) {
		t.mu.Lock()
		t.state, t.waits = state.TaskWaiting, why
		t.mu.Unlock()
	}) {
		return errTaskStopped
	}
	return nil
}

func (t *task) end() {
	if t.turns != nil {
		t.turns.End(t.ref)
	}
}

func (t *task) setState(to state.TaskState) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.state = to
	if to == state.TaskRunning {
		t.waits = ""
	}
}

// point is called between pieces of work: it is where a task stops, is paused, gives way to one that is more urgent, and
// keeps to its pace. bytes is how much the piece before was. nil means: go on.
func (t *task) point(a *Array, bytes int64) error {
	if t.changed == nil {
		return nil // in the caller's goroutine, on its own
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
		switch {
		case t.stopped():
			return errTaskStopped
		case wanted == state.TaskCancelled:
			return errTaskCancelled
		case wanted == state.TaskPaused:
			t.end()
			t.setState(state.TaskPaused)
			if env.Wait(env.Never, t.cancel, changed) == 0 {
				return errTaskStopped
			}
			if err := t.begin(); err != nil {
				return err
			}
			t.pacer.restart()
			continue
		case t.turns != nil && t.turns.Yield(t.ref):
			t.end()
			if err := t.begin(); err != nil {
				return err
			}
			t.pacer.restart()
			continue
		}
		pace := t.pacer.pace
		wait := t.pacer.wait(a, bytes)
		if t.pacer.pace != pace {
			t.measureAnew(env.Now())
		}
		if wait > 0 {
			env.Wait(min(wait, paceLook), t.cancel, changed)
			continue
		}
		return nil
	}
}

// ErrNoTask is wrapped when there is no such task.
var ErrNoTask = errors.New("no such task is running")

// Steer pauses, continues or cancels a task: to is TaskPaused, TaskRunning or TaskCancelled. A rebuild cannot be
// cancelled, since redundancy waits for it.
func (a *Array) Steer(kind state.TaskKind, slot int, to state.TaskState) error {
	a.tasks.mu.Lock()
	defer a.tasks.mu.Unlock()
	for _, t := range a.tasks.list {
		if t.kind != kind || slot >= 0 && t.slot != slot || !t.running() {
			continue
		}
		if to == state.TaskCancelled && (kind == state.TaskRebuild || kind == state.TaskCatchUp) {
			return fmt.Errorf("a %s cannot be cancelled: redundancy waits for it; it can be paused", kind)
		}
		t.mu.Lock()
		if t.wanted = to; to == state.TaskRunning {
			t.wanted = ""
		}
		close(t.changed)
		t.changed = make(chan struct{})
		t.mu.Unlock()
		return nil
	}
	return ErrNoTask
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
		t.stop()
	}
	for _, t := range list {
		env.Recv(t.ended)
	}
}

func (t *task) stop() { t.halt.Do(func() { close(t.cancel) }) }

// supersede ends the tasks about the member in a slot, which is about to be another, and waits for them.
func (ts *tasks) supersede(slot int) {
	ts.mu.Lock()
	var list []*task
	for _, t := range ts.list {
		if t.slot == slot && t.running() {
			list = append(list, t)
		}
	}
	ts.mu.Unlock()
	for _, t := range list {
		t.stop()
	}
	for _, t := range list {
		env.Recv(t.ended)
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

// resumed notes when a check began, perhaps before this run of it, and what it has found so far.
func (t *task) resumed(started time.Time, saw CheckResult) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.started, t.check = started, saw
}

// count sets the counters: what the whole task is, and what earlier runs of it did.
func (t *task) count(done, total int64) {
	t.done.Store(done)
	t.total.Store(total)
}

// grain is how finely the progress of a task is kept: a two hundred and fiftieth of it, but not less than 2 MiB.
func (t *task) grain() int64 { return max(t.total.Load()/pieces, 2<<20) }

// saves knows when the progress of a task is made durable: once a second, and sooner when a grain of it was done since. A
// crash repeats two grains at most.
type saves struct {
	mu   env.Mutex
	busy bool
	at   time.Time
	done int64 // when saving began last
	kept int64 // what a crash would not repeat
}

func (t *task) saves(now time.Time) *saves {
	return &saves{at: now, done: t.done.Load(), kept: t.done.Load()}
}

func (s *saves) due(t *task, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.busy && (now.Sub(s.at) > persistEvery || t.done.Load()-s.done >= t.grain())
}

// ahead says whether a task that has begun all of its work up to begun must wait for what is being saved.
func (s *saves) ahead(t *task, begun int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.busy && begun-s.kept > 2*t.grain()
}

// keep calls save, and notes when it was and what it made durable.
func (s *saves) keep(t *task, now time.Time, save func() error) error {
	s.mu.Lock()
	s.busy, s.at, s.done = true, now, t.done.Load()
	s.mu.Unlock()
	err := save()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.busy = false; err == nil {
		s.kept = s.done
	}
	return err
}

// measureAnew forgets the rate so far: it says nothing of what comes.
func (t *task) measureAnew(now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.base, t.samples = sample{now, t.done.Load()}, nil
}

func (t *task) view(now time.Time) TaskState {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := TaskState{Kind: t.kind, Slot: t.slot, State: t.state, Done: t.done.Load(), Total: t.total.Load(), Moved: t.moved.Load(), Left: -1,
		Started: t.started, Ended: t.endTime, Err: t.err, Waits: t.waits, Idle: t.idle}
	if s.Total > 0 {
		// What is written meanwhile adds to the total, but what was shown is never taken back.
		t.percent = max(t.percent, min(100*float64(s.Done)/float64(s.Total), 99.9))
	}
	if t.state == state.TaskDone {
		t.percent = 100
	}
	s.Percent = t.percent
	end := now
	if !t.over.IsZero() {
		end = t.over
	}
	if len(t.samples) > 0 {
		first, base := t.samples[0], t.base
		if base.at.IsZero() {
			base.at = t.began
		}
		if len(t.samples) == 1 || end.Sub(base.at) <= time.Minute {
			first = base
		}
		if d := end.Sub(first.at).Seconds(); d > 0 {
			s.Rate = float64(s.Done-first.done) / d
		}
	}
	s.Spread = spread(t.samples)
	if s.Rate > 0 && t.state == state.TaskRunning {
		s.Left = time.Duration(float64(s.Total-s.Done) / s.Rate * float64(time.Second))
	}
	if t.kind == state.TaskCheck {
		c := t.check
		c.Places = slices.Clone(c.Places)
		s.Check = &c
	}
	return s
}

// spread is how unsure the mean rate is: twice its standard error as a share of it, over stretches of a tenth of the time
// each; 1 when there is too little to tell.
func spread(samples []sample) float64 {
	var rates []float64
	if len(samples) < 2 {
		return 1
	}
	stretch := max(time.Second/2, samples[len(samples)-1].at.Sub(samples[0].at)/10)
	last := samples[0]
	for _, s := range samples {
		if d := s.at.Sub(last.at); d >= stretch {
			rates = append(rates, float64(s.done-last.done)/d.Seconds())
			last = s
		}
	}
	if len(rates) < 4 {
		return 1
	}
	mean, sq := 0.0, 0.0
	for _, r := range rates {
		mean += r / float64(len(rates))
	}
	for _, r := range rates {
		sq += (r - mean) * (r - mean) / float64(len(rates))
	}
	if mean == 0 {
		return 1
	}
	return min(1, math.Sqrt(sq)/mean/math.Sqrt(float64(len(rates)))*2)
}

// TaskStates lists the tasks that run and those that ended lately, oldest first.
func (a *Array) TaskStates() []TaskState {
	a.tasks.mu.Lock()
	defer a.tasks.mu.Unlock()
	var out []TaskState
	for _, t := range a.tasks.list {
		out = append(out, t.view(env.Now()))
	}
	return out
}

// WaitTasks returns when no task is running. For tests and for commands that bring their own service.
func (a *Array) WaitTasks() {
	a.tasks.mu.Lock()
	list := append([]*task(nil), a.tasks.list...)
	a.tasks.mu.Unlock()
	for _, t := range list {
		env.Recv(t.ended)
	}
}

// GoOn starts rebuilds again that ended in an error and are still to be done, such as for want of room on a file system.
func (a *Array) GoOn() {
	if a.alive() != nil {
		return
	}
	a.joins.Lock()
	defer a.joins.Unlock()
	for slot := range a.members {
		if m := a.members[slot].Load(); m.condition() == record.Rebuilding && m.live() && !a.tasks.busy(slot) {
			_, _ = a.startRebuild(slot)
		}
	}
}

// busy says whether a task about the member in a slot is under way.
func (ts *tasks) busy(slot int) bool {
	ts.mu.Lock()
	defer ts.mu.Unlock()
	return slices.ContainsFunc(ts.list, func(t *task) bool { return t.slot == slot && t.running() })
}

// resumeTasks goes on with what the record says was under way.
func (a *Array) resumeTasks() {
	for slot := range a.members {
		if a.members[slot].Load().condition() == record.Rebuilding {
			_, _ = a.startRebuild(slot)
		}
	}
	for _, m := range a.copies() {
		_, _ = a.startRetire(m.slot)
	}
	if t := a.roster.view().Task; t.Kind == record.Check && t.Ended.IsZero() {
		_, _ = a.startCheck(checkHow{t.Repair, t.Blame - 1}, true)
	}
}

// probeTasks counts checkpoints that meet long work.
func (a *Array) probeTasks() {
	for slot := range a.members {
		if a.members[slot].Load().condition() == record.Rebuilding {
			probe.CheckpointInRebuild.Seen()
		}
		if a.onto[slot].Load() != nil {
			probe.CheckpointInCopy.Seen()
		}
	}
}
