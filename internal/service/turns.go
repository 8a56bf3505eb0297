package service

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"nidalo/core/state"
	"nidalo/internal/array"
)

// turns is the one queue of all tasks of the host: two that would share a disk never run at once, but rebuilds of one
// array, which read the same disks and finish together. Whoever's array is nearest to losing data goes first.
type turns struct {
	mu      sync.Mutex
	changed sync.Cond
	entries []*turn
}

type turn struct {
	ref     array.TaskRef
	name    string
	spindle []string // what it uses
	margin  int      // of its array when it asked
	since   time.Time
	running bool
	why     func(string)
	said    string
}

func newTurns() *turns {
	q := &turns{}
	q.changed.L = &q.mu
	return q
}

// weight orders kinds: what restores redundancy before what only looks.
func weight(kind state.TaskKind) int {
	return slices.Index([]state.TaskKind{state.TaskCatchUp, state.TaskRebuild, state.TaskRetire, state.TaskCheck, state.TaskVet, state.TaskSurface}, kind)
}

// before says whether x goes before y.
func before(x, y *turn) bool {
	restores := func(t *turn) int {
		if weight(t.ref.Kind) <= weight(state.TaskRebuild) {
			return t.margin
		}
		return 1 << 20 // it does not raise the margin
	}
	return cmp.Or(cmp.Compare(restores(x), restores(y)), cmp.Compare(weight(x.ref.Kind), weight(y.ref.Kind)), x.since.Compare(y.since)) < 0
}

// conflict says whether two tasks would get in each other's way.
func conflict(x, y *turn) bool {
	rebuilds := func(t *turn) bool { return weight(t.ref.Kind) <= weight(state.TaskRebuild) }
	if x.ref.Array != nil && x.ref.Array == y.ref.Array && rebuilds(x) && rebuilds(y) {
		return false
	}
	return slices.ContainsFunc(x.spindle, func(s string) bool { return slices.Contains(y.spindle, s) })
}

// inTheWay is the entry that keeps t waiting, or nil.
func (q *turns) inTheWay(t *turn) *turn {
	for _, o := range q.entries {
		if o != t && (o.running || before(o, t)) && conflict(o, t) {
			return o
		}
	}
	return nil
}

// Begin waits for the task's turn.
func (q *turns) Begin(ref array.TaskRef, stop <-chan struct{}, why func(string)) bool {
	certain, _ := ref.Array.Margin()
	t := &turn{ref: ref, name: ref.Array.Name(), margin: certain, since: time.Now(), why: why}
	for _, m := range ref.Array.MemberStates() {
		if m.Disk.Path != "" {
			t.spindle = append(t.spindle, spindle(m.Disk))
		}
	}
	if id, ok := ref.Array.Onto(max(ref.Slot, 0)); ok {
		t.spindle = append(t.spindle, spindle(id))
	}
	return q.enter(t, stop)
}

// enter waits until nothing is in the way of an entry.
func (q *turns) enter(t *turn, stop <-chan struct{}) bool {
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
	q.entries = append(q.entries, t)
	q.changed.Broadcast()
	for {
		select {
		case <-stop:
			q.remove(t)
			return false
		default:
		}
		o := q.inTheWay(t)
		if o == nil {
			t.running = true
			return true
		}
		say := fmt.Sprintf("waits for the %s of array %s, which uses the same disks", o.ref.Kind, o.name)
		if o.ref.Array == nil {
			say = fmt.Sprintf("waits for the %s of %s, which shares a disk", o.ref.Kind, o.name)
		}
		if say != t.said {
			t.said = say
			t.why(say)
		}
		q.changed.Wait()
	}
}

// Yield says whether a task that runs must give way to one that is more urgent.
func (q *turns) Yield(ref array.TaskRef) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	mine := q.find(ref)
	return mine != nil && q.yields(mine)
}

// yield is Yield for an entry that is at hand.
func (q *turns) yield(t *turn) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.yields(t)
}

func (q *turns) yields(mine *turn) bool {
	return slices.ContainsFunc(q.entries, func(o *turn) bool {
		return !o.running && before(o, mine) && weight(o.ref.Kind) < weight(mine.ref.Kind) && conflict(o, mine)
	})
}

// End gives the turn to the next.
func (q *turns) End(ref array.TaskRef) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if t := q.find(ref); t != nil {
		q.remove(t)
	}
}

// leave is End for an entry that is at hand.
func (q *turns) leave(t *turn) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.remove(t)
}

func (q *turns) find(ref array.TaskRef) *turn {
	if i := slices.IndexFunc(q.entries, func(t *turn) bool { return t.ref == ref }); i >= 0 {
		return q.entries[i]
	}
	return nil
}

func (q *turns) remove(t *turn) {
	q.entries = slices.DeleteFunc(q.entries, func(o *turn) bool { return o == t })
	q.changed.Broadcast()
}

// spindleOfPath names the whole disk behind a path: partitions of one disk share it, and loop devices their file.
func spindleOfPath(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return path
	}
	if !strings.HasPrefix(real, "/dev/") {
		return real
	}
	// /sys/class/block/loop0p1 is a link to …/loop0/loop0p1, which has a file "partition".
	node, err := filepath.EvalSymlinks("/sys/class/block/" + filepath.Base(real))
	if err != nil {
		return real
	}
	if _, err := os.Stat(filepath.Join(node, "partition")); err == nil {
		node = filepath.Dir(node)
	}
	if backing, err := os.ReadFile(filepath.Join(node, "loop/backing_file")); err == nil {
		return strings.TrimSpace(string(backing)) // two loop devices on one file are one disk
	}
	return "/dev/" + filepath.Base(node)
}
