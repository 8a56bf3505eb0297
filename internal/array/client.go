package array

import (
	"cmp"
	"errors"
	"slices"

	"nidalo/core/layout"
	"nidalo/internal/array/dirty"
	"nidalo/internal/env"
)

// Client is one user of an array: whoever writes through it is told by its next flush what became of that, and is not told
// what became of others' writes. Its methods may be called at the same time. The methods of Array itself are those of a
// client that is told everything.
type Client struct {
	a    *Array
	mu   env.Mutex
	late error // why something it wrote was given up, until a flush has said so
}

// NewClient makes a client.
func (a *Array) NewClient() *Client { return &Client{a: a} }

// WriteAt writes p at byte offset off. When it returns the data is readable, but durable only after a Flush.
func (c *Client) WriteAt(p []byte, off int64) error { return c.a.write(c, p, off) }

// Receive is WriteAt for data that is still on its way: fill is called with buffers to be filled in order, length bytes
// altogether, unless ErrNotTaken is returned at once. An error of fill is returned; what was filled before is written.
func (c *Client) Receive(off, length int64, fill func([]byte) error) error {
	return c.a.receive(c, off, length, fill)
}

// Zero makes the range read as zeros and gives its blocks back to never-written where they are covered whole.
func (c *Client) Zero(off, length int64) error { return c.a.zero(c, off, length) }

// Flush returns when everything written before it was called is durable. It fails when that cannot be done for what this
// client wrote, or was given up since its last flush.
func (c *Client) Flush() error { return c.a.flush(c, c.a.cache.Stripes()) }

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

// flush destages some stripes for a client that waits. Those of others are destaged as well, but what goes wrong with them
// is told to their writers, and is no error here.
func (a *Array) flush(by *Client, ids []layout.ID) error {
	if err := a.alive(); err != nil {
		return err
	}
	err := a.flushStripes(by, ids)
	if late := by.told(); late != nil && err == nil {
		err = late
	}
	return err
}

// flushStripes destages stripes and returns the first error that concerns a client. Stripes that fail together are tried
// apart, so that one for which there is no room does not stand in the way of another.
func (a *Array) flushStripes(by *Client, ids []layout.ID) (first error) {
	for len(ids) > 0 {
		n := a.batchLength(ids)
		writers, err := a.destage(ids[:n])
		switch {
		case err == nil || errors.Is(err, ErrUnkept): // it was told to its writers
		case a.alive() != nil:
			return a.alive()
		case n > 1:
			err = errors.Join(a.flushStripes(by, ids[:n/2]), a.flushStripes(by, ids[n/2:n]))
			first = cmp.Or(first, err)
		case by == &a.anybody || writers.has(by):
			first = cmp.Or(first, err)
		}
		ids = ids[n:]
	}
	return first
}

// writers are the clients that wrote what a destage was about.
type writers []dirty.Writer

func (w writers) has(c dirty.Writer) bool { return slices.Contains(w, c) }
