package stripe

import (
	"slices"
	"sync/atomic"
	"time"

	"nidalo/core/layout"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// A read of a strip whose member is lost has to read all of the stripe. The strips that it did not want are kept for a moment, since a client that reads
// on wants them next. Without that a stripe in which two of its requests meet is read and computed twice.
//
// They are what the members hold as long as the stripe does not change. So they are kept and taken with the stripe held, and every exclusive lock of it
// gives them up.
type rest struct {
	some  atomic.Int32 // of kept; a lock of an array that has lost nothing looks no further
	mu    env.Mutex
	kept  []kept // the oldest first
	bytes int
	reads []*readOf // that are under way
}

// kept is what is left of a stripe: the strips of which there are buffers.
type kept struct {
	c  *Columns
	at time.Time
}

const (
	mostRest  = 8 << 20         // bytes that are kept at the same time
	restFor   = 2 * time.Second // after which they are not used any more
	leastRest = 8               // columns from which on it pays, if strips have as many: fewer are read by clients that seldom read on
)

// Rest takes what was kept of some columns of a stripe, if that has all of the roles. When another read is at it that does not want them, it waits for
// that. The caller holds the stripe, and keeps what is left with KeepRest. Without columns it is to read the stripe, and to call what comes back when it
// has.
func (s *Stripes) Rest(st layout.Stripe, first, end int, roles []int) (*Columns, func()) {
	r := &s.rest
	if !leaves(st, end-first) && r.some.Load() == 0 {
		return nil, func() {}
	}
	this := &readOf{st.ID(), first, end, slices.Clone(roles), leaves(st, end-first), make(chan struct{})}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.giveUp(func(k kept) bool { return env.Since(k.at) > restFor })
	c := r.find(this)
	if i := slices.IndexFunc(r.reads, this.follows); c == nil && i >= 0 {
		before := r.reads[i].over
		r.mu.Unlock()
		env.Recv(before)
		r.mu.Lock()
		c = r.find(this)
	}
	if c != nil {
		probe.RestTaken.Seen()
		return c, nil
	}
	r.reads = append(r.reads, this)
	return nil, func() { r.end(this) }
}

// end takes a read that is over off the list.
func (r *rest) end(this *readOf) {
	r.mu.Lock()
	defer r.mu.Unlock()
	i := slices.Index(r.reads, this)
	r.reads = slices.Delete(r.reads, i, i+1)
	close(this.over)
}

// leaves says whether a read of so many columns of a stripe may leave something that another wants. The strips of a guarded set are of volumes that have
// their own clients.
func leaves(st layout.Stripe, columns int) bool {
	return !st.Fixed && !st.Mirrored() && columns >= min(leastRest, st.StripBlocks())
}

// readOf is a read of some strips of a stripe.
type readOf struct {
	id         layout.ID
	first, end int // columns
	roles      []int
	leaves     bool          // some of it is kept
	over       chan struct{} // closed when it is
}

// follows says whether another read will leave what this one wants.
func (r *readOf) follows(o *readOf) bool {
	return o.id == r.id && o.first <= r.first && r.end <= o.end && o.leaves &&
		!slices.ContainsFunc(r.roles, func(role int) bool { return slices.Contains(o.roles, role) })
}

// find takes what is left of the stripe of a read, if that has all of it; nil otherwise. The list is locked.
func (r *rest) find(w *readOf) *Columns {
	i := slices.IndexFunc(r.kept, func(k kept) bool {
		return k.c.St.ID() == w.id && k.c.first <= w.first && w.end <= k.c.first+k.c.n &&
			!slices.ContainsFunc(w.roles, func(role int) bool { return k.c.Bufs[role] == nil })
	})
	if i < 0 {
		return nil
	}
	return r.remove(i)
}

// KeepRest keeps what a read of whole strips, or one of Rest, did not want, if some of that had to be computed, and frees the others. The caller holds the
// stripe.
func (s *Stripes) KeepRest(c *Columns, served func(role int) bool) {
	computed := false
	for role, b := range c.Bufs {
		if b == nil || role < c.St.Data && !c.lent[role] && !served(role) && !slices.Contains(c.Known[role], false) {
			computed = computed || b != nil && c.Roles[role] == nil
			continue
		}
		if !c.lent[role] {
			s.host.Scratch.Put(b)
		}
		c.Bufs[role], c.lent[role] = nil, false
	}
	if !computed || !leaves(c.St, c.n) {
		c.Free()
		return
	}
	r := &s.rest
	r.mu.Lock()
	defer r.mu.Unlock()
	r.kept = append(r.kept, kept{c, env.Now()})
	r.some.Add(1)
	for r.bytes += c.room(); r.bytes > mostRest; {
		r.remove(0).Free()
	}
}

// room is how many bytes its buffers have.
func (c *Columns) room() (bytes int) {
	for _, b := range c.Bufs {
		bytes += len(b)
	}
	return bytes
}

// remove takes one out of the list, which is locked.
func (r *rest) remove(i int) *Columns {
	c := r.kept[i].c
	r.bytes -= c.room()
	r.kept = slices.Delete(r.kept, i, i+1)
	r.some.Add(-1)
	return c
}

// giveUp frees some. The list is locked.
func (r *rest) giveUp(which func(k kept) bool) {
	for i := len(r.kept) - 1; i >= 0; i-- {
		if which(r.kept[i]) {
			r.remove(i).Free()
		}
	}
}

// changes gives up what is kept of stripes that were just locked exclusively; of all when there are none.
func (r *rest) changes(ids ...layout.ID) {
	if r.some.Load() == 0 || probe.RestOutlivesChange.On() {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.giveUp(func(k kept) bool { return len(ids) == 0 || slices.Contains(ids, k.c.St.ID()) })
}
