package array

import (
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Flushes that come together go together.
//
// A flush has everything committed that any client wrote, so one can do the work of many. The first that comes leads a turn; those that come before it
// begins join it, and do nothing but wait. So what a flush costs does not grow with how many others there are.
//
//  1. A turn that has begun is joined by none: what a client wrote may have come after its leader looked what there is. So each that has joined
//     wrote before the turn began.
//  2. It is whole when all that was volatile as it began is committed, of whichever client. Of a turn that is not, its leader tells what concerns itself, and
//     the others flush by themselves, which tells what concerns them.
//  3. What was given up of a client's writes is told to it, whoever led.
//
// Some turns are under way at the same time, so that one reads while others are committed. More of them are smaller, and win nothing.

// mostTurns is how many are under way at the same time.
const mostTurns = 4

// turns are those of an array.
type turns struct {
	mu       env.Mutex
	underway int
	next     *turn // the one to be joined, nil: none
	begun    *turn // the last that began
}

// turn is one flush that several clients wait for.
type turn struct {
	lead  chan struct{} // gets a value when it may begin; nil: it may
	over  chan struct{} // closed when it is over; nil: none has joined
	whole bool          // all that was volatile when it began is committed; set before over is closed
}

// join has a flush be part of the next turn. It returns when that may begin, to the one that is to lead it, and when it is over to the others.
func (t *turns) join() (this *turn, leads bool) {
	t.mu.Lock()
	if this = t.next; this == nil && probe.BegunTurnJoined.On() {
		this = t.begun
	}
	if this != nil {
		if this.over == nil {
			this.over = make(chan struct{})
		}
		t.mu.Unlock()
		probe.FlushJoined.Seen()
		env.Recv(this.over)
		return this, false
	}
	this = &turn{}
	if t.next = this; t.underway < mostTurns {
		t.underway++
		t.mu.Unlock()
		return this, true
	}
	this.lead = make(chan struct{}, 1)
	t.mu.Unlock()
	env.Recv(this.lead)
	return this, true
}

// begin ends the time in which a turn can be joined. Its leader looks what there is to commit after that.
func (t *turns) begin() {
	t.mu.Lock()
	t.begun, t.next = t.next, nil
	t.mu.Unlock()
}

// end says that a turn is over, and lets the next begin that waits for that.
func (t *turns) end(this *turn, whole bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if this.whole = whole; this.over != nil {
		close(this.over)
	}
	if t.begun == this {
		t.begun = nil
	}
	if t.next != nil && t.next.lead != nil {
		select {
		case t.next.lead <- struct{}{}:
			return
		default: // another has let it begin
		}
	}
	t.underway--
}

// Flush returns when everything written before it was called is durable. It fails when that cannot be done for what this
// client wrote, or was given up since its last flush.
func (c *Client) Flush() error {
	this, leads := c.a.turns.join()
	switch {
	case !leads && this.whole:
		return c.told()
	case !leads:
		return c.a.flush(c, c.a.cache.Stripes())
	}
	c.a.turns.begin()
	err, others := c.a.flushFor(c, c.a.cache.Stripes())
	c.a.turns.end(this, err == nil && others == nil)
	return err
}
