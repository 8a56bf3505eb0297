package task

import (
	"fmt"
	"time"

	"nidalo/internal/env"
)

// Pace is how hard tasks may push. Clients always come first but at Full.
type Pace struct {
	Mode string // Gentle, Normal or Full; empty with a rate
	Rate int64  // bytes a second, of what the task counts as its progress; 0: as the mode says
}

// The paces that are not a rate.
const (
	Gentle = "gentle" // a tenth of the time while clients are at work, half of it otherwise
	Normal = "normal" // a third of the time while clients are at work, all of it otherwise
	Full   = "full"   // all of the time
	Rest   = "rest"   // not at all
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
	case p.Mode == Gentle && clients:
		return 0.1
	case p.Mode == Gentle:
		return 0.5
	case p.Mode == Full || !clients:
		return 1
	}
	return 1.0 / 3
}

const (
	paceLook    = 100 * time.Millisecond // how soon a change of pace is in force
	clientsBusy = 300 * time.Millisecond // without a byte for this long, clients are not at work
	longestRest = 5 * time.Second        // between two pieces, however long the first took: a task never starves
)

// Pacer keeps work to a pace.
type Pacer struct {
	pace    func() Pace
	moves   func() int64 // bytes that clients have moved so far
	last    time.Time    // when the piece before was let go
	until   time.Time    // no piece before
	counted bool         // the piece before is in until
	now     Pace         // that was in force when it was asked last
	moved   int64
	seen    time.Time // when clients last moved a byte
}

// NewPacer keeps work to what pace says. moves is how many bytes clients have moved so far where the work is done; nil: there are
// none.
func NewPacer(pace func() Pace, moves func() int64) *Pacer {
	if moves == nil {
		moves = func() int64 { return 0 }
	}
	return &Pacer{pace: pace, moves: moves}
}

// Wait is how long to wait before the next piece, when the piece before was of so many bytes; it is asked until it returns 0, which
// lets the piece go.
func (p *Pacer) Wait(bytes int64) time.Duration {
	now := env.Now()
	if moved := p.moves(); p.last.IsZero() {
		p.moved = moved
	} else if moved != p.moved {
		p.moved, p.seen = moved, now
	}
	pace := p.pace()
	if pace.Mode == Rest {
		p.restart()
		p.now = pace
		return paceLook
	}
	if pace != p.now {
		p.now, p.until, p.counted = pace, now, true
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
func (p *Pacer) restart() { p.last, p.counted = time.Time{}, true }

func (p *Pacer) yields() bool {
	pace := p.pace()
	return pace.Rate == 0 && pace.share(env.Since(p.seen) < clientsBusy) < 1
}
