package cli

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/nbd"
)

var demoCommand = command{name: "demo", usage: "[-keep] [-hosts]", short: "watch the main job done on made-up data, in a folder of its own", most: 0,
	help: `
Plays a night at the Saltmarsh Tide Office in a temporary folder: a double-parity array is made in a lab and filled with
generated tide readings, a disk is pulled while data is written, another rots silently, and all is repaired. Every step is a
command you could type, and every byte is verified by its hash. A step that fails ends the demo with exit status 1.

With -hosts three services and an etcd play three hosts: an array lies across them, the host that has it is killed while a client writes, and
another takes it over.

  nidalo demo
  nidalo demo -hosts
  nidalo demo -keep     leaves the folder, to go on by hand`,
	with: func(e *env, f *flag.FlagSet) action {
		var keep, hosts bool
		f.BoolVar(&hosts, "hosts", false, "an array across three hosts, one of which is killed; needs etcd")
		f.BoolVar(&keep, "keep", false, "leave the folder behind")
		return func(_ []string) error {
			if hosts {
				return playHosts(e, keep)
			}
			return (&demo{e: e, keep: keep}).play()
		}
	},
}

// demo runs this very program, as a user would.
type demo struct {
	e       *env
	keep    bool
	program string
	home    string
	name    string // of the host, where there are several
	serve   *exec.Cmd
	log     *os.File
	steps   int
	held    int
	tides   [32]byte // sums of what was written
	sonar   [32]byte
}

const (
	demoTides = 192 << 20 // bytes of readings
	demoSonar = 48 << 20
	demoChunk = 1 << 20
)

func (d *demo) play() (err error) {
	if d.program, err = os.Executable(); err != nil {
		return err
	}
	if d.home, err = os.MkdirTemp("", "nidalo-demo-"); err != nil {
		return err
	}
	began := time.Now()
	defer func() {
		d.stop()
		if !d.keep {
			_ = os.RemoveAll(d.home)
		}
	}()
	d.say("A night at the Saltmarsh Tide Office. Everything happens in %s.", d.home)

	for _, act := range []func() error{d.setUp, d.loseADisk, d.findRot, d.losePower, d.outgrow, d.archive, d.device} {
		if err := act(); err != nil {
			return err
		}
	}
	if d.held != d.steps {
		return &control.Error{What: fmt.Sprintf("%d of %d steps did not hold", d.steps-d.held, d.steps)}
	}
	d.e.out.Printf("\nAll %d steps held, in %s.\n", d.steps, time.Since(began).Round(100*time.Millisecond))
	if d.keep {
		d.e.out.Next([]string{"nidalo serve -home " + d.home + "   goes on from here"})
	} else {
		d.e.out.Next([]string{"nidalo lab new   makes a lab of your own; nidalo help lists all commands"})
	}
	return nil
}

// setUp makes an array and writes the readings of the gauge to it.
func (d *demo) setUp() error {
	d.say("A lab stands in for the office's enclosure: sixteen bays with blank disks.")
	d.run("lab", "new", "-bays", "16", "-size", "256MiB")
	d.run("disks")
	d.say("Six of them become an array that survives the loss of any two.")
	d.run("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5", "A6")
	d.say("The service makes it reachable over the network block protocol.")
	if err := d.start(); err != nil {
		return err
	}
	d.say("Readings of the gauge since 1931 are written: %s.", say.Size(demoTides))
	d.tides = d.write(0, demoTides, 1, nil)
	d.verify("the readings", 0, demoTides, d.tides)
	return nil
}

// loseADisk pulls one while data is written, and replaces it.
func (d *demo) loseADisk() error {
	d.say("While the sonar survey is written as well, the disk in bay A3 is pulled.")
	pulled := false
	d.sonar = d.write(demoTides, demoSonar, 2, func(part float64) {
		if part >= 0.4 && !pulled {
			pulled = true
			d.run("lab", "pull", "A3")
		}
	})
	out := d.run("status", "tides")
	d.hold("the array says it is degraded", strings.Contains(out, "degraded"))
	d.hold("the missing member is named by bay and serial", strings.Contains(out, "A3") && strings.Contains(out, "QRN-0207"))
	d.verify("the readings, degraded", 0, demoTides, d.tides)
	d.verify("the survey written during the failure", demoTides, demoSonar, d.sonar)

	d.say("A new disk goes into the bay and takes the place of the lost one.")
	d.run("lab", "insert", "A3")
	out = d.run("replace", "-wait", "tides", "QRN-0207", "A3")
	d.hold("the rebuild restored full margin", strings.Contains(out, "healthy, margin 2"))
	return nil
}

// findRot has a disk return wrong bytes, which a check finds and repairs.
func (d *demo) findRot() error {
	d.say("Another disk has begun to rot: it returns wrong bytes without any error.")
	d.run("lab", "damage", "A5", "-change", "5")
	out := d.run("check", "-repair", "-wait", "tides")
	d.hold("the check found the bad blocks and named the disk", strings.Contains(out, "ORR-0221"))
	out = d.run("check", "-wait", "tides")
	d.hold("after the repair nothing is wrong any more", strings.Contains(out, "no mismatches"))
	d.verify("the readings", 0, demoTides, d.tides)
	d.verify("the survey", demoTides, demoSonar, d.sonar)
	return nil
}

// losePower kills the service and starts it again.
func (d *demo) losePower() error {
	d.say("The power goes: the service is killed, and started again.")
	d.kill()
	if err := d.start(); err != nil {
		return err
	}
	d.verify("the readings", 0, demoTides, d.tides)
	out := d.run("status", "tides")
	d.hold("the array is healthy", strings.Contains(out, "healthy"))
	return nil
}

// outgrow exchanges all disks for larger ones, and adds two more with another level.
func (d *demo) outgrow() error {
	d.say("The readings outgrow the disks: larger ones come, one after the other, while the array is in use.")
	for _, bay := range []string{"A1", "A2", "A3", "A4", "A5", "A6"} {
		d.run("lab", "pull", bay)
		d.run("lab", "insert", bay, "-size", "512MiB")
		d.run("replace", "-wait", "tides", bay, bay)
		d.verify("the readings", 0, demoTides, d.tides)
	}
	d.say("With the last one in, the array takes up their room. No data moves.")
	out := d.run("grow", "tides")
	d.hold("it is twice as large", strings.Contains(out, "2.10GB now"))
	d.verify("the readings", 0, demoTides, d.tides)
	d.say("Two more disks make it survive the loss of any three.")
	for _, bay := range []string{"B1", "B2"} {
		d.run("lab", "pull", bay)
		d.run("lab", "insert", bay, "-size", "512MiB")
	}
	out = d.run("convert", "-wait", "tides", "-level", "triple", "B1", "B2")
	d.hold("it has another level, and more room", strings.Contains(out, "level triple of 8 disks, margin 3"))
	d.verify("the readings", 0, demoTides, d.tides)
	d.verify("the survey", demoTides, demoSonar, d.sonar)
	return nil
}

// device plays with a real file system on an attached array, where this machine allows it.
func (d *demo) device() error {
	d.say("The published sheets get an array of their own, as a block device of this host with a file system on it.")
	if why := noDevice(); why != "" {
		d.e.out.Printf("  This part is left out here: %s.\n", why)
		return nil
	}
	d.run("create", "-name", "charts", "-level", "1", "A7", "A8")
	out := d.run("attach", "charts")
	device, mount, sheet := "/dev/nidalo/charts", filepath.Join(d.home, "charts"), filepath.Join(d.home, "charts", "sheet-1931")
	d.hold("the array is a block device", strings.Contains(out, device))
	defer func() { // whatever happened, nothing of it stays
		_ = exec.Command("umount", mount).Run()
		_ = exec.Command(d.program, "detach", "-force", "-yes", "charts", "-home", d.home).Run()
	}()
	if err := os.Mkdir(mount, 0o700); err != nil {
		return err
	}
	d.tool("mkfs.ext4", "-q", device)
	d.tool("mount", device, mount)
	want := tideData(3, 0)
	err := os.WriteFile(sheet, want, 0o600)
	d.hold("a sheet is written"+because(err), err == nil)
	d.say("The service is killed under the mounted file system, and another disk is pulled.")
	d.kill()
	read := make(chan error, 1)
	go func() { // waits for the service
		_ = exec.Command("sh", "-c", "echo 1 >/proc/sys/vm/drop_caches").Run()
		got, err := os.ReadFile(sheet)
		if err == nil && !bytes.Equal(got, want) {
			err = errors.New("it differs")
		}
		read <- err
	}()
	if err := d.start(); err != nil {
		return err
	}
	d.run("lab", "pull", "A7")
	err = <-read
	d.hold("the sheet reads the same"+because(err), err == nil)
	d.tool("umount", mount)
	checked := d.tool("e2fsck", "-fn", device)
	d.hold("the file system is clean", !strings.Contains(checked, "wrong") && !strings.Contains(checked, "recovery"))
	d.run("detach", "charts")
	return nil
}

// noDevice says why a file system cannot be mounted here; empty when it can.
func noDevice() string {
	if os.Geteuid() != 0 {
		return "mounting needs root"
	}
	for _, tool := range []string{"mkfs.ext4", "e2fsck", "mount", "umount"} {
		if _, err := exec.LookPath(tool); err != nil {
			return tool + " is not there"
		}
	}
	if _, err := os.Lstat("/dev/nidalo/charts"); err == nil {
		return "an array named charts is attached to this host"
	}
	if _, err := os.Stat("/sys/module/nbd"); err == nil {
		return ""
	}
	for _, path := range []string{"/dev/fuse", "/dev/loop-control"} {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return "this machine does not allow devices: " + err.Error()
		}
		_ = f.Close()
	}
	return ""
}

// tool runs a program of the system and shows what it prints.
func (d *demo) tool(name string, args ...string) string {
	d.e.out.Printf("\n  $ %s %s\n", name, strings.ReplaceAll(strings.Join(args, " "), d.home, "HOME"))
	out, err := exec.Command(name, args...).CombinedOutput()
	for _, line := range strings.Split(strings.TrimRight(string(out), "\n"), "\n") {
		if line != "" {
			d.e.out.Printf("  %s\n", strings.ReplaceAll(line, d.home, "HOME"))
		}
	}
	if err != nil {
		d.hold(name+" succeeds: "+err.Error(), false)
	}
	return string(out)
}

func (d *demo) say(format string, args ...any) { d.e.out.Printf("\n— "+format+"\n", args...) }

// hold notes whether a step held.
func (d *demo) hold(what string, ok bool) {
	d.steps++
	if ok {
		d.held++
		d.e.out.Printf("  ok: %s\n", what)
	} else {
		d.e.out.Printf("  DOES NOT HOLD: %s\n", what)
	}
}

// run types a command and shows what it prints.
func (d *demo) run(args ...string) string {
	d.e.out.Printf("\n  %s$ nidalo %s\n", d.name, strings.Join(args, " "))
	out, err := d.typed(args...)
	for _, line := range strings.Split(strings.TrimRight(out, "\n"), "\n") {
		d.e.out.Printf("  %s\n", strings.ReplaceAll(line, d.home, "HOME"))
	}
	if err != nil {
		d.hold("nidalo "+args[0]+" succeeds: "+err.Error(), false)
	}
	return out
}

// typed is what a command prints.
func (d *demo) typed(args ...string) (string, error) {
	var buf bytes.Buffer
	c := exec.Command(d.program, append(args, "-home", d.home)...)
	c.Env = labOnly()
	c.Stdout, c.Stderr = &buf, &buf
	err := c.Run()
	return buf.String(), err
}

func (d *demo) start() error {
	d.e.out.Printf("\n  %s$ nidalo serve &\n", d.name)
	var err error
	if d.log, err = os.OpenFile(filepath.Join(d.home, "serve.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err != nil {
		return err
	}
	d.serve = exec.Command(d.program, "serve", "-home", d.home)
	d.serve.Env = labOnly()
	d.serve.Stderr = d.log
	if err := d.serve.Start(); err != nil {
		return err
	}
	for range 100 {
		if c, err := control.Dial(d.home); err == nil {
			return c.Close()
		}
		time.Sleep(50 * time.Millisecond)
	}
	buf, _ := os.ReadFile(d.log.Name())
	return fmt.Errorf("the service did not start: %s", buf)
}

func (d *demo) stop() {
	if d.serve != nil && d.serve.Process != nil {
		_ = d.serve.Process.Signal(syscall.SIGTERM)
		_ = d.serve.Wait()
		_ = d.log.Close()
		d.serve = nil
	}
}

func (d *demo) kill() {
	d.e.out.Printf("\n  %s$ kill -9 %%1\n", d.name)
	_ = d.serve.Process.Kill()
	_ = d.serve.Wait()
	_ = d.log.Close()
	d.serve = nil
}

func (d *demo) client(export string) (*nbd.Client, error) {
	return nbd.Dial("unix", filepath.Join(d.home, "nbd.sock"), export)
}

// write is writeTo the array of readings.
func (d *demo) write(off, length int64, seed int64, progress func(float64)) [32]byte {
	return d.writeTo("tides", off, length, seed, progress)
}

// writeTo sends generated data to an array or a volume, and returns its hash. progress is told the part that is done.
func (d *demo) writeTo(export string, off, length int64, seed int64, progress func(float64)) [32]byte {
	var sum [32]byte
	err := func() error {
		c, err := d.client(export)
		if err != nil {
			return err
		}
		defer c.Close()
		var took time.Duration // of writing, without making the data up
		h := sha256.New()
		for at := int64(0); at < length; at += demoChunk {
			p := tideData(seed, at)
			h.Write(p)
			began := time.Now()
			if err := c.WriteAt(p, off+at); err != nil {
				return err
			}
			took += time.Since(began)
			if progress != nil {
				progress(float64(at) / float64(length))
			}
		}
		began := time.Now()
		if err := c.Flush(); err != nil {
			return err
		}
		took += time.Since(began)
		h.Sum(sum[:0])
		d.e.out.Printf("  %s written and flushed at %s/s, SHA-256 %x…\n", say.Size(length),
			say.Size(int64(float64(length)/took.Seconds())), sum[:8])
		return nil
	}()
	d.hold("the data is written without an error"+because(err), err == nil)
	return sum
}

func because(err error) string {
	if err == nil {
		return ""
	}
	return ": " + err.Error()
}

// verify is verifyIn the array of readings.
func (d *demo) verify(what string, off, length int64, want [32]byte) {
	d.verifyIn("tides", what, off, length, want)
}

// verifyIn reads back and compares hashes.
func (d *demo) verifyIn(export, what string, off, length int64, want [32]byte) {
	err := func() error {
		c, err := d.client(export)
		if err != nil {
			return err
		}
		defer c.Close()
		h := sha256.New()
		p := make([]byte, demoChunk)
		for at := int64(0); at < length; at += demoChunk {
			if err := c.ReadAt(p, off+at); err != nil {
				return err
			}
			h.Write(p)
		}
		if [32]byte(h.Sum(nil)) != want {
			return errors.New("the hashes differ")
		}
		return nil
	}()
	d.hold(fmt.Sprintf("%s read back with the same SHA-256, %x…%s", what, want[:8], because(err)), err == nil)
}

var tideSine = sync.OnceValue(func() []int32 {
	// One turn of a sine in 4096 steps, by the recurrence s(n+1) = 2·cos(d)·s(n) − s(n−1).
	const n = 4096
	const cos2, sin1 = 1.9999976470703424, 0.0015339801862847655 // 2·cos(2π/4096), sin(2π/4096)
	out := make([]int32, n)
	a, b := 0.0, sin1
	for i := range out {
		out[i] = int32(a * 1_000_000)
		a, b = b, cos2*b-a
	}
	return out
})

// tideData is one chunk of made-up gauge readings: a reading of 16 bytes a minute, the sum of four harmonics and noise
// from the seed.
func tideData(seed, at int64) []byte {
	sine := tideSine()
	p := make([]byte, demoChunk)
	noise := uint64(seed)*0x9e3779b97f4a7c15 + uint64(at)
	for i := 0; i < len(p); i += 16 {
		minute := (at + int64(i)) / 16
		noise ^= noise << 13
		noise ^= noise >> 7
		noise ^= noise << 17
		level := int64(0)
		for _, h := range [4][2]int64{{745, 2100}, {720, 700}, {1436, 350}, {1549, 250}} { // period in minutes, millimetres
			level += h[1] * int64(sine[(minute+seed*97)%h[0]*4096/h[0]]) / 1000
		}
		put := func(at int, v uint64) {
			for b := range 8 {
				p[at+b] = byte(v >> (8 * b))
			}
		}
		put(i, uint64(minute))
		put(i+8, uint64(level)<<16|noise&0xffff)
	}
	return p
}

// labOnly is an environment in which the disks of this host are left out: the demo is about its own.
func labOnly() []string { return append(os.Environ(), "NIDALO_HOST_DISKS=no") }
