package nbd

import (
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// request is one request of a client.
type request struct {
	flags  uint16
	kind   uint16
	cookie uint64
	off    uint64
	length uint32
	data   []byte // of a write
	free   func() // gives data back, or nil
	taken  bool   // the export has the data already
	err    error  // of taking it
	came   time.Time
	more   bool // its reply may wait for those of the rest of its batch
}

// receiveFrom is the length of a write from which it pays to fill the export's own buffers.
const receiveFrom = 32 << 10

// workers is how many requests of one connection are served at the same time, and together how many small ones that have come together
// one of them serves in turn, as long as requests are quick.
const workers, together = 32, 8

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

// A request counts as quick when it was served within quickTime. After quickRow of them in a row the next is taken to be quick as well; when
// it is not, another reads on after quickMost.
const (
	quickTime = 50 * time.Microsecond
	quickRow  = 64
	quickMost = time.Millisecond
)

// A client that asks only when it was answered needs no worker that reads meanwhile. After aloneRow requests in a row that came so, one worker reads
// and serves them all; after aloneMost others read again for a while, to see whether it is still so.
const (
	aloneRow  = 64
	aloneMost = 4096
)

// transmit serves requests until the client leaves. Workers take turns at reading: the one that has read a request serves it
// while another reads the next, so nothing is handed from one to another. More of them are started as long as requests
// come while others are being served. While requests are quick and come one at a time, one worker reads and serves them all: to
// wake another would take longer than the request.
func (c *conn) transmit() error {
	w := &crew{conn: c, total: 1}
	w.wait.Go(w.work)
	w.wait.Wait()
	if errors.Is(w.first, errDisconnect) {
		return nil
	}
	return w.first
}

// crew is the workers of a connection. The one that has reading reads the next request; the others serve theirs, or wait for reading.
type crew struct {
	*conn
	wait  sync.WaitGroup
	once  sync.Once
	first error // why the connection ended
	mu    sync.Mutex
	idle  int // workers that wait for reading
	total int
}

// end notes why the connection ends, and ends it.
func (w *crew) end(err error) {
	w.once.Do(func() {
		if w.first = err; !errors.Is(err, errDisconnect) {
			w.cancel()       // no worker waits for memory any more
			_ = w.nc.Close() // wakes the worker that reads
		}
	})
}

// take waits for reading.
func (w *crew) take() {
	w.mu.Lock()
	w.idle++
	w.mu.Unlock()
	w.reading.Lock()
	w.mu.Lock()
	w.idle--
	w.mu.Unlock()
}

// yield gives reading to another worker, and makes one when none waits for it.
func (w *crew) yield() {
	w.mu.Lock()
	more := w.idle == 0 && w.total < workers
	if more {
		w.total++
	}
	w.mu.Unlock()
	w.reading.Unlock()
	if more {
		w.wait.Go(w.work)
	}
}

// next reads a request. Without one reading is given back, and the worker ends.
func (w *crew) next() (r request, ok bool) {
	if w.over {
		w.reading.Unlock()
		return r, false
	}
	r, err := w.readRequest()
	if err != nil {
		w.over = true
		w.reading.Unlock()
		w.end(err)
		return r, false
	}
	if w.asked++; w.answered.Load() == w.asked-1 && w.in.Buffered() == 0 && w.alone < aloneMost {
		w.alone++
	} else {
		w.alone = 0
	}
	return r, true
}

// batch is what a worker has read and serves: one request, or several small ones that came together.
type batch struct {
	*crew
	requests []request
	begun    atomic.Int64 // how many of them a worker has begun
}

// read reads a request, and with it the small ones that are here as a whole, while requests are quick. c.reading is held.
func (b *batch) read() bool {
	clear(b.requests)
	b.begun.Store(0)
	r, ok := b.next()
	b.requests = append(b.requests[:0], r)
	for ok && r.small() && len(b.requests) < together && b.quick.Load() >= quickRow && b.smallNext() {
		r, ok = b.next()
		b.requests = append(b.requests, r)
	}
	return ok
}

// small says whether a request is one that others may be served after, in turn.
func (r request) small() bool {
	return (r.kind == cmdRead || r.kind == cmdWrite) && r.length < smallRequest
}

// smallNext says whether a small read or write is here, with all its data.
func (c *conn) smallNext() bool {
	have := c.in.Buffered()
	if have < requestHead {
		return false
	}
	head, err := c.in.Peek(requestHead)
	if err != nil || be.Uint32(head) != magicRequest {
		return false
	}
	r := request{kind: be.Uint16(head[6:]), length: be.Uint32(head[24:])}
	return r.small() && (r.kind == cmdRead || have >= requestHead+int(r.length))
}

// isQuick says whether what was read will be served so soon that handing reading over would take longer.
func (b *batch) isQuick() bool {
	if b.in.Buffered() > 0 {
		return false
	}
	kind := b.requests[0].kind
	return b.alone >= aloneRow || b.quick.Load() >= quickRow && (kind == cmdRead || kind == cmdWrite)
}

// serve serves those that nobody has begun, one after the other. Their replies go out together in the end.
func (b *batch) serve() {
	all := int64(len(b.requests))
	for n := b.begun.Add(1); n <= all; n = b.begun.Add(1) {
		r := b.requests[n-1]
		r.more = all > 1
		err := b.timed(r)
		if r.free != nil {
			r.free()
		}
		if err != nil {
			b.end(err)
		}
	}
	if all > 1 {
		_ = b.send(false, nil) // an error was told to the next that sends, or reads
	}
}

// timed serves a request, and notes how long that took.
func (w *crew) timed(r request) error {
	began := time.Now()
	err := w.serve(r)
	took := time.Since(began)
	if took <= quickTime {
		w.quick.Add(1)
	} else {
		w.quick.Store(0)
	}
	if s := w.slow; s != nil && began.Sub(r.came)+took >= s.from {
		s.tell(Slow{Export: w.name, Peer: w.peer, What: requestNames[r.kind], Offset: int64(r.off), Length: int64(r.length), Durable: r.flags&cmdFlagFUA != 0,
			Came: r.came, Began: began, Ended: began.Add(took)})
	}
	return err
}

// work is one worker. It keeps reading while it serves quick requests. When one of them turns out to be late, reading is taken away and
// another worker serves those that come after it.
func (w *crew) work() {
	var watched, reads atomic.Bool // reads: it has reading
	taken := make(chan struct{}, 1)
	b := &batch{crew: w}
	late := time.AfterFunc(time.Hour, func() {
		if !watched.CompareAndSwap(true, false) {
			return
		}
		if reads.CompareAndSwap(true, false) {
			w.yield()
		}
		if rest := b; len(rest.requests) > 1 {
			w.wait.Go(func() {
				w.busy.Add(1)
				_ = w.send(false, nil) // the replies of those before it
				rest.serve()
				w.busy.Add(-1)
			})
		}
		taken <- struct{}{}
	})
	defer late.Stop()
	for {
		if !reads.Load() {
			w.take()
		}
		reads.Store(true)
		if !b.read() {
			return
		}
		if !b.isQuick() {
			reads.Store(false)
			w.yield()
		}
		w.busy.Add(1)
		if watch := reads.Load() || len(b.requests) > 1; watch {
			watched.Store(true)
			late.Reset(quickMost)
			b.serve()
			late.Stop()
			if !watched.CompareAndSwap(true, false) {
				<-taken
				b = &batch{crew: w} // the other one has it
			}
		} else {
			b.serve()
		}
		w.busy.Add(-1)
	}
}

var errDisconnect = errors.New("disconnect")

// requestHead is the length of a request without data, bytes.
const requestHead = 28

// piece is how much of a request is in memory at a time, bytes. Longer ones are served piece by piece.
const piece = 2 << 20

// readRequest reads one request with its data. c.reading is held.
func (c *conn) readRequest() (request, error) {
	var head [requestHead]byte
	if _, err := io.ReadFull(c.in, head[:]); err != nil {
		return request{}, err
	}
	now := time.Now()
	c.last.Store(now.UnixNano())
	if be.Uint32(head[:]) != magicRequest {
		return request{}, errors.New("wrong request magic")
	}
	r := request{came: now, flags: be.Uint16(head[4:]), kind: be.Uint16(head[6:]), cookie: be.Uint64(head[8:]),
		off: be.Uint64(head[16:]), length: be.Uint32(head[24:])}
	switch r.kind {
	case cmdDisconnect:
		return r, errDisconnect
	case cmdWrite:
		if r.length > maxRequest {
			return r, fmt.Errorf("write of %d bytes", r.length)
		}
		return r, c.readData(&r)
	}
	return r, nil
}

// readData takes the data of a write: into the export's own memory if it has any, else into ours if it is short, else it is
// written piece by piece as it comes.
func (c *conn) readData(r *request) error {
	valid := c.refuse(*r) == 0
	if x, ok := c.export.(Receiver); ok && r.length >= receiveFrom && valid {
		err := x.Receive(int64(r.off), int64(r.length), c.fill)
		if !errors.Is(err, ErrNotTaken) {
			r.taken = true
			return err
		}
	}
	n := min(int64(r.length), piece)
	if err := c.take(n); err != nil {
		return err
	}
	buf := getBuffer(int(n))
	free := func() {
		buffers.Put(buf)
		c.give(n)
	}
	if int64(r.length) <= piece {
		if _, err := io.ReadFull(c.in, *buf); err != nil {
			free()
			return err
		}
		r.data, r.free = *buf, free
		return nil
	}
	defer free()
	r.taken = true
	for at := int64(0); at < int64(r.length); {
		p := (*buf)[:min(piece, int64(r.length)-at)]
		if err := c.fill(p); err != nil {
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
	durable := r.flags&cmdFlagFUA != 0 && r.kind != cmdFlush
	switch r.kind {
	case cmdWrite:
		x, whole := c.export.(DurableWriter)
		switch {
		case r.taken:
			err = r.err
		case durable && whole:
			err, durable = x.WriteDurable(r.data, off), false
		default:
			err = c.export.Write(r.data, off)
		}
	case cmdFlush:
		err = c.export.Flush()
	case cmdTrim, cmdWriteZeroes:
		if x, trims := c.export.(Trimmer); trims && r.kind == cmdTrim {
			err = x.Trim(off, length)
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
const maxPending = 2 << 20

// send queues a reply, and writes all that is queued unless another worker is at it already: while that one is in the
// system call, the replies of the others gather and go out together. release is called when bufs are not needed any
// more. An error means the connection is of no more use; a reply that is queued for another worker reports none. With more, the reply waits for a
// call without, which may have no reply of its own.
func (c *conn) send(more bool, release func(), bufs ...[]byte) error {
	size := 0
	for _, b := range bufs {
		size += len(b)
	}
	if len(bufs) > 0 {
		c.answered.Add(1)
	}
	c.writing.Lock()
	for c.pending > maxPending && c.sending && c.broken == nil {
		c.written.Wait()
	}
	c.queue = append(c.queue, bufs...)
	c.releases = append(c.releases, release)
	c.pending += size
	if c.sending || more && c.pending <= maxPending {
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
			broken = c.writeOut(queue)
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

// writeOut writes buffers to the socket, in bounded time.
func (c *conn) writeOut(bufs [][]byte) error {
	now := time.Now()
	c.blocked.Store(now.UnixNano())
	defer c.blocked.Store(0)
	if now.After(c.renew) { // not for every reply: it costs more than a small one
		_ = c.nc.SetWriteDeadline(now.Add(writeTime + writeTime/4))
		c.renew = now.Add(writeTime / 4)
	}
	if len(bufs) == 1 {
		_, err := c.nc.Write(bufs[0])
		return err
	}
	v := net.Buffers(bufs)
	_, err := v.WriteTo(c.nc)
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
	return c.send(r.more, nil, simple(r, 0))
}

func (c *conn) fail(r request, code uint32, why string) error {
	if !c.structured || r.kind != cmdRead && r.kind != cmdBlockStatus {
		return c.send(r.more, nil, simple(r, code))
	}
	why = why[:min(len(why), 1000)]
	buf := chunk(r, chunkDone, chunkError, 6+len(why))
	buf = be.AppendUint32(buf, code)
	buf = be.AppendUint16(buf, uint16(len(why)))
	return c.send(r.more, nil, append(buf, why...))
}

func (c *conn) read(r request) error {
	if r.length > piece {
		return c.readLong(r)
	}
	if err := c.take(int64(r.length)); err != nil {
		return err
	}
	buf := getBuffer(int(r.length))
	release := func() {
		buffers.Put(buf)
		c.give(int64(r.length))
	}
	p := *buf
	holes, err := c.export.Read(p, int64(r.off))
	if err != nil {
		release()
		return c.fail(r, code(err), err.Error())
	}
	if !c.structured {
		return c.send(r.more, release, simple(r, 0), p)
	}
	if len(p) == 0 {
		return c.send(r.more, release, chunk(r, chunkDone, chunkNone, 0))
	}
	if r.flags&cmdFlagDF != 0 || len(holes) == 0 {
		return c.send(r.more, release, be.AppendUint64(chunk(r, chunkDone, chunkData, 8+len(p)), r.off), p)
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
	return c.send(r.more, release, bufs...)
}

// readLong answers a read of more than a piece, which is never in memory as a whole: with the socket to itself, one piece
// after the other. After the first of them a simple reply has no way to tell of an error, so the connection ends then.
func (c *conn) readLong(r request) error {
	if c.structured && r.flags&cmdFlagDF != 0 {
		return c.fail(r, errOverflow, "too long for one piece")
	}
	if err := c.take(piece); err != nil {
		return err
	}
	defer c.give(piece)
	buf := getBuffer(piece)
	defer buffers.Put(buf)
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
	err := c.readPieces(r, *buf)
	c.writing.Lock()
	c.sending = false
	if err != nil {
		c.broken = err
	}
	c.written.Broadcast()
	waiting := len(c.releases) > 0
	c.writing.Unlock()
	if err == nil && waiting {
		return c.send(false, nil) // what the others queued meanwhile
	}
	return err
}

func (c *conn) readPieces(r request, buf []byte) error {
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
			head := be.AppendUint32(chunk(r, chunkDone, chunkError, 6+len(why)), code(err))
			return c.writeOut([][]byte{append(be.AppendUint16(head, uint16(len(why))), why...)})
		case err != nil && off == r.off:
			return c.writeOut([][]byte{simple(r, code(err))})
		case err != nil:
			return err
		case c.structured:
			err = c.writeOut([][]byte{be.AppendUint64(chunk(r, last, chunkData, 8+len(p)), off), p})
		case off == r.off:
			err = c.writeOut([][]byte{simple(r, 0), p})
		default:
			err = c.writeOut([][]byte{p})
		}
		if err != nil {
			return err
		}
	}
	return nil
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
	return c.send(r.more, nil, buf)
}
