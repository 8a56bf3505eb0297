//go:build linux

package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"nidalo/internal/carryover"
	"nidalo/internal/wholefile"
)

// device is an array attached to this host.
type device struct {
	Spec
	k     *Keeper
	log   *slog.Logger
	relay *relay
	fuse  *fuseFront // nil: the kernel's client

	mu      sync.Mutex
	serving int  // connections of the kernel that are being served
	over    bool // it is being detached
	wait    sync.WaitGroup
}

// Spec is what is written down of a device, for the next keeper.
type Spec struct {
	Version int    `json:"version"`
	Array   string `json:"array"` // its identity
	Name    string `json:"name"`
	Home    string `json:"home"`
	Socket  string `json:"socket"` // of the service
	Export  string `json:"export"`
	Kind    string `json:"kind"`
	Device  string `json:"device"` // path
	// Connections is how many the kernel's client has.
	Connections int `json:"connections"`
}

// Kinds of devices.
const (
	KindKernel = "kernel" // the kernel's client of the block protocol
	KindFuse   = "fuse"   // a loop device on a file system in user space
)

func (s Spec) index() int {
	n, _ := strconv.Atoi(strings.TrimPrefix(filepath.Base(s.Device), "nbd"))
	return n
}

// folder is where the file system in user space is mounted that a device is on.
func (s Spec) folder(run string) string { return filepath.Join(run, "fuse", s.Array) }

// backend is the identity that the kernel keeps with a device.
func (s Spec) backend() string { return "nidalo:" + s.Array }

func (k *Keeper) specPath(id string) string { return specPath(k.opt.Run, id) }

func specPath(run, id string) string { return filepath.Join(run, "attached", id+".json") }

// specsOf is what was written down of the devices of a home.
func specsOf(run, home string) (out []Spec) {
	files, _ := filepath.Glob(specPath(run, "*"))
	for _, path := range files {
		raw, err := os.ReadFile(path)
		var s Spec
		if err == nil {
			err = json.Unmarshal(raw, &s)
		}
		if err == nil && s.Home == home && specPath(run, s.Array) == path {
			out = append(out, s)
		}
	}
	return out
}

func (k *Keeper) carryPath(id string) string { return CarryPath(k.opt.Run, id) }

// CarryPath is where the ring of a device is (internal/carryover), by the identity of its array.
func CarryPath(run, id string) string { return filepath.Join(run, "carry-over", id) }

// announce notes what a device is going to be, where udev finds it, before it can be seen.
func (k *Keeper) announce(s Spec) error {
	path := filepath.Join(k.opt.Run, "devices", filepath.Base(s.Device))
	return errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, fmt.Appendf(nil, "NIDALO_NAME=%s\nNIDALO_ARRAY=%s\n", s.Name, s.Array), 0o644))
}

func (k *Keeper) save(s Spec) error {
	raw, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	path := k.specPath(s.Array)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return wholefile.Write(path, append(raw, '\n'))
}

func (k *Keeper) forget(s Spec) {
	_ = os.Remove(k.specPath(s.Array))
	_ = os.Remove(filepath.Join(k.opt.Run, "devices", filepath.Base(s.Device)))
	if to, err := os.Readlink(s.Link()); err == nil && (to == s.Device || filepath.Base(to) == filepath.Base(s.Device)) {
		_ = os.Remove(s.Link())
		if strings.Contains(s.Name, "/") {
			_ = os.Remove(filepath.Dir(s.Link())) // the last volume of its set
		}
	}
}

// Link is the path of a device that stays the same.
func (s Spec) Link() string { return "/dev/nidalo/" + s.Name }

// link makes the stable link where no udev does.
func (s Spec) link() error {
	tries := 40
	if _, err := os.Stat("/run/udev/control"); err != nil {
		tries = 0
	}
	for range tries {
		if to, err := filepath.EvalSymlinks(s.Link()); err == nil && to == s.Device {
			return nil
		}
		time.Sleep(50 * time.Millisecond) // udev may be about to
	}
	if err := os.MkdirAll(filepath.Dir(s.Link()), 0o755); err != nil {
		return err
	}
	temporary := s.Link() + ".new"
	_ = os.Remove(temporary)
	return errors.Join(os.Symlink(s.Device, temporary), os.Rename(temporary, s.Link()))
}

// attach makes a device for an array. It returns when the device can be used.
func (k *Keeper) attach(q AttachRequest) (*device, error) {
	id, err := uuid.Parse(q.Array)
	if err != nil {
		return nil, err
	}
	if other := namesake(q.Name, id.String()); other != "" {
		return nil, fmt.Errorf("another array with the name %q is attached to this host, as %s", q.Name, other)
	}
	d := &device{k: k, log: k.opt.Log.With("array", q.Name), Spec: Spec{Version: Version, Array: id.String(), Name: q.Name, Home: k.opt.Home, Socket: q.Socket, Export: q.Export, Connections: min(max(q.Connections, 1), MaxConnections)}}
	noClient := haveKernelClient()
	if k.opt.NoKernel {
		noClient = errors.New("this keeper was told not to use the kernel's client of the block protocol")
	}
	if d.Kind = KindKernel; noClient != nil {
		if err := haveFuse(); err != nil {
			return nil, fmt.Errorf("%w; nor can a file system in user space with a loop device be used: %w", noClient, err)
		}
		d.Kind = KindFuse
	}
	if err := os.MkdirAll(filepath.Dir(k.carryPath(d.Array)), 0o700); err != nil {
		return nil, err
	}
	// What an earlier attachment of the array left is passed on again by the relay; a new one is made when there is none.
	ring, err := carryover.Open(k.carryPath(d.Array))
	if errors.Is(err, os.ErrNotExist) {
		ring, err = k.newRing(id)
	}
	if err != nil {
		return nil, err
	}
	if d.relay, err = newRelay(q.Socket, q.Export, k.opt.Run, ring, d.log, d.resized, 0); err != nil {
		_ = ring.Close()
		return nil, err
	}
	if d.Kind == KindKernel {
		err = d.startKernel()
	} else {
		d.fuse, err = startFuse(d.folder(k.opt.Run), port{r: d.relay, ctx: context.Background()}, func(path string) error {
			d.Device = path
			return errors.Join(k.announce(d.Spec), k.save(d.Spec))
		})
	}
	if err != nil {
		k.forget(d.Spec)
		return nil, errors.Join(err, k.settle(d.relay))
	}
	if d.fuse != nil {
		go d.watch()
	}
	if err := d.link(); err != nil {
		d.log.Warn("the link to the device cannot be made", "reason", err)
	}
	d.log.Info("attached", "device", d.Device, "by", d.Kind)
	return d, nil
}

// settle ends a relay without a device: what an earlier device left in its ring is flushed, and then the ring goes. It stays when that
// cannot be done.
func (k *Keeper) settle(r *relay) error {
	err := r.flush(r.ctx)
	r.close()
	path := k.carryPath(r.ring.Array().String())
	_ = r.ring.Close()
	if err != nil {
		return fmt.Errorf("earlier writes that were acknowledged stay in %s, because they cannot be flushed: %w", path, err)
	}
	return os.Remove(path)
}

// newRing makes a ring, a smaller one where memory is short.
func (k *Keeper) newRing(array uuid.UUID) (ring *carryover.Ring, err error) {
	for size := k.opt.Carry; ; size /= 2 {
		ring, err = carryover.Create(k.carryPath(array.String()), size, array)
		if !errors.Is(err, unix.ENOSPC) || size <= carryover.MinSize {
			return ring, err
		}
	}
}

// namesake is the device of another array with a name, of this home or another; empty when there is none.
func namesake(name, id string) string {
	files, _ := filepath.Glob(filepath.Join(RunFolder(), "devices", "*"))
	for _, f := range files {
		raw, err := os.ReadFile(f)
		if err == nil && strings.Contains("\n"+string(raw), "\nNIDALO_NAME="+name+"\n") && !strings.Contains(string(raw), "NIDALO_ARRAY="+id+"\n") {
			return "/dev/" + filepath.Base(f)
		}
	}
	return ""
}

// startKernel takes a free device of the kernel's client.
func (d *device) startKernel() error {
	d.over = true // until there is a device, connections that end are not made again
	for _, index := range freeKernel() {
		d.Device = fmt.Sprintf("/dev/nbd%d", index)
		if err := errors.Join(d.k.announce(d.Spec), d.k.save(d.Spec)); err != nil {
			return err
		}
		theirs, ours, err := pairs(d.Connections)
		if err == nil {
			d.serve(ours)
			err = connectKernel(index, d.relay.size.Load(), d.backend(), theirs)
		}
		closeAll(theirs)
		if err == nil {
			d.mu.Lock()
			d.over = false
			d.mu.Unlock()
			d.mend()
			return nil
		}
		for _, nc := range ours {
			_ = nc.Close()
		}
		d.wait.Wait()
		_ = os.Remove(filepath.Join(d.k.opt.Run, "devices", filepath.Base(d.Device)))
		if !errors.Is(err, unix.EBUSY) && !errors.Is(err, unix.EEXIST) {
			return fmt.Errorf("the kernel's client of the block protocol: %w", err)
		}
	}
	return errors.New("all devices of the kernel's client of the block protocol are taken")
}

func closeAll(files []*os.File) {
	for _, f := range files {
		_ = f.Close()
	}
}

// serve serves connections of the kernel until they end. Then those that are missing are made again.
func (d *device) serve(conns []net.Conn) {
	d.mu.Lock()
	d.serving += len(conns)
	d.mu.Unlock()
	for _, nc := range conns {
		ctx, cancel := context.WithCancel(context.Background())
		nc := deviceConn{nc.(*net.UnixConn)}
		if err := onHangup(nc.UnixConn, cancel); err != nil {
			d.log.Warn("a connection of the device cannot be watched", "reason", err)
		}
		p := port{r: d.relay, ctx: ctx}
		if d.Connections > 1 {
			p.over = func() bool { return hungUp(nc.UnixConn) }
		}
		d.wait.Go(func() {
			err := d.k.blocks.ServeDevice(nc, p)
			cancel()
			d.mu.Lock()
			d.serving--
			over := d.over
			d.mu.Unlock()
			if !over && d.k.ctx.Err() == nil {
				d.log.Warn("a connection of the device ended; it is made again", "reason", err)
				d.mend()
			}
		})
	}
}

// deviceConn is a connection that ends when it is closed, although onHangup has it open as well.
type deviceConn struct{ *net.UnixConn }

func (c deviceConn) Close() error {
	return errors.Join(c.CloseRead(), c.CloseWrite(), c.UnixConn.Close())
}

// hungUp says whether either end of a socket is shut down.
func hungUp(nc *net.UnixConn) (yes bool) {
	raw, err := nc.SyscallConn()
	if err != nil {
		return true
	}
	err = raw.Control(func(fd uintptr) {
		p := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLRDHUP}}
		n, err := unix.Poll(p, 0)
		yes = err == nil && n > 0
	})
	return yes || err != nil
}

// onHangup calls f when either end of a socket is shut down.
func onHangup(nc *net.UnixConn, f func()) error {
	raw, err := nc.SyscallConn()
	if err != nil {
		return err
	}
	fd := -1
	if e := raw.Control(func(n uintptr) { fd, err = unix.FcntlInt(n, unix.F_DUPFD_CLOEXEC, 0) }); e != nil || err != nil {
		return errors.Join(e, err)
	}
	go func() {
		defer unix.Close(fd)
		for {
			p := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLRDHUP}}
			if _, err := unix.Poll(p, -1); err == nil && p[0].Revents != 0 || err != nil && !errors.Is(err, unix.EINTR) {
				f()
				return
			}
		}
	}()
	return nil
}

// mend makes the connections that a device of the kernel lacks. A socket that the kernel had no use for, because it has not noticed yet
// that one is dead, is closed again and with that comes back here.
func (d *device) mend() {
	d.mu.Lock()
	missing := d.Connections - d.serving
	if d.over || d.k.ctx.Err() != nil {
		missing = 0
	}
	d.mu.Unlock()
	if missing <= 0 {
		return
	}
	theirs, ours, err := pairs(missing)
	if err == nil {
		d.serve(ours)
		err = reconnectKernel(d.index(), d.backend(), theirs)
	}
	closeAll(theirs)
	if err == nil {
		time.Sleep(retry) // one that the kernel does not take ends at once, and comes back here
		return
	}
	d.log.Warn("the device cannot be connected again", "device", d.Device, "reason", err)
	if backendOf(d.index()) != d.backend() { // another process ended it
		d.mu.Lock()
		d.over = true
		d.mu.Unlock()
		go d.k.ended(d)
	}
	time.Sleep(retry)
	for _, nc := range ours {
		_ = nc.Close()
	}
}

// sizeOf is how large a device is, in bytes.
func sizeOf(path string) (int64, error) {
	raw, err := os.ReadFile(filepath.Join("/sys/class/block", filepath.Base(path), "size"))
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(raw)), 10, 64)
	if err == nil && n <= 0 {
		err = fmt.Errorf("%s has no size", path)
	}
	return n * 512, err
}

// errTryAgain is why a keeper ends, for another to begin.
var errTryAgain = errors.New("the writes that were acknowledged and not flushed cannot be opened")

// adopt takes over a device that another keeper left.
func (k *Keeper) adopt(s Spec) (*device, error) {
	id, err := uuid.Parse(s.Array)
	if err != nil || s.Version != Version {
		return nil, fmt.Errorf("%s: written by another version", k.specPath(s.Array))
	}
	if s.Kind != KindKernel || backendOf(s.index()) != s.backend() {
		k.forget(s)
		if s.Kind == KindFuse { // it died with its keeper
			folder := s.folder(k.opt.Run)
			abort(folder)
			_ = freeLoop(s.Device, filepath.Join(folder, fileName))
			_ = unix.Unmount(folder, unix.MNT_DETACH)
			_ = os.Remove(folder)
		}
		return nil, fmt.Errorf("%s: the device is gone", s.Device)
	}
	d := &device{Spec: s, k: k, log: k.opt.Log.With("array", s.Name)}
	ring, err := carryover.Open(k.carryPath(s.Array))
	switch {
	case errors.Is(err, carryover.ErrVersion):
		return nil, fmt.Errorf("%w: writes that were acknowledged and not flushed stay there; run the version that wrote them, or detach the array with -force, which loses them", err)
	case err != nil && !errors.Is(err, carryover.ErrDamaged) && !errors.Is(err, os.ErrNotExist): // it may be there, and readable the next time
		return nil, fmt.Errorf("%w: %w", errTryAgain, err)
	case err != nil:
		d.log.Error("writes that were acknowledged and not flushed are lost, and the next flush of the device fails", "reason", err)
		if ring, err = k.newRing(id); err != nil {
			return nil, err
		}
		ring.SetLost(true)
	}
	size, err := sizeOf(s.Device)
	if err == nil {
		d.relay, err = newRelay(s.Socket, s.Export, k.opt.Run, ring, d.log, d.resized, size)
	}
	if err != nil {
		_ = ring.Close()
		return nil, err
	}
	d.mend()
	d.log.Info("device taken over", "device", d.Device)
	return d, nil
}

func (d *device) resized(size int64) {
	var err error
	if d.fuse != nil {
		err = d.fuse.resize(size)
	} else {
		err = resizeKernel(d.index(), d.backend(), size)
	}
	d.log.Info("the array has another size", "device", d.Device, "bytes", size, "error", err)
}

// errGone is why nothing can be done with a device.
var errGone = errors.New("another process ended the device")

// watch looks once a second whether another process has ended a device in user space, which is possible while it is not in use.
func (d *device) watch() {
	for range time.Tick(time.Second) {
		d.mu.Lock()
		over := d.over
		d.mu.Unlock()
		if over || d.k.ctx.Err() != nil {
			return
		}
		if d.fuse.ended() {
			d.k.ended(d)
			return
		}
	}
}

// errAway is why a device cannot be flushed now.
var errAway = errors.New("nothing serves its array at the moment")

// patience is how long the service may be away before that counts.
const patience = 3 * time.Second

// lookEvery is the time between two looks at something that sends no news of a change.
const lookEvery = 200 * time.Millisecond

// settled flushes a device that is not in use. It returns early when the service goes away or give is closed; the flush itself cannot be
// stopped, and goes on in the kernel.
func (d *device) settled(give <-chan struct{}) error {
	again := fmt.Errorf("the writes to %s are not flushed: the keeper was told again to end", d.Device)
	away := fmt.Errorf("the writes to %s cannot be flushed: %w", d.Device, errAway)
	for began := time.Now(); ; {
		if connected, _, _ := d.relay.state(); connected {
			break
		}
		if time.Since(began) > patience {
			return away
		}
		select {
		case <-give:
			return again
		case <-time.After(lookEvery):
		}
	}
	if d.fuse != nil && !d.fuse.there() {
		return (port{r: d.relay, ctx: d.k.ctx}).Flush()
	}
	// Not for writing: udev would look at the device once that is closed, and fail while it ends.
	f, err := os.OpenFile(d.Device, os.O_RDONLY|unix.O_EXCL, 0)
	if errors.Is(err, unix.EBUSY) {
		return &Held{Device: d.Link(), By: Holders(d.Device)}
	}
	if err != nil {
		return err
	}
	if by := Holders(d.Device); len(by) > 0 {
		go f.Close()
		return &Held{Device: d.Link(), By: by}
	}
	done := make(chan error, 1)
	go func() {
		err := errors.Join(f.Sync(), f.Close())
		if err == nil {
			err = (port{r: d.relay, ctx: d.k.ctx}).Flush()
		}
		done <- err
	}()
	for {
		select {
		case err := <-done:
			if err != nil {
				err = fmt.Errorf("the writes to %s cannot be flushed: %w", d.Device, err)
			}
			return err
		case <-give:
			return again
		case <-time.After(lookEvery):
			if connected, since, _ := d.relay.state(); !connected && time.Since(since) > patience {
				return away
			}
		}
	}
}

// detach ends a device. Unless it is forced nothing holds it, and everything is flushed first, which can be given up.
func (d *device) detach(force bool, give <-chan struct{}) error {
	if !force {
		if err := d.settled(give); err != nil {
			return err
		}
	}
	d.mu.Lock()
	d.over = true
	d.mu.Unlock()
	if force {
		d.relay.stop() // whatever waits for the service fails
	}
	var err error
	if d.fuse != nil {
		err = d.fuse.stop(force)
	} else if err = disconnectKernel(d.index()); errors.Is(err, unix.EINVAL) {
		err = nil // it is gone already
	}
	d.relay.close()
	d.wait.Wait()
	d.k.forget(d.Spec)
	_ = d.relay.ring.Close()
	if err == nil || force {
		_ = os.Remove(d.k.carryPath(d.Array))
	}
	d.log.Info("detached", "device", d.Device, "forced", force)
	return err
}
