package array

import (
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Flushes that come together go together.
//
// A flush has everything committed that any client wrote, so one can do the work of many: a joint flush. The first that comes leads it; those that come
// before it begins join it, and do nothing but wait. So what a flush costs does not grow with how many others there are.
//
//  1. None joins one that has begun: what a client wrote may have come after its leader looked what there is. So each that has joined
//     wrote before it began.
//  2. It is whole when all that was volatile as it began is committed, of whichever client. Of one that is not, its leader tells what concerns
//     itself, and the others flush by themselves, which tells what concerns them.
//  3. A client learns what was given up of its own writes, whichever client led.
//
// Some are under way at the same time, so that one reads while others are committed. With more at a time each would only be smaller.

// mostJoint is how many joint flushes are under way at the same time.
const mostJoint = 4

// joints are the joint flushes of an array.
type joints struct {
	mu       env.Mutex
	underway int
	next     *joint // the one to be joined, nil: none
	begun    *joint // the last that began
}

// joint is one flush that several clients wait for.
type joint struct {
	lead  chan struct{} // gets a value when it may begin; nil: it may
	over  chan struct{} // closed when it is over; nil: none has joined
	whole bool          // all that was volatile when it began is committed; set before over is closed
}

// join has a flush be part of the next joint one. It returns when that may begin, to the one that is to lead it, and when it is over to the others.
func (j *joints) join() (this *joint, leads bool) {
	j.mu.Lock()
	if this = j.next; this == nil && probe.BegunFlushJoined.On() {
		this = j.begun
	}
	if this != nil {
		if this.over == nil {
			this.over = make(chan struct{})
		}
		j.mu.Unlock()
		probe.FlushJoined.Seen()
		env.Recv(this.over)
		return this, false
	}
	this = &joint{}
	if j.next = this; j.underway < mostJoint {
		j.underway++
		j.mu.Unlock()
		return this, true
	}
	this.lead = make(chan struct{}, 1)
	j.mu.Unlock()
	env.Recv(this.lead)
	return this, true
}

// begin ends the time in which a joint flush can be joined, and says whether any have. Its leader looks what there is to commit after that.
func (j *joints) begin() (joined bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.begun, j.next = j.next, nil
	return j.begun.over != nil
}

// end says that one is over, and lets the next begin that waits for that.
func (j *joints) end(this *joint, whole bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	if this.whole = whole; this.over != nil {
		close(this.over)
	}
	if j.begun == this {
		j.begun = nil
	}
	if j.next != nil && j.next.lead != nil {
		select {
		case j.next.lead <- struct{}{}:
			return
		default: // another has let it begin
		}
	}
	j.underway--
}

// Flush returns when everything written before it was called is durable. It fails when that cannot be done for what this
// client wrote, or was given up since its last flush.
func (c *Client) Flush() error {
	c.habit.flushed()
	if c != &c.a.anybody && c.a.nothingVolatile() {
		if err := c.a.alive(); err != nil {
			return err
		}
		return c.told()
	}
	this, leads := c.a.joints.join()
	if !leads {
		c.a.stats.Joined.Add(1)
	}
	switch {
	case !leads && this.whole:
		return c.told()
	case !leads:
		return c.a.flush(c, c.a.cache.Stripes(), placeHere)
	}
	when := placeHere
	if c.a.joints.begin() {
		when = placeLater // others wait for the commit
	}
	err, others := c.a.flushFor(c, c.a.cache.Stripes(), when)
	c.a.joints.end(this, err == nil && others == nil)
	return err
}
