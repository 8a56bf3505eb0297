package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode"

	"golang.org/x/sync/semaphore"

	"nidalo/internal/clock"
)

// Hole is a stretch of a read that was never written; its bytes are zeros.
type Hole struct{ Offset, Length int64 }

// Extent is a stretch of an export; Written is false where it reads as zeros and takes no space.
type Extent struct {
	Length  int64
	Written bool
}

// Export is what a client reads and writes: an array.
type Export interface {
	Size() int64
	// Read fills p and may tell which whole parts of it were never written, ascending.
	Read(p []byte, off int64) ([]Hole, error)
	Write(p []byte, off int64) error
	Flush() error
	FlushRange(off, length int64) error
	Zero(off, length int64) error
	Extents(off, length int64, limit int) ([]Extent, error)
}

// ReadOnly is an Export to which nothing can be written: its Write, Flush, FlushRange and Zero are never called.
type ReadOnly interface{ ReadOnly() }

func readOnly(x Export) bool {
	_, yes := x.(ReadOnly)
	return yes
}

// Receiver is an Export that can take the data of a write straight from the connection.
type Receiver interface {
	// Receive calls fill with buffers to be filled in order, length bytes altogether, or returns ErrNotTaken without
	// having called it. What it returns otherwise is an error of fill, or nil.
	Receive(off, length int64, fill func([]byte) error) error
}

// Sender is an Export that has its data in a file of the system, from which it goes to a connection without a copy.
type Sender interface {
	// Send calls send with the descriptor of the file and the offset in it where the data begins, and returns what that returns; or it
	// returns ErrNotTaken without having called it. A send that fails ends the connection. When the reason is the file, which it does not tell
	// the client, it wraps ErrSource: the next read is to come by Read, which can.
	Send(off, length int64, send func(file uintptr, at int64) error) error
}

// ErrSource is wrapped by errors of sending data that are errors of where it comes from.
var ErrSource = errors.New("the data cannot be read")

// Waiter is an Export that counts how often a read took more than to copy what is in memory: a disk was waited for, or something was computed.
type Waiter interface{ Waits() int64 }

// DurableWriter is an Export that writes and flushes a range in one.
type DurableWriter interface {
	WriteDurable(p []byte, off int64) error
}

// Trimmer is an Export that tells what clients trim from what they zero: it need not read as zeros.
type Trimmer interface {
	Trim(off, length int64) error
}

// Ender is an Export that may end by itself: then the connection does.
type Ender interface{ Ended() <-chan struct{} }

// Named is an Export with a name of its own, which clients that ask are told instead of the one they came with.
type Named interface{ CanonicalName() string }

// abilities is what an export can do beyond Export; nil: not.
type abilities struct {
	onlyRead     bool
	receive      Receiver
	writeDurable DurableWriter
	trim         Trimmer
	send         Sender
	wait         Waiter
}

func abilitiesOf(x Export) (can abilities) {
	can.onlyRead = readOnly(x)
	can.receive, _ = x.(Receiver)
	can.writeDurable, _ = x.(DurableWriter)
	can.trim, _ = x.(Trimmer)
	can.wait, _ = x.(Waiter)
	if canSend {
		can.send, _ = x.(Sender)
	}
	return can
}

// ErrNotTaken is returned by a Receiver that would rather have the data by Write, and by a Sender whose data is to be had by Read.
var ErrNotTaken = errors.New("not taken")

// ErrNoExport is returned by Exports.Open for names that are not there.
var ErrNoExport = errors.New("no such export")

// ErrNoSpace and ErrShutdown are recognised in errors of exports and told to clients as such; all others are I/O errors.
var (
	ErrNoSpace  = errors.New("no space")
	ErrShutdown = errors.New("shutting down")
)

// Exports finds exports by name.
type Exports interface {
	Names() []string
	// Open returns an export and what to call when the client is done with it. Connections with the same peer are of one
	// client: the protocol lets it write on one of them and flush on another. A client that showed a certificate is
	// Certified with the first name in it.
	Open(name, peer string) (Export, func(), error)
}

// Server serves exports on any number of listeners.
type Server struct {
	exports Exports
	log     *slog.Logger
	slow    *slow // or nil

	mu        sync.Mutex
	closed    bool
	listeners map[net.Listener]bool
	gates     map[*gate]bool
	conns     map[net.Conn]bool
	wait      sync.WaitGroup
}

// NewServer makes a server.
func NewServer(exports Exports, log *slog.Logger) *Server {
	return &Server{exports: exports, log: log, listeners: map[net.Listener]bool{}, gates: map[*gate]bool{}, conns: map[net.Conn]bool{}}
}

// Slow is a request that took long.
type Slow struct {
	Export  string // by the name that the client asked for
	Peer    string // the client
	What    string // "read", "write", "flush", "trim", "zero" or "status"
	Offset  int64  // bytes
	Length  int64  // bytes
	Durable bool   // it was to be on the disks before it was answered
	Came    time.Time
	Began   time.Time // to be served: its data was here, and others before it were done
	Ended   time.Time
}

// requestNames are for people.
var requestNames = map[uint16]string{cmdRead: "read", cmdWrite: "write", cmdFlush: "flush", cmdTrim: "trim", cmdWriteZeroes: "zero", cmdBlockStatus: "status"}

type slow struct {
	from time.Duration
	tell func(Slow)
}

// OnSlow has tell called with each request that takes that long or longer, by the worker that served it. Before Serve.
func (s *Server) OnSlow(from time.Duration, tell func(Slow)) { s.slow = &slow{from, tell} }

// Serve accepts clients until the server or the listener is closed.
func (s *Server) Serve(l net.Listener, b Budget) error { return s.serve(l, b, nil) }

// ServeTLS is Serve for clients that encrypt; others are refused.
func (s *Server) ServeTLS(l net.Listener, b Budget, settings *tls.Config) error {
	return s.serve(l, b, settings)
}

func (s *Server) serve(l net.Listener, b Budget, settings *tls.Config) error {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		_ = l.Close()
		return net.ErrClosed
	}
	g := newGate(b)
	s.listeners[l], s.gates[g] = true, true
	s.mu.Unlock()
	for short := false; ; {
		nc, err := l.Accept()
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return nil
			}
			var temporary interface{ Temporary() bool }
			if errors.As(err, &temporary) && temporary.Temporary() {
				if !short {
					s.log.Warn("clients cannot be accepted at the moment", "address", l.Addr().String(), "reason", err)
				}
				short = true
				time.Sleep(50 * time.Millisecond)
				continue
			}
			return err
		}
		short = false
		s.mu.Lock()
		if s.closed {
			s.mu.Unlock()
			_ = nc.Close()
			continue
		}
		s.conns[nc] = true
		s.wait.Add(1)
		s.mu.Unlock()
		go s.handle(nc, g, settings)
	}
}

// ServeDevice serves an export to the kernel's own client, which has no handshake, until that leaves. What is on its way has memory
// of its own.
func (s *Server) ServeDevice(nc net.Conn, x Export) error {
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return net.ErrClosed
	}
	s.conns[nc] = true
	s.wait.Add(1)
	s.mu.Unlock()
	defer s.wait.Done()
	c := s.newConn(nc, newGate(Budget{Memory: clientMemory}), nil)
	defer s.forget(c)
	c.gate.clients[c] = true
	enlarge(nc)
	c.export = x
	return c.transmit()
}

func (s *Server) newConn(nc net.Conn, g *gate, settings *tls.Config) *conn {
	c := &conn{nc: nc, in: bufio.NewReaderSize(nc, 64<<10), exports: s.exports, slow: s.slow, tls: settings, gate: g, peer: peerOf(nc),
		memory: semaphore.NewWeighted(clientMemory)}
	c.ctx, c.cancel = context.WithCancel(context.Background())
	c.written.L = &c.writing
	c.last.Store(int64(clock.Now()))
	return c
}

func (s *Server) forget(c *conn) {
	c.cancel()
	_ = c.nc.Close()
	c.gate.leave(c)
	s.mu.Lock()
	delete(s.conns, c.nc)
	s.mu.Unlock()
}

func (s *Server) handle(nc net.Conn, g *gate, settings *tls.Config) {
	defer s.wait.Done()
	c := s.newConn(nc, g, settings)
	defer s.forget(c)
	g.greet(c)
	enlarge(nc)
	_ = nc.SetDeadline(time.Now().Add(handshakeTime))
	err := c.handshake()
	if err == nil && c.export != nil {
		_ = nc.SetDeadline(time.Time{})
		s.log.Debug("client connected", "export", c.name)
		if x, ends := c.export.(Ender); ends {
			go func() {
				select {
				case <-x.Ended():
					_ = nc.Close()
				case <-c.ctx.Done():
				}
			}()
		}
		err = c.transmit()
		c.release()
	}
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
		s.log.Info("connection closed", "export", c.name, "reason", err)
	}
}

// peerOf names the client at the other end, as far as it can be told: a process of this host, or another host.
func peerOf(nc net.Conn) string {
	if u, ok := nc.(*net.UnixConn); ok {
		return processOf(u)
	}
	host, _, err := net.SplitHostPort(nc.RemoteAddr().String())
	if err != nil {
		return ""
	}
	return "host " + host
}

// certified begins the peer of a client that showed a certificate.
const certified = "certificate "

// Certified is the name in the certificate that a peer showed, and whether it showed any.
func Certified(peer string) (name string, ok bool) {
	rest, ok := strings.CutPrefix(peer, certified)
	name, _, _ = strings.Cut(rest, " ")
	return name, ok
}

// nameOf is the name that a certificate is for: the first of a host in it, or its common name. One with a blank in it is none.
func nameOf(certs []*x509.Certificate) string {
	if len(certs) == 0 {
		return ""
	}
	name := certs[0].Subject.CommonName
	if names := certs[0].DNSNames; len(names) > 0 {
		name = names[0]
	}
	if strings.ContainsFunc(name, unicode.IsSpace) {
		return ""
	}
	return name
}

// socketBuffer is what we would like a connection to hold on its way: a few replies, so that client and server seldom
// wait for each other. The system may grant less.
const socketBuffer = 2 << 20

func enlarge(nc net.Conn) {
	if _, tcp := nc.(*net.TCPConn); tcp { // the system grows and shrinks these buffers by itself, unless somebody sets their size
		return
	}
	if b, ok := nc.(interface {
		SetWriteBuffer(int) error
		SetReadBuffer(int) error
	}); ok {
		_ = b.SetWriteBuffer(socketBuffer)
		_ = b.SetReadBuffer(socketBuffer)
	}
}

// Close stops accepting, closes all connections and waits until their requests are done.
func (s *Server) Close() {
	s.mu.Lock()
	s.closed = true
	for l := range s.listeners {
		_ = l.Close()
	}
	for nc := range s.conns {
		_ = nc.Close() // and with that its context, by the handler
	}
	s.mu.Unlock()
	s.wait.Wait()
}

// conn is one client.
type conn struct {
	nc      net.Conn
	in      *bufio.Reader
	exports Exports
	gate    *gate
	peer    string
	ctx     context.Context // until the connection is over
	cancel  context.CancelFunc
	memory  *semaphore.Weighted // what it may have on its way
	busy    atomic.Int64        // requests that are being served
	last    atomic.Int64        // the moment it asked for something last
	slow    *slow
	blocked atomic.Int64 // the moment since which replies wait for the socket; 0: they do not
	tls     *tls.Config  // when only encrypted clients are served
	secured bool

	noZeroes   bool
	structured bool
	allocation bool // base:allocation was chosen, for the export of contextName
	contextFor string

	name    string
	export  Export
	can     abilities    // of the export
	shared  Memory       // with the client; nil: none
	tcp     *net.TCPConn // nc, when it is one
	local   bool         // nc is a socket of this machine, without encryption
	release func()

	reading sync.Mutex // the worker that holds it reads the next request
	head    [requestHead]byte

	// Replies on their way, see send.
	renew   clock.Moment // when the deadline of writes is set anew; the worker that sends has it
	writing sync.Mutex
	written sync.Cond // of writing: something went out
	sending bool
	replies replies // that are queued
	spare   replies // empty, for the next
	pending int     // bytes
	broken  error

	over  bool         // guarded by reading: no more requests
	quick atomic.Int64 // how many more requests were quick lately than were not, see judge

	waits int64 // of the export, as last seen; guarded by reading
	apart int   // how many more long reads are not kept, see keeps; guarded by reading

	asked    int64        // requests that were read; guarded by reading
	answered atomic.Int64 // those whose replies were sent, or are about to be
	alone    int64        // how many requests in a row came when all before them were answered; guarded by reading
}
