package nbd

import (
	"errors"
	"net"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/internal/clock"
)

// workers is how many requests of one connection are served at the same time, and together how many small ones that have come together
// one of them serves in turn, as long as requests are quick.
const workers, together = 32, 8

// A request counts as quick when it was served within quickTime. Once quick ones outweigh the others by quickScore, see judge, the next is taken to be quick as
// well; when it is not, another worker reads on after quickMost.
const (
	quickTime  = 50 * time.Microsecond
	quickScore = 64
	quickMost  = time.Millisecond
)

// A client that asks only when it was answered needs no worker that reads meanwhile. After aloneRow requests in a row that came so, one worker reads
// and serves them all; after aloneMost others read again for a while, to see whether it is still so.
const (
	aloneRow  = 64
	aloneMost = 4096
)

// transmit serves requests until the client leaves. Workers take turns at reading: the one that has read a request serves it
// while another reads the next, so nothing is handed from one to another. More of them are started as long as requests
// come while others are being served. While requests are quick, one worker reads and serves them all: to wake another would take
// longer than a request. A client for which one processor is not enough has several connections.
func (c *conn) transmit() error {
	c.can = abilitiesOf(c.export)
	c.tcp, _ = c.nc.(*net.TCPConn)
	_, c.local = c.nc.(*net.UnixConn)
	if c.can.wait != nil {
		c.waits = c.can.wait.Waits()
	}
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
func (w *crew) next(r *request) (ok bool) {
	if w.over {
		w.reading.Unlock()
		return false
	}
	if err := w.readRequest(r); err != nil {
		w.over = true
		w.reading.Unlock()
		w.end(err)
		return false
	}
	if w.asked++; w.answered.Load() == w.asked-1 && w.in.Buffered() == 0 && w.alone < aloneMost {
		w.alone++
	} else {
		w.alone = 0
	}
	return true
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
	b.requests = b.requests[:0]
	b.begun.Store(0)
	for {
		b.requests = append(b.requests, request{})
		r := &b.requests[len(b.requests)-1]
		if !b.next(r) {
			return false
		}
		if !r.small() || len(b.requests) == together || !b.areQuick() || !b.smallNext() {
			return true
		}
	}
}

// small says whether a request is one that others may be served after, in turn.
func (r *request) small() bool {
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
	r := request{flags: be.Uint16(head[4:]), kind: be.Uint16(head[6:]), length: be.Uint32(head[24:])}
	if !r.small() {
		return false
	}
	follows := 0
	switch {
	case c.inShared(&r):
		follows = placeLength
	case r.kind == cmdWrite:
		follows = int(r.length)
	}
	return have >= requestHead+follows
}

// On a machine of two processors the worker that has read the request for a long read serves it before it reads the next long one, as long as the data is
// in memory. The client has the other processor. With a second worker on that, a reply would wake the client on the processor of the worker that
// sends; the two would share it, and the other one would be idle for a third of the time. After a read that took more, see Waiter, several workers
// serve the next apartMost.
const (
	longRead  = 256 << 10
	longMost  = 4 * time.Millisecond // as quickMost
	apartMost = 64
)

// few says that the machine has no processor besides that of a client and that of a worker.
var few = runtime.NumCPU() <= 2

// long says whether a request is a long read.
func (r *request) long() bool { return r.kind == cmdRead && r.length >= longRead }

// shorterNext says whether something is here that a long read had better not keep waiting.
func (c *conn) shorterNext() bool {
	if c.in.Buffered() < requestHead {
		return false
	}
	head, err := c.in.Peek(requestHead)
	if err != nil {
		return false
	}
	next := request{kind: be.Uint16(head[6:]), length: be.Uint32(head[24:])}
	return !next.long()
}

// keeps says whether the worker that read a request keeps reading because of its length. c.reading is held.
func (c *conn) keeps(r *request) bool {
	if !few || !c.local || c.can.wait == nil || r.shared || !r.long() || c.shorterNext() {
		return false
	}
	if waits := c.can.wait.Waits(); waits != c.waits {
		c.waits, c.apart = waits, apartMost
	}
	c.apart--
	return c.apart < 0
}

// ready is when all that was read was here.
func (b *batch) ready() clock.Moment { return b.requests[len(b.requests)-1].whole }

// isQuick says whether what was read will be served so soon that handing reading over would take longer.
func (b *batch) isQuick() bool {
	kind := b.requests[0].kind
	if b.keeps(&b.requests[0]) {
		return true
	}
	return b.areQuick() && (kind == cmdRead || kind == cmdWrite) || b.alone >= aloneRow && b.in.Buffered() == 0
}

// most is how long it may take before another worker reads on.
func (b *batch) most() time.Duration {
	if b.requests[0].long() {
		return longMost
	}
	return quickMost
}

// serve serves, one after the other, those that no worker has begun. The first begins at a moment that has just been. The replies of all go out together.
func (b *batch) serve(at clock.Moment) {
	all := int64(len(b.requests))
	for n := b.begun.Add(1); n <= all; n = b.begun.Add(1) {
		r := &b.requests[n-1]
		r.more = all > 1
		var err error
		at, err = b.timed(r, at)
		b.letGo(r.held)
		if err != nil {
			b.end(err)
		}
	}
	if all > 1 {
		_ = b.send(false, hold{}, nil) // an error was told to the next that sends, or reads
	}
}

// judge counts a request for the quick ones, or against them by one for each quickTime that it took. So one that waited for a disk outweighs many, and one
// during which the processor had something else to do only some.
func (w *crew) judge(took time.Duration) {
	score := w.quick.Load()
	if took <= quickTime {
		score = min(score+1, 2*quickScore)
	} else {
		score = max(0, score-int64(took/quickTime))
	}
	w.quick.Store(score) // when another worker counts at the same time, one of the two is forgotten
}

// areQuick says whether requests are quick on the whole.
func (w *crew) areQuick() bool { return w.quick.Load() >= quickScore }

// timed serves a request, and notes how long that took.
func (w *crew) timed(r *request, began clock.Moment) (ended clock.Moment, err error) {
	err = w.serve(r)
	ended = clock.Now()
	w.judge(time.Duration(ended - began))
	if s := w.slow; s != nil && time.Duration(ended-r.came) >= s.from {
		s.tell(Slow{Export: w.name, Peer: w.peer, What: requestNames[r.kind], Offset: int64(r.off), Length: int64(r.length), Durable: r.flags&cmdFlagFUA != 0,
			Came: r.came.Wall(), Began: began.Wall(), Ended: ended.Wall()})
	}
	return ended, err
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
				_ = w.send(false, hold{}, nil) // the replies of those before it
				rest.serve(clock.Now())
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
			late.Reset(b.most())
			b.serve(b.ready())
			late.Stop()
			if !watched.CompareAndSwap(true, false) {
				<-taken
				b = &batch{crew: w} // the other one has it
			}
		} else {
			b.serve(b.ready())
		}
		w.busy.Add(-1)
	}
}
