package nbd

import (
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
)

// request is one request of a client.
type request struct {
	flags  uint16
	kind   uint16
	cookie uint64
	off    uint64
	length uint32
	data   []byte // of a write
	taken  bool   // the export has the data already
}

// receiveFrom is the length of a write from which it pays to fill the export's own buffers.
const receiveFrom = 32 << 10

// workers is how many requests of one connection are served at the same time.
const workers = 32

// buffers holds memory of writes and reads for the next ones.
var buffers = sync.Pool{New: func() any { b := make([]byte, 0); return &b }}

func getBuffer(n int) *[]byte {
	b := buffers.Get().(*[]byte)
	if cap(*b) < n {
		*b = make([]byte, n)
	}
	*b = (*b)[:n]
	return b
}

// transmit serves requests until the client leaves. Workers take turns at reading: whoever has read a request serves it
// while another reads the next, so nothing is handed from one to another. More of them are started as long as requests
// come while others are being served.
func (c *conn) transmit() error {
	var wait sync.WaitGroup
	var once sync.Once
	var first error
	var spawn func()
	var mu sync.Mutex
	idle, total := 0, 0
	end := func(err error) {
		once.Do(func() {
			first = err
			if !errors.Is(err, errDisconnect) {
				_ = c.nc.Close() // wakes the worker that reads
			}
		})
	}
	worker := func() {
		defer wait.Done()
		for {
			mu.Lock()
			idle++
			mu.Unlock()
			c.reading.Lock()
			mu.Lock()
			idle--
			more := idle == 0 && total < workers
			if more {
				total++
			}
			mu.Unlock()
			if c.over {
				c.reading.Unlock()
				if more {
					mu.Lock()
					total--
					mu.Unlock()
				}
				return
			}
			r, buf, err := c.readRequest()
			if err != nil {
				c.over = true
			}
			c.reading.Unlock()
			if more {
				if err == nil {
					spawn()
				} else {
					mu.Lock()
					total--
					mu.Unlock()
				}
			}
			if err != nil {
				end(err)
				return
			}
			err = c.serve(r)
			if buf != nil {
				buffers.Put(buf)
			}
			if err != nil {
				end(err)
				return
			}
		}
	}
	spawn = func() {
		wait.Add(1)
		go worker()
	}
	total = 1
	spawn()
	wait.Wait()
	if errors.Is(first, errDisconnect) {
		return nil
	}
	return first
}

var errDisconnect = errors.New("disconnect")

// readRequest reads one request with its data. c.reading is held.
func (c *conn) readRequest() (request, *[]byte, error) {
	var head [28]byte
	if _, err := io.ReadFull(c.in, head[:]); err != nil {
		return request{}, nil, err
	}
	if be.Uint32(head[:]) != magicRequest {
		return request{}, nil, errors.New("wrong request magic")
	}
	r := request{flags: be.Uint16(head[4:]), kind: be.Uint16(head[6:]), cookie: be.Uint64(head[8:]),
		off: be.Uint64(head[16:]), length: be.Uint32(head[24:])}
	switch r.kind {
	case cmdDisconnect:
		return r, nil, errDisconnect
	case cmdWrite:
		if r.length > maxRequest {
			return r, nil, fmt.Errorf("write of %d bytes", r.length)
		}
		if x, ok := c.export.(Receiver); ok && r.length >= receiveFrom && c.refuse(r) == 0 {
			err := x.Receive(int64(r.off), int64(r.length), func(p []byte) error {
				_, err := io.ReadFull(c.in, p)
				return err
			})
			if !errors.Is(err, ErrNotTaken) {
				r.taken = true
				return r, nil, err
			}
		}
		buf := getBuffer(int(r.length))
		if _, err := io.ReadFull(c.in, *buf); err != nil {
			return r, nil, err
		}
		r.data = *buf
		return r, buf, nil
	}
	return r, nil, nil
}

// serve does one request and replies. An error means the connection is of no more use.
func (c *conn) serve(r request) error {
	if code := c.refuse(r); code != 0 {
		return c.fail(r, code, "")
	}
	off, length := int64(r.off), int64(r.length)
	switch r.kind {
	case cmdRead:
		return c.read(r)
	case cmdBlockStatus:
		return c.blockStatus(r)
	}
	var err error
	switch r.kind {
	case cmdWrite:
		if !r.taken {
			err = c.export.Write(r.data, off)
		}
	case cmdFlush:
		err = c.export.Flush()
	case cmdTrim, cmdWriteZeroes:
		err = c.export.Zero(off, length)
	}
	if err == nil && r.flags&cmdFlagFUA != 0 && r.kind != cmdFlush {
		err = c.export.FlushRange(off, length)
	}
	if err != nil {
		return c.fail(r, code(err), err.Error())
	}
	return c.done(r)
}

// refuse says what is wrong with a request before anything is done, or 0.
func (c *conn) refuse(r request) uint32 {
	allowed := uint16(cmdFlagFUA)
	switch r.kind {
	case cmdRead:
		allowed |= cmdFlagDF
	case cmdWriteZeroes:
		allowed |= cmdFlagNoHole
	case cmdBlockStatus:
		allowed |= cmdFlagReqOne
		if !c.allocation {
			return errInvalid
		}
	case cmdWrite, cmdTrim, cmdFlush:
	default:
		return errInvalid
	}
	if readOnly(c.export) && r.kind != cmdRead && r.kind != cmdBlockStatus {
		return errPerm
	}
	size := uint64(c.export.Size())
	switch {
	case r.flags&^allowed != 0:
		return errInvalid
	case r.kind == cmdFlush:
		if r.off != 0 || r.length != 0 {
			return errInvalid
		}
		return 0
	case r.off > size || uint64(r.length) > size-r.off:
		if r.kind == cmdWrite || r.kind == cmdWriteZeroes {
			return errNoSpace
		}
		return errInvalid
	case r.kind == cmdRead && r.length > maxRequest:
		return errOverflow
	case r.length == 0 && r.kind == cmdBlockStatus:
		return errInvalid
	}
	return 0
}

func code(err error) uint32 {
	switch {
	case errors.Is(err, ErrNoSpace):
		return errNoSpace
	case errors.Is(err, ErrShutdown):
		return errShutdown
	}
	return errIO
}

// maxPending bounds the replies that wait for the socket, in bytes.
const maxPending = 8 << 20

// send queues a reply, and writes all that is queued unless another worker is at it already: while that one is in the
// system call, the replies of the others gather and go out together. release is called when bufs are not needed any
// more. An error means the connection is of no more use; a reply that is queued for another worker reports none.
func (c *conn) send(release func(), bufs ...[]byte) error {
	size := 0
	for _, b := range bufs {
		size += len(b)
	}
	c.writing.Lock()
	for c.pending > maxPending && c.broken == nil {
		c.written.Wait()
	}
	c.queue = append(c.queue, bufs...)
	c.releases = append(c.releases, release)
	c.pending += size
	if c.sending {
		err := c.broken
		c.writing.Unlock()
		return err
	}
	c.sending = true
	for len(c.releases) > 0 {
		queue, releases, n := c.queue, c.releases, c.pending
		c.queue, c.releases = c.spareQueue[:0], c.spareReleases[:0]
		broken := c.broken
		c.writing.Unlock()
		if broken == nil {
			v := net.Buffers(queue)
			_, broken = v.WriteTo(c.nc)
		}
		for _, f := range releases {
			if f != nil {
				f()
			}
		}
		clear(queue)
		clear(releases)
		c.writing.Lock()
		c.broken = broken
		c.pending -= n
		c.spareQueue, c.spareReleases = queue, releases
		c.written.Broadcast()
	}
	c.sending = false
	err := c.broken
	c.writing.Unlock()
	return err
}

func simple(r request, code uint32) []byte {
	buf := make([]byte, 0, 16)
	buf = be.AppendUint32(buf, magicSimple)
	buf = be.AppendUint32(buf, code)
	return be.AppendUint64(buf, r.cookie)
}

func chunk(r request, flags, kind uint16, length int) []byte {
	buf := make([]byte, 0, 32)
	buf = be.AppendUint32(buf, magicStructured)
	buf = be.AppendUint16(buf, flags)
	buf = be.AppendUint16(buf, kind)
	buf = be.AppendUint64(buf, r.cookie)
	return be.AppendUint32(buf, uint32(length))
}

func (c *conn) done(r request) error {
	return c.send(nil, simple(r, 0))
}

func (c *conn) fail(r request, code uint32, why string) error {
	if !c.structured || r.kind != cmdRead && r.kind != cmdBlockStatus {
		return c.send(nil, simple(r, code))
	}
	why = why[:min(len(why), 1000)]
	buf := chunk(r, chunkDone, chunkError, 6+len(why))
	buf = be.AppendUint32(buf, code)
	buf = be.AppendUint16(buf, uint16(len(why)))
	return c.send(nil, append(buf, why...))
}

func (c *conn) read(r request) error {
	buf := getBuffer(int(r.length))
	release := func() { buffers.Put(buf) }
	p := *buf
	holes, err := c.export.Read(p, int64(r.off))
	if err != nil {
		release()
		return c.fail(r, code(err), err.Error())
	}
	if !c.structured {
		return c.send(release, simple(r, 0), p)
	}
	if len(p) == 0 {
		return c.send(release, chunk(r, chunkDone, chunkNone, 0))
	}
	if r.flags&cmdFlagDF != 0 || len(holes) == 0 {
		return c.send(release, be.AppendUint64(chunk(r, chunkDone, chunkData, 8+len(p)), r.off), p)
	}
	// Several chunks: data and holes in turn.
	var bufs [][]byte
	var last []byte // header of the last chunk, to be marked
	at := int64(r.off)
	end := at + int64(len(p))
	data := func(to int64) {
		if to > at {
			last = be.AppendUint64(chunk(r, 0, chunkData, 8+int(to-at)), uint64(at))
			bufs = append(bufs, last, p[at-int64(r.off):to-int64(r.off)])
			at = to
		}
	}
	for _, h := range holes {
		data(h.Offset)
		last = be.AppendUint64(chunk(r, 0, chunkHole, 12), uint64(h.Offset))
		last = be.AppendUint32(last, uint32(h.Length))
		bufs = append(bufs, last)
		at = h.Offset + h.Length
	}
	data(end)
	be.PutUint16(last[4:], chunkDone)
	return c.send(release, bufs...)
}

func (c *conn) blockStatus(r request) error {
	limit := maxExtents
	if r.flags&cmdFlagReqOne != 0 {
		limit = 1
	}
	extents, err := c.export.Extents(int64(r.off), int64(r.length), limit)
	if err != nil {
		return c.fail(r, code(err), err.Error())
	}
	buf := chunk(r, chunkDone, chunkBlockStatus, 4+8*len(extents))
	buf = be.AppendUint32(buf, allocationID)
	for _, e := range extents {
		state := uint32(0)
		if !e.Written {
			state = stateHole | stateZero
		}
		buf = be.AppendUint32(buf, uint32(e.Length))
		buf = be.AppendUint32(buf, state)
	}
	return c.send(nil, buf)
}
