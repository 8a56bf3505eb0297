package nbd

import (
	"errors"
	"fmt"
	"io"
	"sync"

	"nidalo/internal/clock"
)

// request is one request of a client.
type request struct {
	flags  uint16
	kind   uint16
	cookie uint64
	off    uint64
	length uint32
	data   []byte // of a write, in held
	held   hold
	taken  bool         // the export has the data already
	err    error        // of taking it
	came   clock.Moment // its head
	whole  clock.Moment // all of it was here
	more   bool         // its reply may wait for those of the rest of its batch
	shared bool         // its data does not come over the connection
	place  int64        // where it is then
}

// receiveFrom is the length of a write from which it pays to fill the export's own buffers.
const receiveFrom = 32 << 10

var errDisconnect = errors.New("disconnect")

// requestHead is the length of a request without data, bytes.
const requestHead = 28

// piece is how much of a request is in memory at a time, bytes. Longer ones are served piece by piece.
const piece = 2 << 20

// buffers holds memory of writes and reads for the next ones.
var buffers = sync.Pool{New: func() any { b := make([]byte, 0); return &b }}

// hold is memory that a request or its reply has; the zero hold is none.
type hold struct {
	buf *[]byte
	n   int64 // bytes, as the budgets of the client and its listener count them
}

// hold takes memory for n bytes, when the budgets have it, with room before them that is not counted.
func (c *conn) hold(n int64, room int) (hold, error) {
	if err := c.take(n); err != nil {
		return hold{}, err
	}
	b := buffers.Get().(*[]byte)
	all := int(n) + room
	if cap(*b) < all {
		*b = make([]byte, all)
	}
	*b = (*b)[:all]
	return hold{b, n}, nil
}

// letGo gives memory back.
func (c *conn) letGo(h hold) {
	if h.buf != nil {
		buffers.Put(h.buf)
		c.give(h.n)
	}
}

// readRequest reads one request with its data. c.reading is held.
func (c *conn) readRequest(r *request) error {
	head := c.head[:]
	if _, err := io.ReadFull(c.in, head); err != nil {
		return err
	}
	at := clock.Now()
	c.last.Store(int64(at))
	if be.Uint32(head) != magicRequest {
		return errors.New("wrong request magic")
	}
	*r = request{came: at, whole: at, flags: be.Uint16(head[4:]), kind: be.Uint16(head[6:]), cookie: be.Uint64(head[8:]),
		off: be.Uint64(head[16:]), length: be.Uint32(head[24:])}
	if err := c.readPlace(r); err != nil {
		return err
	}
	switch r.kind {
	case cmdDisconnect:
		return errDisconnect
	case cmdWrite:
		if r.length > maxRequest {
			return fmt.Errorf("write of %d bytes", r.length)
		}
		if uint32(c.in.Buffered()) >= r.length && r.length < receiveFrom {
			return c.readData(r)
		}
		err := c.readData(r)
		r.whole = clock.Now()
		return err
	}
	return nil
}

// readData takes the data of a write: into the export's own memory if it has any, else into ours if it is short, else it is
// written piece by piece as it comes.
func (c *conn) readData(r *request) error {
	valid := r.length >= receiveFrom && c.refuse(r) == 0 // short ones are looked at when they are served
	if c.can.receive != nil && valid {
		err := c.can.receive.Receive(int64(r.off), int64(r.length), c.filler(r))
		if !errors.Is(err, ErrNotTaken) {
			r.taken = true
			return err
		}
	}
	h, err := c.hold(min(int64(r.length), piece), 0)
	if err != nil {
		return err
	}
	if int64(r.length) <= piece {
		if r.shared {
			err = c.fillShared(r, *h.buf)
		} else {
			_, err = io.ReadFull(c.in, *h.buf)
		}
		if err != nil {
			c.letGo(h)
			return err
		}
		r.data, r.held = *h.buf, h
		return nil
	}
	defer c.letGo(h)
	r.taken = true
	fill := c.filler(r)
	for at := int64(0); at < int64(r.length); {
		p := (*h.buf)[:min(piece, int64(r.length)-at)]
		if err := fill(p); err != nil {
			return err
		}
		if valid && r.err == nil {
			r.err = c.export.Write(p, int64(r.off)+at)
		}
		at += int64(len(p))
	}
	return nil
}

// fill reads data of a long request: what the reader of heads has taken in already comes from there, the rest straight from the
// connection, without a copy.
func (c *conn) fill(p []byte) error {
	n := min(c.in.Buffered(), len(p))
	_, err := io.ReadFull(c.in, p[:n])
	if err == nil {
		_, err = io.ReadFull(c.nc, p[n:])
	}
	return err
}
