//go:build linux

package keeper

import (
	"context"
	"errors"

	"nidalo/internal/carryover"
	"nidalo/internal/nbd"
	"nidalo/internal/passage"
)

// port is what one connection of a device sees of the relay: requests that wait are given up when it ends.
type port struct {
	r   *relay
	ctx context.Context
	// over says whether the kernel has given the connection up, where it may have others: then it has sent what came over this one again,
	// and later changes as well, which must not be overwritten. nil: there is one connection.
	over func() bool
}

var (
	_ nbd.Export        = port{}
	_ nbd.DurableWriter = port{}
)

func (p port) Size() int64 { return p.r.size.Load() }

func (p port) Read(buf []byte, off int64) ([]nbd.Hole, error) {
	data, place, err := p.look(buf, off)
	if place != nil {
		copy(buf, data)
		place.GiveBack()
	}
	return nil, err
}

// look reads into shared memory, where the service has that, and otherwise into buf. The place is to be given back when the data is of no more use.
func (p port) look(buf []byte, off int64) (data []byte, place *passage.Place, err error) {
	err = p.r.do(p.ctx, int64(len(buf)), func(c *link) error {
		if place = c.tray.Take(len(buf)); place == nil {
			data = buf
			return c.ReadAt(buf, off)
		}
		data = place.Data
		err := c.ReadShared(place.At, off, len(buf))
		switch {
		case errors.Is(err, nbd.ErrBroken):
			place.Abandon()
		case err != nil:
			place.GiveBack()
		}
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	return data, place, nil
}

func (p port) Write(buf []byte, off int64) error {
	return p.write(buf, off, int64(len(buf)), func(c *link, e *carryover.Entry) error { return pass(c, e, off, false) })
}

// pass passes an entry with data on.
func pass(c *link, e *carryover.Entry, off int64, durable bool) error {
	switch {
	case c.tray != nil:
		return c.WriteShared(e.Place(), off, len(e.Data), durable)
	case durable:
		return c.WriteDurable(e.Data, off)
	}
	return c.WriteAt(e.Data, off)
}

// WriteDurable stays in the ring until a flush all the same: an earlier write of the same place may stand there.
func (p port) WriteDurable(buf []byte, off int64) error {
	if p.told() {
		return errLost
	}
	return p.write(buf, off, int64(len(buf)), func(c *link, e *carryover.Entry) error { return pass(c, e, off, true) })
}

func (p port) Zero(off, length int64) error {
	return p.write(nil, off, length, func(c *link, _ *carryover.Entry) error { return zero(c.Client, off, length) })
}

// zeroStep is how much is zeroed in one request, bytes.
const zeroStep = 1 << 30

func zero(c *nbd.Client, off, length int64) error {
	for length > 0 {
		n := min(length, zeroStep)
		if err := c.Zero(off, int(n)); err != nil {
			return err
		}
		off, length = off+n, length-n
	}
	return nil
}

// write notes a change in the ring, then passes it on. What overlaps waits for its turn, so that the order is the same in both.
func (p port) write(buf []byte, off, length int64, pass func(*link, *carryover.Entry) error) error {
	if length == 0 {
		return nil
	}
	free, err := p.r.ranges.take(p.ctx, off, length)
	if err != nil {
		return err
	}
	defer free()
	if p.ctx.Err() != nil || p.over != nil && p.over() {
		return context.Canceled
	}
	var e *carryover.Entry
	for e == nil {
		head := p.r.ring.Head()
		if e, err = p.r.ring.Add(off, length, buf == nil); err == nil {
			break
		}
		if !errors.Is(err, carryover.ErrFull) {
			return err
		}
		if err := p.r.makeRoom(p.ctx, head); err != nil {
			return err
		}
	}
	copy(e.Data, buf)
	e.Whole()
	var broke bool     // the connection over which it was passed on last
	var session uint64 // of that
	err = p.r.do(p.ctx, int64(len(buf)), func(c *link) error {
		err := pass(c, e)
		broke, session = errors.Is(err, nbd.ErrBroken), c.session
		return err
	})
	switch {
	case err != nil && broke:
		e.Doubt(session) // the service may still take it from the ring
		return err
	case err != nil:
		e.Drop()
		return err
	}
	e.Passed()
	if used, size := p.r.ring.Used(); used > size/2 && p.r.relief.TryLock() {
		p.r.wait.Go(func() {
			defer p.r.relief.Unlock()
			_ = p.r.flush(p.r.ctx)
		})
	}
	return nil
}

// errLost is what a flush says once when something acknowledged did not outlive service and keeper.
var errLost = errors.New("an acknowledged write that was not flushed was lost with the service and the keeper")

// told says whether something was lost that no flush has told of; then this one does.
func (p port) told() bool {
	if !p.r.ring.Lost() {
		return false
	}
	p.r.ring.SetLost(false)
	p.r.log.Error("a flush fails because an acknowledged write was lost", "export", p.r.export)
	return true
}

func (p port) Flush() error {
	err := p.r.flush(p.ctx)
	if err == nil && p.told() {
		err = errLost
	}
	return err
}

func (p port) FlushRange(_, _ int64) error { return p.Flush() }

// Extents are not asked for by the kernel.
func (p port) Extents(_, length int64, _ int) ([]nbd.Extent, error) {
	return []nbd.Extent{{Length: length, Written: true}}, nil
}
