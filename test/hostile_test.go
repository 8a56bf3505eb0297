package test

import (
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
)

// siege is hostile clients of every kind at one address, so many at a time, until it ends.
type siege struct {
	network, address string
	stop             chan struct{}
	wait             sync.WaitGroup
	tries            *atomic.Int64
}

// lay keeps n connections of a kind going. Each is held until the server ends it, or for a while.
func (s *siege) lay(n int, kind func(nc net.Conn, r *rand.Rand)) {
	for i := range n {
		s.wait.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 99))
			for {
				select {
				case <-s.stop:
					return
				case <-time.After(time.Duration(20+r.IntN(60)) * time.Millisecond):
				}
				nc, err := net.Dial(s.network, s.address)
				if err != nil {
					continue
				}
				s.tries.Add(1)
				over := make(chan struct{})
				go func() {
					select {
					case <-s.stop:
					case <-over:
					}
					_ = nc.Close()
				}()
				kind(nc, r)
				close(over)
			}
		})
	}
}

// silent says nothing and waits to be thrown out.
func newCounter() *atomic.Int64 { return &atomic.Int64{} }

func silent(nc net.Conn, _ *rand.Rand) { _, _ = io.Copy(io.Discard, nc) }

// halfOpen begins a handshake and stops in the middle of a word.
func halfOpen(nc net.Conn, r *rand.Rand) {
	_, _ = nc.Write([]byte{0, 0, 0, 3, 'I', 'H', 'A', 'V', 'E'}[:1+r.IntN(9)])
	_, _ = io.Copy(io.Discard, nc)
}

// forging sends what looks like a handshake or a request and is not.
func forging(nc net.Conn, r *rand.Rand) {
	p := []byte{0, 0, 0, 3}
	for range 1 + r.IntN(8) {
		p = append(p, "IHAVEOPT"...)
		p = binary.BigEndian.AppendUint32(p, r.Uint32N(12))
		p = binary.BigEndian.AppendUint32(p, []uint32{0, 7, 60000, 1 << 31}[r.IntN(4)])
		for range r.IntN(64) {
			p = append(p, byte(r.Uint32()))
		}
	}
	_, _ = nc.Write(p)
	_ = nc.SetReadDeadline(time.Now().Add(time.Second))
	_, _ = io.Copy(io.Discard, nc)
}

// greedy asks for as much as it can and never reads a byte of it.
func greedy(nc net.Conn, r *rand.Rand) {
	p := []byte{0, 0, 0, 3}
	p = append(p, "IHAVEOPT\x00\x00\x00\x07\x00\x00\x00\x0b\x00\x00\x00\x05tides\x00\x00"...)
	for i := range 400 {
		p = binary.BigEndian.AppendUint32(p, 0x25609513)
		p = append(p, 0, 0, 0, 0)
		p = binary.BigEndian.AppendUint64(p, uint64(i))
		p = binary.BigEndian.AppendUint64(p, uint64(r.IntN(16))*mib)
		p = binary.BigEndian.AppendUint32(p, []uint32{mib, 8 * mib, 32 * mib}[r.IntN(3)])
	}
	_, _ = nc.Write(p)
	time.Sleep(time.Second)
	one := make([]byte, 1)
	for nc.SetReadDeadline(time.Now().Add(30*time.Second)) == nil {
		if _, err := nc.Read(one); err != nil { // a byte now and then, to be told when it is over
			return
		}
		time.Sleep(500 * time.Millisecond)
	}
}

// worker is a client that works on as it should, one request after the other.
type worker struct {
	c    *nbd.Client
	did  atomic.Int64
	fail atomic.Pointer[error]
}

func (w *worker) work(stop chan struct{}) {
	r, p := rand.New(rand.NewPCG(3, 4)), make([]byte, 16<<10)
	for i := 0; ; i++ {
		select {
		case <-stop:
			return
		default:
		}
		off := 32*mib + int64(r.IntN(512))*int64(len(p))
		var err error
		switch i % 10 {
		case 0:
			err = w.c.Flush()
		case 1, 2, 3:
			err = w.c.WriteAt(p, off)
		default:
			err = w.c.ReadAt(p, off)
		}
		if err != nil {
			w.fail.Store(&err)
			return
		}
		w.did.Add(1)
	}
}

// TestHostileClientsStarveNobody: silent, half-open, greedy and forging clients on every listener at once. A good client goes
// on, and what the service takes of memory and descriptors stays bounded. With NIDALO_HOSTILE=300 it lasts five minutes, and
// the good client's rate is held against its own without them.
func TestHostileClientsStarveNobody(t *testing.T) {
	length, measured := 8*time.Second, false
	if n, err := strconv.Atoi(os.Getenv("NIDALO_HOSTILE")); err == nil {
		length, measured = time.Duration(n)*time.Second, true
	}
	b := newBenchAlone(t)
	certificates(t, b.home)
	port := func() string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		return l.Addr().String()
	}
	tcp, secure, metrics := port(), port(), port()
	b.configure(fmt.Sprintf("[listen]\ntcp=%q\nmetrics=%q\nclients=64\nmemory='64MiB'\n[listen.tls]\naddress=%q\ncert='%s/server-cert.pem'\nkey='%s/server-key.pem'\nca='%s/ca-cert.pem'\n",
		tcp, metrics, secure, b.home, b.home, b.home))
	b.nidalo("lab", "new", "-bays", "4", "-size", "128MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3", "A4")
	b.start("-cache", "32MiB")
	in := filepath.Join(b.home, "in")
	pattern(t, in, 64*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))

	unixPath := filepath.Join(b.home, "nbd.sock")
	workers := []*worker{{}, {}}
	stop := make(chan struct{})
	var good sync.WaitGroup
	for i, at := range [][2]string{{"unix", unixPath}, {"tcp", tcp}} {
		c, err := nbd.Dial(at[0], at[1], "tides")
		require.NoError(t, err)
		workers[i].c = c
	}
	rate := func(d time.Duration) (out []float64) {
		var before []int64
		for _, w := range workers {
			before = append(before, w.did.Load())
		}
		began := time.Now()
		time.Sleep(d)
		for i, w := range workers {
			out = append(out, float64(w.did.Load()-before[i])/time.Since(began).Seconds())
		}
		return out
	}
	for _, w := range workers {
		good.Go(func() { w.work(stop) })
	}
	alone := rate(length / 8)

	var tries atomic.Int64
	hostile := make(chan struct{})
	var sieges []*siege
	for _, at := range [][2]string{{"unix", unixPath}, {"tcp", tcp}, {"tcp", secure}, {"tcp", metrics}, {"unix", filepath.Join(b.home, "control.sock")}} {
		s := &siege{network: at[0], address: at[1], stop: hostile, tries: &tries}
		s.lay(100, silent)
		s.lay(20, halfOpen)
		s.lay(4, forging)
		if at[1] == tcp || at[1] == unixPath {
			s.lay(8, greedy)
		}
		sieges = append(sieges, s)
	}
	pid := b.serve.Process.Pid
	files, memory := 0, int64(0)
	var under []float64
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		for {
			select {
			case <-hostile:
				return
			case <-time.After(100 * time.Millisecond):
				entries, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
				files, memory = max(files, len(entries)), max(memory, resident(pid))
			}
		}
	}()
	under = rate(length)
	// Others find their way in meanwhile: on the socket of the home, and with commands.
	fresh, err := nbd.Dial("unix", unixPath, "tides")
	require.NoError(t, err)
	require.NoError(t, fresh.ReadAt(make([]byte, 4096), 0))
	require.NoError(t, fresh.Close())
	require.Contains(t, b.nidalo("status"), "healthy")
	close(hostile)
	for _, s := range sieges {
		s.wait.Wait()
	}
	<-watched
	after := rate(length / 8)
	close(stop)
	good.Wait()
	for i, w := range workers {
		if err := w.fail.Load(); err != nil {
			t.Errorf("the good client at %d: %v", i, *err)
		}
		base := (alone[i] + after[i]) / 2
		t.Logf("the good client at %d: %.0f/s alone, %.0f/s under siege, %.0f/s after: %.2f", i, alone[i], under[i], after[i], under[i]/base)
		if measured {
			require.Greater(t, under[i], 0.7*base)
		}
	}
	t.Logf("%d hostile connections; at most %d descriptors and %d MiB", tries.Load(), files, memory>>20)
	require.Greater(t, tries.Load(), int64(500))
	require.Less(t, files, 3*(256+64)+16+256+150)
	require.Less(t, memory, int64(32+3*64+200)<<20)
	require.NotContains(t, b.log.String(), "panic")
}

// resident is the memory of a process, bytes.
func resident(pid int) int64 {
	buf, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(buf), "VmRSS:")
	n, _ := strconv.ParseInt(strings.Fields(rest + " 0")[0], 10, 64)
	return n << 10
}
