package nbd

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Client is one connection to an export, here or elsewhere. Its methods may be called at the same time: requests are on their way
// together, and each call returns with its own reply.
type Client struct {
	nc       net.Conn
	in       *bufio.Reader
	size     int64
	name     string
	shares   bool       // memory with the server
	writing  sync.Mutex // of requests to the connection
	queueing sync.Mutex
	queue    net.Buffers // requests that go out with the next write
	room     net.Buffers // for the queue after that

	heard atomic.Int64 // when a reply came last, or the connection was made, ns

	mu      sync.Mutex
	waiting map[uint64]*call // requests without a reply
	next    uint64
	broken  error
	down    chan struct{} // closed when the connection is of no more use
}

// call is one request on its way.
type call struct {
	in   [][]byte // where the data of a read goes
	done chan error

	land    sync.Mutex // held while a piece of the data comes in
	revoked bool       // what comes from now on goes nowhere
}

// ErrBroken is what calls return when the connection ended before their reply came: whether they were done is not known.
var ErrBroken = errors.New("the connection broke")

// replyBuffer takes in several short replies at once. What is left of a long one goes to where it belongs without another copy.
const replyBuffer = 16 << 10

// greeting bounds the handshake.
const greeting = 10 * time.Second

// RefusedError is what a server says when it does not give an export.
type RefusedError struct{ Why string }

func (r RefusedError) Error() string { return "refused: " + r.Why }

// Dial connects to the export of the given name at a Unix socket or TCP address.
func Dial(network, address, name string) (*Client, error) {
	return Dialer{Network: network, Address: address}.Dial(name)
}

// Dialer is how exports of a server are reached.
type Dialer struct {
	Network, Address string
	TLS              *tls.Config   // nil: not encrypted
	Patience         time.Duration // for the handshake; 0: ten seconds
	Control          net.Dialer    // how the connection is made
	Share            bool          // ask the server whether it shares memory with this client
}

// Dial connects to an export. A server that does not give it is a RefusedError.
func (d Dialer) Dial(name string) (*Client, error) {
	patience := d.Patience
	if patience <= 0 {
		patience = greeting
	}
	until := time.Now().Add(patience)
	d.Control.Deadline = until
	nc, err := d.Control.Dial(d.Network, d.Address)
	if err != nil {
		return nil, err
	}
	enlarge(nc)
	c := &Client{nc: nc, in: bufio.NewReaderSize(nc, replyBuffer), name: name, waiting: map[uint64]*call{}, down: make(chan struct{})}
	_ = nc.SetDeadline(until)
	if err := c.greet(name, d.TLS, d.Share); err != nil {
		_ = nc.Close()
		return nil, fmt.Errorf("export %q at %s: %w", name, d.Address, err)
	}
	_ = c.nc.SetDeadline(time.Time{})
	c.heard.Store(time.Now().UnixNano())
	go c.receive()
	return c, nil
}

// encrypt has the handshake go on encrypted.
func (c *Client) encrypt(settings *tls.Config) error {
	buf := be.AppendUint64(nil, magicOption)
	buf = be.AppendUint32(buf, optStartTLS)
	buf = be.AppendUint32(buf, 0)
	if _, err := c.nc.Write(buf); err != nil {
		return err
	}
	kind, body, err := c.optionReply()
	switch {
	case err != nil:
		return err
	case kind != repAck:
		return fmt.Errorf("the server does not encrypt: %.200q", body)
	case c.in.Buffered() != 0:
		return errors.New("data before encryption began")
	}
	secure := tls.Client(c.nc, settings)
	if err := secure.Handshake(); err != nil {
		return fmt.Errorf("encryption: %w", err)
	}
	c.nc, c.in = secure, bufio.NewReaderSize(secure, replyBuffer)
	return nil
}

// optionReply reads one reply to an option.
func (c *Client) optionReply() (kind uint32, body []byte, err error) {
	var head [20]byte
	if _, err := io.ReadFull(c.in, head[:]); err != nil {
		return 0, nil, err
	}
	kind, length := be.Uint32(head[12:]), be.Uint32(head[16:])
	if be.Uint64(head[:]) != magicReply || length > maxOption {
		return 0, nil, errors.New("malformed reply to an option")
	}
	body = make([]byte, length)
	_, err = io.ReadFull(c.in, body)
	return kind, body, err
}

func (c *Client) greet(name string, settings *tls.Config, share bool) error {
	var hello [18]byte
	if _, err := io.ReadFull(c.in, hello[:]); err != nil {
		return err
	}
	if be.Uint64(hello[:]) != magicInit || be.Uint64(hello[8:]) != magicOption || be.Uint16(hello[16:])&flagFixedNewstyle == 0 {
		return errors.New("not a server of the fixed newstyle protocol")
	}
	if _, err := c.nc.Write(be.AppendUint32(nil, flagFixedNewstyle|flagNoZeroes)); err != nil {
		return err
	}
	if settings != nil {
		if err := c.encrypt(settings); err != nil {
			return err
		}
	}
	infos := []uint16{infoName}
	if share {
		infos = append(infos, infoShared)
	}
	buf := be.AppendUint64(nil, magicOption)
	buf = be.AppendUint32(buf, optGo)
	buf = be.AppendUint32(buf, uint32(4+len(name)+2+2*len(infos)))
	buf = be.AppendUint32(buf, uint32(len(name)))
	buf = append(buf, name...)
	buf = be.AppendUint16(buf, uint16(len(infos)))
	for _, info := range infos {
		buf = be.AppendUint16(buf, info)
	}
	if _, err := c.nc.Write(buf); err != nil {
		return err
	}
	for {
		kind, body, err := c.optionReply()
		if err != nil {
			return err
		}
		switch {
		case kind == repInfo && len(body) >= 12 && be.Uint16(body) == infoExport:
			c.size = int64(be.Uint64(body[2:]))
		case kind == repInfo && len(body) >= 2 && be.Uint16(body) == infoName:
			c.name = string(body[2:])
		case kind == repInfo && len(body) >= 2 && be.Uint16(body) == infoShared:
			c.shares = share
		case kind == repInfo:
		case kind == repAck:
			if c.size < 0 {
				return errors.New("a size beyond all bounds")
			}
			return nil
		default:
			return RefusedError{fmt.Sprintf("%.200s", body)}
		}
	}
}

// Size is the size of the export in bytes, when the connection was made.
func (c *Client) Size() int64 { return c.size }

// Name is what the server calls the export.
func (c *Client) Name() string { return c.name }

// Down is closed when the connection is of no more use.
func (c *Client) Down() <-chan struct{} { return c.down }

// ReadAt reads all of p.
func (c *Client) ReadAt(p []byte, off int64) error { return c.ReadVec([][]byte{p}, off) }

// ReadVec reads one stretch into several buffers, in order. The buffers are its own until it returns, whatever it returns.
func (c *Client) ReadVec(bufs [][]byte, off int64) error {
	return c.do(cmdRead, 0, off, total(bufs), nil, bufs)
}

// ReadRevocable is ReadVec for a caller that may stop waiting for the reply. arm gets a function that revokes the read: once it has returned, nothing is put
// into the buffers any more. arm says whether the read is still wanted.
func (c *Client) ReadRevocable(bufs [][]byte, off int64, arm func(revoke func()) bool) error {
	this := &call{in: bufs, done: make(chan error, 1)}
	cookie, busy, err := c.enter(this)
	if err != nil {
		return err
	}
	if !arm(func() { c.revoke(this) }) {
		c.revoke(this) // what comes for it is thrown away, and it has to be asked for since it waits
	}
	return c.ask(this, busy, head(cmdRead, 0, cookie, off, total(bufs)), nil)
}

// Data comes in by pieces of landed bytes. A read that is revoked waits for the one that is coming in, but when that takes longer than landing the
// connection is given up: over a link that is merely slow it does not.
const (
	landed  = 64 << 10
	landing = time.Second
)

// revoke has nothing more come into the buffers of a read.
func (c *Client) revoke(this *call) {
	late := time.AfterFunc(landing, func() { c.fail(errors.New("half of a reply came")) })
	this.land.Lock()
	this.revoked = true
	this.land.Unlock()
	late.Stop()
}

// WriteAt writes all of p.
func (c *Client) WriteAt(p []byte, off int64) error { return c.WriteVec([][]byte{p}, off) }

// WriteVec writes several buffers to one stretch, in order.
func (c *Client) WriteVec(bufs [][]byte, off int64) error {
	return c.do(cmdWrite, 0, off, total(bufs), bufs, nil)
}

// WriteDurable is WriteAt that returns when the data is durable (forced unit access).
func (c *Client) WriteDurable(p []byte, off int64) error {
	return c.do(cmdWrite, cmdFlagFUA, off, len(p), [][]byte{p}, nil)
}

// Zero makes a range read as zeros.
func (c *Client) Zero(off int64, length int) error {
	return c.do(cmdWriteZeroes, 0, off, length, nil, nil)
}

// Trim forgets what a range holds; what it reads as then is not said.
func (c *Client) Trim(off int64, length int) error { return c.do(cmdTrim, 0, off, length, nil, nil) }

// Flush makes what was written durable.
func (c *Client) Flush() error { return c.do(cmdFlush, 0, 0, 0, nil, nil) }

// Ping has an answer from the server, whatever it does otherwise: a question that it refuses.
func (c *Client) Ping() error {
	err := c.do(cmdBlockStatus, 0, 0, 1, nil, nil)
	if errors.Is(err, ErrIO) {
		return nil
	}
	return err
}

// Silent is for how long nothing came although something was asked.
func (c *Client) Silent() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.waiting) == 0 {
		return 0
	}
	return time.Since(time.Unix(0, c.heard.Load()))
}

// Abandon ends the connection at once. Calls that have no reply yet fail.
func (c *Client) Abandon() { c.fail(net.ErrClosed) }

// Close leaves in order. Calls that have no reply yet fail.
func (c *Client) Close() error {
	c.writing.Lock()
	_ = c.nc.SetWriteDeadline(time.Now().Add(time.Second))
	_, _ = c.nc.Write(head(cmdDisconnect, 0, 0, 0, 0))
	c.writing.Unlock()
	c.fail(net.ErrClosed)
	return nil
}

func total(bufs [][]byte) (n int) {
	for _, b := range bufs {
		n += len(b)
	}
	return n
}

func head(kind, flags uint16, cookie uint64, off int64, length int) []byte {
	buf := be.AppendUint32(make([]byte, 0, 36), magicRequest) // with room for a place
	buf = be.AppendUint16(buf, flags)
	buf = be.AppendUint16(buf, kind)
	buf = be.AppendUint64(buf, cookie)
	buf = be.AppendUint64(buf, uint64(off))
	return be.AppendUint32(buf, uint32(length))
}

func (c *Client) do(kind, flags uint16, off int64, length int, out, in [][]byte) error {
	this := &call{in: in, done: make(chan error, 1)}
	cookie, busy, err := c.enter(this)
	if err != nil {
		return err
	}
	return c.ask(this, busy, head(kind, flags, cookie, off, length), out)
}

// enter has a call be among those that wait for a reply, and says whether there are others.
func (c *Client) enter(this *call) (cookie uint64, busy bool, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.broken != nil {
		return 0, false, c.broken
	}
	c.next++
	c.waiting[c.next] = this
	return c.next, len(c.waiting) > 2, nil
}

// WriteMany writes n stretches, each of several buffers in order. Their requests go out together. It returns when all have their replies, with the first
// error: then any of them may have been done.
func (c *Client) WriteMany(n int, stretch func(i int) (bufs [][]byte, off int64)) error {
	return c.many(cmdWrite, n, stretch, nil)
}

// ReadMany is ReadRevocable for n stretches, whose requests go out together. It returns when all have their replies, with the first error.
func (c *Client) ReadMany(n int, stretch func(i int) (bufs [][]byte, off int64), arm func(revoke func()) bool) error {
	return c.many(cmdRead, n, stretch, arm)
}

func (c *Client) many(kind uint16, n int, stretch func(i int) (bufs [][]byte, off int64), arm func(revoke func()) bool) error {
	calls, done := make([]call, n), make(chan error, n)
	out := make([][]byte, 0, 2*n)
	for i := range calls {
		calls[i].done = done
		bufs, off := stretch(i)
		if kind == cmdRead {
			calls[i].in = bufs
		}
		cookie, _, err := c.enter(&calls[i])
		if err != nil {
			for range i { // those before have it as well
				<-done
			}
			return err
		}
		if out = append(out, head(kind, 0, cookie, off, total(bufs))); kind == cmdWrite {
			out = append(out, bufs...)
		}
	}
	revoke := func() {
		for i := range calls {
			c.revoke(&calls[i])
		}
	}
	if arm != nil && !arm(revoke) {
		revoke()
	}
	c.say(false, out)
	var first error
	for range n {
		if err := <-done; err != nil && first == nil {
			first = err
		}
	}
	return first
}

// ask sends a request, and waits for its reply.
func (c *Client) ask(this *call, busy bool, head []byte, out [][]byte) error {
	c.say(busy, [][]byte{head}, out)
	return <-this.done
}

// say sends requests, together with those of others that come at the same time.
func (c *Client) say(busy bool, out ...[][]byte) {
	c.queueing.Lock()
	first := len(c.queue) == 0
	for _, bufs := range out {
		c.queue = append(c.queue, bufs...)
	}
	c.queueing.Unlock()
	if first { // all others go with this one
		if busy {
			runtime.Gosched() // whoever is about to ask for something does it now, and saves a system call
		}
		c.writing.Lock()
		c.queueing.Lock()
		v := c.queue
		c.queue, c.room = c.room[:0], v
		c.queueing.Unlock()
		err := c.send(v)
		c.writing.Unlock()
		if err != nil {
			c.fail(err)
		}
	}
}

// send writes all buffers, in one go where that is worth it.
func (c *Client) send(v net.Buffers) error {
	if _, encrypted := c.nc.(*tls.Conn); encrypted && len(v) > 1 {
		v = joined(v) // each write is at least one record
	}
	_, err := v.WriteTo(c.nc)
	return err
}

// tlsRecord is how much goes into one record of an encrypted connection, bytes.
const tlsRecord = 16 << 10

// joined has small buffers that follow each other be one, as far as they fit into a record.
func joined(v net.Buffers) (out net.Buffers) {
	for len(v) > 0 {
		n, bytes := 1, len(v[0])
		for n < len(v) && bytes+len(v[n]) <= tlsRecord {
			bytes += len(v[n])
			n++
		}
		if n == 1 {
			out = append(out, v[0])
		} else {
			out = append(out, slices.Concat(v[:n]...))
		}
		v = v[n:]
	}
	return out
}

// receive hands replies to the callers that wait for them.
func (c *Client) receive() {
	for {
		var head [16]byte
		if _, err := io.ReadFull(c.in, head[:]); err != nil {
			c.fail(err)
			return
		}
		c.heard.Store(time.Now().UnixNano())
		c.mu.Lock()
		cookie := be.Uint64(head[8:])
		this := c.waiting[cookie]
		delete(c.waiting, cookie)
		c.mu.Unlock()
		if be.Uint32(head[:]) != magicSimple || this == nil {
			c.fail(errors.New("malformed reply"))
			if this != nil {
				this.done <- c.broken
			}
			return
		}
		err := answered(be.Uint32(head[4:]))
		if err == nil {
			err = c.take(this)
		}
		if errors.Is(err, errHalf) {
			c.fail(err)
			this.done <- c.broken
			return
		}
		this.done <- err
	}
}

var errHalf = errors.New("no more of a reply came")

// take takes in the data of a read.
func (c *Client) take(this *call) error {
	for _, b := range this.in {
		for len(b) > 0 {
			n := min(len(b), landed)
			if err := c.land(this, b[:n]); err != nil {
				return fmt.Errorf("%w: %w", errHalf, err)
			}
			b = b[n:]
		}
	}
	return nil
}

// land takes in a piece.
func (c *Client) land(this *call, piece []byte) (err error) {
	this.land.Lock()
	defer this.land.Unlock()
	if this.revoked {
		_, err = io.CopyN(io.Discard, c.in, int64(len(piece)))
		return err
	}
	n := min(c.in.Buffered(), len(piece))
	if _, err = io.ReadFull(c.in, piece[:n]); err == nil {
		_, err = io.ReadFull(c.nc, piece[n:]) // without a copy
	}
	return err
}

// fail ends the connection for all callers that wait. They come back only when nothing is written from their buffers any more.
func (c *Client) fail(why error) {
	c.mu.Lock()
	if c.broken != nil {
		c.mu.Unlock()
		return
	}
	c.broken = fmt.Errorf("%w: %w", ErrBroken, why)
	under := c.nc
	if secure, ok := under.(*tls.Conn); ok {
		under = secure.NetConn() // its own Close would say goodbye first
	}
	_ = under.Close()
	close(c.down)
	waiting := c.waiting
	c.waiting = map[uint64]*call{}
	c.mu.Unlock()
	c.writing.Lock()
	defer c.writing.Unlock()
	for _, this := range waiting {
		this.done <- c.broken
	}
}

// ErrIO is every other error that a server answers with.
var ErrIO = errors.New("the server answered with error")

func answered(code uint32) error {
	switch code {
	case 0:
		return nil
	case errNoSpace:
		return ErrNoSpace
	case errShutdown:
		return ErrShutdown
	}
	return fmt.Errorf("%w %d", ErrIO, code)
}
