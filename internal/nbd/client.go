package nbd

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// Client is one connection to an export, here or elsewhere. Its methods may be called at the same time: requests are on their way
// together, and each call returns with its own reply.
type Client struct {
	nc      net.Conn
	in      *bufio.Reader
	size    int64
	name    string
	writing sync.Mutex // of requests to the connection

	mu      sync.Mutex
	waiting map[uint64]*call // requests without a reply
	next    uint64
	broken  error
	down    chan struct{} // closed when the connection is of no more use
}

// call is one request on its way.
type call struct {
	in   []byte // where the data of a read goes
	done chan error
}

// ErrBroken is what calls return when the connection ended before their reply came: whether they were done is not known.
var ErrBroken = errors.New("the connection broke")

// greeting bounds the handshake.
const greeting = 10 * time.Second

// Dial connects to the export of the given name at a Unix socket or TCP address.
func Dial(network, address, name string) (*Client, error) {
	nc, err := net.DialTimeout(network, address, greeting)
	if err != nil {
		return nil, err
	}
	enlarge(nc)
	c := &Client{nc: nc, in: bufio.NewReaderSize(nc, 64<<10), name: name, waiting: map[uint64]*call{}, down: make(chan struct{})}
	_ = nc.SetDeadline(time.Now().Add(greeting))
	if err := c.greet(name); err != nil {
		_ = nc.Close()
		return nil, fmt.Errorf("export %q at %s: %w", name, address, err)
	}
	_ = nc.SetDeadline(time.Time{})
	go c.receive()
	return c, nil
}

func (c *Client) greet(name string) error {
	var hello [18]byte
	if _, err := io.ReadFull(c.in, hello[:]); err != nil {
		return err
	}
	if be.Uint64(hello[:]) != magicInit || be.Uint64(hello[8:]) != magicOption || be.Uint16(hello[16:])&flagFixedNewstyle == 0 {
		return errors.New("not a server of the fixed newstyle protocol")
	}
	buf := be.AppendUint32(nil, flagFixedNewstyle|flagNoZeroes)
	buf = be.AppendUint64(buf, magicOption)
	buf = be.AppendUint32(buf, optGo)
	buf = be.AppendUint32(buf, uint32(4+len(name)+4))
	buf = be.AppendUint32(buf, uint32(len(name)))
	buf = append(buf, name...)
	buf = be.AppendUint16(buf, 1)
	buf = be.AppendUint16(buf, infoName)
	if _, err := c.nc.Write(buf); err != nil {
		return err
	}
	for {
		var head [20]byte
		if _, err := io.ReadFull(c.in, head[:]); err != nil {
			return err
		}
		kind, length := be.Uint32(head[12:]), be.Uint32(head[16:])
		if be.Uint64(head[:]) != magicReply || length > maxOption {
			return errors.New("malformed reply to an option")
		}
		body := make([]byte, length)
		if _, err := io.ReadFull(c.in, body); err != nil {
			return err
		}
		switch {
		case kind == repInfo && length >= 12 && be.Uint16(body) == infoExport:
			c.size = int64(be.Uint64(body[2:]))
		case kind == repInfo && length >= 2 && be.Uint16(body) == infoName:
			c.name = string(body[2:])
		case kind == repInfo:
		case kind == repAck:
			if c.size < 0 {
				return errors.New("a size beyond all bounds")
			}
			return nil
		default:
			return fmt.Errorf("refused: %.200s", body)
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
func (c *Client) ReadAt(p []byte, off int64) error { return c.do(cmdRead, 0, off, len(p), nil, p) }

// WriteAt writes all of p.
func (c *Client) WriteAt(p []byte, off int64) error { return c.do(cmdWrite, 0, off, len(p), p, nil) }

// WriteDurable is WriteAt that returns when the data is durable (forced unit access).
func (c *Client) WriteDurable(p []byte, off int64) error {
	return c.do(cmdWrite, cmdFlagFUA, off, len(p), p, nil)
}

// Zero makes a range read as zeros.
func (c *Client) Zero(off int64, length int) error {
	return c.do(cmdWriteZeroes, 0, off, length, nil, nil)
}

// Flush makes what was written durable.
func (c *Client) Flush() error { return c.do(cmdFlush, 0, 0, 0, nil, nil) }

// Close leaves in order. Calls that have no reply yet fail.
func (c *Client) Close() error {
	c.writing.Lock()
	_ = c.nc.SetWriteDeadline(time.Now().Add(time.Second))
	_, _ = c.nc.Write(head(cmdDisconnect, 0, 0, 0, 0))
	c.writing.Unlock()
	c.fail(net.ErrClosed)
	return nil
}

func head(kind, flags uint16, cookie uint64, off int64, length int) []byte {
	buf := be.AppendUint32(make([]byte, 0, 28), magicRequest)
	buf = be.AppendUint16(buf, flags)
	buf = be.AppendUint16(buf, kind)
	buf = be.AppendUint64(buf, cookie)
	buf = be.AppendUint64(buf, uint64(off))
	return be.AppendUint32(buf, uint32(length))
}

func (c *Client) do(kind, flags uint16, off int64, length int, out, in []byte) error {
	this := &call{in: in, done: make(chan error, 1)}
	c.mu.Lock()
	if c.broken != nil {
		c.mu.Unlock()
		return c.broken
	}
	c.next++
	cookie := c.next
	c.waiting[cookie] = this
	c.mu.Unlock()

	v := net.Buffers{head(kind, flags, cookie, off, length)}
	if len(out) > 0 {
		v = append(v, out)
	}
	c.writing.Lock()
	_, err := v.WriteTo(c.nc)
	c.writing.Unlock()
	if err != nil {
		c.fail(err)
	}
	return <-this.done
}

// receive hands replies to the callers that wait for them.
func (c *Client) receive() {
	for {
		var head [16]byte
		if _, err := io.ReadFull(c.in, head[:]); err != nil {
			c.fail(err)
			return
		}
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
		if err == nil && len(this.in) > 0 {
			if _, broken := io.ReadFull(c.in, this.in); broken != nil {
				c.fail(broken)
				this.done <- c.broken
				return
			}
		}
		this.done <- err
	}
}

// fail ends the connection for all callers that wait.
func (c *Client) fail(why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.broken != nil {
		return
	}
	c.broken = fmt.Errorf("%w: %w", ErrBroken, why)
	_ = c.nc.Close()
	close(c.down)
	for cookie, this := range c.waiting {
		delete(c.waiting, cookie)
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
