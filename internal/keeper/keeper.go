//go:build linux

package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"nidalo/internal/carryover"
	"nidalo/internal/nbd"
)

// Options is what a keeper is made with.
type Options struct {
	Home     string // whose arrays it attaches
	Run      string // a folder in memory: what outlives a keeper
	Program  string // version of the program
	Carry    int64  // bytes of carry-over for each device; 0: DefaultCarry
	NoKernel bool   // devices are made the other way even where the kernel has a client
	Log      *slog.Logger
	Unsteady []string
}

// DefaultCarry is how much that is not flushed a device may have, bytes.
const DefaultCarry = 64 << 20

// Keeper holds the devices of one home.
type Keeper struct {
	opt    Options
	blocks *nbd.Server
	ctx    context.Context // until it stops
	cancel context.CancelFunc

	changing sync.Mutex // one device is made or ended at a time
	mu       sync.Mutex
	devices  map[string]*device // by identity of the array
	refused  map[string]refusedDevice
	idle     chan struct{} // the last device is gone
}

// refusedDevice is one that was not taken over from an earlier keeper.
type refusedDevice struct {
	Spec
	reason error
}

// inMemory says whether a folder is in a file system that is memory.
func inMemory(path string) bool {
	var st unix.Statfs_t
	return unix.Statfs(path, &st) == nil && (st.Type == unix.TMPFS_MAGIC || st.Type == unix.RAMFS_MAGIC)
}

// RunFolder is where keepers write down what is to outlive them: in memory, gone with the machine, like the devices.
func RunFolder() string {
	if inMemory("/run") {
		return "/run/nidalo"
	}
	return "/dev/shm/nidalo-run"
}

// Open makes a keeper and takes over the devices that an earlier one left.
func Open(opt Options) (*Keeper, error) {
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	if opt.Carry == 0 {
		opt.Carry = DefaultCarry
	}
	if err := os.MkdirAll(opt.Run, 0o755); err != nil {
		return nil, err
	}
	if !inMemory(opt.Run) {
		opt.Log.Warn("the folder for what outlives the keeper is on a disk", "folder", opt.Run)
	}
	k := &Keeper{opt: opt, blocks: nbd.NewServer(nil, opt.Log), devices: map[string]*device{}, refused: map[string]refusedDevice{}, idle: make(chan struct{}, 1)}
	k.ctx, k.cancel = context.WithCancel(context.Background())
	for _, s := range specsOf(opt.Run, opt.Home) {
		d, err := k.adopt(s)
		if errors.Is(err, errTryAgain) {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
		if err != nil {
			opt.Log.Warn("a device is not taken over", "array", s.Name, "device", s.Device, "reason", err)
			if _, gone := os.Stat(k.specPath(s.Array)); gone == nil {
				k.refused[s.Array] = refusedDevice{s, err}
			}
			continue
		}
		k.devices[s.Array] = d
	}
	return k, nil
}

// Idle tells when the last device is gone.
func (k *Keeper) Idle() <-chan struct{} { return k.idle }

// mayBeNamed says whether a device may have a name: that of an array, or of a set, a slash, and that of a volume.
func mayBeNamed(name string) bool {
	parts := strings.Split(name, "/")
	return len(parts) <= 2 && !slices.ContainsFunc(parts, func(part string) bool {
		return strings.ContainsAny(part, "\x00\n ") || part == "" || strings.HasPrefix(part, ".")
	})
}

// Attach makes a device for an array, or finds the one that there is.
func (k *Keeper) Attach(q AttachRequest) (Attached, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.Lock()
	d, refused := k.devices[q.Array], k.refused[q.Array]
	k.mu.Unlock()
	if refused.reason != nil {
		return Attached{}, fmt.Errorf("%s: %w", refused.Device, refused.reason)
	}
	if d == nil {
		if !mayBeNamed(q.Name) {
			return Attached{}, fmt.Errorf("%q cannot be the name of a device", q.Name)
		}
		var err error
		if d, err = k.attach(q); err != nil {
			return Attached{}, err
		}
		k.mu.Lock()
		k.devices[d.Array] = d
		k.mu.Unlock()
	}
	return d.attached(true), nil
}

// Detach ends a device.
func (k *Keeper) Detach(q DetachRequest) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.Lock()
	d, refused := k.devices[q.Array], k.refused[q.Array]
	k.mu.Unlock()
	switch {
	case d == nil && refused.reason != nil && q.Force:
		_ = disconnectKernel(refused.index())
		k.forget(refused.Spec)
		_ = os.Remove(k.carryPath(refused.Array))
	case d == nil && refused.reason != nil:
		return refused.reason
	case d == nil:
		if err := k.detachGone(q); err != nil {
			return err
		}
	default:
		if err := d.detach(q.Force, nil); err != nil {
			return err
		}
	}
	k.gone(q.Array)
	return nil
}

// detachGone sees to what a device has left that is gone, with its keeper for example.
func (k *Keeper) detachGone(q DetachRequest) error {
	id, err := uuid.Parse(q.Array)
	if err != nil {
		return err
	}
	path := k.carryPath(id.String())
	ring, err := carryover.Open(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case q.Force:
		if err == nil {
			_ = ring.Close()
		}
		return os.Remove(path)
	case err != nil:
		return err
	}
	r, err := newRelay(q.Socket, q.Export, k.opt.Run, ring, k.opt.Log, func(int64) {}, 0)
	if err != nil {
		_ = ring.Close()
		return err
	}
	return k.settle(r)
}

// ended notes that another process ended a device.
func (k *Keeper) ended(d *device) {
	k.changing.Lock()
	defer k.changing.Unlock()
	d.mu.Lock()
	over := d.over && d.fuse != nil
	d.over = true
	d.mu.Unlock()
	if over { // it was detached meanwhile
		return
	}
	d.log.Warn("the device was ended by another process", "device", d.Device)
	if d.fuse != nil {
		_ = d.fuse.stop(true)
	}
	d.relay.close()
	d.wait.Wait()
	_ = d.relay.ring.Close()
	k.forget(d.Spec)
	k.gone(d.Array)
}

func (k *Keeper) gone(array string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.devices, array)
	delete(k.refused, array)
	if len(k.devices)+len(k.refused) == 0 {
		select {
		case k.idle <- struct{}{}:
		default:
		}
	}
}

func (d *device) attached(users bool) Attached {
	a := Attached{Array: d.Array, Name: d.Name, Kind: d.Kind, Device: d.Device, Link: d.Link(), Size: d.relay.size.Load(), Lost: d.relay.ring.Lost()}
	if _, err := os.Lstat(a.Link); err != nil {
		a.Link = ""
	}
	var why error
	if a.Connected, a.Since, why = d.relay.state(); why != nil && !a.Connected {
		a.Reason = why.Error()
	}
	a.Unflushed, a.Room = d.relay.ring.Used()
	if users {
		a.UsedBy = Holders(d.Device)
	}
	return a
}

func (k *Keeper) refresh(q RefreshRequest) error {
	k.mu.Lock()
	d := k.devices[q.Array]
	k.mu.Unlock()
	if d == nil {
		return errors.New("it is not attached")
	}
	return d.relay.refresh()
}

// Empty says whether there is no device, and none is being made.
func (k *Keeper) Empty() bool {
	if !k.changing.TryLock() {
		return false
	}
	defer k.changing.Unlock()
	k.mu.Lock()
	defer k.mu.Unlock()
	return len(k.devices)+len(k.refused) == 0
}

// State is how everything is.
func (k *Keeper) State(users bool) State {
	k.mu.Lock()
	s := State{Protocol: Version, Program: k.opt.Program, PID: os.Getpid(), Unsteady: k.opt.Unsteady, Devices: []Attached{}}
	var devices []*device
	for _, d := range k.devices {
		devices = append(devices, d)
	}
	for _, r := range k.refused {
		s.Devices = append(s.Devices, Attached{Array: r.Array, Name: r.Name, Kind: r.Kind, Device: r.Device, Refused: true, Reason: r.reason.Error(), UsedBy: Holders(r.Device)})
	}
	k.mu.Unlock()
	for _, d := range devices {
		s.Devices = append(s.Devices, d.attached(users))
	}
	slices.SortFunc(s.Devices, func(x, y Attached) int { return strings.Compare(x.Name, y.Name) })
	return s
}

// Close stops the keeper in order. Devices of the kernel's client stay, and hold their requests until another keeper takes them
// over; the others can only end, which waits until they are no longer in use and everything is flushed, or give is closed.
func (k *Keeper) Close(give <-chan struct{}) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	var errs []error
	if HostStops() { // what is mounted is being unmounted, and needs us for that
		k.awaitUnused(give)
	}
	for _, d := range k.all() {
		if d.fuse == nil {
			continue
		}
		if err := d.end(give); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", d.Name, err))
			continue
		}
		k.gone(d.Array)
	}
	select {
	case <-give:
		return errors.Join(errs...)
	default:
	}
	k.cancel()
	k.blocks.Close() // what was begun is finished
	for _, d := range k.all() {
		if connected, _, _ := d.relay.state(); connected {
			if err := d.relay.flush(context.Background()); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", d.Name, err))
			}
		}
		d.relay.close()
		_ = d.relay.ring.Close()
	}
	return errors.Join(errs...)
}

// end detaches a device in user space as soon as that can be. Given up, what waits for the device fails: it would keep this process from ending.
func (d *device) end(give <-chan struct{}) error {
	err := d.detach(false, give)
	for told := ""; ; err = d.detach(false, give) {
		var held *Held
		why := ""
		switch {
		case errors.As(err, &held):
			why = "waiting until the device is no longer in use, because it ends with the keeper"
		case errors.Is(err, errAway) && HostStops(): // the service ended before us, and does not come back
			d.log.Info("the device ends with the host; the service has flushed what it acknowledged, unless it was killed", "device", d.Device)
			return d.detach(true, give)
		case errors.Is(err, errAway):
			why = "waiting for the service, because the device ends with the keeper and has to be flushed"
		case err != nil:
			_ = d.fuse.stop(true)
			return err
		default:
			return nil
		}
		if told != why {
			d.log.Warn(why, "device", d.Device, "reason", err, "sooner", "end the keeper again: what it acknowledged is kept, what the host has not written is lost")
			told = why
		}
		select {
		case <-give:
			_ = d.fuse.stop(true)
			return err
		case <-time.After(lookEvery):
		}
	}
}

// awaitUnused waits until the devices are no longer in use.
func (k *Keeper) awaitUnused(give <-chan struct{}) {
	for told := false; ; {
		var by []string
		for _, d := range k.all() {
			by = append(by, Holders(d.Device)...)
		}
		if len(by) == 0 {
			return
		}
		if !told {
			k.opt.Log.Info("waiting until the devices are no longer in use", "by", strings.Join(by, ", "))
			told = true
		}
		select {
		case <-give:
			return
		case <-time.After(lookEvery):
		}
	}
}

func (k *Keeper) all() (out []*device) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, d := range k.devices {
		out = append(out, d)
	}
	return out
}

// Handler answers clients.
func (k *Keeper) Handler() http.Handler {
	mux := http.NewServeMux()
	answer(mux, "state", func(q StateRequest) (State, error) { return k.State(q.Users), nil })
	answer(mux, "attach", k.Attach)
	answer(mux, "refresh", func(q RefreshRequest) (struct{}, error) { return struct{}{}, k.refresh(q) })
	answer(mux, "detach", func(q DetachRequest) (struct{}, error) { return struct{}{}, k.Detach(q) })
	return mux
}

func answer[Q, R any](mux *http.ServeMux, name string, f func(Q) (R, error)) {
	mux.HandleFunc(fmt.Sprintf("POST /v%d/%s", Version, name), func(w http.ResponseWriter, r *http.Request) {
		var q Q
		d := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10))
		d.DisallowUnknownFields()
		if err := d.Decode(&q); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		result, err := f(q)
		w.Header().Set("Content-Type", "application/json")
		if err != nil {
			w.WriteHeader(http.StatusUnprocessableEntity)
			told := refusal{What: err.Error()}
			var held *Held
			if errors.As(err, &held) {
				told.Kind, told.Held = "held", held.By
			}
			_ = json.NewEncoder(w).Encode(told)
			return
		}
		_ = json.NewEncoder(w).Encode(result)
	})
}
