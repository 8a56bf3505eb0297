package nbd

import (
	"net"

	"nidalo/internal/clock"
)

// maxPending bounds the replies that wait for the socket, in bytes.
const maxPending = 2 << 20

// replies are the replies of a connection that are on their way.
type replies struct {
	queue [][]byte
	heads []byte // where those that are only a head are
	holds []hold // what to let go when they are out
}

// send queues a reply, and writes all that is queued unless another worker is at it already: while that one is in the
// system call, the replies of the others gather and go out together. What is in head is copied; h is let go when bufs are not needed any
// more. An error means the connection is of no more use; a reply that is queued for another worker reports none. With more, the reply waits for a
// call without, which may have no reply of its own.
func (c *conn) send(more bool, h hold, head []byte, bufs ...[]byte) error {
	size := len(head)
	for _, b := range bufs {
		size += len(b)
	}
	if size > 0 {
		c.answered.Add(1)
	}
	c.writing.Lock()
	for c.pending > maxPending && c.sending && c.broken == nil {
		c.written.Wait()
	}
	q := &c.replies
	if len(head) > 0 {
		q.heads = append(q.heads, head...)
		q.queue = append(q.queue, q.heads[len(q.heads)-len(head):])
	}
	q.queue = append(q.queue, bufs...)
	if h.buf != nil {
		q.holds = append(q.holds, h)
	}
	c.pending += size
	if c.sending || more && c.pending <= maxPending {
		err := c.broken
		c.writing.Unlock()
		return err
	}
	c.sending = true
	for len(c.replies.queue) > 0 || len(c.replies.holds) > 0 {
		c.sendQueued()
	}
	c.sending = false
	err := c.broken
	c.writing.Unlock()
	return err
}

// sendQueued writes what is queued. c.writing is held, and given back meanwhile.
func (c *conn) sendQueued() {
	out, n, err := c.replies, c.pending, c.broken
	c.replies = c.spare
	c.writing.Unlock()
	if err == nil {
		err = c.writeOut(out.queue)
	}
	for _, h := range out.holds {
		c.letGo(h)
	}
	clear(out.queue)
	clear(out.holds)
	c.writing.Lock()
	c.broken = err
	c.pending -= n
	c.spare = replies{out.queue[:0], out.heads[:0], out.holds[:0]}
	c.written.Broadcast()
}

// writeOut writes buffers to the socket, in bounded time.
func (c *conn) writeOut(bufs [][]byte) (err error) {
	c.bound()
	if len(bufs) == 1 {
		_, err = c.nc.Write(bufs[0])
	} else {
		v := net.Buffers(bufs)
		_, err = v.WriteTo(c.nc)
	}
	c.blocked.Store(0)
	return err
}

// bound notes that replies wait for the socket from now on, and bounds the time for that.
func (c *conn) bound() {
	at := clock.Now()
	c.blocked.Store(int64(at))
	if at > c.renew { // not for every reply: it costs more than a small one
		_ = c.nc.SetWriteDeadline(at.Wall().Add(writeTime + writeTime/4))
		c.renew = at + clock.Moment(writeTime/4)
	}
}

// The lengths of the heads of replies, bytes.
const simpleHead, chunkHead = 16, 20

// simple appends a simple reply, or its head when it is one of a read.
func simple(buf []byte, r *request, code uint32) []byte {
	buf = be.AppendUint32(buf, magicSimple)
	buf = be.AppendUint32(buf, code)
	return be.AppendUint64(buf, r.cookie)
}

// chunk appends the head of a chunk of a structured reply.
func chunk(buf []byte, r *request, flags, kind uint16, length int) []byte {
	buf = be.AppendUint32(buf, magicStructured)
	buf = be.AppendUint16(buf, flags)
	buf = be.AppendUint16(buf, kind)
	buf = be.AppendUint64(buf, r.cookie)
	return be.AppendUint32(buf, uint32(length))
}

func (c *conn) done(r *request) error {
	var head [simpleHead]byte
	return c.send(r.more, hold{}, simple(head[:0], r, 0))
}

func (c *conn) fail(r *request, code uint32, why string) error {
	if !c.structured || r.kind != cmdRead && r.kind != cmdBlockStatus {
		return c.send(r.more, hold{}, simple(nil, r, code))
	}
	why = why[:min(len(why), 1000)]
	buf := chunk(nil, r, chunkDone, chunkError, 6+len(why))
	buf = be.AppendUint32(buf, code)
	buf = be.AppendUint16(buf, uint16(len(why)))
	return c.send(r.more, hold{}, append(buf, why...))
}
