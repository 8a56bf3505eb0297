//go:build linux

package keeper

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/internal/carryover"
	"nidalo/internal/nbd"
	"nidalo/internal/passage"
)

// relay passes the requests of one device on to the service, over a few connections. When the service goes away it holds the requests
// that have no reply yet, waits until there is a service again, has it write again what was acknowledged and never flushed, and goes
// on. The device notices nothing but time.
type relay struct {
	socket, export string
	run            string // where the memory is that is shared with the service
	ring           *carryover.Ring
	log            *slog.Logger
	resized        func(int64)

	size   atomic.Int64
	ranges ranges
	relief sync.Mutex // one at a time makes room in the ring

	spare *passage.Tray // for the next session; connect has it, and what follows
	poor  bool          // there was no memory for one

	mu      sync.Mutex
	links   []*link // none while the service is away
	next    int
	session string        // the name under which they were made
	back    chan struct{} // closed when there are links again
	since   time.Time     // when they went away
	why     error         // why there are none

	ctx  context.Context
	stop context.CancelFunc
	wait sync.WaitGroup
}

// link is one connection to the service. Those of a session share memory with it by one tray; nil: they do not.
type link struct {
	*nbd.Client
	tray    *passage.Tray
	session uint64
}

// retry is how long the relay waits before it looks for the service again.
const retry = 100 * time.Millisecond

func connections() int { return min(4, runtime.NumCPU()) }

// newRelay connects a relay for the first time. An error says why it cannot, unless the device is there already, with a size in bytes:
// then its requests wait.
func newRelay(socket, export, run string, ring *carryover.Ring, log *slog.Logger, resized func(int64), size int64) (*relay, error) {
	r := &relay{socket: socket, export: export, run: run, ring: ring, log: log, resized: resized, back: make(chan struct{}), since: time.Now()}
	r.ctx, r.stop = context.WithCancel(context.Background())
	r.size.Store(size)
	if err := r.connect(); err != nil {
		if size == 0 {
			r.stop()
			r.dropSpare()
			return nil, err
		}
		r.why = err
	}
	r.wait.Go(r.hold)
	return r, nil
}

// close ends the connections. Requests under way fail.
func (r *relay) close() {
	r.stop()
	r.mu.Lock()
	links := r.links
	r.links = nil
	r.mu.Unlock()
	closeLinks(links)
	r.wait.Wait()
	r.dropSpare()
}

func closeLinks(links []*link) {
	for _, c := range links {
		_ = c.Close()
		c.tray.Close()
	}
}

// hold connects again whenever the connections are gone.
func (r *relay) hold() {
	for {
		r.mu.Lock()
		links := r.links
		r.mu.Unlock()
		if links == nil {
			err := r.connect()
			r.mu.Lock()
			r.why = err
			r.mu.Unlock()
			if err != nil {
				select {
				case <-r.ctx.Done():
					return
				case <-time.After(retry):
				}
			}
			continue
		}
		// All links of a session are of one service. When one breaks, all are given up: the service then finishes what came over
		// them before it takes the next session, so that nothing old is done after its repetition.
		down := make(chan struct{})
		stop := make(chan struct{})
		var once sync.Once
		for _, c := range links {
			go func() {
				select {
				case <-c.Down():
					once.Do(func() { close(down) })
				case <-stop:
				}
			}()
		}
		select {
		case <-r.ctx.Done():
			close(stop)
			return
		case <-down:
		}
		close(stop)
		r.mu.Lock()
		r.links, r.back, r.since, r.why = nil, make(chan struct{}), time.Now(), nbd.ErrBroken
		r.mu.Unlock()
		closeLinks(links)
		if r.ctx.Err() == nil {
			r.log.Info("the service is away; requests wait for it", "export", r.export)
		}
	}
}

// connect makes a session: a few connections under one name that no other session has. What is carried over is passed on first, unless
// the array is in the same start as before.
func (r *relay) connect() error {
	name := r.export + "/" + rand.Text()[:12]
	links, err := r.dial(name)
	give := func(err error) error {
		closeLinks(links)
		return err
	}
	if err != nil {
		return give(err)
	}
	session := r.ring.Begin() // it was let in because the one before is done
	for _, c := range links {
		c.session = session
	}
	start, since := startOf(links[0].Name(), name)
	switch before := r.ring.Start(); {
	case before == 0 || before == start:
	case before < since:
		r.log.Error("the array was in service elsewhere meanwhile; writes that were acknowledged here and not flushed are lost, and the next flush fails", "export", r.export)
		r.ring.Empty()
		r.ring.SetLost(true)
	default:
		n, err := r.again(links[0].Client)
		if err != nil {
			return give(err)
		}
		r.log.Info("writes that were not flushed were written again", "export", r.export, "bytes", n)
	}
	r.ring.SetStart(max(start, 1))
	r.grew(links[0].Size())
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ctx.Err() != nil {
		return give(r.ctx.Err())
	}
	r.session = name
	away := time.Since(r.since)
	r.links, r.why = links, nil
	close(r.back)
	r.log.Info("connected to the service", "export", r.export, "after", away.Round(time.Millisecond).String(), "sharing memory", links[0].tray != nil)
	return nil
}

// dial makes the connections of a session, with memory that they share if the service can. With an error it returns the connections that it had made by then.
func (r *relay) dial(name string) (links []*link, err error) {
	r.prepare(path.Base(name))
	shared := r.spare != nil
	for range connections() {
		c, err := nbd.Dialer{Network: "unix", Address: r.socket, Share: shared}.Dial(name)
		if err != nil {
			return links, err
		}
		links = append(links, &link{Client: c})
		shared = shared && c.Shares()
	}
	if !shared {
		r.dropSpare()
		return links, nil
	}
	for _, c := range links {
		c.tray = r.spare
	}
	r.spare.Hide()
	r.spare = nil
	return links, nil
}

// prepare makes a tray for a session, or takes the one that was made for a session that never began: while the service is away that is tried ten times a second.
func (r *relay) prepare(session string) {
	var err error
	if r.spare == nil {
		r.spare, err = passage.Make(filepath.Join(r.run, passage.Folder), r.ring.Array().String(), session)
	} else if err = r.spare.Rename(session); err != nil {
		r.dropSpare()
	}
	if err != nil && !r.poor {
		r.log.Warn("no memory is shared with the service", "export", r.export, "reason", err)
	}
	r.poor = err != nil
}

func (r *relay) dropSpare() {
	if r.spare != nil {
		r.spare.Hide()
		r.spare.Close()
		r.spare = nil
	}
}

// grew tells the device of another size.
func (r *relay) grew(size int64) {
	if was := r.size.Swap(size); was != 0 && was != size {
		r.resized(size)
	}
}

// refresh asks how large the array is by now.
func (r *relay) refresh() error {
	r.mu.Lock()
	session := r.session
	r.mu.Unlock()
	c, err := nbd.Dial("unix", r.socket, session)
	if err != nil {
		return err
	}
	r.grew(c.Size())
	return c.Close()
}

// startOf is the number of the start of the array, and that of the first of the starts up to this one that were all on this host, which
// our service puts behind the name of the export. They are 0 when it does not say.
func startOf(canonical, asked string) (start, since uint64) {
	if _, err := fmt.Sscanf(strings.TrimPrefix(canonical, asked), "/%d/%d", &start, &since); err != nil {
		return 0, 0
	}
	return start, since
}

// again passes on what was acknowledged and may not be durable.
func (r *relay) again(c *nbd.Client) (n int64, err error) {
	err = r.ring.Again(func(off, length int64, data []byte) error {
		n += length
		var err error
		if data == nil {
			err = zero(c, off, length)
		} else {
			err = c.WriteAt(data, off)
		}
		if err == nil || errors.Is(err, nbd.ErrBroken) || errors.Is(err, nbd.ErrShutdown) {
			return err
		}
		r.log.Error("an acknowledged write cannot be repeated; the next flush fails", "export", r.export, "offset", off, "bytes", length, "reason", err)
		r.ring.SetLost(true)
		return nil
	})
	if errors.Is(err, carryover.ErrDamaged) {
		r.log.Error("writes that were acknowledged and not flushed cannot be read, and the next flush fails", "export", r.export, "reason", err)
		r.ring.SetLost(true)
		r.ring.Empty()
		err = nil
	}
	return n, err
}

// smallRequest is up to where a request has more from coming together with others than from a link of its own, bytes.
const smallRequest = 32 << 10

// link is a connection to the service for a request of so many bytes, as soon as there is one. Small ones take half of the links: what
// comes together is read, served and answered together.
func (r *relay) link(ctx context.Context, length int64) (*link, error) {
	for {
		r.mu.Lock()
		if n := len(r.links); n > 0 {
			if length < smallRequest {
				n = (n + 1) / 2
			}
			r.next++
			c := r.links[r.next%n]
			r.mu.Unlock()
			return c, nil
		}
		back := r.back
		r.mu.Unlock()
		select {
		case <-back:
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-r.ctx.Done():
			return nil, fmt.Errorf("the device is being detached: %w", nbd.ErrShutdown)
		}
	}
}

// do has the service do something with so many bytes, as often as it takes until there is a reply. It can be given up while there is no service, not while
// a request is under way: it may still be done, and nothing that overlaps may come before that.
func (r *relay) do(ctx context.Context, length int64, f func(*link) error) error {
	for {
		c, err := r.link(ctx, length)
		if err != nil {
			return err
		}
		err = f(c)
		switch {
		case errors.Is(err, nbd.ErrBroken):
			select {
			case <-c.Down():
			case <-r.ctx.Done():
			}
			r.gone(c)
		case errors.Is(err, nbd.ErrShutdown): // the array was stopped; it may be in service again
			_ = c.Close()
			r.gone(c)
		default:
			return err
		}
	}
}

// gone waits until a broken link is no longer handed out.
func (r *relay) gone(c *link) {
	for r.ctx.Err() == nil {
		r.mu.Lock()
		has := false
		for _, x := range r.links {
			has = has || x == c
		}
		r.mu.Unlock()
		if !has {
			return
		}
		time.Sleep(time.Millisecond)
	}
}

// state is how a device is connected.
func (r *relay) state() (connected bool, since time.Time, why error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.links) > 0, r.since, r.why
}

// makeRoom flushes for a writer that finds the ring full.
func (r *relay) makeRoom(ctx context.Context, head uint64) error {
	if !r.relief.TryLock() {
		wait, cancel := context.WithTimeout(ctx, time.Second) // then see whether the other one did any good
		defer cancel()
		_ = r.ring.Wait(wait, head)
		return ctx.Err()
	}
	defer r.relief.Unlock()
	if r.ring.Head() != head {
		return nil
	}
	if err := r.flush(ctx); err != nil {
		return err
	}
	if r.ring.Head() == head { // the oldest is still on its way
		wait, cancel := context.WithTimeout(ctx, retry)
		defer cancel()
		_ = r.ring.Wait(wait, head)
	}
	return ctx.Err()
}

func (r *relay) flush(ctx context.Context) error {
	mark := r.ring.Mark()
	err := r.do(ctx, 0, func(c *link) error { return c.Flush() })
	if err == nil {
		r.ring.Flushed(mark)
	}
	return err
}

// ranges lets one change at a time into any part of a device.
type ranges struct {
	mu   sync.Mutex
	held []*held
}

type held struct {
	off, end int64
	done     chan struct{}
}

// take waits until nothing that overlaps is under way.
func (r *ranges) take(ctx context.Context, off, length int64) (free func(), err error) {
	mine := &held{off, off + length, make(chan struct{})}
	for {
		r.mu.Lock()
		var before *held
		for _, h := range r.held {
			if h.off < mine.end && off < h.end {
				before = h
				break
			}
		}
		if before == nil {
			r.held = append(r.held, mine)
			r.mu.Unlock()
			break
		}
		r.mu.Unlock()
		select {
		case <-before.done:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	return func() {
		r.mu.Lock()
		for i, h := range r.held {
			if h == mine {
				r.held[i] = r.held[len(r.held)-1]
				r.held = r.held[:len(r.held)-1]
				break
			}
		}
		r.mu.Unlock()
		close(mine.done)
	}, nil
}
