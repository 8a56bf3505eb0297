package service

import (
	"sync"

	"nidalo/internal/array"
	"nidalo/internal/service/queue"
)

// turns lets the tasks of arrays into the queue of the host.
type turns struct {
	*queue.Queue
	mu      sync.Mutex
	entries map[array.TaskRef]*queue.Entry
}

func newTurns() *turns { return &turns{Queue: queue.New(), entries: map[array.TaskRef]*queue.Entry{}} }

// Begin waits for the task's turn.
func (t *turns) Begin(ref array.TaskRef, stop <-chan struct{}, why func(string)) bool {
	a := ref.Array
	e := &queue.Entry{Kind: ref.Kind, Array: a.ID().String(), Name: a.Name(), Why: why}
	e.Margin, _ = a.Margin()
	for _, m := range a.MemberStates() {
		if m.Disk.Path != "" {
			e.Disks = append(e.Disks, spindle(m.Disk))
		}
	}
	if id, ok := a.Onto(max(ref.Slot, 0)); ok {
		e.Disks = append(e.Disks, spindle(id))
	}
	if !t.Enter(e, stop) {
		return false
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.entries[ref] = e
	return true
}

func (t *turns) find(ref array.TaskRef) *queue.Entry {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.entries[ref]
}

// Yield says whether a task that runs must give way to one that is more urgent.
func (t *turns) Yield(ref array.TaskRef) bool {
	e := t.find(ref)
	return e != nil && t.Yields(e)
}

// End gives the turn to the next.
func (t *turns) End(ref array.TaskRef) {
	if e := t.find(ref); e != nil {
		t.mu.Lock()
		delete(t.entries, ref)
		t.mu.Unlock()
		t.Leave(e)
	}
}
