package cli

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/nbd"
)

const (
	demoShared = 64 << 20 // bytes of readings
	demoLease  = 4 * time.Second
)

// hostsDemo is three hosts on one machine, with an etcd.
type hostsDemo struct {
	e     *env
	dir   string
	hosts []*demo
	etcd  *exec.Cmd
	sums  [][32]byte
}

// playHosts shows an array across three hosts, and how another one takes it over.
func playHosts(e *env, keep bool) (err error) {
	if _, err := exec.LookPath("etcd"); err != nil {
		return &control.Error{What: "this demo needs etcd, which decides between hosts", Hints: []string{"make demo-hosts   installs it", "apt-get install etcd-server"}}
	}
	h := &hostsDemo{e: e}
	if h.dir, err = os.MkdirTemp("", "nidalo-demo-"); err != nil {
		return err
	}
	began := time.Now()
	defer func() {
		for _, d := range h.hosts {
			d.stop()
		}
		if h.etcd != nil && h.etcd.Process != nil {
			_ = h.etcd.Process.Kill()
			_ = h.etcd.Wait()
		}
		if !keep {
			_ = os.RemoveAll(h.dir)
		}
	}()
	for _, act := range []func() error{h.setUp, h.share, h.takeOver, h.comeBack} {
		if err := act(); err != nil {
			return err
		}
	}
	steps, held := 0, 0
	for _, d := range h.hosts {
		steps, held = steps+d.steps, held+d.held
	}
	if held != steps {
		return &control.Error{What: fmt.Sprintf("%d of %d steps did not hold", steps-held, steps)}
	}
	e.out.Printf("\nAll %d steps held, in %s.\n", steps, time.Since(began).Round(100*time.Millisecond))
	e.out.Next([]string{"docs/other-hosts.md   says how it is done on real hosts, with certificates"})
	return nil
}

// free returns n loopback addresses at which nobody listens.
func free(n int) (out []string, err error) {
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer l.Close()
		out = append(out, l.Addr().String())
	}
	return out, nil
}

// setUp starts etcd and three services, each with a lab, of which it lends two disks to all.
func (h *hostsDemo) setUp() error {
	h.hosts = nil
	at, err := free(8)
	if err != nil {
		return err
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	h.etcd = exec.Command("etcd", "--data-dir", filepath.Join(h.dir, "etcd"), "--listen-client-urls", "http://"+at[0], "--advertise-client-urls", "http://"+at[0],
		"--listen-peer-urls", "http://"+at[1], "--initial-advertise-peer-urls", "http://"+at[1], "--initial-cluster", "default=http://"+at[1], "--log-level", "error")
	if err := h.etcd.Start(); err != nil {
		return err
	}
	for i, name := range []string{"gull", "heron", "plover"} {
		d := &demo{e: h.e, program: program, home: filepath.Join(h.dir, name), name: name}
		if i == 0 {
			d.say("Three hosts of the Saltmarsh Tide Office, gull, heron and plover, and an etcd, on this machine, in %s.\n  Each lends two of its disks to all three, itself among them.", h.dir)
		}
		if err := os.Mkdir(d.home, 0o700); err != nil {
			return err
		}
		text := fmt.Sprintf("host_name = %q\nlate_disks = \"2s\"\n[lend]\naddress = %q\n[remote]\nhosts = [\"nbd://%s\", \"nbd://%s\", \"nbd://%s\"]\npatience = \"3s\"\n[ownership]\netcd = [%q]\nlease = %q\n[fleet]\naddress = %q\n",
			name, at[2+i], at[2], at[3], at[4], at[0], demoLease, at[5+i])
		if err := os.WriteFile(filepath.Join(d.home, "nidalo.toml"), []byte(text), 0o600); err != nil {
			return err
		}
		h.hosts = append(h.hosts, d)
		d.run("lab", "new", "-bays", "2", "-size", "192MiB", "-serials", fmt.Sprint(100+200*i))
		d.run("lend", "-to", "gull,heron,plover", "A1", "A2")
		if err := d.start(); err != nil {
			return err
		}
	}
	return nil
}

// share makes an array across all hosts, for which the others stand by.
func (h *hostsDemo) share() error {
	gull := h.hosts[0]
	gull.say("gull finds the disks of all three hosts, and makes an array of them that survives the loss of any one host.")
	gull.until("gull sees six disks", "6 blank", "disks")
	gull.run("create", "-yes", "-name", "tides", "-level", "6", "gull:A1", "gull:A2", "heron:A1", "heron:A2", "plover:A1", "plover:A2")
	out := gull.run("status", "tides")
	gull.hold("any one host can be lost", strings.Contains(out, "Any one of its hosts can be lost"))
	for _, d := range h.hosts[1:] {
		for range 40 {
			if _, err := d.typed("start", "-stand-by", "tides"); err == nil {
				break
			}
			time.Sleep(250 * time.Millisecond)
		}
		d.until(d.name+" stands by", "gull has it", "start", "-stand-by", "tides")
	}
	return nil
}

// owner is the host that has the array now; nil: none of those that answer.
func (h *hostsDemo) owner() *demo {
	for _, d := range h.hosts {
		if d.serve == nil {
			continue
		}
		if c, err := nbd.Dial("unix", filepath.Join(d.home, "nbd.sock"), "tides"); err == nil {
			_ = c.Close()
			return d
		}
	}
	return nil
}

// write has a client write the readings, a chunk and a flush at a time. When its connection breaks, it looks for the array on the other hosts, and goes
// on with the chunk that was not acknowledged. at is told how much is done.
func (h *hostsDemo) write(at func(part float64)) error {
	var c *nbd.Client
	h.sums = nil
	since := time.Now()
	for n := int64(0); n < demoShared/demoChunk; {
		if time.Since(since) > time.Minute {
			return errors.New("no host has the array for a minute")
		}
		if c == nil {
			d := h.owner()
			if d == nil {
				time.Sleep(100 * time.Millisecond)
				continue
			}
			var err error
			if c, err = d.client("tides"); err != nil {
				c = nil
				continue
			}
		}
		p := tideData(3, n*demoChunk)
		if c.WriteAt(p, n*demoChunk) != nil || c.Flush() != nil {
			_ = c.Close()
			c = nil
			continue
		}
		h.sums = append(h.sums, sha256.Sum256(p))
		n, since = n+1, time.Now()
		at(float64(n*demoChunk) / demoShared)
	}
	return c.Close()
}

// verify reads everything back from a host.
func (h *hostsDemo) verify(d *demo) {
	c, err := d.client("tides")
	wrong := 0
	if err == nil {
		p := make([]byte, demoChunk)
		for n, want := range h.sums {
			if c.ReadAt(p, int64(n)*demoChunk) != nil || sha256.Sum256(p) != want {
				wrong++
			}
		}
		_ = c.Close()
	}
	d.hold(fmt.Sprintf("everything that was flushed, %s, reads back with the same SHA-256 from %s%s", say.Size(int64(len(h.sums))*demoChunk), d.name, because(err)), err == nil && wrong == 0)
}

// takeOver kills the owner under load.
func (h *hostsDemo) takeOver() error {
	gull := h.hosts[0]
	gull.say("A client writes readings and flushes each. In the middle of that gull is killed, with the disks that it lends.")
	var killed time.Time
	var longest atomic.Int64
	last := time.Now()
	err := h.write(func(part float64) {
		longest.Store(max(longest.Load(), int64(time.Since(last))))
		last = time.Now()
		if part >= 0.4 && killed.IsZero() {
			killed = time.Now()
			gull.kill()
		}
	})
	now := h.owner()
	gull.hold("the client came to its end on another host"+because(err), err == nil && now != nil && now != gull)
	if now == nil {
		return nil
	}
	h.e.out.Printf("  the client waited for %s at most; the lease is %s\n", time.Duration(longest.Load()).Round(100*time.Millisecond), demoLease)
	now.run("status", "tides")
	h.verify(now)
	now.say("What can be seen of all three from one host.")
	out := now.run("fleet", "status")
	now.hold("the fleet shows that gull does not answer, and where the array is", strings.Contains(out, "gull (") && strings.Contains(out, "does not answer") && strings.Contains(out, now.name+" (also "))
	return nil
}

// comeBack has the killed host return, and the array move there in order.
func (h *hostsDemo) comeBack() error {
	gull, now := h.hosts[0], h.owner()
	if now == nil {
		return nil
	}
	gull.say("gull is back. Its disks catch up what they missed, and gull stands by.")
	if err := gull.start(); err != nil {
		return err
	}
	now.until("the array is healthy again", "healthy, margin 2", "status", "tides")
	gull.until("gull stands by", now.name+" has it", "status", "tides")
	now.say("The array moves back to gull in order.")
	now.run("hand-over", "tides", "gull")
	gull.until("gull has it", "healthy, margin 2\n", "status", "tides")
	h.verify(gull)
	out := gull.run("check", "-wait", "tides")
	gull.hold("a check finds nothing wrong", strings.Contains(out, "no mismatches"))
	return nil
}
