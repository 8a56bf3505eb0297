package nbd

import (
	"encoding/binary"
	"errors"
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// counted is an export of which it is counted how much is read, and that can fail from a place on.
type counted struct {
	*memory
	size  int64
	bytes atomic.Int64
	bad   int64 // 0: nowhere
}

func (c *counted) Size() int64 { return c.size }
func (c *counted) Read(p []byte, off int64) ([]Hole, error) {
	if c.bad > 0 && off >= c.bad {
		return nil, errors.New("made up")
	}
	for i := range p {
		p[i] = byte((off + int64(i)) / 4096)
	}
	c.bytes.Add(int64(len(p)))
	return nil, nil
}
func (c *counted) Write(p []byte, off int64) error {
	if c.bad > 0 && off >= c.bad {
		return errors.New("made up")
	}
	c.bytes.Add(int64(len(p)))
	return nil
}

type only struct {
	x     Export
	peers chan string
}

func (o only) Names() []string { return []string{"tides"} }
func (o only) Open(_, peer string) (Export, func(), error) {
	if o.peers != nil {
		o.peers <- peer
	}
	return o.x, func() {}, nil
}

func serveOn(t *testing.T, x Export, network string, b Budget) (address string, s *Server) {
	at := "127.0.0.1:0"
	if network == "unix" {
		at = filepath.Join(t.TempDir(), "s")
	}
	l, err := net.Listen(network, at)
	require.NoError(t, err)
	s = NewServer(only{x: x}, slog.New(slog.DiscardHandler))
	go func() { _ = s.Serve(l, b) }()
	t.Cleanup(s.Close)
	return l.Addr().String(), s
}

// Hundreds that say nothing do not keep one out that does, on their own listener and on none other.
func TestSilentConnectionsLockNobodyOut(t *testing.T) {
	m := newMemory(64)
	s := NewServer(one{m}, slog.New(slog.DiscardHandler))
	t.Cleanup(s.Close)
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "s")
	local, err := net.Listen("unix", path)
	require.NoError(t, err)
	go func() { _ = s.Serve(tcp, Budget{}) }()
	go func() { _ = s.Serve(local, Budget{}) }()
	for range 300 {
		nc, err := net.Dial("tcp", tcp.Addr().String())
		require.NoError(t, err)
		defer nc.Close()
		_, err = io.ReadFull(nc, make([]byte, 18)) // it is accepted
		require.NoError(t, err)
	}
	for _, at := range [][2]string{{"unix", path}, {"tcp", tcp.Addr().String()}} {
		c, err := Dial(at[0], at[1], "tides")
		require.NoError(t, err)
		require.NoError(t, c.WriteAt([]byte("high water"), 0))
		require.NoError(t, c.Close())
	}
	require.Eventually(t, func() bool { return s.Clients() <= maxGreeting+1 }, 10*time.Second, time.Millisecond, "those that were sent away have ended")
}

// All slots taken: one that is idle for long makes room, one that was at work just now does not.
func TestAnIdleClientMakesRoom(t *testing.T) {
	address, s := serveOn(t, newMemory(64), "unix", Budget{Clients: 2})
	first, err := Dial("unix", address, "tides")
	require.NoError(t, err)
	defer first.Close()
	second, err := Dial("unix", address, "tides")
	require.NoError(t, err)
	defer second.Close()
	_, err = Dial("unix", address, "tides")
	require.ErrorContains(t, err, "too many clients")
	require.NoError(t, second.Flush())
	// The first says nothing for a time that passes in its record only.
	s.mu.Lock()
	for g := range s.gates {
		g.mu.Lock()
		for c := range g.clients {
			c.last.Add(-int64(2 * idleFor))
		}
		g.mu.Unlock()
	}
	s.mu.Unlock()
	require.NoError(t, second.Flush(), "this one is not idle")
	third, err := Dial("unix", address, "tides")
	require.NoError(t, err)
	require.NoError(t, third.Close())
	require.NoError(t, second.Flush())
	require.Error(t, first.Flush())
}

// A client that asks for much and never reads costs what it may have on its way, and no more.
func TestAClientThatNeverReadsCostsLittle(t *testing.T) {
	x := &counted{memory: newMemory(1), size: 1 << 40}
	address, _ := serveOn(t, x, "unix", Budget{})
	nc := raw(t, address)
	defer nc.Close()
	_, err := nc.Write(append(clientFlags, goTides...))
	require.NoError(t, err)
	go func() {
		for i := range 400 {
			if _, err := nc.Write(tx(cmdRead, 0, uint64(i)<<20, []uint32{1 << 20, 16 << 20}[i%2])); err != nil {
				return
			}
		}
	}()
	last := int64(-1)
	require.Eventually(t, func() bool { // until nothing more happens
		now := x.bytes.Load()
		still := now == last && now > 0
		last = now
		return still
	}, 20*time.Second, 500*time.Millisecond)
	const inSockets = 8 << 20 // what the system holds for both ends
	require.LessOrEqual(t, x.bytes.Load(), int64(clientMemory+inSockets))
	other, err := Dial("unix", address, "tides")
	require.NoError(t, err)
	require.NoError(t, other.ReadAt(make([]byte, 1<<20), 0))
	require.NoError(t, other.Close())
}

// With all of a listener's memory in the hands of clients that do not read, one that does is served.
func TestThoseWhoDoNotReadMakeRoom(t *testing.T) {
	x := &counted{memory: newMemory(1), size: 1 << 40}
	address, _ := serveOn(t, x, "unix", Budget{Memory: 16 << 20})
	for range 6 {
		nc := raw(t, address)
		defer nc.Close()
		_, err := nc.Write(append(clientFlags, goTides...))
		require.NoError(t, err)
		for i := range 40 {
			_, err = nc.Write(tx(cmdRead, 0, uint64(i)<<20, 2<<20))
			require.NoError(t, err)
		}
	}
	c, err := Dial("unix", address, "tides")
	require.NoError(t, err)
	for i := range int64(8) {
		require.NoError(t, c.ReadAt(make([]byte, 4<<20), i<<20))
	}
	require.NoError(t, c.Close())
}

// Requests longer than a piece are served piece by piece, and come out whole.
func TestLongRequestsComeOutWhole(t *testing.T) {
	x := &counted{memory: newMemory(1), size: 1 << 30}
	address, _ := serveOn(t, x, "unix", Budget{})
	c, err := Dial("unix", address, "tides")
	require.NoError(t, err)
	p := make([]byte, 9<<20)
	require.NoError(t, c.ReadAt(p, 5<<20))
	for i := 0; i < len(p); i += 4096 {
		require.Equal(t, byte((5<<20+i)/4096), p[i])
	}
	require.NoError(t, c.WriteAt(p, 0))
	require.NoError(t, c.Close())

	x = &counted{memory: newMemory(1), size: 1 << 30, bad: 6 << 20}
	address, _ = serveOn(t, x, "unix", Budget{})
	c, err = Dial("unix", address, "tides")
	require.NoError(t, err)
	require.ErrorContains(t, c.WriteAt(p, 0), "answered with error", "the rest of it is taken in all the same")
	require.NoError(t, c.ReadAt(p[:4096], 0))
	require.ErrorContains(t, c.ReadAt(p, 7<<20), "answered with error")
	require.Error(t, c.ReadAt(p, 0), "an error in the middle of a simple reply ends the connection")

	// With structured replies an error has its place.
	nc := raw(t, address)
	defer nc.Close()
	_, err = nc.Write(append(append(append([]byte{}, clientFlags...), option(optStructuredReply)...), append(goTides, tx(cmdRead, 0, 0, 9<<20)...)...))
	require.NoError(t, err)
	for acks := 0; acks < 2; {
		head := make([]byte, 20)
		_, err = io.ReadFull(nc, head)
		require.NoError(t, err)
		_, err = io.CopyN(io.Discard, nc, int64(binary.BigEndian.Uint32(head[16:])))
		require.NoError(t, err)
		if binary.BigEndian.Uint32(head[12:]) == repAck {
			acks++
		}
	}
	data, failed := 0, false
	for done := false; !done; {
		head := make([]byte, 20)
		_, err = io.ReadFull(nc, head)
		require.NoError(t, err)
		require.EqualValues(t, magicStructured, binary.BigEndian.Uint32(head))
		done = binary.BigEndian.Uint16(head[4:])&chunkDone != 0
		body := make([]byte, binary.BigEndian.Uint32(head[16:]))
		_, err = io.ReadFull(nc, body)
		require.NoError(t, err)
		switch binary.BigEndian.Uint16(head[6:]) {
		case chunkData:
			data += len(body) - 8
		case chunkError:
			failed = true
		}
	}
	require.Equal(t, 6<<20, data)
	require.True(t, failed)
}

// serveOver has a server listen on a Unix socket or on the loopback, and returns the address.
func serveOver(t testing.TB, s *Server, network string) string {
	at := "127.0.0.1:0"
	if network == "unix" {
		at = filepath.Join(t.TempDir(), "s")
	}
	l, err := net.Listen(network, at)
	require.NoError(t, err)
	go func() { _ = s.Serve(l, Budget{}) }()
	return l.Addr().String()
}

// Connections of one process are one client, those of another are not.
func TestAPeerIsAProcessOrAHost(t *testing.T) {
	peers := make(chan string, 8)
	s := NewServer(only{newMemory(1), peers}, slog.New(slog.DiscardHandler))
	t.Cleanup(s.Close)
	for _, network := range []string{"unix", "tcp"} {
		address := serveOver(t, s, network)
		for range 2 {
			c, err := Dial(network, address, "tides")
			require.NoError(t, err)
			require.NoError(t, c.Close())
		}
		first, second := <-peers, <-peers
		require.NotEmpty(t, first)
		require.Equal(t, first, second)
	}
}
