// Package rescue judges what can still be read of an array that is not in service, and copies it out, serves it, or has it brought
// back in place. But for the last nothing is written to its disks.
package rescue

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"nidalo/core/event"
	"nidalo/internal/array"
	"nidalo/internal/control"
)

// Prefix is what the names of exports of rescues begin with: no array has a slash in its name.
const Prefix = "rescue/"

// patience is how long a request waits for what it has begun.
const patience = 2 * time.Second

// Host is what rescues need of the service.
type Host struct {
	Now       func() time.Time
	Ends      <-chan struct{} // closed when the service ends
	Spawn     func(func())    // runs something until it ends by itself
	Tell      func(event.Event)
	Config    func() array.Config
	Address   func(export string) string
	BringBack func(*Run) error // makes members that had left count again, and starts the array with them
}

// Desk is the rescues of a host: those under way, and the last one of every array.
type Desk struct {
	host Host
	mu   sync.Mutex
	runs map[string]*Run // by the name of the array
}

// New makes a desk without rescues.
func New(host Host) *Desk { return &Desk{host: host, runs: map[string]*Run{}} }

// of is the rescue of an array, by its name or identity; nil: there is none. mu is held.
func (d *Desk) of(name string) *Run {
	for _, run := range d.runs {
		if run.Name() == name || run.ID.String() == name {
			return run
		}
	}
	return nil
}

// Busy refuses what would disturb a rescue that is under way.
func (d *Desk) Busy(name string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	run := d.of(name)
	if run == nil || !run.underWay() {
		return nil
	}
	what := map[string]string{control.RescueCopying: "copied out to " + run.Request.Copy, control.RescueServed: "served for a rescue", control.RescueBringing: "brought back in place"}[run.reply.Stage]
	if what == "" {
		what = "judged for a rescue"
	}
	return &control.Error{What: fmt.Sprintf("array %q is being %s", run.Name(), what), Hints: []string{"nidalo rescue -stop " + run.Name() + "   ends that"}}
}

// Watch tells how far a rescue is, and ends it when that is asked.
func (d *Desk) Watch(req control.RescueRequest) (*control.RescueReply, error) {
	d.mu.Lock()
	run := d.of(req.Array)
	if run == nil || req.Stop && !run.underWay() {
		d.mu.Unlock()
		return nil, &control.Error{What: fmt.Sprintf("no rescue of %q is under way", req.Array), Hints: []string{"nidalo rescue " + req.Array + "   reports how much of it can be read"}}
	}
	d.mu.Unlock()
	if req.Stop {
		run.end()
		run.wait(run.over)
	}
	return run.told(), nil
}

// Begin starts a rescue that was prepared, waits a little for what it finds, and tells that. A long judging goes on when it returns.
func (d *Desk) Begin(run *Run) (*control.RescueReply, error) {
	if run.array == nil { // a state has to be chosen first
		return &run.reply, nil
	}
	if err := d.begin(run); err != nil {
		run.array.Abandon()
		return nil, err
	}
	if only := run.next() == control.RescueJudging; only {
		run.wait(run.over)
	} else {
		run.wait(run.judged)
	}
	d.mu.Lock()
	err := run.err
	d.mu.Unlock()
	if err != nil {
		return nil, err
	}
	return run.told(), nil
}

// begin starts the work. The array belongs to it when nil is returned.
func (d *Desk) begin(run *Run) (err error) {
	if err := run.makeFiles(); err != nil {
		return errors.Join(err, run.discard())
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if old := d.of(run.ID.String()); old != nil {
		if old.underWay() {
			return errors.Join(&control.Error{What: fmt.Sprintf("another rescue of %q has just begun", old.Name())}, run.discard())
		}
		delete(d.runs, old.Name())
	}
	d.runs[run.Name()] = run
	d.host.Spawn(run.work)
	return nil
}

// Served lists the exports of the rescues that are served.
func (d *Desk) Served() (out []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for name, run := range d.runs {
		if run.reply.Stage != control.RescueServed {
			continue
		}
		if len(run.reply.Volumes) == 0 {
			out = append(out, Prefix+name)
		}
		for _, v := range run.reply.Volumes {
			out = append(out, Prefix+name+"/"+v.Name)
		}
	}
	slices.Sort(out)
	return out
}

// Join lets a client read an array that is served, until it leaves; nil: it is not served.
func (d *Desk) Join(name string) (run *Run, leave func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if run = d.runs[name]; run == nil || run.reply.Stage != control.RescueServed {
		return nil, nil
	}
	run.clients++
	return run, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		run.clients--
	}
}
