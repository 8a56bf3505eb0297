package task

import (
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Rebuilds of one group need the same blocks of the same members. So that these are read once, one rebuild carries the others: it
// computes and writes their blocks with its own, and moves their cursors. A rebuild boards when its cursor has come to that of another.
// The one that is ahead waits for that when less than half of the disk lies between them, since both are done sooner then: two that go
// apart have half of the members' speed each.

// company is the rebuilds of one array that are under way.
type company struct {
	mu   env.Mutex
	list []*rebuilding
}

// crew is what others may know of a rebuild; guarded by the lock of the company.
type crew struct {
	at      int64         // strip at which its next piece begins
	halted  bool          // nothing of it is under way, and its cursor is at that strip
	carrier *rebuilding   // that does its pieces; nil: it does them itself
	carried []*rebuilding // whose pieces it does
	aboard  int           // pieces under way in which another does its part
	news    chan struct{} // something of this changed
}

func (c *crew) tell() {
	select {
	case c.news <- struct{}{}:
	default:
	}
}

// enter makes a rebuild known to the others.
func (w *Works) enter(r *rebuilding) {
	w.company.mu.Lock()
	defer w.company.mu.Unlock()
	r.crew = crew{at: r.next, news: make(chan struct{}, 1)}
	w.company.list = append(w.company.list, r)
}

// leave ends that. Those that it carried go on by themselves.
func (w *Works) leave(r *rebuilding) {
	w.company.mu.Lock()
	defer w.company.mu.Unlock()
	w.company.list = slices.DeleteFunc(w.company.list, func(o *rebuilding) bool { return o == r })
	for _, o := range r.crew.carried {
		o.crew.carrier = nil
	}
	r.crew.carried = nil
	w.company.tellAll()
}

func (c *company) tellAll() {
	for _, o := range c.list {
		o.crew.tell()
	}
}

// goes says whether a rebuild goes on: nobody wants it to stop, nothing of it has failed, and there is something to fill.
func (r *rebuilding) goes() bool {
	return r.t.going() && r.failed() == nil && r.m.Condition() == record.Rebuilding
}

// shares says whether another rebuild needs what this one needs, and how many strips that one is ahead. All strips of both must lie in one
// region: then they stay at the same place when they go on together.
func (r *rebuilding) shares(o *rebuilding) (ahead int64, ok bool) {
	if o == r || !slices.Contains(r.w.company.list, o) || r.m.Base != 0 || o.m.Base != 0 || o.crew.carrier != nil || o.crew.at >= o.strips || !o.goes() {
		return 0, false
	}
	mine, _ := r.lay.Strip(r.m.Slot, r.next)
	its, _ := o.lay.Strip(o.m.Slot, o.crew.at)
	if r.lay != o.lay || mine.Region != its.Region || mine.Group != its.Group || mine.Rows != r.strips || its.Rows != o.strips {
		return 0, false
	}
	return its.Row - mine.Row, true
}

// meet waits for a rebuild that is behind, or is carried by one that is ahead. limit is how many strips the next piece may have at
// most, so that it ends where another waits. When it returns true the place may be another.
func (r *rebuilding) meet() (limit int64, moved bool) {
	c := &r.w.company
	c.mu.Lock()
	defer c.mu.Unlock()
	r.crew.at, r.crew.halted = r.next, false
	limit = r.strips
	if !r.goes() {
		return limit, false // the step sees to that
	}
	for _, o := range c.list {
		ahead, ok := r.shares(o)
		switch near := max(ahead, -ahead) < r.strips/2; {
		case !ok || !near:
		case ahead > 0:
			limit = min(limit, ahead)
		case ahead < 0:
			r.await(o)
			return limit, true
		case o.crew.halted:
			r.board(o)
			return limit, true
		default:
			r.await(o) // both have just come here: one of them has to wait for the other
			return limit, true
		}
	}
	return limit, false
}

// await waits until another rebuild has caught up, is carried, or does not go on. The company is locked.
func (r *rebuilding) await(o *rebuilding) {
	c := &r.w.company
	c.mu.Unlock()
	r.flight.Wait()
	c.mu.Lock()
	r.crew.halted = r.goes() // where a piece has failed its cursor is behind
	o.crew.tell()
	began, waiting := env.Now(), false
	for r.goes() {
		if ahead, ok := r.shares(o); !ok || ahead > 0 || ahead == 0 && o.crew.halted && o.m.Slot < r.m.Slot {
			break
		}
		if !waiting {
			r.t.become(state.TaskWaiting, "waits until that of "+o.m.Name()+" has come as far: together both are done sooner")
			waiting = true
		}
		c.mu.Unlock()
		env.Wait(companyLook, r.t.cancel, r.crew.news)
		c.mu.Lock()
	}
	if waiting {
		r.t.become(state.TaskRunning, "")
		r.t.rested(env.Since(began))
	}
	r.crew.halted = false
}

// companyLook is how soon a rebuild that waits for another, or is carried, notices that one of them was paused.
const companyLook = 100 * time.Millisecond

// board lets another rebuild, which has halted at the same place, do the pieces of this one until one of them ends, is paused or fails.
// The company is locked.
func (r *rebuilding) board(o *rebuilding) {
	c := &r.w.company
	c.mu.Unlock()
	r.flight.Wait()
	c.mu.Lock()
	if ahead, ok := r.shares(o); !ok || ahead != 0 || !o.crew.halted || !r.goes() {
		return
	}
	probe.RebuildsTogether.Seen()
	r.crew.carrier = o
	for _, one := range r.crew.carried {
		one.crew.carrier = o
	}
	o.crew.carried = append(append(o.crew.carried, r), r.crew.carried...)
	r.crew.carried = nil
	o.crew.tell()
	for r.crew.carrier != nil && r.goes() && r.crew.carrier.goes() {
		c.mu.Unlock()
		env.Wait(companyLook, r.t.cancel, r.crew.news)
		c.mu.Lock()
	}
	if o := r.crew.carrier; o != nil {
		o.crew.carried = slices.DeleteFunc(o.crew.carried, func(one *rebuilding) bool { return one == r })
		r.crew.carrier = nil
	}
	for r.crew.aboard > 0 {
		c.mu.Unlock()
		env.Wait(env.Never, r.crew.news)
		c.mu.Lock()
	}
	r.next, r.passed = r.m.Cursor.Load(), nil
	r.begun = r.t.Done()
}

// take lists the rebuild and those that it carries, for which the next piece is done as well.
func (r *rebuilding) take() []*rebuilding {
	c := &r.w.company
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []*rebuilding{r}
	for _, o := range r.crew.carried {
		if o.m.Condition() == record.Rebuilding {
			o.crew.aboard++
			out = append(out, o)
		}
	}
	return out
}

// pass notes that a piece of n strips from a stripe on, which counts as so many bytes, was done for some rebuilds, or was not.
func (r *rebuilding) pass(all []*rebuilding, st layout.Stripe, n, counts int64, done bool) {
	c := &r.w.company
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, o := range all {
		if done {
			o.m.Cursor.Store(st.Nth(o.m.Slot) + n)
			o.t.Advance(env.Now(), counts)
		}
		if o != r {
			o.crew.aboard--
			o.crew.tell()
		}
	}
}

// together lists the rebuild and those that it carries.
func (r *rebuilding) together() []*rebuilding {
	c := &r.w.company
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]*rebuilding{r}, r.crew.carried...)
}
