package array

import (
	"fmt"
	"time"

	"nidalo/internal/env"
)

// Pace is how hard tasks may push. Clients always come first but at PaceFull.
type Pace struct {
	Mode string // PaceGentle, PaceNormal or PaceFull; empty with a rate
	Rate int64  // bytes a second, of what the task counts as its progress; 0: as the mode says
}

// The paces that are not a rate.
const (
	PaceGentle = "gentle" // a tenth of the time while clients are at work, half of it otherwise
	PaceNormal = "normal" // a third of the time while clients are at work, all of it otherwise
	PaceFull   = "full"   // all of the time
)

func (p Pace) String() string {
	if p.Rate > 0 {
		return fmt.Sprintf("%d bytes/s", p.Rate)
	}
	return p.Mode
}

// share is the part of the time a task may work.
func (p Pace) share(clients bool) float64 {
	switch {
	case p.Mode == PaceGentle && clients:
		return 0.1
	case p.Mode == PaceGentle:
		return 0.5
	case p.Mode == PaceFull || !clients:
		return 1
	}
	return 1.0 / 3
}

// SetPace changes the pace of the array's tasks, at once.
func (a *Array) SetPace(p Pace) { a.pace.Store(&p) }

// Pace is the pace in force.
func (a *Array) Pace() Pace {
	if p := a.pace.Load(); p != nil {
		return *p
	}
	return Pace{Mode: PaceNormal}
}

const (
	paceLook    = 100 * time.Millisecond // how soon a change of pace is in force
	clientsBusy = 300 * time.Millisecond // without a byte for this long, clients are not at work
	longestRest = 5 * time.Second        // between two pieces, however long the first took: a task never starves
)

// pacer keeps one task to the array's pace.
type pacer struct {
	last    time.Time // when the piece before was let go
	until   time.Time // no piece before
	counted bool      // the piece before is in until
	pace    Pace
	moved   int64
	seen    time.Time   // when clients last moved a byte
	lone    func() Pace // where no array says it
}

// wait is how long the task must wait before its next piece; it is asked until it returns 0, which lets the piece go.
func (p *pacer) wait(a *Array, bytes int64) time.Duration {
	now := env.Now()
	if moved := a.stats.BytesRead.Load() + a.stats.BytesWritten.Load(); p.last.IsZero() {
		p.moved = moved
	} else if moved != p.moved {
		p.moved, p.seen = moved, now
	}
	pace := a.Pace()
	if p.lone != nil {
		pace = p.lone()
	}
	if pace != p.pace {
		p.pace, p.until, p.counted = pace, now, true
	}
	if !p.counted && !p.last.IsZero() {
		p.counted = true
		if pace.Rate > 0 {
			from := p.until
			if from.Before(p.last) {
				from = p.last
			}
			p.until = from.Add(time.Duration(float64(bytes) / float64(pace.Rate) * float64(time.Second)))
		} else {
			share := pace.share(now.Sub(p.seen) < clientsBusy)
			p.until = now.Add(min(longestRest, time.Duration(float64(now.Sub(p.last))*(1/share-1))))
		}
	}
	if wait := p.until.Sub(now); wait > 0 {
		return wait
	}
	p.last, p.counted = now, false
	return 0
}

// restart forgets the piece before: the task did something else since.
func (p *pacer) restart() { p.last, p.counted = time.Time{}, true }

// Pacer keeps work that is done outside of the engine to an array's pace, or without an array to a pace of its own.
type Pacer struct {
	own pacer
	of  *Array
}

// NewPacer is a pacer for work on a member of an array.
func (a *Array) NewPacer() *Pacer { return &Pacer{of: a} }

// LonePacer is a pacer for work on a disk that no array has. It takes it that no client uses the disk.
func LonePacer(pace func() Pace) *Pacer {
	return &Pacer{of: &Array{}, own: pacer{lone: pace}}
}

// Wait is how long to wait before the next piece; it is asked until it returns 0, which lets the piece go.
func (p *Pacer) Wait(bytes int64) time.Duration { return p.own.wait(p.of, bytes) }

// yields says whether the task leaves room for others at the moment; its pieces then go one at a time, so that what one
// costs can be told.
func (p *pacer) yields(a *Array) bool {
	pace := a.Pace()
	return pace.Rate == 0 && pace.share(env.Since(p.seen) < clientsBusy) < 1
}
