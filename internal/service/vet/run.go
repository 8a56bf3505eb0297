// Package vet is the work on single disks that no array does: a vet writes and reads a blank disk all over before it is trusted; a surface
// test reads every sector of any disk. How far they are is noted as they go, so that they go on after a stop or a crash.
package vet

import (
	"slices"
	"sync"
	"time"

	"nidalo/core/state"
	"nidalo/internal/disk"
	"nidalo/internal/service/queue"
)

// Host is what the work needs of the service.
type Host struct {
	Now   func() time.Time
	Ends  <-chan struct{} // closed when the service ends
	Queue *queue.Queue
}

// halted is the state of work that was ended: held, or left as it is when the service ends, to go on at the next start.
func (h Host) halted(was state.TaskState) state.TaskState {
	select {
	case <-h.Ends:
		return was
	default:
		return state.TaskPaused
	}
}

// Runs is the work of one kind that is under way, by the name of the disk.
type Runs struct {
	mu   sync.Mutex
	runs map[string]*Run
}

// Run is work on one disk that is under way.
type Run struct {
	Stop <-chan struct{} // closed when it must end
	stop func()
	done chan struct{}
}

// End has the work end, and waits for that.
func (r *Run) End() {
	r.stop()
	<-r.done
}

// Of is the work on a disk; nil: there is none.
func (r *Runs) Of(id string) *Run {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.runs[id]
}

// Begin has work done on a disk, in a goroutine that spawn starts, and closes the disk after it. after is called when the work is no
// longer under way.
func (r *Runs) Begin(id string, d disk.Disk, spawn func(func()), work func(*Run), after func()) {
	stop := make(chan struct{})
	run := &Run{Stop: stop, stop: sync.OnceFunc(func() { close(stop) }), done: make(chan struct{})}
	r.mu.Lock()
	if r.runs == nil {
		r.runs = map[string]*Run{}
	}
	r.runs[id] = run
	r.mu.Unlock()
	spawn(func() {
		defer close(run.done)
		work(run)
		_ = d.Close()
		r.mu.Lock()
		delete(r.runs, id)
		r.mu.Unlock()
		after()
	})
}

// End has all work end, without waiting for it.
func (r *Runs) End() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, run := range r.runs {
		run.stop()
	}
}

// piece is how much is read or written at once, bytes.
const piece = 1 << 20

// A piece that takes slowFactor times the median of the last ones, and at least slowLeast, is slow.
const (
	slowFactor = 20
	slowLeast  = 200 * time.Millisecond
)

// times is how long the last pieces took.
type times []time.Duration

// slow adds a piece, and says whether it took far longer than most.
func (t *times) slow(took time.Duration) bool {
	*t = append(*t, took)
	if len(*t) > 200 {
		*t = (*t)[1:]
	}
	if len(*t) <= 20 || took <= slowLeast {
		return false
	}
	sorted := slices.Sorted(slices.Values(*t))
	return took > slowFactor*sorted[len(sorted)/2]
}

// stopped says whether a channel is closed.
func stopped(stop <-chan struct{}) bool {
	select {
	case <-stop:
		return true
	default:
		return false
	}
}
