// Package passage is memory that the keeper and the service share for one session, so that what a device reads and writes need not go
// through the socket between them.
//
// What is written lies in the ring of the device already (internal/carryover), from where the service takes it. What is read the
// service lays into the tray: a file in a file system that is memory, with places of two sizes and nothing else. The keeper makes a
// tray for each session and removes its name when the service has opened it too.
//
// A place is used again only after the service has answered for it. When a connection breaks, a read over it may still go on: its place is
// not used again, and the session ends, with its tray. The next session has another one. So what comes late lands where nothing looks.
package passage

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/sys/unix"
)

// Folder is where trays are, beside the rings.
const Folder = "passage"

// Places of a tray: how long they are, in bytes, and how many there are of each.
const (
	short, shorts = 32 << 10, 128
	long, longs   = 1 << 20, 16

	size = short*shorts + long*longs
)

// Tray is the keeper's side. Its methods may be called at the same time.
type Tray struct {
	folder, device string
	path           string
	all            []byte

	mu     sync.Mutex
	free   [2][]int64 // short and long places; what was used last, and may be in a cache, is at the end
	taken  int
	closed bool
}

// Place is a part of a tray that one read has for itself.
type Place struct {
	tray *Tray
	long int // 1: it is a long one

	At   int64 // in the tray, bytes
	Data []byte
}

func path(folder, device, session string) string { return filepath.Join(folder, device+"."+session) }

// Make makes a tray for a session of a device, in place of any that an earlier keeper of the device left.
func Make(folder, device, session string) (*Tray, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	left, _ := filepath.Glob(path(folder, device, "*"))
	for _, p := range left {
		_ = os.Remove(p)
	}
	t := &Tray{folder: folder, device: device, path: path(folder, device, session)}
	f, err := os.OpenFile(t.path, os.O_RDWR|os.O_CREATE|os.O_EXCL|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	// All of it at once: a store into a page that cannot be had would end a process.
	if err = unix.Fallocate(int(f.Fd()), 0, 0, size); err == nil {
		t.all, err = unix.Mmap(int(f.Fd()), 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	}
	if err != nil {
		t.Hide()
		return nil, fmt.Errorf("%s: %w", t.path, err)
	}
	for i := range int64(shorts) {
		t.free[0] = append(t.free[0], i*short)
	}
	for i := range int64(longs) {
		t.free[1] = append(t.free[1], shorts*short+i*long)
	}
	return t, nil
}

// Rename makes it the tray of another session, when that for which it was made never began: nothing was asked to be read into it.
func (t *Tray) Rename(session string) error {
	to := path(t.folder, t.device, session)
	err := os.Rename(t.path, to)
	if err == nil {
		t.path = to
	}
	return err
}

// Hide removes the name of the tray: those who have it open keep it.
func (t *Tray) Hide() { _ = os.Remove(t.path) }

// Take takes a place for n bytes; nil: there is none at the moment, or none that long. A nil tray has none. GiveBack or Abandon must follow.
func (t *Tray) Take(n int) *Place {
	if t == nil || n > long {
		return nil
	}
	kind := 0
	if n > short {
		kind = 1
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	last := len(t.free[kind]) - 1
	if last < 0 || t.closed {
		return nil
	}
	at := t.free[kind][last]
	t.free[kind] = t.free[kind][:last]
	t.taken++
	return &Place{tray: t, long: kind, At: at, Data: t.all[at : at+int64(n) : at+int64(n)]}
}

// GiveBack lets others have a place, in which nothing is under way any more.
func (p *Place) GiveBack() { p.tray.leave(p, true) }

// Abandon is GiveBack for a place into which something may still be read: it is not given out again.
func (p *Place) Abandon() { p.tray.leave(p, false) }

func (t *Tray) leave(p *Place, again bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.taken--; again {
		t.free[p.long] = append(t.free[p.long], p.At)
	}
	t.unmap()
}

// Close gives no more places, and unmaps the memory as soon as none is taken. A nil tray is closed.
func (t *Tray) Close() {
	if t == nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closed = true
	t.unmap()
}

// unmap does that. t.mu is held.
func (t *Tray) unmap() {
	if t.closed && t.taken == 0 && t.all != nil {
		_ = unix.Munmap(t.all)
		t.all = nil
	}
}

// Memory is the service's side of a session: its tray, and the ring of its device.
type Memory struct {
	tray []byte
	ring *os.File
}

// Open opens the tray of a session, and the ring of its device.
func Open(folder, device, session, ring string) (*Memory, error) {
	f, err := os.OpenFile(path(folder, device, session), os.O_RDWR|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var st unix.Stat_t
	switch err := unix.Fstat(int(f.Fd()), &st); {
	case err != nil:
		return nil, err
	case st.Mode&unix.S_IFMT != unix.S_IFREG || st.Size != size || int(st.Uid) != os.Geteuid():
		return nil, errors.New("not a tray of this version")
	}
	m := &Memory{}
	if m.ring, err = os.Open(ring); err != nil {
		return nil, err
	}
	if m.tray, err = unix.Mmap(int(f.Fd()), 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED); err != nil {
		_ = m.ring.Close()
		return nil, err
	}
	return m, nil
}

// Into is n bytes of the tray, to read into; nil where there are not as many.
func (m *Memory) Into(at, n int64) []byte {
	if at < 0 || n < 0 || at > size || n > size-at {
		return nil
	}
	return m.tray[at : at+n : at+n]
}

// From fills p with what lies in the ring.
func (m *Memory) From(p []byte, at int64) error {
	_, err := m.ring.ReadAt(p, at)
	return err
}

// Close unmaps the tray and closes the ring. Nothing may be under way.
func (m *Memory) Close() {
	_ = unix.Munmap(m.tray)
	_ = m.ring.Close()
}
