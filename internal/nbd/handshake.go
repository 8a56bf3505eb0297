package nbd

import (
	"bufio"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
)

var be = binary.BigEndian

var errAborted = fmt.Errorf("the client left: %w", io.EOF)

// handshake talks until the client has chosen an export (then c.export is set) or left.
func (c *conn) handshake() error {
	var hello [18]byte
	be.PutUint64(hello[0:], magicInit)
	be.PutUint64(hello[8:], magicOption)
	be.PutUint16(hello[16:], flagFixedNewstyle|flagNoZeroes)
	if _, err := c.nc.Write(hello[:]); err != nil {
		return err
	}
	var flags [4]byte
	if _, err := io.ReadFull(c.in, flags[:]); err != nil {
		return err
	}
	f := be.Uint32(flags[:])
	if f&flagFixedNewstyle == 0 || f&^uint32(flagFixedNewstyle|flagNoZeroes) != 0 {
		return fmt.Errorf("client flags %#x", f)
	}
	c.noZeroes = f&flagNoZeroes != 0
	for range maxOptions {
		var head [16]byte
		if _, err := io.ReadFull(c.in, head[:]); err != nil {
			return err
		}
		if be.Uint64(head[:]) != magicOption {
			return errors.New("wrong option magic")
		}
		option, length := be.Uint32(head[8:]), be.Uint32(head[12:])
		if length > maxOption {
			return fmt.Errorf("option %d of %d bytes", option, length)
		}
		body := make([]byte, length)
		if _, err := io.ReadFull(c.in, body); err != nil {
			return err
		}
		done, err := c.option(option, body)
		if err != nil || done {
			return err
		}
	}
	return errors.New("too many options")
}

func (c *conn) option(option uint32, body []byte) (done bool, err error) {
	if c.tls != nil && !c.secured && option != optStartTLS && option != optAbort {
		if option == optExportName {
			return true, errors.New("the client does not encrypt")
		}
		return false, c.reply(option, repErrTLSReqd, []byte("this address is encrypted only"))
	}
	switch option {
	case optStartTLS:
		return false, c.startTLS(body)
	case optExportName:
		return true, c.exportName(string(body))
	case optAbort:
		_ = c.reply(option, repAck, nil)
		return true, errAborted
	case optList:
		if len(body) != 0 {
			return false, c.reply(option, repErrInvalid, []byte("LIST takes no data"))
		}
		for _, name := range c.exports.Names() {
			if err := c.reply(option, repServer, append(be.AppendUint32(nil, uint32(len(name))), name...)); err != nil {
				return false, err
			}
		}
		return false, c.reply(option, repAck, nil)
	case optInfo, optGo:
		return c.info(option, body)
	case optStructuredReply:
		if len(body) != 0 {
			return false, c.reply(option, repErrInvalid, []byte("STRUCTURED_REPLY takes no data"))
		}
		c.structured = true
		return false, c.reply(option, repAck, nil)
	case optListMeta, optSetMeta:
		return false, c.meta(option, body)
	}
	return false, c.reply(option, repErrUnsup, []byte("this server does not have that option"))
}

// startTLS goes on with the handshake encrypted. Nothing said before counts, and nothing may have been sent ahead.
func (c *conn) startTLS(body []byte) error {
	switch {
	case c.tls == nil || c.secured:
		return c.reply(optStartTLS, repErrUnsup, []byte("this address is not encrypted, or is already"))
	case len(body) != 0 || c.in.Buffered() != 0:
		return errors.New("STARTTLS with data")
	}
	if err := c.reply(optStartTLS, repAck, nil); err != nil {
		return err
	}
	secure := tls.Server(c.nc, c.tls)
	if err := secure.Handshake(); err != nil {
		return fmt.Errorf("encryption: %w", err)
	}
	c.nc, c.secured, c.structured, c.allocation = secure, true, false, false
	if name := nameOf(secure.ConnectionState().PeerCertificates); name != "" {
		c.peer = certified + name + " at " + c.peer
	}
	c.in = bufio.NewReaderSize(secure, 64<<10)
	return nil
}

func (c *conn) reply(option, kind uint32, body []byte) error {
	buf := be.AppendUint64(nil, magicReply)
	buf = be.AppendUint32(buf, option)
	buf = be.AppendUint32(buf, kind)
	buf = be.AppendUint32(buf, uint32(len(body)))
	_, err := c.nc.Write(append(buf, body...))
	return err
}

// DeviceFlags are the transmission flags of what ServeDevice serves.
const DeviceFlags = txFlags

const txFlags = txHasFlags | txFlush | txFUA | txTrim | txWriteZeroes | txMultiConn

func (c *conn) flags(x Export) uint16 {
	flags := uint16(txFlags)
	if readOnly(x) {
		flags = txHasFlags | txReadOnly | txMultiConn
	}
	if c.structured {
		flags |= txDF
	}
	return flags
}

func (c *conn) exportName(name string) error {
	if len(name) > maxName {
		return errors.New("export name too long")
	}
	export, release, err := c.open(name, true)
	if err != nil {
		return err // the protocol has no way to say so here
	}
	buf := be.AppendUint64(nil, uint64(export.Size()))
	buf = be.AppendUint16(buf, c.flags(export))
	if !c.noZeroes {
		buf = append(buf, make([]byte, 124)...)
	}
	if _, err := c.nc.Write(buf); err != nil {
		release()
		return err
	}
	c.choose(name, export, release)
	return nil
}

// open finds an export; to use it the connection needs one of the slots for clients.
func (c *conn) open(name string, use bool) (Export, func(), error) {
	export, release, err := c.exports.Open(name, c.peer)
	if err == nil && use {
		if err = c.gate.enter(c); err != nil {
			release()
		}
	}
	return export, release, err
}

func (c *conn) choose(name string, export Export, release func()) {
	c.name, c.export, c.release = name, export, release
	c.allocation = c.allocation && c.structured && c.contextFor == name
}

// takeName reads a length and as many bytes from the front of body.
func takeName(body []byte) (name string, rest []byte, ok bool) {
	if len(body) < 4 {
		return "", nil, false
	}
	n := be.Uint32(body)
	if n > maxName || uint64(n) > uint64(len(body)-4) {
		return "", nil, false
	}
	return string(body[4 : 4+n]), body[4+n:], true
}

func (c *conn) info(option uint32, body []byte) (done bool, err error) {
	name, rest, ok := takeName(body)
	if !ok || len(rest) < 2 || len(rest) != 2+2*int(be.Uint16(rest)) {
		return false, c.reply(option, repErrInvalid, []byte("malformed request"))
	}
	export, release, err := c.open(name, option == optGo)
	if err != nil {
		return false, c.reply(option, repErrUnknown, []byte(err.Error()))
	}
	keep := false
	defer func() {
		if !keep {
			release()
		}
	}()
	buf := be.AppendUint16(nil, infoExport)
	buf = be.AppendUint64(buf, uint64(export.Size()))
	buf = be.AppendUint16(buf, c.flags(export))
	if err := c.reply(option, repInfo, buf); err != nil {
		return false, err
	}
	buf = be.AppendUint16(nil, infoBlockSize)
	buf = be.AppendUint32(buf, 1)
	buf = be.AppendUint32(buf, preferredBlock)
	buf = be.AppendUint32(buf, maxRequest)
	if err := c.reply(option, repInfo, buf); err != nil {
		return false, err
	}
	shared, err := c.tell(option, name, export, rest[2:])
	if err != nil {
		return false, err
	}
	if err := c.reply(option, repAck, nil); err != nil {
		return false, err
	}
	if option == optInfo {
		return false, nil
	}
	keep = true
	c.choose(name, export, release)
	c.shared = shared
	return true, nil
}

// tell answers what a client asks of an export by its numbers, as far as there is an answer. When that is memory to share, it is returned.
func (c *conn) tell(option uint32, name string, export Export, asked []byte) (shared Memory, err error) {
	for ; len(asked) > 0; asked = asked[2:] {
		info := be.Uint16(asked)
		body := be.AppendUint16(nil, info)
		switch info {
		case infoName:
			canonical := name
			if x, ok := export.(Named); ok {
				canonical = x.CanonicalName()
			}
			body = append(body, canonical...)
		case infoShared:
			if shared = c.memoryWith(export); shared == nil {
				continue
			}
		default:
			continue
		}
		if err := c.reply(option, repInfo, body); err != nil {
			return nil, err
		}
	}
	return shared, nil
}

// meta answers LIST_META_CONTEXT and SET_META_CONTEXT.
func (c *conn) meta(option uint32, body []byte) error {
	if !c.structured {
		return c.reply(option, repErrInvalid, []byte("ask for structured replies first"))
	}
	name, rest, ok := takeName(body)
	if !ok || len(rest) < 4 {
		return c.reply(option, repErrInvalid, []byte("malformed request"))
	}
	_, release, err := c.open(name, false)
	if err != nil {
		return c.reply(option, repErrUnknown, []byte(err.Error()))
	}
	release()
	queries := be.Uint32(rest)
	rest = rest[4:]
	match := option == optListMeta && queries == 0
	for range queries {
		var q string
		if q, rest, ok = takeName(rest); !ok {
			return c.reply(option, repErrInvalid, []byte("malformed query"))
		}
		match = match || q == allocationContext || option == optListMeta && q == "base:"
	}
	if len(rest) != 0 {
		return c.reply(option, repErrInvalid, []byte("data after the last query"))
	}
	if option == optSetMeta {
		c.allocation, c.contextFor = match, strings.Clone(name)
	}
	if match {
		id := uint32(0)
		if option == optSetMeta {
			id = allocationID
		}
		if err := c.reply(option, repMetaContext, append(be.AppendUint32(nil, id), allocationContext...)); err != nil {
			return err
		}
	}
	return c.reply(option, repAck, nil)
}
