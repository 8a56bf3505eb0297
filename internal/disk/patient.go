package disk

import (
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/health"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// ErrSlow is wrapped by reads that were given up because the disk took too long and the data can be had elsewhere.
var ErrSlow = errors.New("no answer in time")

// ErrAvoided is ErrSlow for a read that was not even tried, because the disk was late just before.
var ErrAvoided = fmt.Errorf("%w just before", ErrSlow)

// ErrHung is wrapped by operations that were given up because the disk does not answer at all.
var ErrHung = errors.New("the disk hangs")

// Patience is how long a disk may take.
type Patience struct {
	Read time.Duration // for a read whose data can be had elsewhere
	Hung time.Duration // without any operation completing, while some are under way
}

// DefaultPatience: a disk that retries a bad sector takes seconds, during which others can answer; one that is silent for
// longer than a controller resets a link is not coming back by itself.
var DefaultPatience = Patience{Read: 3 * time.Second, Hung: 15 * time.Second}

// Patient is a disk that never keeps its users waiting for longer than its patience. An operation that may wait runs in a
// goroutine of its own and is left to itself when its time is over; reads that cannot be revoked go through private buffers, so that
// a late answer cannot land in memory that is used for something else by then. What a late write leaves on the disk is not
// known: a caller that gets ErrHung from one must not trust that place.
type Patient struct {
	asking atomic.Bool // a question after its health is under way
	Disk
	patience  Patience
	spare     func() bool
	prompt    Prompt    // or nil
	distant   Distant   // or nil
	revocable Revocable // or nil
	gathering Gathering // or nil

	mu        env.Mutex
	oldest    *pending
	newest    *pending
	completed time.Time // when an operation last did
	avoid     time.Time // until then reads that can be had elsewhere are not tried
	hung      bool
	armed     bool
	looked    time.Time // when look was there last, or was asked for
	waking    time.Time // until then it may take as long as it takes to turn again
	load      Load
	moved     atomic.Int64 // see Load.Bytes
	waits     atomic.Int64 // see Waits
	rest      atomic.Int32 // see Sleep
	writing   atomic.Int64 // writes under way
	late      [64]Late     // the last operations that took long, in a ring
	lates     int          // how many there were
}

// Late is an operation that took lateFrom or longer, or was given up after that.
type Late struct {
	What         string // "read", "write", "sync", "discard" or "standby"
	Began, Ended time.Time
}

// lateFrom is what no operation of a sound disk takes that has nothing else to do.
const lateFrom = 50 * time.Millisecond

// Load is what a disk did so far, for comparison with its peers. Reads from the system's memory are not in it.
type Load struct {
	Operations int64
	Time       time.Duration // all operations together
	Bytes      int64         // read and written, also those that the system's memory had
}

// Prompt is implemented by disks that can tell when an operation will not have to wait, as in a file in memory. Each does
// it then, or does nothing and reports false.
type Prompt interface {
	ReadNow(bufs [][]byte, off int64) (done bool, err error)
	WriteNow(bufs [][]byte, off int64) (done bool, err error)
	SyncNow() (done bool, err error)
}

type pending struct {
	what      string
	began     time.Time
	impatient bool
	settled   bool // under Patient.mu
	done      chan error
	prev      *pending
	next      *pending
}

// avoidFor is how long a disk is left alone by reads that can be had elsewhere once it was late with one.
const avoidFor = time.Second

// NewPatient wraps a disk. spare tells at the time whether its data can be had elsewhere; it must not block.
func NewPatient(d Disk, p Patience, spare func() bool) *Patient {
	out := &Patient{Disk: d, patience: p, spare: spare}
	out.prompt, _ = d.(Prompt)
	out.distant, _ = d.(Distant)
	out.revocable, _ = d.(Revocable)
	out.gathering, _ = d.(Gathering)
	return out
}

// do runs f, and comes back without it when it takes too long.
func (p *Patient) do(what string, impatient bool, f func() error) error {
	o := &pending{what: what, began: env.Now(), impatient: impatient, done: make(chan error, 1)}
	away := p.outOfTouch()
	p.mu.Lock()
	if p.hung && !away || impatient && (away || o.began.Before(p.avoid)) && !o.began.Before(p.waking) && p.spare() {
		cause := ErrAvoided
		if p.hung {
			cause = ErrHung
		}
		p.mu.Unlock()
		return fmt.Errorf("%s: %w", p.Identity(), cause)
	}
	if o.prev = p.newest; o.prev == nil {
		p.oldest = o
	} else {
		o.prev.next = o
	}
	p.newest = o
	if !p.armed {
		p.armed, p.looked = true, o.began
		env.AfterFunc(p.tick(), p.look)
	}
	p.mu.Unlock()
	env.Go(func() { p.settle(o, f(), true) })
	err, _ := env.Recv(o.done)
	return err
}

func (p *Patient) tick() time.Duration {
	return max(5*time.Millisecond, min(p.patience.Read/8, p.patience.Hung/8, 250*time.Millisecond))
}

// settle ends an operation: with what it returned, or with what was decided about it before.
func (p *Patient) settle(o *pending, err error, itself bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.settleHeld(o, err, itself)
}

func (p *Patient) settleHeld(o *pending, err error, itself bool) {
	now := env.Now()
	if itself {
		p.completed, p.hung = now, false
	}
	if o.settled {
		return
	}
	o.settled = true
	if !now.Before(p.waking) { // while it wakes, the time says nothing of the disk
		p.load.Operations++
		p.load.Time += now.Sub(o.began)
	}
	if now.Sub(o.began) >= lateFrom {
		p.late[p.lates%len(p.late)] = Late{o.what, o.began, now}
		p.lates++
	}
	if o.prev == nil {
		p.oldest = o.next
	} else {
		o.prev.next = o.next
	}
	if o.next == nil {
		p.newest = o.prev
	} else {
		o.next.prev = o.prev
	}
	o.done <- err
}

// look gives up what has taken too long.
func (p *Patient) look() {
	now := env.Now()
	away := p.outOfTouch()
	p.mu.Lock()
	p.forgive(now)
	if away {
		p.pass(now)
	}
	if away || now.Before(p.waking) {
		p.looked = now
		env.AfterFunc(p.tick(), p.look)
		p.mu.Unlock()
		return
	}
	spare := p.oldest != nil && now.Sub(p.oldest.began) > p.patience.Read && p.spare()
	if o := p.oldest; o != nil {
		age := now.Sub(o.began)
		p.hung = p.hung || age > p.patience.Hung && (now.Sub(p.completed) > p.patience.Hung || age > 4*p.patience.Hung)
	}
	for o := p.oldest; o != nil; {
		next := o.next
		switch {
		case p.hung:
			p.settleHeld(o, fmt.Errorf("%s: %w: nothing came back for %s", p.Identity(), ErrHung, p.patience.Hung), false)
		case o.impatient && spare && now.Sub(o.began) > p.patience.Read:
			p.avoid = now.Add(avoidFor)
			p.settleHeld(o, fmt.Errorf("%s: %w: more than %s", p.Identity(), ErrSlow, p.patience.Read), false)
		}
		o = next
	}
	if p.looked = now; p.oldest == nil {
		p.armed = false
	} else {
		env.AfterFunc(p.tick(), p.look)
	}
	p.mu.Unlock()
}

// Distant is implemented by disks on other hosts.
type Distant interface {
	// OutOfTouch says whether the host cannot be reached at the moment, and the disk still has patience with that: then it says nothing of
	// the disk that there is no answer. When that patience is over it fails with ErrGone by itself.
	OutOfTouch() bool
}

// InTouchElsewhere says whether the disk is on another host, which answers.
func (p *Patient) InTouchElsewhere() bool { return p.distant != nil && !p.distant.OutOfTouch() }

func (p *Patient) outOfTouch() bool { return p.distant != nil && p.distant.OutOfTouch() }

// pass gives up reads that can be had elsewhere while the disk is out of touch, and begins the time of all others anew.
func (p *Patient) pass(now time.Time) {
	spare := p.oldest != nil && p.spare()
	for o := p.oldest; o != nil; {
		next := o.next
		if o.began = now; o.impatient && spare {
			p.settleHeld(o, fmt.Errorf("%s: %w", p.Identity(), ErrAvoided), false)
		}
		o = next
	}
	p.completed, p.hung = now, false
}

// forgive: when this very look is late, everything was at a standstill, such as a machine that was paused, and the disk is not
// to blame for the time.
func (p *Patient) forgive(now time.Time) {
	late := now.Sub(p.looked) - 4*p.tick()
	if late <= 0 {
		return
	}
	move := func(t time.Time) time.Time {
		if t = t.Add(late); t.After(now) {
			return now
		}
		return t
	}
	for o := p.oldest; o != nil; o = o.next {
		o.began = move(o.began)
	}
	p.completed = move(p.completed)
}

// Load tells what the disk did so far.
func (p *Patient) Load() Load {
	p.mu.Lock()
	defer p.mu.Unlock()
	l := p.load
	l.Bytes = p.moved.Load()
	return l
}

// Waits is how many reads so far were not of the system's memory.
func (p *Patient) Waits() int64 { return p.waits.Load() }

// Late are the last operations that took long and ended after a moment, and those under way, whose end is zero. They are in no order.
func (p *Patient) Late(after time.Time) (out []Late) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.late[:min(p.lates, len(p.late))] {
		if l.Ended.After(after) {
			out = append(out, l)
		}
	}
	for o := p.oldest; o != nil; o = o.next {
		out = append(out, Late{What: o.what, Began: o.began})
	}
	return out
}

// ReadSoon is ReadVec for data that may be had elsewhere: it fails with ErrSlow rather than wait.
func (p *Patient) ReadSoon(bufs [][]byte, off int64) error { return p.read(bufs, off, true) }

// ReadVec reads into the buffers in order.
func (p *Patient) ReadVec(bufs [][]byte, off int64) error { return p.read(bufs, off, false) }

// ReadAt reads all of buf.
func (p *Patient) ReadAt(buf []byte, off int64) error { return p.read([][]byte{buf}, off, false) }

func (p *Patient) read(bufs [][]byte, off int64, impatient bool) error {
	p.wake()
	p.moved.Add(int64(Length(bufs)))
	if p.prompt != nil {
		if done, err := p.prompt.ReadNow(bufs, off); done {
			return err
		}
	}
	p.waits.Add(1)
	if p.revocable != nil {
		l := &Landing{bufs: slices.Clone(bufs)} // it may be looked at when the caller has the slice for something else
		err := p.do("read", impatient, func() error { return p.revocable.ReadInto(l, off) })
		if err != nil {
			l.revoke()
		}
		return err
	}
	n := Length(bufs)
	own := borrow(n)
	if err := p.do("read", impatient, func() error { return p.Disk.ReadAt(own, off) }); err != nil {
		if !errors.Is(err, ErrSlow) && !errors.Is(err, ErrHung) {
			giveBack(own)
		}
		return err
	}
	at := 0
	for _, b := range bufs {
		at += copy(b, own[at:])
	}
	giveBack(own)
	return nil
}

// WriteAt writes all of buf.
func (p *Patient) WriteAt(buf []byte, off int64) error { return p.WriteVec([][]byte{buf}, off) }

// WriteVec writes the buffers in order.
func (p *Patient) WriteVec(bufs [][]byte, off int64) error {
	p.writing.Add(1)
	defer p.writing.Add(-1)
	p.wake()
	p.moved.Add(int64(Length(bufs)))
	if p.prompt != nil {
		if done, err := p.prompt.WriteNow(bufs, off); done {
			return err
		}
	}
	return p.do("write", false, func() error { return p.Disk.WriteVec(bufs, off) })
}

// Sync makes every write that returned before it durable. A disk that sleeps has nothing left for that.
func (p *Patient) Sync() error {
	if p.Asleep() || probe.SyncSkippedTooEarly.On() && p.rest.Load() != awake {
		return nil
	}
	return p.sync()
}

func (p *Patient) sync() error {
	if p.prompt != nil {
		if done, err := p.prompt.SyncNow(); done {
			return err
		}
	}
	return p.do("sync", false, p.Disk.Sync)
}

// Discard forgets a stretch, where the disk below can.
func (p *Patient) Discard(off, n int64) error {
	if d, ok := p.Disk.(Discarder); ok {
		p.writing.Add(1)
		defer p.writing.Add(-1)
		p.wake()
		return p.do("discard", false, func() error { return d.Discard(off, n) })
	}
	return errors.ErrUnsupported
}

// spinUp is how long a disk may take to turn again, beyond its patience.
const spinUp = 30 * time.Second

// What a disk does, as far as its users let it.
const (
	awake int32 = iota
	fallingAsleep
	sleeping
)

// Sleep puts the disk to sleep with all that was written to it durable, and says whether it did: not when something is written at the moment, or was
// asked of it meanwhile. unsynced is why what was written before may not be durable, and err, else, why the disk cannot be put to sleep.
//
// That it falls asleep is noted before the sync. A write counts itself before it looks whether the disk is awake. So either the write is seen here,
// or it wakes the disk; and what was done before is in the sync. Only when that is over does the disk count as asleep, with nothing to be synced.
func (p *Patient) Sleep() (asleep bool, unsynced, err error) {
	s, ok := p.Disk.(Sleeper)
	if !ok {
		return false, nil, errors.ErrUnsupported
	}
	p.rest.Store(fallingAsleep)
	if p.writing.Load() > 0 {
		p.rest.Store(awake)
		return false, nil, nil
	}
	if unsynced = p.sync(); unsynced != nil || !p.rest.CompareAndSwap(fallingAsleep, sleeping) {
		p.rest.Store(awake)
		return false, unsynced, nil
	}
	if err = p.do("standby", false, s.Standby); err != nil {
		p.rest.Store(awake)
	}
	return p.Asleep(), nil, err
}

// Asleep says whether nothing was asked of the disk since it was put to sleep.
func (p *Patient) Asleep() bool { return p.rest.Load() == sleeping }

// Wake has the disk count as one that turns. The next operation wakes it.
func (p *Patient) Wake() { p.wake() }

// wake notes that something is asked of the disk.
func (p *Patient) wake() {
	if p.rest.Load() != awake && p.rest.Swap(awake) == sleeping {
		p.mu.Lock()
		p.waking = env.Now().Add(spinUp)
		p.mu.Unlock()
	}
}

// Present asks the disk below, where it knows without an operation; otherwise it reads a block.
func (p *Patient) Present() error {
	if d, ok := p.Disk.(interface{ Present() error }); ok {
		return d.Present()
	}
	return p.ReadSoon([][]byte{make([]byte, 4096)}, 0)
}

// Lacks says why the disk below had better be replaced, where that knows without an operation; empty: nothing is known.
func (p *Patient) Lacks() string {
	if d, ok := p.Disk.(interface{ Lacks() string }); ok {
		return d.Lacks()
	}
	return ""
}

// healthPatience is how long a disk may take to say how it is.
const healthPatience = 2 * time.Second

// Health is what the disk below says of itself; errors.ErrUnsupported when it does not, ErrSlow when it takes too long.
func (p *Patient) Health() (health.Readings, error) {
	if d, ok := p.Disk.(interface {
		Health() (health.Readings, error)
	}); ok {
		if !p.asking.CompareAndSwap(false, true) {
			return health.Readings{}, ErrSlow // the last question is not answered yet
		}
		type answer struct {
			r   health.Readings
			err error
		}
		done := make(chan answer, 1)
		told := make(chan struct{}, 1)
		env.Go(func() {
			r, err := d.Health()
			p.asking.Store(false)
			done <- answer{r, err}
			told <- struct{}{}
		})
		if env.Wait(healthPatience, told) < 0 {
			return health.Readings{}, ErrSlow
		}
		a := <-done
		return a.r, a.err
	}
	return health.Readings{}, errors.ErrUnsupported
}

// Refresh makes reads of a stretch come from the medium, where the disk below can, and begins them.
func (p *Patient) Refresh(off, n int64) {
	if d, ok := p.Disk.(interface{ Refresh(off, n int64) }); ok {
		d.Refresh(off, n)
	}
}

// pools keeps private buffers by size in powers of two from 4 KiB; larger ones than 16 MiB are not kept.
var pools [13]sync.Pool

func class(n int) int { return max(0, bits.Len(uint(n-1))-12) }

func borrow(n int) []byte {
	c := class(n)
	if c >= len(pools) {
		return make([]byte, n)
	}
	if b, ok := pools[c].Get().(*[]byte); ok {
		return (*b)[:n]
	}
	return make([]byte, 4096<<c)[:n]
}

func giveBack(b []byte) {
	if c := class(cap(b)); c < len(pools) && cap(b) == 4096<<c {
		b = b[:cap(b)]
		pools[c].Put(&b)
	}
}
