package nbd

import (
	"fmt"
	"io"
	"net"
)

// Client and server on one host may share memory: then the data of reads and writes need not come over the connection. This is an
// addition of ours to the protocol, which a client asks for when it chooses its export. A request with cmdFlagShared is followed by a place of 8
// bytes; a write has no data after that, and the reply of a read none either. Other clients see nothing of it.

// Memory is what a server shares with a client. Nothing in it is believed: it may change at any moment.
type Memory interface {
	// Into is n bytes at a place, for the server to read into; nil where there are not as many.
	Into(place, n int64) []byte
	// From fills p with what the client laid down at a place.
	From(p []byte, place int64) error
}

// Sharer is an Export that shares memory with its client. It is asked once by each connection.
type Sharer interface {
	Memory() Memory // nil: not with this one
}

// memoryWith is what is shared with a client that chose an export and asks for that.
func (c *conn) memoryWith(x Export) Memory {
	s, can := x.(Sharer)
	if _, here := c.nc.(*net.UnixConn); !can || !here || c.structured {
		return nil
	}
	return s.Memory()
}

// placeLength is how long a place is that follows a request, bytes.
const placeLength = 8

// inShared says whether the data of a request does not come over the connection.
func (c *conn) inShared(r *request) bool {
	return c.shared != nil && r.flags&cmdFlagShared != 0 && (r.kind == cmdRead || r.kind == cmdWrite)
}

// readPlace reads where the data of such a request is.
func (c *conn) readPlace(r *request) error {
	if !c.inShared(r) {
		return nil
	}
	place := c.head[:placeLength]
	if _, err := io.ReadFull(c.in, place); err != nil {
		return err
	}
	r.flags, r.shared, r.place = r.flags&^cmdFlagShared, true, int64(be.Uint64(place))
	return nil
}

// filler is what fills buffers with the data of a write, in order.
func (c *conn) filler(r *request) func([]byte) error {
	if r.shared {
		return func(p []byte) error { return c.fillShared(r, p) }
	}
	return c.fill
}

// fillShared copies the data of a write from its place on. An error, which only a client has that does not keep to the rules, ends the connection.
func (c *conn) fillShared(r *request, p []byte) error {
	if err := c.shared.From(p, r.place); err != nil {
		return fmt.Errorf("the data of a write in shared memory: %w", err)
	}
	r.place += int64(len(p))
	return nil
}

// readShared answers a read whose data goes into shared memory.
func (c *conn) readShared(r *request) error {
	p := c.shared.Into(r.place, int64(r.length))
	if p == nil {
		return c.fail(r, errInvalid, "")
	}
	if _, err := c.export.Read(p, int64(r.off)); err != nil {
		return c.fail(r, code(err), err.Error())
	}
	return c.done(r)
}

// Shares says whether ReadShared and WriteShared can be used: the dialer asked for it, and the server agreed.
func (c *Client) Shares() bool { return c.shares }

// ReadShared reads n bytes at off into shared memory, at a place. While it has not returned, and after ErrBroken, they may change.
func (c *Client) ReadShared(place, off int64, n int) error {
	return c.doShared(cmdRead, 0, place, off, n)
}

// WriteShared writes n bytes that are in shared memory, at a place, to off; durable has it return when they are durable. They must not change before.
func (c *Client) WriteShared(place, off int64, n int, durable bool) error {
	flags := uint16(0)
	if durable {
		flags = cmdFlagFUA
	}
	return c.doShared(cmdWrite, flags, place, off, n)
}

func (c *Client) doShared(kind, flags uint16, place, off int64, n int) error {
	this := &call{done: make(chan error, 1)}
	cookie, busy, err := c.enter(this)
	if err != nil {
		return err
	}
	return c.ask(this, busy, be.AppendUint64(head(kind, flags|cmdFlagShared, cookie, off, n), uint64(place)), nil)
}
