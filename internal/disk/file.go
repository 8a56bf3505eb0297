package disk

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/health"
	"nidalo/core/say"
	"nidalo/core/state"
)

// File is a disk behind a path: a plain file or a block device.
type File struct {
	told struct { // of its health
		sync.Mutex
		at       time.Time
		readings health.Readings
		err      error
	}
	f        *os.File
	raw      syscall.RawConn // holds the descriptor for as long as a call needs it, even if it is closed meanwhile
	size     atomic.Int64
	identity state.Identity
	instant  bool // in memory: no operation ever waits for a device
	device   bool
	linked   bool         // a file with a name in a folder, as far as its file system tells; some never do
	direct   bool         // past the system's memory; buffers and places must be whole sectors then
	sector   int          // bytes
	doubted  atomic.Int64 // when an error of a read was last waited out, ns
	looked   atomic.Int64 // when room was last asked for, ns
	short    atomic.Bool
	// overtaken is called when the disk refuses a write because another host has reserved it.
	overtaken atomic.Pointer[func()]
}

// Overtaken has a function called whenever the disk refuses a write because another host has reserved it, before that write fails.
func (d *File) Overtaken(tell func()) { d.overtaken.Store(&tell) }

// Open opens the file or block device at path for reading and writing, and keeps every other process out that asks, this
// program's included: by a lock on a file, by an exclusive open of a device, so that a mounted one is refused. A device is
// not locked: udev takes a lock of a whole disk for a moment whenever one of its devices was written and closed, and leaves a
// disk alone for as long as another process has the lock.
func Open(path string) (*File, error) { return open(path, true) }

// OpenReadOnly opens without keeping anybody out, to look at what is there.
func OpenReadOnly(path string) (*File, error) { return open(path, false) }

// OpenTable opens a whole disk to change its partition table, while partitions of it may be in use, and takes the lock by which
// udev leaves a disk alone until it is closed.
func OpenTable(path string) (*File, error) {
	d, err := openAs(path, true, false)
	if err != nil {
		return nil, err
	}
	if err := lock(d.raw); err != nil {
		_ = d.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, fmt.Errorf("%s: %w (locked; %s)", path, ErrInUse, holder(path))
		}
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return d, nil
}

func open(path string, write bool) (*File, error) { return openAs(path, write, write) }

func openAs(path string, write, alone bool) (*File, error) {
	if !filepath.IsAbs(path) {
		// Whoever named it was in another folder than this process, perhaps.
		return nil, fmt.Errorf("%s: not an absolute path", path)
	}
	absolute := filepath.Clean(path)
	info, err := os.Stat(absolute)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, unwrapPath(err))
	}
	device := info.Mode()&os.ModeDevice != 0 && info.Mode()&os.ModeCharDevice == 0
	if !device && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: neither a file nor a block device", path)
	}
	flags := os.O_RDONLY
	if write {
		flags = os.O_RDWR
		if device && alone {
			flags |= syscall.O_EXCL
		}
	}
	f, err := os.OpenFile(absolute, flags|directFlag(device), 0)
	direct := device && directFlag(device) != 0
	if direct && errors.Is(err, syscall.EINVAL) {
		direct = false
		f, err = os.OpenFile(absolute, flags, 0)
	}
	if err != nil {
		if errors.Is(err, syscall.EBUSY) {
			return nil, fmt.Errorf("%s: %w (%s)", path, ErrInUse, holder(absolute))
		}
		return nil, fmt.Errorf("%s: %w", path, unwrapPath(err))
	}
	if write && !device {
		if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			_ = f.Close()
			return nil, fmt.Errorf("%s: %w", path, ErrInUse)
		}
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("%s: %w", path, unwrapPath(err))
	}
	raw, err := f.SyscallConn()
	if err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	d := &File{f: f, raw: raw, identity: state.Identity{Path: absolute}, instant: !device && inMemory(raw), device: device, linked: !device && names(info) > 0, direct: direct, sector: 1}
	d.size.Store(size)
	d.identity.On = liesOn(info, device)
	if device {
		if err := d.identify(write); err != nil {
			_ = f.Close()
			return nil, err
		}
	}
	return d, nil
}

// liesOn names the file system of a file, see state.Spindles.
func liesOn(info os.FileInfo, device bool) string {
	if st, ok := info.Sys().(*syscall.Stat_t); ok && !device {
		return fmt.Sprint("file system ", st.Dev)
	}
	return ""
}

// names is how many names a file has.
func names(info os.FileInfo) int {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(st.Nlink)
	}
	return 0
}

func unwrapPath(err error) error {
	var p *os.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// Measure finds out how large the disk is now: a file, a virtual disk or a partition may have been made larger. One that has become smaller keeps the
// size it had.
func (d *File) Measure() (int64, error) {
	size, err := d.f.Seek(0, io.SeekEnd)
	if err != nil {
		return 0, d.problem(err)
	}
	if size > d.size.Load() {
		d.size.Store(size)
	}
	return d.size.Load(), nil
}

// Size is the size in bytes when the disk was opened, or measured.
func (d *File) Size() int64 { return d.size.Load() }

// Identity names the disk.
func (d *File) Identity() state.Identity { return d.identity }

// ReadNow reads what the system has in memory, without waiting for a device.
func (d *File) ReadNow(bufs [][]byte, off int64) (done bool, err error) {
	if d.instant {
		return true, d.ReadVec(bufs, off)
	}
	if d.direct {
		return false, nil
	}
	n := Length(bufs)
	return d.within(n, off) == nil && readCached(d.raw, bufs, off) == n, nil
}

// WriteNow writes to a file in memory.
func (d *File) WriteNow(bufs [][]byte, off int64) (done bool, err error) {
	if !d.instant {
		return false, nil
	}
	return true, d.WriteVec(bufs, off)
}

// SyncNow syncs a file in memory.
func (d *File) SyncNow() (done bool, err error) {
	if !d.instant {
		return false, nil
	}
	return true, d.Sync()
}

// Refresh drops what the system keeps in memory of a stretch of the disk and begins to read it again, so that reads of it
// come from the medium. What is not written back yet stays.
func (d *File) Refresh(off, n int64) {
	if !d.instant && !d.direct {
		refresh(d.raw, off, n)
	}
}

// Present fails with ErrGone when the device is no longer there. It asks the system, not the device.
func (d *File) Present() error {
	if err := present(d.f, d.raw); err != nil {
		return fmt.Errorf("%s: %w (%w)", d.identity.Path, ErrGone, unwrapPath(err))
	}
	return nil
}

// FileRemoved is why a disk had better be replaced whose file has no name any more.
const FileRemoved = "its file was removed: what it holds is gone as soon as the array stops"

// Lacks says why a disk that works had better be replaced although no operation has failed; empty: nothing is known. It asks the system only.
func (d *File) Lacks() string {
	info, err := d.f.Stat()
	if err != nil {
		return ""
	}
	if d.linked && names(info) == 0 {
		return FileRemoved
	}
	size := info.Size()
	if d.device {
		if size, err = d.f.Seek(0, io.SeekEnd); err != nil || size == 0 { // Present tells of that
			return ""
		}
	}
	if had := d.size.Load(); size < had {
		return fmt.Sprintf("it has become smaller: %s, where it had %s", say.Size(size), say.Size(had))
	}
	return ""
}

// Close releases the disk and its lock.
func (d *File) Close() error { return d.f.Close() }

func (d *File) within(length int, off int64) error {
	if off < 0 || int64(length) > d.size.Load()-off {
		return fmt.Errorf("%s: %d bytes at %d are beyond the end (%d)", d.identity.Path, length, off, d.size.Load())
	}
	return nil
}

func (d *File) problem(err error) error {
	if err == nil {
		return nil
	}
	err = unwrapPath(err)
	if d.device {
		return d.deviceProblem(err, false)
	}
	switch {
	case errors.Is(err, syscall.ENODEV), errors.Is(err, syscall.ENXIO), errors.Is(err, os.ErrClosed):
		return fmt.Errorf("%s: %w (%w)", d.identity.Path, ErrGone, err)
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fmt.Errorf("%s: %w", d.identity.Path, ErrFull)
	}
	return fmt.Errorf("%s: %w", d.identity.Path, err)
}

// ReadAt reads all of p.
func (d *File) ReadAt(p []byte, off int64) error {
	if err := d.within(len(p), off); err != nil {
		return err
	}
	if d.direct {
		return d.readDirect([][]byte{p}, off)
	}
	_, err := d.f.ReadAt(p, off)
	return d.problem(err)
}

// WriteAt writes all of p.
func (d *File) WriteAt(p []byte, off int64) error {
	if err := d.within(len(p), off); err != nil {
		return err
	}
	if d.direct {
		return d.writeDirect([][]byte{p}, off)
	}
	_, err := d.f.WriteAt(p, off)
	return d.problem(err)
}

// ReadVec reads into the buffers in order.
func (d *File) ReadVec(bufs [][]byte, off int64) error {
	if len(bufs) == 1 {
		return d.ReadAt(bufs[0], off)
	}
	if err := d.within(Length(bufs), off); err != nil {
		return err
	}
	if d.direct {
		return d.readDirect(bufs, off)
	}
	return d.problem(vectored(d.raw, bufs, off, preadv))
}

// WriteVec writes the buffers in order.
func (d *File) WriteVec(bufs [][]byte, off int64) error {
	if len(bufs) == 1 {
		return d.WriteAt(bufs[0], off)
	}
	if err := d.within(Length(bufs), off); err != nil {
		return err
	}
	if d.direct {
		return d.writeDirect(bufs, off)
	}
	return d.problem(vectored(d.raw, bufs, off, pwritev))
}

// WithDescriptor calls f with the descriptor of a file, which stays open meanwhile, when a stretch of it is to be read from there through the system's memory. It
// reports false, without having called f, for a device, and when the file is closed.
func (d *File) WithDescriptor(off, n int64, f func(fd uintptr) error) (can bool, err error) {
	if d.device || d.within64(n, off) != nil {
		return false, nil
	}
	gone := d.raw.Control(func(fd uintptr) { err = f(fd) })
	return gone == nil, err
}

// Reserve finds room for a stretch of a file when its file system is nearly full; otherwise, and for devices, there is
// nothing to do.
func (d *File) Reserve(off, n int64) error {
	if d.device || !d.tight() {
		return nil
	}
	return d.problem(allocate(d.raw, off, n))
}

// Discard makes a hole in a file, or has a device that supports it forget a stretch.
func (d *File) Discard(off, n int64) error {
	if err := d.within64(n, off); err != nil {
		return err
	}
	if d.device {
		return discardDevice(d.raw, off, n)
	}
	return punch(d.raw, off, n)
}

func (d *File) within64(n, off int64) error {
	if off < 0 || n < 0 || n > d.size.Load()-off {
		return fmt.Errorf("%s: %d bytes at %d are beyond the end (%d)", d.identity.Path, n, off, d.size.Load())
	}
	return nil
}

// tightBelow is the room on a file system below which each write makes sure of its own, and tightLook how long what was
// seen of it counts: no disk writes that much in that time.
const (
	tightBelow = 2 << 30
	tightLook  = 100 * time.Millisecond
)

// tight says whether the file system below is nearly full.
func (d *File) tight() bool {
	now := time.Now().UnixNano()
	if last := d.looked.Load(); now-last > int64(tightLook) && d.looked.CompareAndSwap(last, now) {
		d.short.Store(room(d.raw) < tightBelow)
	}
	return d.short.Load()
}

// Sync makes every write that returned before it durable.
func (d *File) Sync() error {
	err := datasync(d.f, d.raw)
	if err != nil && d.device {
		return d.deviceProblem(err, true)
	}
	return d.problem(err)
}

// maxVector is the kernel's limit on buffers in one call.
const maxVector = 1024

// call is a system call on a file that cannot be closed meanwhile. There are a few that are used again and again, since what a closure
// holds would have to be collected for each.
type call struct {
	op   func(fd int, bufs [][]byte, off int64) (int, error)
	bufs [][]byte
	off  int64
	n    int
	err  error
	do   func(fd uintptr) // op on the others
}

var calls = sync.Pool{New: func() any {
	c := &call{}
	c.do = func(fd uintptr) { c.n, c.err = c.op(int(fd), c.bufs, c.off) }
	return c
}}

// onFile makes a system call on a file. It fails with os.ErrClosed when that is closed.
func onFile(raw syscall.RawConn, op func(fd int, bufs [][]byte, off int64) (int, error), bufs [][]byte, off int64) (int, error) {
	c := calls.Get().(*call)
	c.op, c.bufs, c.off = op, bufs, off
	gone := raw.Control(c.do)
	n, err := c.n, c.err
	c.op, c.bufs = nil, nil
	calls.Put(c)
	if gone != nil {
		return 0, os.ErrClosed
	}
	return n, err
}

// vectored calls op until all buffers are done; a short transfer goes on where it stopped.
func vectored(raw syscall.RawConn, bufs [][]byte, off int64, op func(fd int, bufs [][]byte, off int64) (int, error)) error {
	for len(bufs) > 0 {
		batch := bufs[:min(len(bufs), maxVector)]
		n, err := onFile(raw, op, batch, off)
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil {
			return err
		}
		if n == 0 {
			return io.ErrUnexpectedEOF
		}
		off += int64(n)
		for len(bufs) > 0 && n >= len(bufs[0]) {
			n -= len(bufs[0])
			bufs = bufs[1:]
		}
		if n > 0 {
			rest := append([][]byte{bufs[0][n:]}, bufs[1:]...)
			bufs = rest
		}
	}
	return nil
}
