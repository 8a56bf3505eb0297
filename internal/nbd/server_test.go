package nbd

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// memory is an export in memory; blocks that were never written are nil.
type memory struct {
	mu      sync.Mutex
	blocks  [][]byte
	flushes int
}

func newMemory(blocks int) *memory { return &memory{blocks: make([][]byte, blocks)} }

func (m *memory) Size() int64 { return int64(len(m.blocks)) * 4096 }

func (m *memory) each(n int, off int64, f func(block int, in, at, n int)) {
	for at := 0; at < n; {
		in := int((off + int64(at)) % 4096)
		step := min(4096-in, n-at)
		f(int((off+int64(at))/4096), in, at, step)
		at += step
	}
}

func (m *memory) Read(p []byte, off int64) (holes []Hole, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.each(len(p), off, func(b, in, at, n int) {
		if m.blocks[b] == nil {
			clear(p[at : at+n])
			holes = append(holes, Hole{off + int64(at), int64(n)})
			return
		}
		copy(p[at:at+n], m.blocks[b][in:])
	})
	return holes, nil
}

func (m *memory) Write(p []byte, off int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.each(len(p), off, func(b, in, at, n int) {
		if m.blocks[b] == nil {
			m.blocks[b] = make([]byte, 4096)
		}
		copy(m.blocks[b][in:], p[at:at+n])
	})
	return nil
}

func (m *memory) Flush() error {
	m.mu.Lock()
	m.flushes++
	m.mu.Unlock()
	return nil
}
func (m *memory) FlushRange(int64, int64) error { return m.Flush() }

func (m *memory) Zero(off, length int64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.each(int(length), off, func(b, in, _, n int) {
		if n == 4096 {
			m.blocks[b] = nil
		} else if m.blocks[b] != nil {
			clear(m.blocks[b][in : in+n])
		}
	})
	return nil
}

func (m *memory) Extents(off, length int64, limit int) (out []Extent, err error) {
	m.each(int(length), off, func(b, _, _, n int) {
		w := m.blocks[b] != nil
		if l := len(out); l > 0 && out[l-1].Written == w {
			out[l-1].Length += int64(n)
		} else if l < limit {
			out = append(out, Extent{int64(n), w})
		}
	})
	return out, nil
}

type one struct{ m *memory }

func (o one) Names() []string { return []string{"tides"} }
func (o one) Open(name, _ string) (Export, func(), error) {
	if name != "tides" {
		return nil, nil, ErrNoExport
	}
	return o.m, func() {}, nil
}

func serve(t testing.TB) (*memory, string, *Server) {
	m := newMemory(256)
	s := NewServer(one{m}, slog.New(slog.DiscardHandler))
	t.Cleanup(s.Close)
	return m, serveOver(t, s, "unix"), s
}

func TestManyClientsReadWhatTheyWrote(t *testing.T) {
	_, path, _ := serve(t)
	var wg sync.WaitGroup
	for i := range 4 {
		wg.Go(func() {
			c, err := Dial("unix", path, "tides")
			if err != nil {
				t.Error(err)
				return
			}
			defer c.Close()
			r := rand.New(rand.NewPCG(uint64(i), 1))
			base := int64(i) * 64 * 4096
			want := make([]byte, 64*4096)
			for range 200 {
				off := r.IntN(len(want) - 1)
				n := 1 + r.IntN(len(want)-off)
				if r.IntN(2) == 0 {
					for j := range want[off : off+n] {
						want[off+j] = byte(r.IntN(256))
					}
					err = c.WriteAt(want[off:off+n], base+int64(off))
				} else {
					got := make([]byte, n)
					if err = c.ReadAt(got, base+int64(off)); err == nil && !bytes.Equal(got, want[off:off+n]) {
						err = fmt.Errorf("client %d reads something else at %d", i, off)
					}
				}
				if err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	wg.Wait()
	_, err := Dial("unix", path, "other")
	require.ErrorContains(t, err, "no such export")
}

func raw(t testing.TB, path string) net.Conn {
	nc, err := net.Dial("unix", path)
	require.NoError(t, err)
	_ = nc.SetDeadline(time.Now().Add(10 * time.Second))
	_, err = io.ReadFull(nc, make([]byte, 18))
	require.NoError(t, err)
	return nc
}

func option(kind uint32, body ...byte) []byte {
	buf := binary.BigEndian.AppendUint64(nil, magicOption)
	buf = binary.BigEndian.AppendUint32(buf, kind)
	buf = binary.BigEndian.AppendUint32(buf, uint32(len(body)))
	return append(buf, body...)
}

func tx(kind, flags uint16, off uint64, length uint32) []byte {
	buf := binary.BigEndian.AppendUint32(nil, magicRequest)
	buf = binary.BigEndian.AppendUint16(buf, flags)
	buf = binary.BigEndian.AppendUint16(buf, kind)
	buf = binary.BigEndian.AppendUint64(buf, 77)
	buf = binary.BigEndian.AppendUint64(buf, off)
	return binary.BigEndian.AppendUint32(buf, length)
}

var (
	clientFlags = []byte{0, 0, 0, 3}
	goTides     = option(optGo, 0, 0, 0, 5, 't', 'i', 'd', 'e', 's', 0, 0)
)

// TestHostileInputClosesThatConnectionAndNothingElse: after every attack the attacker is out, and another client works.
func TestHostileInputClosesThatConnectionAndNothingElse(t *testing.T) {
	_, path, s := serve(t)
	join := func(parts ...[]byte) []byte { return bytes.Join(parts, nil) }
	flood := clientFlags
	for range maxOptions + 1 {
		flood = append(flood, option(99)...)
	}
	huge := option(optList)
	binary.BigEndian.PutUint32(huge[12:], 1<<31)
	bystander, err := Dial("unix", path, "tides")
	require.NoError(t, err)
	defer bystander.Close()
	for name, attack := range map[string][]byte{
		"unknown client flags":  {0xff, 0xff, 0xff, 0xff},
		"wrong option magic":    join(clientFlags, make([]byte, 16)),
		"an option of 2 GiB":    join(clientFlags, huge),
		"a flood of options":    flood,
		"an unknown export":     join(clientFlags, option(optExportName, []byte("nope")...)),
		"wrong request magic":   join(clientFlags, goTides, make([]byte, 28)),
		"a write of 4 GiB":      join(clientFlags, goTides, tx(cmdWrite, 0, 0, 1<<32-1)),
		"half a request":        join(clientFlags, goTides, tx(cmdRead, 0, 0, 1)[:13]),
		"half a write":          join(clientFlags, goTides, tx(cmdWrite, 0, 0, 4096), make([]byte, 1000)),
		"abort":                 join(clientFlags, option(optAbort)),
		"nothing":               {},
		"a name beyond its end": join(clientFlags, option(optGo, 0xff, 0xff, 0xff, 0xff, 0, 0), option(optAbort)),
	} {
		nc := raw(t, path)
		_, _ = nc.Write(attack)
		_ = nc.(*net.UnixConn).CloseWrite()
		_, err := io.Copy(io.Discard, nc)
		var timeout net.Error
		require.False(t, err != nil && asTimeout(err, &timeout), "%s: the connection stays open", name)
		_ = nc.Close()
		require.NoError(t, bystander.WriteAt([]byte(name), 5000), name)
	}
	require.Eventually(t, func() bool { return s.Clients() == 1 }, 5*time.Second, 10*time.Millisecond)
}

func asTimeout(err error, target *net.Error) bool {
	e, ok := err.(net.Error)
	*target = e
	return ok && e.Timeout()
}

// TestRefusalsAreAnsweredAndTheConnectionGoesOn: requests that are wrong but whole.
func TestRefusalsAreAnsweredAndTheConnectionGoesOn(t *testing.T) {
	m, path, _ := serve(t)
	nc := raw(t, path)
	defer nc.Close()
	_, err := nc.Write(append(clientFlags, goTides...))
	require.NoError(t, err)
	for { // the replies to GO
		head := make([]byte, 20)
		_, err := io.ReadFull(nc, head)
		require.NoError(t, err)
		_, err = io.ReadFull(nc, make([]byte, binary.BigEndian.Uint32(head[16:])))
		require.NoError(t, err)
		if binary.BigEndian.Uint32(head[12:]) == repAck {
			break
		}
	}
	size := uint64(m.Size())
	for _, c := range []struct {
		request []byte
		code    uint32
	}{
		{tx(cmdRead, 0, size, 1), errInvalid},
		{tx(cmdRead, 0, 1<<63, 1), errInvalid},
		{tx(cmdRead, 0, 0, maxRequest+1), errInvalid},
		{tx(cmdRead, 1<<9, 0, 1), errInvalid},
		{append(tx(cmdWrite, 0, size-1, 2), 1, 2), errNoSpace},
		{tx(cmdWriteZeroes, 0, size, 4096), errNoSpace},
		{tx(cmdBlockStatus, 0, 0, 4096), errInvalid},
		{tx(99, 0, 0, 0), errInvalid},
		{tx(cmdFlush, 0, 0, 0), 0},
		{append(tx(cmdWrite, cmdFlagFUA, 0, 2), 1, 2), 0},
		{tx(cmdTrim, 0, 0, 4096), 0},
	} {
		_, err := nc.Write(c.request)
		require.NoError(t, err)
		reply := make([]byte, 16)
		_, err = io.ReadFull(nc, reply)
		require.NoError(t, err)
		require.EqualValues(t, magicSimple, binary.BigEndian.Uint32(reply))
		require.Equal(t, c.code, binary.BigEndian.Uint32(reply[4:]), "%x", c.request[:28])
		require.EqualValues(t, 77, binary.BigEndian.Uint64(reply[8:]))
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	require.Equal(t, 2, m.flushes, "a flush and a forced write reach the export")
}

// pipe is a connection whose input is fixed and whose output is not read.
type pipe struct {
	net.Conn
	in io.Reader
}

func (p pipe) Read(b []byte) (int, error)       { return p.in.Read(b) }
func (p pipe) Write(b []byte) (int, error)      { return len(b), nil }
func (p pipe) Close() error                     { return nil }
func (p pipe) SetDeadline(time.Time) error      { return nil }
func (p pipe) LocalAddr() net.Addr              { return nil }
func (p pipe) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (p pipe) SetReadDeadline(time.Time) error  { return nil }
func (p pipe) SetWriteDeadline(time.Time) error { return nil }

func FuzzServer(f *testing.F) {
	f.Add(append(append([]byte{}, clientFlags...), goTides...))
	f.Add(bytes.Join([][]byte{clientFlags, option(optStructuredReply), option(optSetMeta, 0, 0, 0, 5, 't', 'i', 'd', 'e', 's', 0, 0, 0, 1, 0, 0, 0, 15,
		'b', 'a', 's', 'e', ':', 'a', 'l', 'l', 'o', 'c', 'a', 't', 'i', 'o', 'n'), goTides, tx(cmdBlockStatus, 0, 0, 8192),
		tx(cmdRead, cmdFlagDF, 100, 5000), tx(cmdWrite, 0, 0, 3), {1, 2, 3}, tx(cmdRead, 0, 0, 9000), tx(cmdDisconnect, 0, 0, 0)}, nil))
	f.Add(bytes.Join([][]byte{clientFlags, option(optList), option(optInfo, 0, 0, 0, 5, 't', 'i', 'd', 'e', 's', 0, 1, 0, 3), option(optListMeta, 0, 0, 0, 0, 0, 0, 0, 0)}, nil))
	f.Add(bytes.Join([][]byte{tx(cmdWrite, cmdFlagShared|cmdFlagFUA, 100, 5000), {0, 0, 0, 0, 0, 0, 0, 9}, tx(cmdRead, cmdFlagShared, 0, 9000), {0, 0, 0, 0, 0, 0, 255, 0}}, nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		s := NewServer(one{newMemory(16)}, slog.New(slog.DiscardHandler))
		s.wait.Add(1)
		s.handle(pipe{in: bytes.NewReader(b)}, newGate(Budget{}), nil)
		x := common{newMemory(16), make([]byte, 64<<10)}
		c := s.newConn(pipe{in: bytes.NewReader(b)}, newGate(Budget{Memory: clientMemory}), nil)
		defer s.forget(c)
		c.export, c.shared = x, x
		_ = c.transmit()
	})
}

// stalls is an export of which reads in one place wait, and flushes take a while, or wait as well.
type stalls struct {
	*memory
	at      int64
	wait    chan struct{}
	flushes *atomic.Bool // wait
}

func (s stalls) Names() []string                             { return nil }
func (s stalls) Open(string, string) (Export, func(), error) { return s, func() {}, nil }

func (s stalls) Read(p []byte, off int64) ([]Hole, error) {
	if off == s.at {
		<-s.wait
	}
	return s.memory.Read(p, off)
}

func (s stalls) Waits() int64 { return 0 }

func (s stalls) Flush() error {
	if s.flushes.Load() {
		<-s.wait
	}
	time.Sleep(2 * quickTime)
	return nil
}

// Requests that are quick or long, or that come when all before them were answered, are served by the worker that read them; one that stalls keeps no
// other waiting.
func TestARequestThatStallsKeepsNoOtherWaiting(t *testing.T) {
	was := few
	t.Cleanup(func() { few = was })
	few = true
	x := stalls{newMemory(128), 8 * 4096, make(chan struct{}), new(atomic.Bool)}
	s := NewServer(x, slog.New(slog.DiscardHandler))
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	go func() { _ = s.Serve(l, Budget{}) }()
	t.Cleanup(s.Close)
	c, err := Dial("unix", path, "")
	require.NoError(t, err)
	defer c.Close()
	for round := range 21 {
		p, long := make([]byte, 4096), make([]byte, 4096)
		stalled, flushed := make(chan error, 1), round%3 == 1
		if round%3 == 2 {
			long = make([]byte, longRead)
		}
		for range 200 {
			if require.NoError(t, c.ReadAt(p, 0)); flushed {
				require.NoError(t, c.Flush())
			}
		}
		x.flushes.Store(flushed)
		go func() {
			if flushed {
				stalled <- c.Flush()
			} else {
				stalled <- c.ReadAt(long, x.at)
			}
		}()
		for range 100 {
			require.NoError(t, c.WriteAt(p, 4096), "round %d", round)
			require.NoError(t, c.ReadAt(p, 4096))
		}
		x.wait <- struct{}{}
		require.NoError(t, <-stalled)
		x.flushes.Store(false)
	}
}

// waited is how often reads of an export had to wait.
type waited int64

func (w *waited) Waits() int64 { return int64(*w) }

// On two processors one worker serves long reads, unless something shorter comes next, or what was read lately was not all in memory.
func TestOneWorkerServesLongReadsOfWhatIsInMemory(t *testing.T) {
	was := few
	t.Cleanup(func() { few = was })
	few = true
	next := func(requests ...[]byte) *bufio.Reader {
		in := bufio.NewReader(bytes.NewReader(slices.Concat(requests...)))
		_, _ = in.Peek(1)
		return in
	}
	var waits waited
	c := &conn{local: true, can: abilities{wait: &waits}, in: next()}
	long := request{kind: cmdRead, length: longRead}
	require.True(t, c.keeps(&long))
	for _, other := range []request{{kind: cmdRead, length: longRead - 1}, {kind: cmdWrite, length: longRead}, {kind: cmdRead, length: longRead, shared: true}} {
		require.False(t, c.keeps(&other))
	}
	c.in = next(tx(cmdRead, 0, 0, longRead))
	require.True(t, c.keeps(&long))
	for _, shorter := range [][]byte{tx(cmdRead, 0, 0, 4096), tx(cmdFlush, 0, 0, 0), tx(cmdWrite, 0, 0, longRead)} {
		c.in = next(shorter)
		require.False(t, c.keeps(&long))
	}
	c.in = next()
	waits++
	for range apartMost {
		require.False(t, c.keeps(&long))
	}
	require.True(t, c.keeps(&long))
	few = false
	require.False(t, c.keeps(&long), "with more processors several workers are quicker")
}

// Small requests that come together are served by one worker in turn, once requests are quick; one of them that stalls keeps none of the others
// waiting, and holds back no reply.
func TestARequestThatStallsKeepsNoneOfItsBatchWaiting(t *testing.T) {
	x := stalls{newMemory(16), 8 * 4096, make(chan struct{}), new(atomic.Bool)}
	path, _ := serveOn(t, x, "unix", Budget{})
	defer close(x.wait)
	nc := raw(t, path)
	defer nc.Close()
	_, err := nc.Write(append(clientFlags, option(optExportName, []byte("tides")...)...))
	require.NoError(t, err)
	_, err = io.ReadFull(nc, make([]byte, 10))
	require.NoError(t, err)
	var sent bytes.Buffer
	read := func(block int) {
		head := tx(cmdRead, 0, uint64(block)*4096, 4096)
		binary.BigEndian.PutUint64(head[8:], uint64(block))
		sent.Write(head)
	}
	answered := func(n int) (blocks []int) {
		for range n {
			reply := make([]byte, 16+4096)
			_, err := io.ReadFull(nc, reply)
			require.NoError(t, err, "after the replies to %v", blocks)
			blocks = append(blocks, int(binary.BigEndian.Uint64(reply[8:])))
		}
		slices.Sort(blocks)
		return blocks
	}
	for range 20 {
		for range 2 * quickScore {
			read(1)
			_, err := sent.WriteTo(nc)
			require.NoError(t, err)
			answered(1)
		}
		for _, block := range []int{2, 3, 8, 4, 5, 6} {
			read(block)
		}
		_, err := sent.WriteTo(nc)
		require.NoError(t, err)
		require.Equal(t, []int{2, 3, 4, 5, 6}, answered(5))
		x.wait <- struct{}{}
		require.Equal(t, []int{8}, answered(1))
	}
}

// Clients is the number of connections at the moment.
func (s *Server) Clients() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.conns)
}
