package array

import (
	"errors"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/task"
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

// turnsOf has the tasks of one array take turns with those of others.
type turnsOf struct {
	a     *Array
	turns Turns
}

func (o turnsOf) Begin(kind state.TaskKind, slot int, stop <-chan struct{}, why func(string)) bool {
	return o.turns.Begin(TaskRef{o.a, kind, slot}, stop, why)
}

func (o turnsOf) Yield(kind state.TaskKind, slot int) bool {
	return o.turns.Yield(TaskRef{o.a, kind, slot})
}

func (o turnsOf) End(kind state.TaskKind, slot int) { o.turns.End(TaskRef{o.a, kind, slot}) }

// newTasks makes the list of the array's tasks.
func (a *Array) newTasks() *task.List {
	host := task.Host{Now: a.now, Pace: a.Pace, Moved: a.moved,
		Began: func(t *task.Task) { a.event(event.OfTask(t.Kind(), event.Started), a.slotName(t.Slot()), "") },
		Ended: a.taskEnded}
	if a.cfg.Turns != nil {
		host.Turns = turnsOf{a, a.cfg.Turns}
	}
	return task.NewList(host)
}

// taskEnded says so.
func (a *Array) taskEnded(t *task.Task, s task.State) {
	detail := ""
	if s.State == state.TaskFailed {
		detail = s.Err.Error()
	}
	a.tell(Event{Event: event.Event{Kind: event.OfTask(t.Kind(), s.State), Disk: a.slotName(t.Slot()), Detail: detail}, Task: &s})
}

func (a *Array) slotName(slot int) string {
	if slot < 0 {
		return ""
	}
	return a.slots.At(slot).Name()
}

// Steer pauses, continues or cancels a task, see task.List.
func (a *Array) Steer(kind state.TaskKind, slot int, to state.TaskState) error {
	if kind != state.TaskConvert || to != state.TaskCancelled {
		return a.tasks.Steer(kind, slot, to)
	}
	if err := a.works.GoBack(); err != nil {
		return err
	}
	// A conversion does not end then, but goes the other way. One that has stopped for the moment does so when it goes on.
	if err := a.tasks.Steer(kind, slot, state.TaskRunning); !errors.Is(err, task.ErrNone) {
		return err
	}
	return nil
}

// TaskStates lists the tasks that run and those that ended lately, oldest first.
func (a *Array) TaskStates() []task.State { return a.tasks.States() }

// WaitTasks returns when no task is running. For tests and for commands that bring their own service.
func (a *Array) WaitTasks() { a.tasks.Wait() }

// SetPace changes the pace of the array's tasks, at once.
func (a *Array) SetPace(p task.Pace) { a.pace.Store(&p) }

// Pace is the pace in force.
func (a *Array) Pace() task.Pace {
	if p := a.pace.Load(); p != nil {
		return *p
	}
	return task.Pace{Mode: task.Normal}
}

// NewPacer is a pacer for work on a member that is done outside of the engine.
func (a *Array) NewPacer() *task.Pacer { return task.NewPacer(a.Pace, a.moved) }

// moved is how many bytes clients have moved so far.
func (a *Array) moved() int64 { return a.stats.BytesRead.Load() + a.stats.BytesWritten.Load() }

// probeTasks counts checkpoints that meet long work.
func (a *Array) probeTasks() {
	for slot := range a.slots.Len() {
		if a.slots.At(slot).Condition() == record.Rebuilding {
			probe.CheckpointInRebuild.Seen()
		}
		if a.slots.Onto(slot) != nil {
			probe.CheckpointInCopy.Seen()
		}
	}
}
