// Package queue decides whose turn a task is, and at which pace it runs. It knows tasks by their kind and by the disks they use.
package queue

import (
	"cmp"
	"fmt"
	"slices"
	"sync"

	"nidalo/core/state"
)

// Queue is the one order of all tasks of a host. Two tasks that would share a disk never run at once, but for rebuilds of one
// array, which read the same disks and finish together. What restores an array goes first, that of the most endangered before.
type Queue struct {
	mu      sync.Mutex
	changed sync.Cond
	entries []*Entry
	entered int
}

// Entry is one task in the queue, from Enter until Leave.
type Entry struct {
	Kind   state.TaskKind
	Array  string       // identity of the array that it is about; empty when it is about a disk
	Name   string       // of the array or disk, for people
	Disks  []string     // the physical disks that it uses
	Margin int          // of its array
	Why    func(string) // is told what it waits for, whenever that changes; may be nil

	number  int
	running bool
	said    string
}

// New makes an empty queue.
func New() *Queue {
	q := &Queue{}
	q.changed.L = &q.mu
	return q
}

// order is that of kinds: what restores redundancy goes before what only looks.
var order = []state.TaskKind{state.TaskCatchUp, state.TaskRebuild, state.TaskRetire, state.TaskCheck, state.TaskConvert, state.TaskEmpty, state.TaskVet, state.TaskSurface}

func (e *Entry) weight() int { return slices.Index(order, e.Kind) }

// restores says whether a task gives an array its margin back.
func (e *Entry) restores() bool { return e.Kind == state.TaskCatchUp || e.Kind == state.TaskRebuild }

// before says whether x goes before y.
func before(x, y *Entry) bool {
	danger := func(e *Entry) int {
		if e.restores() {
			return e.Margin
		}
		return 1 << 20
	}
	return cmp.Or(cmp.Compare(danger(x), danger(y)), cmp.Compare(x.weight(), y.weight()), cmp.Compare(x.number, y.number)) < 0
}

// conflict says whether two tasks would get in each other's way.
func conflict(x, y *Entry) bool {
	if x.Array != "" && x.Array == y.Array && x.restores() && y.restores() {
		return false
	}
	return slices.ContainsFunc(x.Disks, func(d string) bool { return slices.Contains(y.Disks, d) })
}

// inTheWay is the entry that keeps e waiting, or nil.
func (q *Queue) inTheWay(e *Entry) *Entry {
	for _, o := range q.entries {
		if o != e && (o.running || before(o, e)) && conflict(o, e) {
			return o
		}
	}
	return nil
}

// Enter waits until nothing is in the way of an entry. When stop is closed first it is false, and the entry has left again.
func (q *Queue) Enter(e *Entry, stop <-chan struct{}) bool {
	over := make(chan struct{})
	defer close(over)
	go func() {
		select {
		case <-stop:
			q.mu.Lock()
			q.changed.Broadcast()
			q.mu.Unlock()
		case <-over:
		}
	}()
	q.mu.Lock()
	defer q.mu.Unlock()
	q.entered++
	e.number, e.running, e.said = q.entered, false, ""
	q.entries = append(q.entries, e)
	q.changed.Broadcast()
	for {
		select {
		case <-stop:
			q.remove(e)
			return false
		default:
		}
		o := q.inTheWay(e)
		if o == nil {
			e.running = true
			return true
		}
		e.wait(o)
		q.changed.Wait()
	}
}

// wait says what an entry waits for.
func (e *Entry) wait(o *Entry) {
	text := fmt.Sprintf("waits for the %s of %s, which shares a disk", o.Kind, o.Name)
	if o.Array != "" {
		text = fmt.Sprintf("waits for the %s of array %s, which uses the same disks", o.Kind, o.Name)
	}
	if text != e.said && e.Why != nil {
		e.said = text
		e.Why(text)
	}
}

// Yields says whether a task that runs must leave, and enter anew, for one that is more urgent.
func (q *Queue) Yields(e *Entry) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.ContainsFunc(q.entries, func(o *Entry) bool {
		return !o.running && before(o, e) && o.weight() < e.weight() && conflict(o, e)
	})
}

// Leave gives the turn to the next. An entry may leave twice.
func (q *Queue) Leave(e *Entry) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.remove(e)
}

func (q *Queue) remove(e *Entry) {
	q.entries = slices.DeleteFunc(q.entries, func(o *Entry) bool { return o == e })
	q.changed.Broadcast()
}
