package nbd

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
)

// Client is one connection to an export, here or elsewhere. Its methods may be called concurrently; requests go out one
// at a time.
type Client struct {
	mu   sync.Mutex
	nc   net.Conn
	in   *bufio.Reader
	size int64
	next uint64
}

// Dial connects to the export of the given name at a Unix socket or TCP address.
func Dial(network, address, name string) (*Client, error) {
	nc, err := net.Dial(network, address)
	if err != nil {
		return nil, err
	}
	c := &Client{nc: nc, in: bufio.NewReaderSize(nc, 64<<10)}
	if err := c.greet(name); err != nil {
		_ = nc.Close()
		return nil, fmt.Errorf("export %q at %s: %w", name, address, err)
	}
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
	buf = be.AppendUint32(buf, uint32(4+len(name)+2))
	buf = be.AppendUint32(buf, uint32(len(name)))
	buf = append(append(buf, name...), 0, 0)
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
		case kind == repInfo && length >= 10 && be.Uint16(body) == infoExport:
			c.size = int64(be.Uint64(body[2:]))
		case kind == repInfo:
		case kind == repAck:
			return nil
		default:
			return fmt.Errorf("refused: %s", body)
		}
	}
}

// Size is the size of the export in bytes.
func (c *Client) Size() int64 { return c.size }

// ReadAt reads all of p.
func (c *Client) ReadAt(p []byte, off int64) error { return c.do(cmdRead, off, len(p), nil, p) }

// WriteAt writes all of p.
func (c *Client) WriteAt(p []byte, off int64) error { return c.do(cmdWrite, off, len(p), p, nil) }

// Zero makes a range read as zeros.
func (c *Client) Zero(off int64, length int) error {
	return c.do(cmdWriteZeroes, off, length, nil, nil)
}

// Flush makes what was written durable.
func (c *Client) Flush() error { return c.do(cmdFlush, 0, 0, nil, nil) }

// Close leaves in order.
func (c *Client) Close() error {
	_ = c.do(cmdDisconnect, 0, 0, nil, nil)
	return c.nc.Close()
}

func (c *Client) do(kind uint16, off int64, length int, out, in []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.next++
	buf := be.AppendUint32(make([]byte, 0, 28), magicRequest)
	buf = be.AppendUint16(buf, 0)
	buf = be.AppendUint16(buf, kind)
	buf = be.AppendUint64(buf, c.next)
	buf = be.AppendUint64(buf, uint64(off))
	buf = be.AppendUint32(buf, uint32(length))
	v := net.Buffers{buf, out}
	if _, err := v.WriteTo(c.nc); err != nil || kind == cmdDisconnect {
		return err
	}
	var head [16]byte
	if _, err := io.ReadFull(c.in, head[:]); err != nil {
		return err
	}
	if be.Uint32(head[:]) != magicSimple || be.Uint64(head[8:]) != c.next {
		return errors.New("malformed reply")
	}
	if code := be.Uint32(head[4:]); code != 0 {
		return fmt.Errorf("the server answered with error %d", code)
	}
	_, err := io.ReadFull(c.in, in)
	return err
}
