package nbd

import "errors"

// serve does one request and replies. An error means the connection is of no more use.
func (c *conn) serve(r *request) error {
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
	durable := r.flags&cmdFlagFUA != 0 && r.kind != cmdFlush
	switch r.kind {
	case cmdWrite:
		switch {
		case r.taken:
			err = r.err
		case durable && c.can.writeDurable != nil:
			err, durable = c.can.writeDurable.WriteDurable(r.data, off), false
		default:
			err = c.export.Write(r.data, off)
		}
	case cmdFlush:
		err = c.export.Flush()
	case cmdTrim, cmdWriteZeroes:
		if c.can.trim != nil && r.kind == cmdTrim {
			err = c.can.trim.Trim(off, length)
		} else {
			err = c.export.Zero(off, length)
		}
	}
	if err == nil && durable {
		err = c.export.FlushRange(off, length)
	}
	if err != nil {
		return c.fail(r, code(err), err.Error())
	}
	return c.done(r)
}

// refuse says what is wrong with a request before anything is done, or 0.
func (c *conn) refuse(r *request) uint32 {
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
	if c.can.onlyRead && r.kind != cmdRead && r.kind != cmdBlockStatus {
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

// headroom is the room before the data of a read in its buffer, for the head of the reply: both go out as one. The data begins on a boundary of pages,
// so that it can come from a disk without a copy.
const headroom = 4096

func (c *conn) read(r *request) error {
	if r.shared {
		return c.readShared(r)
	}
	if done, err := c.sent(r); done {
		return err
	}
	if r.length > piece {
		return c.readLong(r)
	}
	h, err := c.hold(int64(r.length), headroom)
	if err != nil {
		return err
	}
	whole := *h.buf
	p := whole[headroom:]
	holes, err := c.export.Read(p, int64(r.off))
	if err != nil {
		c.letGo(h)
		return c.fail(r, code(err), err.Error())
	}
	head := whole[headroom-simpleHead : headroom-simpleHead]
	switch {
	case !c.structured:
		simple(head, r, 0)
		return c.send(r.more, h, nil, whole[headroom-simpleHead:])
	case len(p) == 0:
		return c.send(r.more, h, chunk(head, r, chunkDone, chunkNone, 0))
	case r.flags&cmdFlagDF != 0 || len(holes) == 0:
		at := headroom - chunkHead - 8
		be.AppendUint64(chunk(whole[at:at], r, chunkDone, chunkData, 8+len(p)), r.off)
		return c.send(r.more, h, nil, whole[at:])
	}
	return c.send(r.more, h, nil, chunks(r, p, holes)...)
}

// chunks is a reply of several chunks: data and holes in turn.
func chunks(r *request, p []byte, holes []Hole) (bufs [][]byte) {
	var last []byte // header of the last chunk, to be marked
	at := int64(r.off)
	end := at + int64(len(p))
	data := func(to int64) {
		if to > at {
			last = be.AppendUint64(chunk(nil, r, 0, chunkData, 8+int(to-at)), uint64(at))
			bufs = append(bufs, last, p[at-int64(r.off):to-int64(r.off)])
			at = to
		}
	}
	for _, h := range holes {
		data(h.Offset)
		last = be.AppendUint64(chunk(nil, r, 0, chunkHole, 12), uint64(h.Offset))
		last = be.AppendUint32(last, uint32(h.Length))
		bufs = append(bufs, last)
		at = h.Offset + h.Length
	}
	data(end)
	be.PutUint16(last[4:], chunkDone)
	return bufs
}

// readLong answers a read of more than a piece, which is never in memory as a whole: with the socket to itself, one piece
// after the other. A simple reply cannot tell of an error once its first piece is out: then the connection ends.
func (c *conn) readLong(r *request) error {
	if c.structured && r.flags&cmdFlagDF != 0 {
		return c.fail(r, errOverflow, "too long for one piece")
	}
	h, err := c.hold(piece, 0)
	if err != nil {
		return err
	}
	defer c.letGo(h)
	return c.exclusively(func() error { return c.readPieces(r, *h.buf) })
}

// exclusively replies by f, which has the socket to itself. An error means the connection is of no more use.
func (c *conn) exclusively(f func() error) error {
	c.answered.Add(1)
	c.writing.Lock()
	for c.sending && c.broken == nil {
		c.written.Wait()
	}
	if c.broken != nil {
		defer c.writing.Unlock()
		return c.broken
	}
	c.sending = true
	c.writing.Unlock()
	err := f()
	c.writing.Lock()
	c.sending = false
	if err != nil {
		c.broken = err
	}
	c.written.Broadcast()
	waiting := len(c.replies.queue) > 0
	c.writing.Unlock()
	if err == nil && waiting {
		return c.send(false, hold{}, nil) // what the others queued meanwhile
	}
	return err
}

// sendFrom is the length of a read from which it pays to send its data from a file, bytes, and sendMost the longest: it has to go out within writeTime.
const sendFrom, sendMost = 64 << 10, clientMemory

// sent answers a read from a file of the export, without a copy of the data. It reports false, having done nothing, when that cannot be.
func (c *conn) sent(r *request) (done bool, err error) {
	if c.can.send == nil || c.tcp == nil || c.structured || r.length < sendFrom || r.length > sendMost {
		return false, nil
	}
	err = c.can.send.Send(int64(r.off), int64(r.length), func(file uintptr, at int64) error {
		done = true
		return c.exclusively(func() error {
			c.bound()
			defer c.blocked.Store(0)
			return sendFile(c.tcp, simple(nil, r, 0), file, at, int64(r.length))
		})
	})
	return done, err
}

func (c *conn) readPieces(r *request, buf []byte) error {
	for at := uint32(0); at < r.length; {
		p := buf[:min(piece, r.length-at)]
		off := r.off + uint64(at)
		_, err := c.export.Read(p, int64(off))
		last := uint16(0)
		if at += uint32(len(p)); at == r.length {
			last = chunkDone
		}
		switch {
		case err != nil && c.structured:
			why := err.Error()[:min(len(err.Error()), 1000)]
			head := be.AppendUint32(chunk(nil, r, chunkDone, chunkError, 6+len(why)), code(err))
			return c.writeOut([][]byte{append(be.AppendUint16(head, uint16(len(why))), why...)})
		case err != nil && off == r.off:
			return c.writeOut([][]byte{simple(nil, r, code(err))})
		case err != nil:
			return err
		case c.structured:
			err = c.writeOut([][]byte{be.AppendUint64(chunk(nil, r, last, chunkData, 8+len(p)), off), p})
		case off == r.off:
			err = c.writeOut([][]byte{simple(nil, r, 0), p})
		default:
			err = c.writeOut([][]byte{p})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (c *conn) blockStatus(r *request) error {
	limit := maxExtents
	if r.flags&cmdFlagReqOne != 0 {
		limit = 1
	}
	extents, err := c.export.Extents(int64(r.off), int64(r.length), limit)
	if err != nil {
		return c.fail(r, code(err), err.Error())
	}
	buf := chunk(nil, r, chunkDone, chunkBlockStatus, 4+8*len(extents))
	buf = be.AppendUint32(buf, allocationID)
	for _, e := range extents {
		state := uint32(0)
		if !e.Written {
			state = stateHole | stateZero
		}
		buf = be.AppendUint32(buf, uint32(e.Length))
		buf = be.AppendUint32(buf, state)
	}
	return c.send(r.more, hold{}, nil, buf)
}
