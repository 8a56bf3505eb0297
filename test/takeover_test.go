package test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"
	"nidalo/internal/ownership"
)

// etcd is a real server, whose address is that of a relay: it can be out of reach.
type etcd struct {
	*relay
	cmd  *exec.Cmd
	args []string
}

func newEtcd(t *testing.T) *etcd { return newEtcds(t, 1)[0] }

// newEtcds are the members of one cluster, each behind a relay of its own.
func newEtcds(t *testing.T, n int) (all []*etcd) {
	if _, err := exec.LookPath("etcd"); err != nil {
		t.Skip("needs etcd; make tools installs it")
	}
	clients, peers, cluster := freeAddresses(t, n), freeAddresses(t, n), []string{}
	for i, peer := range peers {
		cluster = append(cluster, fmt.Sprintf("e%d=http://%s", i, peer))
	}
	for i := range n {
		data, err := os.MkdirTemp("/dev/shm", "nidalo-etcd-") // a busy disk would keep leases from being renewed
		if err != nil {
			data = t.TempDir()
		}
		t.Cleanup(func() { _ = os.RemoveAll(data) })
		e := &etcd{relay: newRelay(t), args: []string{"--name", fmt.Sprint("e", i), "--data-dir", data, "--listen-client-urls", "http://" + clients[i], "--advertise-client-urls", "http://" + clients[i],
			"--listen-peer-urls", "http://" + peers[i], "--initial-advertise-peer-urls", "http://" + peers[i], "--initial-cluster", strings.Join(cluster, ","), "--log-level", "error"}}
		e.to.Store(&clients[i])
		e.run(t)
		t.Cleanup(e.kill)
		all = append(all, e)
	}
	for _, client := range clients {
		require.Eventually(t, func() bool {
			c, err := net.Dial("tcp", client)
			return err == nil && c.Close() == nil
		}, 20*time.Second, 20*time.Millisecond)
	}
	return all
}

// freeAddresses are addresses of the loopback at which nobody listens.
func freeAddresses(t *testing.T, n int) (out []string) {
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		out = append(out, l.Addr().String())
	}
	return out
}

// run starts it, or starts it again after it was killed.
func (e *etcd) run(t *testing.T) {
	e.cmd = exec.Command("etcd", e.args...)
	require.NoError(t, e.cmd.Start())
}

func (e *etcd) kill() {
	_ = e.cmd.Process.Kill()
	_ = e.cmd.Wait()
}

// leads says whether it leads its cluster.
func (e *etcd) leads(t *testing.T) bool {
	out, err := exec.Command("etcdctl", "--endpoints", *e.to.Load(), "endpoint", "status", "-w", "json").Output()
	require.NoError(t, err)
	var all []struct {
		Status struct {
			Header struct {
				Member uint64 `json:"member_id"`
			}
			Leader uint64
		}
	}
	require.NoError(t, json.Unmarshal(out, &all))
	return len(all) == 1 && all[0].Status.Leader == all[0].Status.Header.Member
}

// fleet is hosts that could each have an array, whose disks two others lend to both.
type fleet struct {
	t         *testing.T
	etcd      map[string]*etcd // the way of each host to it
	hosts     map[string]*bench
	lenders   []*bench
	ways      map[string][]*relay
	authority *etcd
}

const leaseTime = 5 * time.Second

func newFleet(t *testing.T, names ...string) *fleet { return newFleetOf(t, newEtcds(t, 1), names...) }

// newFleetOf is newFleet with a cluster. Each host reaches the first of its members in a way of its own.
func newFleetOf(t *testing.T, cluster []*etcd, names ...string) *fleet {
	f := &fleet{t: t, authority: cluster[0], hosts: map[string]*bench{}, etcd: map[string]*etcd{}, ways: map[string][]*relay{}}
	for i := range 3 {
		b, r := lender(t, []string{"dunlin", "knot", "ruff"}[i], 300+200*i, 1)
		b.nidalo("lend", "-to", strings.Join(names, ","), "A1")
		f.lenders = append(f.lenders, b)
		for _, name := range names {
			own := newRelay(t)
			own.to.Store(r.to.Load())
			f.ways[name] = append(f.ways[name], own)
		}
	}
	others := ""
	for _, e := range cluster[1:] {
		others += fmt.Sprintf(", %q", e.address())
	}
	for _, name := range names {
		b := newBench(t)
		f.hosts[name], f.etcd[name] = b, &etcd{relay: newRelay(t)}
		f.etcd[name].to.Store(f.authority.to.Load())
		hosts := ""
		for _, r := range f.ways[name] {
			hosts += fmt.Sprintf("%q, ", "nbd://"+r.address())
		}
		b.configure(fmt.Sprintf("host_name = %q\nlate_disks = \"2s\"\n[remote]\nhosts = [%s]\npatience = \"2s\"\n[ownership]\netcd = [%q%s]\nlease = %q\n", name, hosts, f.etcd[name].address(), others, leaseTime))
	}
	return f
}

// made has a host make the array, and all others stand by.
func (f *fleet) made(owner, level string, disks ...string) {
	f.t.Helper()
	for _, b := range f.hosts { // before the array is there
		b.start()
	}
	f.hosts[owner].nidalo(append([]string{"create", "-yes", "-name", "tides", "-level", level}, disks...)...)
	for name, b := range f.hosts {
		if name != owner {
			f.standBy(name)
			require.Contains(f.t, b.nidalo("status"), owner+" has it")
		}
	}
}

func (f *fleet) standBy(name string) {
	f.t.Helper()
	b := f.hosts[name]
	if b.serve == nil {
		b.start()
	}
	b.eventually("standing by", func() bool {
		code, _, _ := b.try("start", "-stand-by", "tides")
		return code == 0
	})
}

// has says whether a host has the array in service.
func (f *fleet) has(name string) bool {
	b := f.hosts[name]
	if b.serve == nil {
		return false
	}
	code, out, _ := b.try("status", "-json", "tides")
	return code == 0 && !strings.Contains(out, `"out_of_service": true`) && strings.Contains(out, `"name": "tides"`)
}

func (f *fleet) until(name string) time.Duration {
	f.t.Helper()
	began := time.Now()
	f.hosts[name].eventually(name+" has it", func() bool { return f.has(name) })
	return time.Since(began)
}

// reads has another host hold everything that a client of an earlier one wrote and flushed.
func (f *fleet) reads(name string, l *load) *load {
	f.t.Helper()
	var c *nbd.Client
	f.hosts[name].eventually(name+" serves it", func() (ok bool) {
		var err error
		c, err = nbd.Dial("unix", filepath.Join(f.hosts[name].home, "nbd.sock"), "tides")
		return err == nil
	})
	defer c.Close()
	for block, may := range l.may {
		p := make([]byte, 4096)
		require.NoError(f.t, c.ReadAt(p, int64(block)*4096*7))
		was := -1
		for i, version := range may {
			if string(l.fill(block, version)) == string(p) {
				was = i
			}
		}
		require.GreaterOrEqual(f.t, was, 0, "block %d holds what was overwritten, or nothing that was written", block)
		l.may[block] = may[was : was+1]
	}
	return l
}

func TestAnotherHostTakesOver(t *testing.T) {
	f := newFleet(t, "gull", "heron")
	f.made("gull", "5", "dunlin:A1", "knot:A1", "ruff:A1")
	gull, heron := f.hosts["gull"], f.hosts["heron"]
	heron.refused(1, []string{"gull has it", "-stand-by"}, "start", "tides")

	// A client that comes to the wrong host is told where to go.
	_, err := nbd.Dial("unix", filepath.Join(heron.home, "nbd.sock"), "tides")
	require.ErrorContains(t, err, "host gull has array")

	// The owner dies.
	l := gull.load(1, nil)
	time.Sleep(time.Second)
	gull.stop(syscall.SIGKILL)
	<-l.done
	t.Logf("after a kill it took %s", f.until("heron"))
	l = f.reads("heron", l)
	f.standBy("gull")

	// The owner is paused for longer than its lease, and goes on: it can change nothing, and learns that it is none any more.
	l = heron.load(2, l)
	time.Sleep(time.Second)
	require.NoError(t, heron.serve.Process.Signal(syscall.SIGSTOP))
	t.Logf("after a pause it took %s", f.until("gull"))
	l2 := f.reads("gull", l)
	l2 = gull.load(3, l2)
	time.Sleep(500 * time.Millisecond)
	require.NoError(t, heron.serve.Process.Signal(syscall.SIGCONT))
	require.Error(t, <-l.done, "what was on its way when it was paused is no success")
	time.Sleep(2 * time.Second)
	l2.end()
	heron.eventually("standing by again", func() bool { return strings.Contains(heron.nidalo("status"), "gull has it") })
	require.Contains(t, gull.nidalo("check", "-wait", "tides"), "no mismatches")
	require.NotContains(t, gull.history().kinds(), "member-missing")

	// The owner cannot reach etcd: it stops when its lease is over, and another takes over.
	l = gull.load(4, l2)
	time.Sleep(500 * time.Millisecond)
	f.etcd["gull"].set(refusing)
	require.Error(t, <-l.done)
	f.until("heron")
	l = f.reads("heron", l)
	require.Contains(t, gull.history().kinds(), "array-ousted")
	f.etcd["gull"].set(passing)
	gull.eventually("standing by again", func() bool { return strings.Contains(gull.nidalo("status"), "heron has it") })

	// A host that does not stand by does not take it, and it comes back.
	heron.refused(1, []string{"host ruff has not taken array", "-stand-by"}, "hand-over", "tides", "ruff")
	heron.eventually("back", func() bool { return f.has("heron") || f.has("gull") })
	if f.has("gull") {
		gull.nidalo("hand-over", "tides", "heron")
	}
	f.until("heron")
	l = f.reads("heron", l)

	// What is taken out of service stays out of it, on every host.
	heron.nidalo("stop", "tides")
	gull.eventually("out of service", func() bool { return strings.Contains(gull.nidalo("status"), "taken out of service on host heron") })
	time.Sleep(2 * time.Second)
	require.False(t, f.has("gull"))
	require.Contains(t, gull.nidalo("next"), "nidalo start tides")
	heron.nidalo("start", "tides")
	require.Contains(t, heron.nidalo("status"), "This host, heron, has it")
	gull.eventually("standing by", func() bool { return strings.Contains(gull.nidalo("status"), "heron has it") })

	// It is handed over, in order.
	heron.nidalo("hand-over", "tides", "gull")
	f.until("gull")
	f.reads("gull", l)
	require.Contains(t, heron.nidalo("status"), "gull has it")
	l = gull.load(5, l)
	time.Sleep(time.Second)
	l.end()
	require.Equal(t, "healthy", gull.condition())

	// A command of its own gets it only when no service has it.
	heron.stop(syscall.SIGTERM)
	heron.refused(1, []string{"gull has it"}, "check", "tides")
	gull.stop(syscall.SIGTERM)
	require.Contains(t, heron.nidalo("check", "-wait", "tides"), "no mismatches")

	// When it is dissolved nothing is kept of it.
	gull.start()
	f.until("gull")
	kept := func() string {
		out, err := exec.Command("etcdctl", "--endpoints", *f.authority.to.Load(), "get", "--prefix", "nidalo/", "--keys-only").CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	require.NotEmpty(t, kept())
	gull.nidalo("dissolve", "-yes", "tides")
	require.Empty(t, kept())
}

// An array that is stopped, or handed over, while others try to claim it goes to none of them, or to the one that is named.
func TestWhatIsGivenUpGoesWhereItShould(t *testing.T) {
	e := newEtcd(t)
	desk := func(host string) *ownership.Desk {
		d, err := ownership.Open(ownership.Settings{Endpoints: []string{e.address()}, Lease: leaseTime, Host: host, Instance: host, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		t.Cleanup(d.Close)
		return d
	}
	gull, heron := desk("gull"), desk("heron")
	for round := range 120 {
		array := fmt.Sprint("array", round)
		c, err := gull.Claim(array, true)
		require.NoError(t, err)
		claimed := make(chan error, 1)
		go func() {
			for {
				_, err := heron.Claim(array, false)
				if o := (ownership.OwnedError{}); !errors.As(err, &o) || o.Owner.Host == "plover" {
					claimed <- err
					return
				}
			}
		}()
		time.Sleep(time.Duration(round%7) * 300 * time.Microsecond)
		if round%2 == 0 {
			require.NoError(t, c.Rest())
			require.ErrorIs(t, <-claimed, ownership.StoppedError{Host: "gull"}, "round %d", round)
		} else {
			require.NoError(t, c.Release("plover"))
			require.ErrorContains(t, <-claimed, "plover has it", "round %d", round)
		}
	}
}

// A host to whose wish etcd gives no answer, or which etcd does not hear, keeps nothing that it does not know to have.
func TestNothingIsKeptUnknowingly(t *testing.T) {
	e := newEtcd(t)
	desk := func(host, address string) *ownership.Desk {
		d, err := ownership.Open(ownership.Settings{Endpoints: []string{address}, Lease: 30 * time.Second, Host: host, Instance: host, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		t.Cleanup(d.Close)
		return d
	}
	gull, heron := desk("gull", e.address()), desk("heron", *e.to.Load())
	claimed := func(array string) *ownership.Claim {
		c, err := gull.Claim(array, true)
		require.NoError(t, err)
		return c
	}
	held := claimed("held")
	for _, way := range []int32{mute, refusing} {
		array := func(name string) string { return fmt.Sprint(name, way) }
		released, rested := claimed(array("released")), claimed(array("rested"))
		e.set(way)
		var all sync.WaitGroup
		for _, ask := range []func() error{
			func() error { return released.Release("") },
			func() error { return rested.Rest() },
			func() error { _, err := gull.Claim(array("tides"), true); return err },
			func() error { _, err := gull.Claim(array("charts"), true); return err },
		} {
			all.Go(func() { assert.Error(t, ask()) })
		}
		all.Wait()
		e.set(passing)
		_, err := gull.Claim(array("rested"), false) // by itself it does not undo what it was told
		require.ErrorIs(t, err, ownership.StoppedError{Host: "gull"})

		// It may ask again itself, and has a later token then.
		before := claimed(array("before")).Token()
		require.Greater(t, claimed(array("charts")).Token(), before)
		gets := func(array string) (err error) {
			require.Eventually(t, func() bool {
				_, err = heron.Claim(array, false)
				return !errors.As(err, &ownership.OwnedError{})
			}, 20*time.Second, 20*time.Millisecond) // the lease is longer, and gull goes on renewing it
			return err
		}
		require.NoError(t, gets(array("tides")))
		require.NoError(t, gets(array("released")))
		require.ErrorIs(t, gets(array("rested")), ownership.StoppedError{Host: "gull"})
	}
	require.Positive(t, held.Left())
}

// A cluster that loses its leader costs the owner nothing, and gives nobody else the array; one without a majority has the owner stop when its lease is over.
func TestEtcdLosesItsLeader(t *testing.T) {
	cluster := newEtcds(t, 3)
	f := newFleetOf(t, cluster, "gull", "heron")
	f.made("gull", "5", "dunlin:A1", "knot:A1", "ruff:A1")
	gull, heron := f.hosts["gull"], f.hosts["heron"]
	leader := 0
	gull.eventually("a leader", func() bool {
		leader = slices.IndexFunc(cluster, func(e *etcd) bool { return e.leads(t) })
		return leader >= 0
	})
	l := gull.load(1, nil)
	time.Sleep(time.Second)
	cluster[leader].kill()
	time.Sleep(3 * leaseTime)
	l.end()
	require.True(t, f.has("gull"))
	require.Contains(t, heron.nidalo("status"), "gull has it")
	require.NotContains(t, gull.history().kinds(), "array-ousted")

	// The owner dies after that, and the other takes over.
	l = gull.load(2, l)
	time.Sleep(time.Second)
	gull.stop(syscall.SIGKILL)
	<-l.done
	t.Logf("after a change of leader it took %s", f.until("heron"))
	l = f.reads("heron", l)

	// Without a majority nobody has it for longer than a lease, and with one again somebody does.
	l = heron.load(3, l)
	time.Sleep(time.Second)
	second := (leader + 1) % 3
	cluster[second].kill()
	require.Error(t, <-l.done)
	heron.eventually("stopped", func() bool { return !f.has("heron") })
	cluster[leader].run(t)
	cluster[second].run(t)
	f.until("heron")
	f.reads("heron", l)
}

// An owner that was paused may still have a session with a lender that the next one does not reach. What it reads there may have been overwritten since, so it
// answers nothing that it was asked meanwhile.
func TestAPausedOwnerAnswersNothingOld(t *testing.T) {
	f := newFleet(t, "gull", "heron")
	f.made("gull", "5", "dunlin:A1", "knot:A1", "ruff:A1")
	gull, heron := f.hosts["gull"], f.hosts["heron"]
	const n = 512 << 10
	client := func(b *bench) *nbd.Client {
		c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
		require.NoError(t, err)
		return c
	}
	write := func(c *nbd.Client, text string) {
		require.NoError(t, c.WriteAt(bytes.Repeat([]byte(text), n/len(text)), 0))
		require.NoError(t, c.Flush())
	}
	old := client(gull)
	write(old, "old.")
	time.Sleep(3 * time.Second) // until it is in place
	f.ways["heron"][2].set(refusing)
	require.NoError(t, gull.serve.Process.Signal(syscall.SIGSTOP))
	f.until("heron")
	now := client(heron)
	write(now, "new.")
	type answer struct {
		p   []byte
		err error
	}
	answers := make(chan answer, n/4096)
	for at := int64(0); at < n; at += 4096 {
		go func() {
			p := make([]byte, 4096)
			answers <- answer{p, old.ReadAt(p, at)}
		}()
	}
	time.Sleep(500 * time.Millisecond) // they are on their way
	require.NoError(t, gull.serve.Process.Signal(syscall.SIGCONT))
	refused := 0
	for range n / 4096 {
		if a := <-answers; a.err == nil {
			require.Equal(t, "new.", string(a.p[:4]))
		} else {
			refused++
		}
	}
	require.NotZero(t, refused)
	require.NoError(t, now.Close())
}

// A host that uses disks that it lends itself stops in order: its arrays before the disks below them.
func TestAHostStopsWithItsOwnLentDisks(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "2", "-size", "64MiB")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	b.configure(fmt.Sprintf("host_name = \"gull\"\n[lend]\naddress = %q\n[remote]\nhosts = [\"nbd://%s\"]\n", address, address))
	b.nidalo("lend", "-to", "gull", "A1", "A2")
	b.start()
	b.nidalo("create", "-yes", "-name", "tides", "-level", "1", "gull:A1", "gull:A2")
	load := b.load(1, nil)
	time.Sleep(500 * time.Millisecond)
	load.end()
	require.Zero(t, b.stop(syscall.SIGTERM), "%s", b.log)
	require.Contains(t, b.log.String(), "everything is flushed")
	require.NotContains(t, b.log.String(), "member-missing")
	b.start()
	b.healthy()
	load.c, err = nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
	require.NoError(t, err)
	load.check()
	require.NotContains(t, b.history().kinds(), "member-missing")
}

// An owner that goes on without a member that the next owner never reached has to have said so to etcd: the next one does not start from that member.
func TestANextOwnerDoesNotStartFromWhatWasLeftBehind(t *testing.T) {
	f := newFleet(t, "gull", "heron")
	f.made("gull", "1", "knot:A1", "ruff:A1")
	gull, heron := f.hosts["gull"], f.hosts["heron"]
	l := gull.load(1, nil)
	time.Sleep(500 * time.Millisecond)
	// gull loses ruff, and goes on with knot. heron sees ruff alone, which is a whole mirror, of what was before.
	f.ways["heron"][1].set(refusing)
	f.ways["gull"][2].set(refusing)
	gull.eventually("exposed", func() bool { return gull.condition() == "exposed" })
	time.Sleep(time.Second)
	gull.stop(syscall.SIGKILL)
	<-l.done
	heron.eventually("refusing", func() bool { return strings.Contains(heron.nidalo("status"), "its last owner went on in epoch") })
	require.False(t, f.has("heron"))
	f.ways["heron"][1].set(passing)
	f.until("heron")
	f.reads("heron", l)
	heron.eventually("healthy", func() bool { return heron.condition() == "healthy" })
}

var tokens = regexp.MustCompile(`msg="lent disk in use" disk="([^"]+)" host=(\S+) token=(\d+)`)

// oneWriter holds the lenders to it that each disk was used with tokens that only rise: whoever had it before was refused from then on.
func (f *fleet) oneWriter() {
	f.t.Helper()
	for _, b := range f.lenders {
		last := map[string]uint64{}
		for _, m := range tokens.FindAllStringSubmatch(b.log.String(), -1) {
			token, err := strconv.ParseUint(m[3], 10, 64)
			require.NoError(f.t, err)
			require.GreaterOrEqual(f.t, token, last[m[1]], "%s was given to %s with a token lower than before", m[1], m[2])
			last[m[1]] = token
		}
		require.NotEmpty(f.t, last)
	}
}

// Owners are killed, stopped, paused, cut off from etcd and told to hand over, in turn and under load; each next one has everything that was flushed.
func TestTakeoversUnderLoad(t *testing.T) {
	cycles, seed := 2, uint64(1)
	if n, err := strconv.Atoi(os.Getenv("NIDALO_CYCLES")); err == nil {
		cycles = n
	}
	if n, err := strconv.ParseUint(os.Getenv("NIDALO_SOAK_SEED"), 10, 64); err == nil {
		seed = n
	}
	f := newFleet(t, "gull", "heron")
	f.made("gull", "5", "dunlin:A1", "knot:A1", "ruff:A1")
	owner, other := "gull", "heron"
	r := rand.New(rand.NewPCG(seed, 3))
	var l *load
	longest := time.Duration(0)
	for cycle := range cycles {
		b := f.hosts[owner]
		l = b.load(seed+uint64(cycle), l)
		time.Sleep(time.Duration(300+r.IntN(1500)) * time.Millisecond)
		began := time.Now()
		what := []string{"kill", "pause", "cut off", "stop", "hand over", "lender and kill"}[r.IntN(6)]
		switch what {
		case "kill":
			b.stop(syscall.SIGKILL)
		case "pause":
			require.NoError(t, b.serve.Process.Signal(syscall.SIGSTOP))
		case "cut off":
			f.etcd[owner].set(refusing)
		case "stop":
			b.stop(syscall.SIGTERM)
		case "hand over":
			b.nidalo("hand-over", "tides", other)
		case "lender and kill": // which the next owner reaches: what it has is old
			way := f.ways[owner][r.IntN(3)]
			way.set(refusing)
			b.eventually("without a member", func() bool { return b.condition() == "exposed" })
			time.Sleep(time.Duration(r.IntN(1000)) * time.Millisecond)
			b.stop(syscall.SIGKILL)
			way.set(passing)
		}
		f.until(other)
		took := time.Since(began)
		longest = max(longest, took)
		t.Logf("%d: %s, %s after %s", cycle, what, other, took.Round(100*time.Millisecond))
		if what == "pause" { // it goes on while the next one is at work
			require.NoError(t, b.serve.Process.Signal(syscall.SIGCONT))
		}
		f.etcd[owner].set(passing)
		l.stop.Store(true)
		<-l.done
		l = f.reads(other, l)
		if b.serve == nil {
			f.standBy(owner)
		}
		f.hosts[owner].eventually("standing by", func() bool { return strings.Contains(f.hosts[owner].nidalo("status"), other+" has it") })
		f.hosts[other].healthy()
		owner, other = other, owner
	}
	t.Logf("the longest took %s, with a lease of %s", longest, leaseTime)
	require.Contains(t, f.hosts[owner].nidalo("check", "-wait", "tides"), "no mismatches")
	f.oneWriter()
}
