package test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
)

// relay is the way between two hosts. It can be cut, held (bytes are taken and go nowhere, as over a link that half died), and slow.
type relay struct {
	t      *testing.T
	listen net.Listener
	to     atomic.Pointer[string]
	way    atomic.Int32
	delay  atomic.Int64 // of each piece, ns
	mu     sync.Mutex
	conns  map[net.Conn]bool
}

const (
	passing int32 = iota
	refusing
	holding
)

func newRelay(t *testing.T) *relay {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &relay{t: t, listen: l, conns: map[net.Conn]bool{}}
	t.Cleanup(func() {
		_ = l.Close()
		r.set(refusing)
	})
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go r.carry(c)
		}
	}()
	return r
}

func (r *relay) address() string { return r.listen.Addr().String() }

// set changes what becomes of connections. Whatever stands is broken when they are refused.
func (r *relay) set(way int32) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.way.Store(way); way == refusing {
		for c := range r.conns {
			_ = c.Close()
		}
	}
}

func (r *relay) carry(c net.Conn) {
	defer c.Close()
	to := r.to.Load()
	if to == nil || r.way.Load() == refusing {
		return
	}
	d, err := net.Dial("tcp", *to)
	if err != nil {
		return
	}
	defer d.Close()
	r.mu.Lock()
	r.conns[c], r.conns[d] = true, true
	r.mu.Unlock()
	var wait sync.WaitGroup
	pipe := func(from, to net.Conn) {
		defer from.Close()
		defer to.Close()
		buf := make([]byte, 256<<10)
		for {
			n, err := from.Read(buf)
			if err != nil {
				return
			}
			time.Sleep(time.Duration(r.delay.Load()))
			for r.way.Load() == holding {
				time.Sleep(10 * time.Millisecond)
			}
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
	}
	wait.Go(func() { pipe(c, d) })
	pipe(d, c)
	wait.Wait()
	r.mu.Lock()
	delete(r.conns, c)
	delete(r.conns, d)
	r.mu.Unlock()
}

// lender is a host that lends the first disks of its lab to gull, at the end of a relay.
func lender(t *testing.T, name string, serial, bays int) (*bench, *relay) {
	b := newBench(t)
	r := newRelay(t)
	b.nidalo("lab", "new", "-bays", fmt.Sprint(bays), "-size", "64MiB", "-serials", fmt.Sprint(serial))
	b.configure("host_name = \"" + name + "\"\n[lend]\naddress = \"127.0.0.1:0\"\n")
	b.lend(r)
	for i := range bays {
		b.nidalo("lend", "-to", "gull", fmt.Sprintf("A%d", i+1))
	}
	return b, r
}

// lend starts the service of a lender, and leads a relay to it.
func (b *bench) lend(r *relay) {
	b.t.Helper()
	b.start()
	rest := ""
	b.eventually("lending", func() (ok bool) {
		_, rest, ok = strings.Cut(b.log.String(), `msg="lending disks" address=`)
		return ok
	})
	address, _, _ := strings.Cut(rest, " ")
	r.to.Store(&address)
}

// owner is gull, which has a lab of its own and uses what some lenders lend.
func owner(t *testing.T, more string, ways ...*relay) *bench {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB", "-serials", "100")
	hosts := ""
	for _, r := range ways {
		hosts += fmt.Sprintf("%q, ", "nbd://"+r.address())
	}
	b.configure("host_name = \"gull\"\n[remote]\nhosts = [" + hosts + "]\n" + more)
	return b
}

// load is a client that writes and flushes until it is stopped, and knows what must be there.
type load struct {
	*versions
	b    *bench
	c    *nbd.Client
	stop atomic.Bool
	done chan error
}

// load begins one, which may go on with what another one left.
func (b *bench) load(seed uint64, was *load) *load {
	c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
	require.NoError(b.t, err)
	l := &load{versions: &versions{may: make([][]uint64, 800)}, b: b, c: c, done: make(chan error, 1)}
	for i := range l.may {
		l.may[i] = []uint64{0}
	}
	if was != nil {
		l.versions = was.versions
	}
	go func() {
		r := rand.New(rand.NewPCG(seed, 1))
		for !l.stop.Load() {
			block := r.IntN(len(l.may))
			l.next++
			l.may[block] = append(l.may[block], l.next)
			err := c.WriteAt(l.fill(block, l.next), int64(block)*4096*7)
			if err == nil && r.IntN(8) == 0 {
				if err = c.Flush(); err == nil {
					for b, m := range l.may {
						l.may[b] = m[len(m)-1:]
					}
				}
			}
			if err != nil {
				l.done <- err
				return
			}
		}
		l.done <- c.Flush()
	}()
	return l
}

// end stops the client, which must not have seen any error, and reads everything back.
func (l *load) end() {
	l.b.t.Helper()
	l.stop.Store(true)
	require.NoError(l.b.t, <-l.done)
	l.check()
}

func (l *load) check() {
	l.b.t.Helper()
	for block, may := range l.may {
		p := make([]byte, 4096)
		require.NoError(l.b.t, l.c.ReadAt(p, int64(block)*4096*7))
		require.Equal(l.b.t, l.fill(block, may[len(may)-1]), p, "block %d", block)
	}
}

func (b *bench) members() (out []string) {
	for _, m := range b.status().Arrays[0].Members {
		out = append(out, m.Bay+" "+m.Condition)
	}
	return out
}

// A link that breaks, half dies or is slow costs time, and no member; one that is away for longer than the patience costs members, which catch up
// when it is back.
func TestALostConnectionIsNotALostDisk(t *testing.T) {
	heron, way := lender(t, "heron", 300, 2)
	gull := owner(t, "patience = \"15s\"\n[limits]\nlate_read = \"1s\"\n", way)
	gull.start()
	gull.nidalo("create", "-yes", "-name", "tides", "-level", "6", "A1", "A2", "A3", "ORR-0307", "heron:A1")
	all := gull.members()
	require.Contains(t, all, "heron:A1 active")
	l := gull.load(1, nil)
	time.Sleep(time.Second)
	for _, broken := range []int32{refusing, holding, refusing} {
		way.set(broken)
		gull.eventually("out of touch", func() bool { return strings.Contains(gull.nidalo("status", "tides"), "out of touch") })
		time.Sleep(time.Second)
		require.Equal(t, all, gull.members())
		way.set(passing)
		gull.eventually("in touch", func() bool { return !strings.Contains(gull.nidalo("status", "tides"), "out of touch") })
	}
	way.delay.Store(int64(20 * time.Millisecond))
	time.Sleep(3 * time.Second)
	way.delay.Store(0)
	require.Equal(t, all, gull.members())
	require.Zero(t, gull.status().Arrays[0].Members[4].Errors, "a link is not a disk")
	require.NotContains(t, gull.history().kinds(), "member-missing")

	way.set(refusing)
	gull.eventually("missing", func() bool { return gull.condition() != "healthy" })
	require.Contains(t, gull.nidalo("status", "tides"), "heron was out of touch for 15s")
	time.Sleep(time.Second)
	way.set(passing)
	gull.healthy()
	l.end()
	kinds := gull.history().kinds()
	for _, kind := range []string{"host-away", "host-back", "member-missing", "member-returned"} {
		require.Contains(t, kinds, kind)
	}
	require.Contains(t, gull.nidalo("check", "-wait", "tides"), "no mismatches")
	_ = heron
}

// What a lender acknowledged and did not flush counts as lost when it is killed, and its disks catch up.
func TestALenderThatIsKilledCostsNothing(t *testing.T) {
	heron, way := lender(t, "heron", 300, 1)
	plover, other := lender(t, "plover", 500, 1)
	gull := owner(t, "", way, other)
	gull.start()
	gull.nidalo("create", "-yes", "-name", "tides", "-level", "5", "A1", "heron:A1", "plover:A1")
	l := gull.load(2, nil)
	for i := range 4 {
		time.Sleep(700 * time.Millisecond)
		b, r := heron, way
		if i%2 == 1 {
			b, r = plover, other
		}
		b.stop(syscall.SIGKILL)
		b.lend(r)
		gull.eventually("missed", func() bool { return len(gull.history("-kind", "member-returned").Events) > i })
		gull.healthy()
	}
	l.end()
	require.Contains(t, gull.nidalo("check", "-wait", "tides"), "no mismatches")

	// The owner is killed: what it flushed is on the disks of its lenders.
	l = gull.load(3, l)
	time.Sleep(time.Second)
	require.NoError(t, gull.serve.Process.Kill())
	<-l.done
	gull.stop(syscall.SIGKILL)
	gull.start()
	gull.healthy()
	c, err := nbd.Dial("unix", filepath.Join(gull.home, "nbd.sock"), "tides")
	require.NoError(t, err)
	for block, may := range l.may {
		p := make([]byte, 4096)
		require.NoError(t, c.ReadAt(p, int64(block)*4096*7))
		some := false
		for _, version := range may {
			some = some || string(l.fill(block, version)) == string(p)
		}
		require.True(t, some, "block %d", block)
	}
	require.NoError(t, c.Close())
}

// A disk is lent to some hosts, is used by one run of one of them, and by nobody at home.
func TestALentDiskHasOneUser(t *testing.T) {
	heron, way := lender(t, "heron", 300, 3)
	gull := owner(t, "", way)
	gull.start()
	gull.nidalo("create", "-yes", "-name", "tides", "-level", "1", "A1", "heron:A1")

	heron.refused(1, []string{"lent to gull"}, "create", "-name", "x", "-level", "1", "A1", "A2")
	heron.refused(1, []string{"lent to gull"}, "erase", "-yes", "A2")
	heron.refused(1, []string{"lent to gull"}, "spare", "A2")
	heron.refused(1, []string{"host gull uses disk A1", "-yes"}, "lend", "-end", "A1")
	require.Contains(t, heron.nidalo("lend"), "gull")
	require.Contains(t, heron.nidalo("disks"), "lent to gull")
	require.NotContains(t, heron.nidalo("status"), "tides", "what is on it is for gull to say")
	gull.refused(1, []string{"lent to this host"}, "lend", "-to", "plover", "heron:A2")
	gull.refused(1, []string{"member of array"}, "lend", "-to", "plover", "A1")

	// Another run of gull, and a host that it is not lent to.
	second := owner(t, "", way)
	second.nidalo("disks")
	second.refused(1, []string{"in use by another run of a host"}, "erase", "-yes", "heron:A1")
	other := owner(t, "", way)
	other.configure(strings.Replace("host_name = \"plover\"\n[remote]\nhosts = [\"nbd://ADDRESS\"]\n", "ADDRESS", way.address(), 1))
	require.NotContains(t, other.nidalo("disks"), "heron")
	other.refused(1, []string{"lends no such disk"}, "create", "-name", "x", "-level", "1", "A1", "nbd://"+way.address()+"/TMK-0300")

	// A spare from elsewhere steps in when a disk is taken back.
	gull.nidalo("spare", "heron:A2")
	heron.nidalo("lend", "-end", "-yes", "A1")
	gull.eventually("stepped in", func() bool {
		return gull.condition() == "healthy" && strings.Contains(strings.Join(gull.members(), ","), "heron:A2 active")
	})
	require.Contains(t, heron.nidalo("disks"), "stale member of array")
	heron.nidalo("erase", "-yes", "A1")
}

// turns counts how often a connection changes its direction towards the client: a round trip each.
type turns struct {
	net.Listener
	to    string
	trips atomic.Int64
}

func (c *turns) serve() {
	for {
		in, err := c.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("tcp", c.to)
		if err != nil {
			_ = in.Close()
			continue
		}
		var last atomic.Int32
		pipe := func(from, to net.Conn, way int32) {
			defer from.Close()
			defer to.Close()
			buf := make([]byte, 64<<10)
			for {
				n, err := from.Read(buf)
				if err != nil {
					return
				}
				if was := last.Swap(way); was != way && way == 2 {
					c.trips.Add(1)
				}
				if _, err := to.Write(buf[:n]); err != nil {
					return
				}
			}
		}
		go pipe(in, out, 1)
		go pipe(out, in, 2)
	}
}

// A flush waits for a member elsewhere twice: for what it writes, and until that is durable.
func TestAFlushCostsTwoRoundTrips(t *testing.T) {
	_, way := lender(t, "heron", 300, 1)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	counted := &turns{Listener: l, to: *way.to.Load()}
	t.Cleanup(func() { _ = l.Close() })
	go counted.serve()
	gull := owner(t, "")
	gull.configure("host_name = \"gull\"\n")
	gull.start()
	gull.nidalo("create", "-yes", "-name", "tides", "-level", "1", "A1", "nbd://"+l.Addr().String()+"/TMK-0300")
	c, err := nbd.Dial("unix", filepath.Join(gull.home, "nbd.sock"), "tides")
	require.NoError(t, err)
	require.NoError(t, c.WriteAt(make([]byte, 4096), 0))
	require.NoError(t, c.Flush())
	time.Sleep(3 * time.Second) // all is in place
	before, began, flushes := counted.trips.Load(), time.Now(), 0
	for i := range 50 {
		time.Sleep(20 * time.Millisecond)
		require.NoError(t, c.WriteAt([]byte(strings.Repeat("tide", 1024)), 0))
		require.NoError(t, c.Flush())
		flushes = i + 1
	}
	asked := int64(time.Since(began)/time.Second) + 1 // its host, how it is
	// One more for each: in place, behind the flush.
	require.LessOrEqual(t, counted.trips.Load()-before, int64(3*flushes)+asked)
}
