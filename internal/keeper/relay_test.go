//go:build linux

package keeper

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nidalo/internal/carryover"
	"nidalo/internal/nbd"
	"nidalo/internal/passage"
)

// store is a disk with a volatile cache behind a server that can be killed: what was not flushed is gone then.
type store struct {
	t            *testing.T
	socket       string
	mu           sync.Mutex
	durable, now []byte
	start, since int
	flushes      atomic.Int64
	server       *nbd.Server

	run, carry string                    // for what is shared, and where the ring is that is shared
	id         uuid.UUID                 // of the device
	refuses    atomic.Bool               // lets no session in
	full       atomic.Bool               // takes no write
	reading    func(p []byte, off int64) // before each read that anything is done
	taking     func(n int)               // before data is taken from the ring
}

func newStore(t *testing.T, size int) *store {
	s := &store{t: t, socket: filepath.Join(t.TempDir(), "nbd.sock"), durable: make([]byte, size), now: make([]byte, size), start: 1, since: 1, run: t.TempDir()}
	s.serve()
	t.Cleanup(func() { s.server.Close() })
	return s
}

func (s *store) serve() {
	_ = os.Remove(s.socket)
	l, err := net.Listen("unix", s.socket)
	require.NoError(s.t, err)
	server := nbd.NewServer(s, slog.New(slog.DiscardHandler))
	s.server = server
	go func() { _ = server.Serve(l, nbd.Budget{}) }()
}

// kill ends the server and forgets what was not flushed; again starts another.
func (s *store) kill() {
	s.server.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	copy(s.now, s.durable)
	s.start++
}

func (s *store) Names() []string { return nil }

func (s *store) Open(name, _ string) (nbd.Export, func(), error) {
	if s.refuses.Load() {
		return nil, nil, nbd.ErrNoExport
	}
	o := &opened{store: s, name: name}
	return o, func() {
		if o.memory != nil {
			o.memory.Close()
		}
	}, nil
}

type opened struct {
	*store
	name   string
	memory *passage.Memory
}

// Memory is shared as the service shares it.
func (o *opened) Memory() nbd.Memory {
	var err error
	o.memory, err = passage.Open(filepath.Join(o.run, passage.Folder), o.id.String(), path.Base(o.name), o.carry)
	if err != nil {
		o.t.Errorf("no memory is shared: %v", err)
		return nil
	}
	return slowMemory{o.memory, o.store}
}

type slowMemory struct {
	*passage.Memory
	s *store
}

func (m slowMemory) From(p []byte, at int64) error {
	if m.s.taking != nil {
		m.s.taking(len(p))
	}
	return m.Memory.From(p, at)
}

func (o *opened) CanonicalName() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return fmt.Sprintf("%s/%d/%d", o.name, o.start, o.since)
}

func (s *store) Size() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return int64(len(s.now))
}

func (s *store) Read(p []byte, off int64) ([]nbd.Hole, error) {
	if s.reading != nil {
		s.reading(p, off)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	copy(p, s.now[off:])
	return nil, nil
}

func (s *store) Write(p []byte, off int64) error {
	if s.full.Load() {
		return nbd.ErrNoSpace
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	copy(s.now[off:], p)
	return nil
}

func (s *store) Flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.flushes.Add(1)
	copy(s.durable, s.now)
	return nil
}

func (s *store) FlushRange(off, n int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	copy(s.durable[off:off+n], s.now[off:])
	return nil
}

func (s *store) Zero(off, n int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.now[off : off+n])
	return nil
}

func (s *store) Extents(_, n int64, _ int) ([]nbd.Extent, error) {
	return []nbd.Extent{{Length: n, Written: true}}, nil
}

// connect makes a relay to a store, and what one connection of a device sees of it.
func connect(t *testing.T, s *store, carry string) (port, chan int64) {
	return connectAs(t, s, carry, uuid.New())
}

func connectAs(t *testing.T, s *store, carry string, id uuid.UUID) (port, chan int64) {
	ring, err := carryover.Open(carry)
	if err != nil {
		ring, err = carryover.Create(carry, carryover.MinSize, id)
	}
	require.NoError(t, err)
	s.id, s.carry = ring.Array(), carry
	sizes := make(chan int64, 10)
	r, err := newRelay(s.socket, "attached/x", s.run, ring, slog.New(slog.DiscardHandler), func(n int64) { sizes <- n }, 0)
	require.NoError(t, err)
	t.Cleanup(func() {
		r.close()
		_ = ring.Close()
	})
	return port{r: r, ctx: context.Background()}, sizes
}

// Many writers, and a server that is killed again and again: everything acknowledged is there, flushed or not.
func TestNothingAcknowledgedIsLostWithTheService(t *testing.T) {
	const size, block = 8 << 20, 4096
	s := newStore(t, size)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	want := make([]byte, size)
	end := make(chan struct{})
	var writers sync.WaitGroup
	var written atomic.Int64
	for w := range 4 {
		writers.Go(func() {
			r := rand.New(rand.NewPCG(1, uint64(w)))
			for i := 0; ; i++ {
				select {
				case <-end:
					return
				default:
				}
				off := (r.Int64N(size/block/4)*4 + int64(w)) * block // each has blocks of its own
				buf := bytes.Repeat([]byte{byte(r.Uint32())}, block)
				var err error
				switch r.IntN(12) {
				case 0:
					if err := p.Flush(); err != nil {
						t.Errorf("flush: %v", err)
					}
					continue
				case 1:
					clear(buf)
					err = p.Zero(off, block)
				case 2:
					err = p.WriteDurable(buf, off)
				default:
					err = p.Write(buf, off)
				}
				if err != nil {
					t.Errorf("write: %v", err)
					return
				}
				copy(want[off:], buf)
				written.Add(1)
			}
		})
	}
	for range 12 {
		until := written.Load() + 50
		require.Eventually(t, func() bool { return written.Load() > until }, 20*time.Second, time.Millisecond)
		s.kill()
		s.serve()
	}
	close(end)
	writers.Wait()
	s.kill()
	s.serve()
	got := make([]byte, size)
	_, err := p.Read(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))
}

// The ring is smaller than what is written without a flush: the relay flushes by itself.
func TestTheRingIsEmptiedByTheRelay(t *testing.T) {
	s := newStore(t, 64<<20)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	buf := bytes.Repeat([]byte{7}, 1<<20)
	for off := int64(0); off < 64<<20; off += 1 << 20 {
		require.NoError(t, p.Write(buf, off))
	}
	require.Positive(t, s.flushes.Load())
	s.kill()
	s.serve()
	got := make([]byte, 1<<20)
	for off := int64(0); off < 64<<20; off += 1 << 20 {
		_, err := p.Read(got, off)
		require.NoError(t, err)
		require.True(t, bytes.Equal(buf, got), "at %d", off)
	}
}

// What outlived the keeper is written again by the next one, unless the service never ended.
func TestTheNextKeeperWritesAgain(t *testing.T) {
	s, carry := newStore(t, 1<<20), filepath.Join(t.TempDir(), "ring")
	p, _ := connect(t, s, carry)
	require.NoError(t, p.Write([]byte("first"), 0))
	p.r.close()
	require.NoError(t, p.r.ring.Close())
	require.NoError(t, s.Write([]byte("other"), 0)) // would be undone if it were written again
	p, _ = connect(t, s, carry)
	got := make([]byte, 5)
	_, err := p.Read(got, 0)
	require.NoError(t, err)
	require.Equal(t, "other", string(got), "it is the same start of the array")

	p.r.close()
	require.NoError(t, p.r.ring.Close())
	s.kill()
	s.serve()
	p, _ = connect(t, s, carry)
	_, err = p.Read(got, 0)
	require.NoError(t, err)
	require.Equal(t, "first", string(got))
	require.NoError(t, p.Flush())
}

// An array that was in service elsewhere meanwhile is not overwritten with what was acknowledged here before: the next flush fails.
func TestAnArrayThatWasElsewhereIsNotOverwritten(t *testing.T) {
	s := newStore(t, 1<<20)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	require.NoError(t, p.Write([]byte("here"), 0))
	s.kill()
	copy(s.now, "away")
	copy(s.durable, "away")
	s.start, s.since = 4, 4
	s.serve()
	got := make([]byte, 4)
	_, err := p.Read(got, 0)
	require.NoError(t, err)
	require.Equal(t, "away", string(got))
	require.ErrorIs(t, p.Flush(), errLost)
	require.NoError(t, p.Flush(), "it is told once")
}

func TestADeviceIsToldOfItsSize(t *testing.T) {
	s := newStore(t, 1<<20)
	p, sizes := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	s.mu.Lock()
	s.now, s.durable = append(s.now, make([]byte, 1<<20)...), append(s.durable, make([]byte, 1<<20)...)
	s.mu.Unlock()
	require.NoError(t, p.r.refresh())
	require.EqualValues(t, 2<<20, <-sizes)
	require.NoError(t, p.Write([]byte("new"), 2<<20-3))
}

// A connection of the device that ends gives up what waits for the service, and nothing else.
func TestWhatWaitsIsGivenUpWithItsConnection(t *testing.T) {
	s := newStore(t, 1<<20)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	s.kill()
	ctx, cancel := context.WithCancel(context.Background())
	other := port{r: p.r, ctx: ctx}
	done := make(chan error, 2)
	one := int64(0)
	go func() { done <- other.Write([]byte("gone"), 0) }()
	require.Eventually(t, func() bool { one, _ = p.r.ring.Used(); return one > 0 }, 5*time.Second, time.Millisecond, "it waits")
	go func() {
		_, err := other.Read(make([]byte, 4), 0)
		done <- err
	}()
	kept := make(chan error)
	go func() { kept <- p.Write([]byte("kept"), 4096) }()
	require.Eventually(t, func() bool { both, _ := p.r.ring.Used(); return both > one }, 5*time.Second, time.Millisecond, "the second waits, too")
	cancel()
	require.ErrorIs(t, <-done, context.Canceled)
	require.ErrorIs(t, <-done, context.Canceled)
	s.serve()
	require.NoError(t, <-kept)
	got := make([]byte, 4)
	_, err := p.Read(got, 0)
	require.NoError(t, err)
	require.Equal(t, make([]byte, 4), got)
}

// What is read late from a connection that the kernel has given up was sent again over another: it must not be done any more.
func TestAConnectionThatWasGivenUpChangesNothing(t *testing.T) {
	s := newStore(t, 1<<20)
	p, _ := connect(t, s, filepath.Join(t.TempDir(), "ring"))
	theirs, ours, err := pairs(1)
	require.NoError(t, err)
	defer closeAll(theirs)
	nc := ours[0].(*net.UnixConn)
	defer nc.Close()
	late := port{r: p.r, ctx: context.Background(), over: func() bool { return hungUp(nc) }}
	require.NoError(t, late.Write([]byte("old"), 0))
	require.NoError(t, p.Write([]byte("new"), 0))
	require.NoError(t, unix.Shutdown(int(theirs[0].Fd()), unix.SHUT_RDWR))
	require.ErrorIs(t, late.Write([]byte("old"), 0), context.Canceled)
	got := make([]byte, 3)
	_, err = p.Read(got, 0)
	require.NoError(t, err)
	require.Equal(t, "new", string(got))
}

// A keeper that takes a device over while there is no service has its requests wait: it refuses none.
func TestRequestsOfADeviceTakenOverWait(t *testing.T) {
	s := newStore(t, 1<<20)
	s.kill()
	s.carry, s.id = filepath.Join(t.TempDir(), "ring"), uuid.New()
	ring, err := carryover.Create(s.carry, carryover.MinSize, s.id)
	require.NoError(t, err)
	defer ring.Close()
	_, err = newRelay(s.socket, "attached/x", s.run, ring, slog.New(slog.DiscardHandler), nil, 0)
	require.Error(t, err, "a new device needs its service")
	r, err := newRelay(s.socket, "attached/x", s.run, ring, slog.New(slog.DiscardHandler), nil, 1<<20)
	require.NoError(t, err)
	defer r.close()
	theirs, ours, err := pairs(1)
	require.NoError(t, err)
	defer closeAll(theirs)
	server := nbd.NewServer(nil, slog.New(slog.DiscardHandler))
	defer server.Close()
	go func() { _ = server.ServeDevice(ours[0], port{r: r, ctx: context.Background()}) }()
	request := []byte{0x25, 0x60, 0x95, 0x13, 0, 0, 0, 1, 7, 7, 7, 7, 7, 7, 7, 7, 0, 0, 0, 0, 0, 0, 0x10, 0, 0, 0, 0, 4, 'd', 'a', 't', 'a'}
	_, err = theirs[0].Write(request)
	require.NoError(t, err)
	require.Eventually(t, func() bool { used, _ := ring.Used(); return used > 0 }, 5*time.Second, time.Millisecond, "it was taken")
	s.serve()
	reply := make([]byte, 16)
	_, err = theirs[0].Read(reply)
	require.NoError(t, err)
	require.Equal(t, []byte{0, 0, 0, 0}, reply[4:8], "no error")
	got := make([]byte, 4)
	_, err = s.Read(got, 0x1000)
	require.NoError(t, err)
	require.Equal(t, "data", string(got))
}

// A device that died with its keeper has left what was not flushed. A detach sees to that before it forgets it.
func TestADetachFlushesWhatADeadDeviceLeft(t *testing.T) {
	s, id := newStore(t, 1<<20), uuid.New()
	k, err := Open(Options{Home: "/x", Run: s.run})
	require.NoError(t, err)
	carry := k.carryPath(id.String())
	require.NoError(t, os.MkdirAll(filepath.Dir(carry), 0o700))
	p, _ := connectAs(t, s, carry, id)
	require.NoError(t, p.Write([]byte("kept"), 0))
	p.r.close()
	require.NoError(t, p.r.ring.Close())
	s.kill()
	q := DetachRequest{Array: id.String(), Socket: s.socket, Export: "attached/x"}
	require.Error(t, k.Detach(q), "there is no service")
	_, err = os.Stat(carry)
	require.NoError(t, err, "it stays")
	s.serve()
	require.NoError(t, k.Detach(q))
	s.mu.Lock()
	require.Equal(t, "kept", string(s.durable[:4]))
	s.mu.Unlock()
	_, err = os.Stat(carry)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, k.Detach(q), "there is nothing left")
}
