package array

import (
	"errors"

	"nidalo/core/layout"
	"nidalo/internal/array/dirty"
	"nidalo/internal/env"
)

// Client is one user of an array: its next flush reports the fate of what was written through it, and does not report
// what became of others' writes. Its methods may be called at the same time. The methods of Array itself are those of a
// client that is told everything.
type Client struct {
	a     *Array
	mu    env.Mutex
	late  error // why something it wrote was given up, until a flush has said so
	habit habit
}

// NewClient makes a client.
func (a *Array) NewClient() *Client { return &Client{a: a} }

// Receive is WriteAt for data that is still on its way: fill is called with buffers to be filled in order, length bytes
// altogether, unless ErrNotTaken is returned at once. An error of fill is returned; what was filled before is written.
func (c *Client) Receive(off, length int64, fill func([]byte) error) error {
	c.habit.wrote()
	return c.a.receive(c, off, length, fill)
}

// Zero makes the range read as zeros and gives its blocks back to never-written where they are covered whole.
func (c *Client) Zero(off, length int64) error {
	c.habit.wrote()
	return c.a.zero(c, off, length)
}

// FlushRange makes the given range durable (forced unit access).
func (c *Client) FlushRange(off, length int64) error { return c.a.flushRange(c, off, length) }

// Fail notes that something the client wrote was given up.
func (c *Client) Fail(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.late == nil {
		c.late = err
	}
}

// told returns what the client has not been told yet, once.
func (c *Client) told() (err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	err, c.late = c.late, nil
	return err
}

// WriteAt, Receive, Zero, Flush and FlushRange act for one client that learns of every error, of its own writes and of others.
func (a *Array) WriteAt(p []byte, off int64) error { return a.anybody.WriteAt(p, off) }

// Receive is Client.Receive.
func (a *Array) Receive(off, length int64, fill func([]byte) error) error {
	return a.anybody.Receive(off, length, fill)
}

// Zero is Client.Zero.
func (a *Array) Zero(off, length int64) error { return a.anybody.Zero(off, length) }

// Flush is Client.Flush.
func (a *Array) Flush() error { return a.anybody.Flush() }

// FlushRange is Client.FlushRange.
func (a *Array) FlushRange(off, length int64) error { return a.anybody.FlushRange(off, length) }

// ErrNotTaken is returned by Receive when it has not called fill, and the data must come by WriteAt.
var ErrNotTaken = errors.New("not taken")

func (a *Array) receive(by *Client, off, length int64, fill func([]byte) error) error {
	if off%Block != 0 || length%Block != 0 || a.Layout().Check(off, length) != nil || !a.cache.RoomNow(length) {
		return ErrNotTaken
	}
	if a.lostIn(off, length) != nil {
		return ErrNotTaken // WriteAt says why; of what is lost later the next flush tells
	}
	a.stats.BytesWritten.Add(length)
	for length > 0 {
		lay := a.Layout()
		if err := lay.Check(off, length); err != nil {
			return err
		}
		st, in := lay.Locate(off)
		n := min(length, st.Strip-in%st.Strip)
		lent := a.cache.Lend(dirty.Piece{Stripe: st, Role: int(in / st.Strip), From: in % st.Strip, By: by}, int(n))
		// Nothing is held meanwhile: a client may take as long as it likes.
		if err := fill(lent.Buf()); err != nil {
			a.cache.Return(&lent)
			return err
		}
		if err := a.putLent(by, lay, &lent, off); err != nil {
			return err
		}
		off, length = off+n, length-n
	}
	return nil
}

// putLent puts what came in a lent buffer where a map has it, or if another is in force by now, where that has it.
func (a *Array) putLent(by *Client, lay *layout.Map, lent *dirty.Lent, off int64) error {
	parts := a.ranges.parts(off, int64(len(lent.Buf())))
	a.ranges.share(parts)
	if a.Layout() == lay {
		defer a.ranges.unshare(parts)
		a.cache.PutLent(lent)
		return nil
	}
	a.ranges.unshare(parts)
	defer a.cache.Return(lent)
	return a.put(by, lent.Buf(), off)
}
