package lab

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"nidalo/core/health"
	"nidalo/core/state"
	"nidalo/internal/disk"
)

// signals is a mapped signal file. Both counters are shared with every process that has the disk open.
type signals struct {
	mem       []byte
	changes   *atomic.Uint64 // raised with every change of the label
	insertion *atomic.Uint64 // raised by every pull (to odd) and insertion (to even)
	asleep    *atomic.Uint64 // 1 while the disk does not turn
	woken     *atomic.Uint64 // how often it was woken
}

func mapSignal(dir string) (*signals, error) {
	f, err := os.OpenFile(filepath.Join(dir, signal), os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() < signalSize { // of a lab that was made before disks could sleep
		if err := f.Truncate(signalSize); err != nil {
			return nil, err
		}
	}
	mem, err := unix.Mmap(int(f.Fd()), 0, signalSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return nil, err
	}
	// A mapping begins on a page, so all words are aligned.
	word := func(i int) *atomic.Uint64 { return (*atomic.Uint64)(unsafe.Pointer(&mem[8*i])) }
	return &signals{mem, word(0), word(1), word(2), word(3)}, nil
}

func (s *signals) close() { _ = unix.Munmap(s.mem) }

// handle is an open lab disk.
type handle struct {
	*disk.File
	identity state.Identity
	dir      string
	signals  *signals
	inserted uint64 // the insertion it was opened in
	use      sync.RWMutex
	closed   atomic.Bool
	seen     atomic.Uint64 // the change whose faults are loaded
	mu       sync.Mutex
	faults   atomic.Pointer[Faults]
	free     time.Time // when the bandwidth is free again; guarded by mu
}

// Open opens the disk in a bay for reading and writing, and locks it.
func (l *Lab) Open(bay string) (disk.Disk, error) { return l.open(bay, disk.Open) }

// OpenReadOnly opens the disk in a bay to look at it.
func (l *Lab) OpenReadOnly(bay string) (disk.Disk, error) { return l.open(bay, disk.OpenReadOnly) }

func (l *Lab) open(bay string, how func(string) (*disk.File, error)) (disk.Disk, error) {
	dir, err := l.bay(bay)
	if err != nil {
		return nil, err
	}
	d, err := readLabel(dir)
	if err != nil {
		return nil, err
	}
	s, err := mapSignal(dir)
	if err != nil {
		return nil, fmt.Errorf("bay %s: %w", bay, err)
	}
	inserted := s.insertion.Load()
	f, err := how(filepath.Join(dir, image))
	if err != nil {
		s.close()
		return nil, fmt.Errorf("bay %s: %w", bay, err)
	}
	h := &handle{File: f, identity: l.Identity(bay, d), dir: dir, signals: s, inserted: inserted}
	h.seen.Store(s.changes.Load())
	h.faults.Store(&d.Faults)
	return h, nil
}

func (h *handle) Identity() state.Identity { return h.identity }

func (h *handle) Close() error {
	first := !h.closed.Swap(true) // before the lock: an operation that hangs holds it, and looks here
	h.use.Lock()
	defer h.use.Unlock()
	if first {
		h.signals.close()
	}
	return h.File.Close()
}

// begin is called before every operation: is the disk still in its bay, and what is wrong with it?
func (h *handle) begin(n int) (*Faults, error) {
	f, err := h.state()
	for err == nil && f.Hang {
		time.Sleep(hangLook)
		f, err = h.state()
	}
	if err != nil {
		return nil, err
	}
	if h.signals.asleep.Swap(0) != 0 {
		h.signals.woken.Add(1)
		time.Sleep(spinUp)
	}
	if f.Latency > 0 {
		time.Sleep(f.Latency)
	}
	if f.Rate > 0 && n > 0 {
		h.mu.Lock()
		now := time.Now()
		if h.free.Before(now) {
			h.free = now
		}
		h.free = h.free.Add(time.Duration(float64(n) / float64(f.Rate) * float64(time.Second)))
		wait := h.free.Sub(now)
		h.mu.Unlock()
		time.Sleep(wait)
	}
	return f, nil
}

// spinUp is how long a disk of the lab takes to turn again.
const spinUp = 100 * time.Millisecond

// Standby stops the disk: the next operation has to wait until it turns again.
func (h *handle) Standby() error {
	if _, err := h.state(); err != nil {
		return err
	}
	h.signals.asleep.Store(1)
	return nil
}

// Asleep says whether it does not turn.
func (h *handle) Asleep() bool { return h.signals.asleep.Load() != 0 }

// hangLook is how often an operation on a hung disk looks whether it may go on.
const hangLook = 10 * time.Millisecond

// state is what is wrong with the disk at the moment, or an error when it is not there.
func (h *handle) state() (*Faults, error) {
	if h.closed.Load() {
		return nil, fmt.Errorf("%s: %w", h.identity, disk.ErrGone)
	}
	if h.signals.insertion.Load() != h.inserted {
		return nil, fmt.Errorf("%s: %w: pulled out of its bay", h.identity, disk.ErrGone)
	}
	if c := h.signals.changes.Load(); c != h.seen.Load() {
		h.mu.Lock()
		if d, err := readLabel(h.dir); err == nil {
			h.faults.Store(&d.Faults)
			h.seen.Store(c)
		}
		h.mu.Unlock()
	}
	return h.faults.Load(), nil
}

// now does an operation that the file below can do without waiting, while the disk has no faults: it looks once, so that a
// fault that comes meanwhile cannot make it wait.
func (h *handle) now(do func() (bool, error)) (done bool, err error) {
	h.use.RLock()
	defer h.use.RUnlock()
	f, err := h.state()
	if err != nil {
		return true, err
	}
	if f.any() || h.signals.asleep.Load() != 0 {
		return false, nil
	}
	return do()
}

func (h *handle) ReadNow(bufs [][]byte, off int64) (done bool, err error) {
	return h.now(func() (bool, error) { return h.File.ReadNow(bufs, off) })
}

func (h *handle) WriteNow(bufs [][]byte, off int64) (done bool, err error) {
	return h.now(func() (bool, error) { return h.File.WriteNow(bufs, off) })
}

func (h *handle) SyncNow() (done bool, err error) { return h.now(h.File.SyncNow) }

// Health is what the disk says of itself.
func (h *handle) Health() (health.Readings, error) {
	if _, err := h.state(); err != nil {
		return health.Readings{}, err
	}
	d, err := readLabel(h.dir)
	return d.Health, err
}

// Present fails when the disk was pulled.
func (h *handle) Present() error {
	h.use.RLock()
	defer h.use.RUnlock()
	_, err := h.state()
	return err
}

func overlaps(ranges []Range, off int64, n int) bool {
	for _, r := range ranges {
		if off < r.Offset+r.Length && r.Offset < off+int64(n) {
			return true
		}
	}
	return false
}

func (h *handle) reading(n int, off int64, do func() error) error {
	h.use.RLock()
	defer h.use.RUnlock()
	f, err := h.begin(n)
	if err != nil {
		return err
	}
	if overlaps(f.Unreadable, off, n) {
		return fmt.Errorf("%s: unreadable sector at byte %d: %w", h.identity, off, unix.EIO)
	}
	return do()
}

func (h *handle) writing(n int, off int64, do func() error) error {
	h.use.RLock()
	defer h.use.RUnlock()
	f, err := h.begin(n)
	if err != nil {
		return err
	}
	if f.FailWrites {
		return fmt.Errorf("%s: write failed at byte %d: %w", h.identity, off, unix.EIO)
	}
	if err := do(); err != nil {
		return err
	}
	if overlaps(f.Unreadable, off, n) {
		return h.reallocate(off, n)
	}
	return nil
}

// reallocate makes blocks readable that were written again, as a disk does with a spare sector.
func (h *handle) reallocate(off int64, n int) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	d, err := readLabel(h.dir)
	if err != nil {
		return err
	}
	var rest []Range
	for _, r := range d.Faults.Unreadable {
		if end := r.Offset + r.Length; off < end && r.Offset < off+int64(n) {
			if r.Offset < off {
				rest = append(rest, Range{r.Offset, off - r.Offset})
			}
			if to := off + int64(n); to < end {
				rest = append(rest, Range{to, end - to})
			}
			continue
		}
		rest = append(rest, r)
	}
	d.Faults.Unreadable = rest
	h.faults.Store(&d.Faults)
	return writeLabel(h.dir, d)
}

func (h *handle) ReadAt(p []byte, off int64) error {
	return h.reading(len(p), off, func() error { return h.File.ReadAt(p, off) })
}

func (h *handle) WriteAt(p []byte, off int64) error {
	return h.writing(len(p), off, func() error { return h.File.WriteAt(p, off) })
}

func (h *handle) ReadVec(bufs [][]byte, off int64) error {
	return h.reading(disk.Length(bufs), off, func() error { return h.File.ReadVec(bufs, off) })
}

func (h *handle) WriteVec(bufs [][]byte, off int64) error {
	return h.writing(disk.Length(bufs), off, func() error { return h.File.WriteVec(bufs, off) })
}

// Discard forgets a stretch. A place that cannot be read stays so until it is written.
func (h *handle) Discard(off, n int64) error {
	h.use.RLock()
	defer h.use.RUnlock()
	if _, err := h.begin(0); err != nil {
		return err
	}
	return h.File.Discard(off, n)
}

func (h *handle) Sync() error {
	h.use.RLock()
	defer h.use.RUnlock()
	if _, err := h.begin(0); err != nil {
		return err
	}
	return h.File.Sync()
}

var _ disk.Disk = (*handle)(nil)
