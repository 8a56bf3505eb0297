package lend

import (
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/internal/disk"
	"nidalo/internal/nbd"
	"nidalo/internal/remote"
)

// session is one owner's use of a disk, over one connection. Requests hold during; who ends it waits for them, so that after end nothing
// lands any more. An owner whose connection broke begins another one.
type session struct {
	of      *lent
	d       disk.Disk
	wish    remote.Wish
	began   time.Time
	open    atomic.Int64 // connections: one, or none
	read    atomic.Int64 // bytes
	written atomic.Int64
	flushes atomic.Int64

	during sync.RWMutex
	over   error
	ended  chan struct{}
}

// drainFor is how long a new session waits for the requests of an earlier one. After that it is refused, and asks again.
const drainFor = 3 * time.Second

func (s *session) connected() bool { return s.open.Load() > 0 }

// end has everything done that was asked for, and nothing that is asked for from then on.
func (s *session) end(why error) {
	s.during.Lock()
	defer s.during.Unlock()
	if s.over == nil {
		close(s.ended)
	}
	s.over = why
}

// look gives the disk to be read.
func (l *lent) look() (nbd.Export, func(), error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.d == nil {
		return nil, nil, fmt.Errorf("%w: %w", remote.NotThere, l.why)
	}
	s := &session{of: l, d: l.d, ended: make(chan struct{})}
	return seen{export{s}}, func() {}, nil
}

// begin begins a session, or has it go on over a further connection. Whatever came through an earlier connection, of whoever, is done
// before.
func (l *lent) begin(w remote.Wish) (nbd.Export, func(), error) {
	l.opening.Lock()
	defer l.opening.Unlock()
	l.mu.Lock()
	d, was, loan, incarnation, why := l.d, l.session, l.loan, l.incarnation, l.why
	l.mu.Unlock()
	switch {
	case d == nil:
		return nil, nil, fmt.Errorf("%w: %w", remote.NotThere, why)
	case w.Token < loan.Token:
		return nil, nil, fmt.Errorf("%w: with token %d, this one has %d", remote.Overtaken, loan.Token, w.Token)
	case w.Incarnation != incarnation:
		return nil, nil, remote.Incarnation
	case was != nil && was.wish.Instance != w.Instance && was.connected() && w.Token == was.wish.Token:
		return nil, nil, fmt.Errorf("%w: %s, since %s", remote.Taken, was.wish.Owner, was.began.Format(time.DateTime))
	}
	if was != nil {
		done := make(chan struct{})
		go func() {
			was.end(remote.Overtaken)
			close(done)
		}()
		select {
		case <-done:
		case <-time.After(drainFor):
			return nil, nil, remote.Draining
		}
	}
	if w.Token > loan.Token {
		if err := l.desk.host.Token(loan.Disk, w.Token); err != nil {
			return nil, nil, err
		}
	}
	s := &session{of: l, d: d, wish: w, began: time.Now(), ended: make(chan struct{})}
	if was != nil && was.wish == w {
		s.began = was.began
		s.read.Store(was.read.Load())
		s.written.Store(was.written.Load())
		s.flushes.Store(was.flushes.Load())
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.d != d {
		return nil, nil, remote.NotThere
	}
	s.open.Store(1)
	l.session, l.loan.Token = s, max(l.loan.Token, w.Token)
	if was == nil || was.wish != w {
		l.desk.host.Log.Info("lent disk in use", "disk", d.Identity().String(), "host", w.Owner, "token", w.Token)
	}
	return export{s}, func() { s.open.Add(-1) }, nil
}

// export is the disk as a connection of a session has it.
type export struct{ s *session }

// seen is a disk that is only looked at.
type seen struct{ export }

func (seen) ReadOnly() {}

// Ended is closed when nothing more can be asked of the session.
func (x export) Ended() <-chan struct{} { return x.s.ended }

func (x export) Size() int64 { return x.s.d.Size() }

// use does something to the disk within the session.
func (x export) use(f func(disk.Disk) error) error {
	s := x.s
	s.during.RLock()
	defer s.during.RUnlock()
	if s.over != nil {
		return fmt.Errorf("%w: %w", nbd.ErrShutdown, s.over)
	}
	err := f(s.d)
	switch {
	case errors.Is(err, disk.ErrGone):
		s.of.spoil(s.d, err)
		return fmt.Errorf("%w: %w", nbd.ErrShutdown, err)
	case errors.Is(err, disk.ErrFull):
		return fmt.Errorf("%w: %w", nbd.ErrNoSpace, err)
	}
	return err
}

func (x export) Read(p []byte, off int64) ([]nbd.Hole, error) {
	x.s.read.Add(int64(len(p)))
	return nil, x.use(func(d disk.Disk) error { return d.ReadAt(p, off) })
}

// Send has data go from a file to the owner without a copy. The session is not held meanwhile: it may end, which ends the connection as well, and what
// is read after that changes nothing. Once that fails because of the file all is read by Read, which can tell why.
func (x export) Send(off, n int64, send func(file uintptr, at int64) error) error {
	f, can := x.s.d.(interface {
		WithDescriptor(off, n int64, f func(fd uintptr) error) (can bool, err error)
	})
	if !can || x.s.of.copies.Load() || x.use(func(disk.Disk) error { return nil }) != nil {
		return nbd.ErrNotTaken
	}
	can, err := f.WithDescriptor(off, n, func(fd uintptr) error { return send(fd, off) })
	if !can {
		return nbd.ErrNotTaken
	}
	if err == nil {
		x.s.read.Add(n)
	} else if errors.Is(err, nbd.ErrSource) && !x.s.of.copies.Swap(true) {
		x.s.of.desk.host.Log.Warn("lent disk cannot be sent from, and is copied from now on", "disk", x.s.d.Identity().String(), "reason", err)
	}
	return err
}

func (x export) Write(p []byte, off int64) error {
	x.s.written.Add(int64(len(p)))
	return x.use(func(d disk.Disk) error { return d.WriteAt(p, off) })
}

// Flush makes durable what was written. When that fails it is not known what is lost, and a second one may well succeed: so the disk
// counts as opened anew.
func (x export) Flush() error {
	x.s.flushes.Add(1)
	return x.use(func(d disk.Disk) error {
		err := d.Sync()
		if err != nil && !errors.Is(err, disk.ErrGone) {
			x.s.of.spoil(d, err)
		}
		return err
	})
}

func (x export) FlushRange(int64, int64) error { return x.Flush() }

// Trim forgets a stretch where the disk can, and otherwise does nothing.
func (x export) Trim(off, n int64) error {
	return x.use(func(d disk.Disk) error {
		if t, ok := d.(disk.Discarder); ok {
			if err := t.Discard(off, n); !errors.Is(err, errors.ErrUnsupported) {
				return err
			}
		}
		return nil
	})
}

// zeros is what is written at once, bytes.
const zeros = 1 << 20

func (x export) Zero(off, n int64) error {
	blank := make([]byte, min(n, zeros))
	for n > 0 {
		k := min(n, int64(len(blank)))
		if err := x.Write(blank[:k], off); err != nil {
			return err
		}
		off, n = off+k, n-k
	}
	return nil
}

func (x export) Extents(_, n int64, _ int) ([]nbd.Extent, error) {
	return []nbd.Extent{{Length: n, Written: true}}, nil
}
