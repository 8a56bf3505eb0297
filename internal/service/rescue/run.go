package rescue

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
)

// places is how many spans of what is lost a reply lists.
const places = 50

// Run is one rescue of an array: it is judged, and then copied out, served, or brought back in place.
type Run struct {
	Request control.RescueRequest
	ID      uuid.UUID // of the array
	Epoch   uuid.UUID // of the state that is judged

	desk      *Desk
	array     *array.Array
	out, lost *os.File // when it is copied out
	list      *os.File // of what is foretold to be lost, when that is wanted
	stop      chan struct{}
	end       func() // closes stop
	judged    chan struct{}
	over      chan struct{}
	at        atomic.Int64 // how far the judging or bringing back is, in bytes of the array

	reply   control.RescueReply // this and what follows is guarded by the desk's mu
	err     error
	clients int

	reading sync.RWMutex // held for reading by clients; guards closed
	closed  bool
}

// Name is the name of the array.
func (run *Run) Name() string { return run.reply.Array }

// Array is what is left of the array, read-only.
func (run *Run) Array() *array.Array { return run.array }

// Found is what the judging has found by now.
func (run *Run) Found() control.RescueReply { return *run.told() }

// underWay says whether it is not over yet. mu is held.
func (run *Run) underWay() bool {
	switch run.reply.Stage {
	case control.RescueDone, control.RescueStopped, control.RescueFailed:
		return false
	}
	return true
}

var errStopped = errors.New("stopped")

// stopped is an error when the rescue, or the service, ends.
func (run *Run) stopped() error {
	select {
	case <-run.stop:
		return errStopped
	case <-run.desk.host.Ends:
		return errStopped
	default:
		return nil
	}
}

// Progress is told how far the work is, in bytes of the array, and says when it must end.
func (run *Run) Progress(off int64) error {
	run.at.Store(off)
	return run.stopped()
}

// wait waits for something, but not for long.
func (run *Run) wait(until <-chan struct{}) {
	select {
	case <-until:
	case <-time.After(patience):
	}
}

// told is what is known by now.
func (run *Run) told() *control.RescueReply {
	run.desk.mu.Lock()
	defer run.desk.mu.Unlock()
	r := run.reply
	r.Places = slices.Clone(r.Places)
	r.Clients = run.clients
	if r.Stage == control.RescueJudging || r.Stage == control.RescueBringing {
		r.Percent = 100 * float64(run.at.Load()) / float64(max(r.Capacity, 1))
	}
	if r.Copy != nil {
		c := *r.Copy
		c.Places = slices.Clone(c.Places)
		r.Copy = &c
	}
	return &r
}

// set changes what is told.
func (run *Run) set(change func(r *control.RescueReply)) {
	run.desk.mu.Lock()
	defer run.desk.mu.Unlock()
	change(&run.reply)
}

// next is what comes after the judging; RescueJudging: nothing.
func (run *Run) next() string {
	switch {
	case run.Request.Copy != "":
		return control.RescueCopying
	case run.Request.Serve:
		return control.RescueServed
	case run.Request.InPlace:
		return control.RescueBringing
	}
	return control.RescueJudging
}

// work does the rescue to its end.
func (run *Run) work() {
	defer close(run.over)
	err := run.judge()
	run.set(func(r *control.RescueReply) {
		switch {
		case err == nil:
			r.Stage = run.next()
			run.announce(r)
		case !errors.Is(err, errStopped):
			run.err = err
		}
	})
	close(run.judged)
	if err == nil {
		switch run.next() {
		case control.RescueCopying:
			err = run.copy()
		case control.RescueServed:
			run.serve()
		case control.RescueBringing:
			err = run.desk.host.BringBack(run)
		}
	}
	run.reading.Lock() // clients read no more from here on
	run.closed = true
	run.reading.Unlock()
	run.array.Abandon()
	run.set(func(r *control.RescueReply) {
		r.Export = ""
		switch {
		case errors.Is(err, errStopped):
			r.Stage = control.RescueStopped
		case err != nil:
			r.Stage, r.Error = control.RescueFailed, err.Error()
		default:
			r.Stage = control.RescueDone
		}
	})
}

// announce adds what is known of a stage at its beginning.
func (run *Run) announce(r *control.RescueReply) {
	switch r.Stage {
	case control.RescueCopying:
		r.Copy = &control.RescueCopy{State: state.TaskRunning, Path: run.Request.Copy, Total: r.Written, Started: run.desk.host.Now()}
	case control.RescueServed:
		r.Export = run.desk.host.Address(Prefix + run.Name())
		for i := range r.Volumes {
			r.Volumes[i].Export = run.desk.host.Address(Prefix + run.Name() + "/" + r.Volumes[i].Name)
		}
	}
}

// judge finds out what cannot be read, as far as the members know.
func (run *Run) judge() (err error) {
	var list *bufio.Writer
	if run.list != nil {
		list = bufio.NewWriter(run.list)
		fmt.Fprintf(list, "# What of %s cannot be read, as far as its members know: where it begins and how long it is, in bytes.\n", run.Name())
		defer func() { err = errors.Join(err, list.Flush(), run.list.Sync(), run.list.Close()) }()
	}
	return run.array.Losses(func(l state.Span) {
		if list != nil {
			fmt.Fprintf(list, "%d %d\n", l.Offset, l.Length)
		}
		run.set(func(r *control.RescueReply) {
			r.Lost += l.Length
			for i := range r.Volumes {
				v := &r.Volumes[i]
				v.Lost += max(min(l.Offset+l.Length, v.Start+v.Size)-max(l.Offset, v.Start), 0)
			}
			if l.Unsure {
				r.Unsure += l.Length
			}
			if r.Spans++; len(r.Places) < places {
				r.Places = append(r.Places, l)
			}
		})
	}, run.Progress)
}

// copy copies the array out, and notes how that ended.
func (run *Run) copy() error {
	run.desk.host.Tell(event.Event{Kind: event.RescueStarted, Array: run.Name(), Detail: "copied out to " + run.Request.Copy})
	err := run.copyOut()
	var ended control.RescueCopy
	run.set(func(r *control.RescueReply) {
		c := r.Copy
		c.Ended = run.desk.host.Now()
		switch {
		case errors.Is(err, errStopped):
			c.State = state.TaskStopped
		case err != nil:
			c.State, c.Error = state.TaskFailed, err.Error()
		default:
			c.State, c.Total = state.TaskDone, c.Done
		}
		ended = *c
	})
	severity := event.Info
	if ended.Lost > 0 || ended.Error != "" {
		severity = event.Warning
	}
	run.desk.host.Tell(event.Event{Kind: event.Kind("rescue-" + string(ended.State)), Severity: severity, Array: run.Name(), Detail: strings.TrimSpace(
		fmt.Sprintf("%s copied to %s, %s of it could not be read %s", say.Size(ended.Done), ended.Path, say.Size(ended.Lost), ended.Error))})
	return err
}

// serve lets clients read until it is ended.
func (run *Run) serve() {
	run.desk.host.Tell(event.Event{Kind: event.RescueServed, Array: run.Name(), Detail: "read-only, as " + Prefix + run.Name()})
	select {
	case <-run.stop:
	case <-run.desk.host.Ends:
	}
	run.desk.host.Tell(event.Event{Kind: event.RescueStopped, Array: run.Name(), Detail: "it is not served any more"})
}

// ErrOver is what a client gets when the rescue that it reads has ended.
var ErrOver = errors.New("the rescue is over")

// While keeps the disks open as long as a client reads.
func (run *Run) While(read func() error) error {
	run.reading.RLock()
	defer run.reading.RUnlock()
	if run.closed {
		return ErrOver
	}
	return read()
}
