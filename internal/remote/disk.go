package remote

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"nidalo/core/health"
	"nidalo/core/state"
	"nidalo/internal/disk"
	"nidalo/internal/nbd"
)

// Disk is a lent disk in use: a session with its lender. A connection that breaks is made anew within the host's patience, and what was on
// its way is sent again: the lender ends the earlier connection, with everything that came through it done, before it takes the next,
// so that nothing lands late. What it acknowledged is still on its way to the disk then, as long as the lender has not opened the disk
// anew. When it has, or the patience is over, the disk is gone (disk.ErrGone): writes since the last sync may be lost, and the array has it
// catch up when it is there again, as it does with a disk that was pulled.
type Disk struct {
	host     *Host
	wish     Wish
	identity state.Identity
	size     int64
	patience time.Duration

	mu    sync.Mutex
	link  *nbd.Client   // nil while it is out of touch
	since time.Time     // when it came out of touch
	over  error         // why it is of no more use
	done  bool          // its user has closed it
	news  chan struct{} // closed when any of these changes, and another one made
}

// most is how much one request reads or writes, bytes. Longer ones are cut.
const most = 4 << 20

// silence is how long a connection may be silent while something is asked, before it is asked whether it is there.
const silence = 3 * time.Second

// changed tells all that wait that something is otherwise. d.mu is held.
func (d *Disk) changed() {
	close(d.news)
	d.news = make(chan struct{})
}

// dial makes a connection of the session.
func (d *Disk) dial(patience time.Duration) error {
	c, err := d.host.dial(d.wish.String(), patience)
	if err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.over != nil || c.Size() != d.size {
		c.Abandon()
		if d.over == nil {
			return fmt.Errorf("%w: it has %d bytes now", Incarnation, c.Size())
		}
		return d.over
	}
	d.link, d.since = c, time.Time{}
	d.changed()
	go d.watch(c)
	return nil
}

// lost notes that a connection is of no more use, and has another one made.
func (d *Disk) lost(c *nbd.Client, why error) {
	c.Abandon()
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.link != c || d.over != nil {
		return
	}
	d.link, d.since = nil, time.Now()
	d.changed()
	go d.redial(why)
}

// redial makes a connection again, for as long as the patience lasts.
func (d *Disk) redial(why error) {
	for rest := 50 * time.Millisecond; ; rest = min(2*rest, time.Second) {
		left := d.patience - time.Since(d.away())
		if left <= 0 {
			d.end(fmt.Errorf("%w: host %s was out of touch for %s: %w", disk.ErrGone, d.host.Name(), d.patience, why))
			return
		}
		err := d.dial(min(answerIn, max(left, 100*time.Millisecond)))
		if err == nil || d.ended() != nil {
			return
		}
		if r := Refused(err); r != "" || errors.As(err, &nbd.RefusedError{}) {
			if tell := d.host.all.set.Overtaken; r == Overtaken && tell != nil {
				tell(d.identity.Path) // before the disk counts as lost
			}
			if r != "" && r != Draining {
				d.end(fmt.Errorf("%w: host %s says: %w", disk.ErrGone, d.host.Name(), r))
				return
			}
		} else if errors.Is(err, Incarnation) {
			d.end(fmt.Errorf("%w: %w", disk.ErrGone, err))
			return
		}
		why = err
		d.mu.Lock()
		news := d.news
		d.mu.Unlock()
		select {
		case <-news:
		case <-time.After(rest):
		}
	}
}

// end has the disk be of no more use.
func (d *Disk) end(why error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.over != nil {
		return
	}
	if d.over = why; d.link != nil {
		d.link.Abandon()
	}
	d.link = nil
	d.changed()
}

// ended is why the disk is of no more use, or nil.
func (d *Disk) ended() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.over
}

// away is since when it is out of touch; zero: it is not.
func (d *Disk) away() time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.since
}

// OutOfTouch says whether its host is out of touch and there is still patience: then no answer says nothing of the disk.
func (d *Disk) OutOfTouch() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.over == nil && d.link == nil
}

// doubt has the connection made anew, since the host does not answer.
func (d *Disk) doubt() {
	d.mu.Lock()
	c := d.link
	d.mu.Unlock()
	if c != nil {
		d.lost(c, errors.New("it does not answer"))
	}
}

// current waits for a connection.
func (d *Disk) current() (*nbd.Client, error) {
	for {
		d.mu.Lock()
		c, over, news := d.link, d.over, d.news
		d.mu.Unlock()
		if over != nil {
			return nil, fmt.Errorf("%s: %w", d.identity.Path, over)
		}
		if c != nil {
			return c, nil
		}
		<-news
	}
}

// do has something done by the lender, over as many connections as it takes.
func (d *Disk) do(f func(*nbd.Client) error) error {
	for {
		c, err := d.current()
		if err != nil {
			return err
		}
		switch err = f(c); {
		case err == nil:
			return nil
		case errors.Is(err, nbd.ErrBroken), errors.Is(err, nbd.ErrShutdown):
			d.lost(c, err)
		case errors.Is(err, nbd.ErrNoSpace):
			return fmt.Errorf("%s: %w", d.identity.Path, disk.ErrFull)
		default:
			return fmt.Errorf("%s: %w", d.identity.Path, err)
		}
	}
}

// watch asks a connection that is silent whether it is there, until it is over: a disk that takes long is not a connection that is lost.
func (d *Disk) watch(c *nbd.Client) {
	tick := time.NewTicker(silence / 3)
	defer tick.Stop()
	for {
		select {
		case <-c.Down():
			return
		case <-tick.C:
		}
		if c.Silent() < silence {
			continue
		}
		late := time.AfterFunc(silence, func() { d.lost(c, errors.New("it is silent")) })
		if c.Ping() == nil {
			late.Stop()
		}
	}
}

func (d *Disk) within(n int64, off int64) error {
	if off < 0 || n < 0 || n > d.size-off {
		return fmt.Errorf("%s: %d bytes at %d are beyond the end (%d)", d.identity.Path, n, off, d.size)
	}
	return nil
}

// ReadAt reads all of p.
func (d *Disk) ReadAt(p []byte, off int64) error { return d.ReadVec([][]byte{p}, off) }

// WriteAt writes all of p.
func (d *Disk) WriteAt(p []byte, off int64) error { return d.WriteVec([][]byte{p}, off) }

// ReadVec reads into the buffers in order.
func (d *Disk) ReadVec(bufs [][]byte, off int64) error {
	return d.cut(bufs, off, func(c *nbd.Client, bufs [][]byte, off int64) error { return c.ReadVec(bufs, off) })
}

// ReadInto reads into a landing. A read is sent again for as long as somebody waits for it.
func (d *Disk) ReadInto(l *disk.Landing, off int64) error {
	return d.cut(l.Buffers(), off, func(c *nbd.Client, bufs [][]byte, off int64) error {
		if l.Revoked() {
			return disk.ErrRevoked
		}
		return c.ReadRevocable(bufs, off, l.Arm)
	})
}

// WriteVec writes the buffers in order.
func (d *Disk) WriteVec(bufs [][]byte, off int64) error {
	return d.cut(bufs, off, func(c *nbd.Client, bufs [][]byte, off int64) error { return c.WriteVec(bufs, off) })
}

// ReadMany reads stretches, which are asked for together.
func (d *Disk) ReadMany(l *disk.Landing, all []disk.Stretch) error {
	return d.together(all, func(c *nbd.Client, stretch func(int) ([][]byte, int64)) error {
		if l.Revoked() {
			return disk.ErrRevoked
		}
		return c.ReadMany(len(all), stretch, l.Arm)
	})
}

// WriteMany writes stretches, which go out together.
func (d *Disk) WriteMany(all []disk.Stretch) error {
	return d.together(all, func(c *nbd.Client, stretch func(int) ([][]byte, int64)) error { return c.WriteMany(len(all), stretch) })
}

func (d *Disk) together(all []disk.Stretch, do func(c *nbd.Client, stretch func(i int) (bufs [][]byte, off int64)) error) error {
	for _, s := range all {
		if err := d.within(int64(disk.Length(s.Bufs)), s.Off); err != nil {
			return err
		}
	}
	return d.do(func(c *nbd.Client) error {
		return do(c, func(i int) ([][]byte, int64) { return all[i].Bufs, all[i].Off })
	})
}

// cut does a long transfer in pieces that the protocol takes.
func (d *Disk) cut(bufs [][]byte, off int64, do func(*nbd.Client, [][]byte, int64) error) error {
	n := disk.Length(bufs)
	if err := d.within(int64(n), off); err != nil {
		return err
	}
	if n <= most {
		return d.do(func(c *nbd.Client) error { return do(c, bufs, off) })
	}
	for len(bufs) > 0 {
		var piece [][]byte
		room := most
		for len(bufs) > 0 && room > 0 {
			k := min(room, len(bufs[0]))
			piece = append(piece, bufs[0][:k])
			room -= k
			if k == len(bufs[0]) {
				bufs = bufs[1:]
			} else {
				bufs = append([][]byte{bufs[0][k:]}, bufs[1:]...)
			}
		}
		if err := d.do(func(c *nbd.Client) error { return do(c, piece, off) }); err != nil {
			return err
		}
		off += int64(disk.Length(piece))
	}
	return nil
}

// Sync makes every write that returned before it durable.
func (d *Disk) Sync() error { return d.do((*nbd.Client).Flush) }

// mostTrim is how much one request trims, bytes.
const mostTrim = 1 << 30

// Discard forgets a stretch.
func (d *Disk) Discard(off, n int64) error {
	if err := d.within(n, off); err != nil {
		return err
	}
	for n > 0 {
		k := min(n, mostTrim)
		if err := d.do(func(c *nbd.Client) error { return c.Trim(off, int(k)) }); err != nil {
			return err
		}
		off, n = off+k, n-k
	}
	return nil
}

// Size is the size in bytes.
func (d *Disk) Size() int64 { return d.size }

// Identity names the disk.
func (d *Disk) Identity() state.Identity { return d.identity }

// Present fails with disk.ErrGone when the session is over.
func (d *Disk) Present() error {
	if over := d.ended(); over != nil {
		return fmt.Errorf("%s: %w", d.identity.Path, over)
	}
	return nil
}

// Health is what the disk said of itself, as its lender has it.
func (d *Disk) Health() (health.Readings, error) {
	l, ok := d.host.lent(d.wish.What)
	if !ok || l.Health == nil || d.OutOfTouch() {
		return health.Readings{}, errors.ErrUnsupported
	}
	return *l.Health, nil
}

var errClosed = errors.New("closed")

// Close ends the session.
func (d *Disk) Close() error {
	d.mu.Lock()
	c := d.link
	d.link = nil
	again, itself := d.done, d.over != nil
	if d.done = true; !itself {
		d.over = errClosed
		d.changed()
	}
	d.mu.Unlock()
	if !again && d.wish.Instance != "" {
		d.host.closed(d, itself)
	}
	if c != nil {
		return c.Close()
	}
	return nil
}
