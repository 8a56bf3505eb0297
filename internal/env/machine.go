//go:build machine

package env

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"nidalo/internal/clock"
)

// scheduler runs the goroutines of one machine, one at a time. A goroutine that waits leaves behind a question, whether it may
// go on by now, which the scheduler asks before it is chosen; asking may take the lock it waits for. When none may go on the
// clock moves to the next moment that one of them waits for, and when there is none either, the machine is deadlocked.
type scheduler struct {
	r       *rand.Rand
	now     time.Time
	threads []*thread // that have not ended, oldest first
	running *thread
	idle    []chan *thread // goroutines that have ended one thread and wait for another
	names   int
	ids     uint64
	steps   int
	limit   int
	over    bool  // the run has ended: all that still wait are let go
	failure error // why it ended early
	ended   chan struct{}
}

type thread struct {
	name   int
	f      func()
	resume chan struct{}
	gone   chan struct{}
	ready  func() bool // nil: it may go on
	until  time.Time   // or when this time has come; zero: never
	timed  bool        // it went on because of that
	holds  []*order    // its locks
}

// order is what is known of a lock's place in the order of locks.
type order struct {
	rank    Rank
	holders []*thread
}

// Ranked states the rank of a lock.
func Ranked[L *Mutex | *RWMutex](l L, rank Rank) {
	switch l := any(l).(type) {
	case *Mutex:
		l.order.rank = rank
	case *RWMutex:
		l.order.rank = rank
	}
}

// apart is the rank of what is no lock of the order: a Once, which is held during all that it does.
const apart Rank = -1

// wanted is called before the running thread waits for a lock. What it holds must come before it.
func (s *scheduler) wanted(o *order) {
	for _, h := range s.running.holds {
		if o.rank > 0 && (h.rank == 0 || h.rank > o.rank) && !s.over {
			panic(fmt.Sprintf("env: a goroutine takes a lock of rank %d and holds one of rank %d", o.rank, h.rank))
		}
	}
}

func (s *scheduler) took(o *order) {
	if o.rank == apart {
		return
	}
	o.holders = append(o.holders, s.running)
	s.running.holds = append(s.running.holds, o)
}

// gave is called when a lock is given back, which may be by another thread than took it: then it was one of those that took it.
func (s *scheduler) gave(o *order) {
	if len(o.holders) == 0 {
		return
	}
	i := max(slices.Index(o.holders, s.running), 0)
	t := o.holders[i]
	o.holders = slices.Delete(o.holders, i, i+1)
	if k := slices.Index(t.holds, o); k >= 0 {
		t.holds = slices.Delete(t.holds, k, k+1)
	}
}

// active is the machine that runs, if one does: one at a time in a process.
var active atomic.Pointer[scheduler]

// Run plays f with everything it starts, as a seed says, until f returns; what it left behind is let go then. It fails when
// a goroutine panics, when all wait for each other, or when it takes more than limit steps.
func Run(seed uint64, limit int, f func()) error {
	s := &scheduler{r: rand.New(rand.NewPCG(seed, 0x5eed)), now: time.Unix(1_000_000_000, 0), limit: limit, ended: make(chan struct{})}
	if !active.CompareAndSwap(nil, s) {
		panic("env: two machines in one process")
	}
	defer active.Store(nil)
	t := s.thread(func() { f(); s.end(nil) })
	s.running = t
	t.resume <- struct{}{}
	<-s.ended
	for len(s.threads) > 0 {
		t := s.threads[0]
		s.threads, s.running = s.threads[1:], t
		select {
		case t.resume <- struct{}{}:
		case <-t.gone:
		}
		<-t.gone
	}
	for _, own := range s.idle {
		close(own)
	}
	return s.failure
}

// end ends the run; the caller is the running thread.
func (s *scheduler) end(err error) {
	if !s.over {
		s.over, s.failure = true, err
		close(s.ended)
	}
}

// thread makes a thread. Goroutines are used again, with the stacks they have grown.
func (s *scheduler) thread(f func()) *thread {
	s.names++
	t := &thread{name: s.names, f: f, resume: make(chan struct{}), gone: make(chan struct{})}
	s.threads = append(s.threads, t)
	if n := len(s.idle); n > 0 {
		s.idle[n-1] <- t
		s.idle = s.idle[:n-1]
		return t
	}
	own := make(chan *thread, 1)
	own <- t
	go func() {
		for t := range own {
			if !s.live(t, own) {
				return
			}
		}
	}()
	return t
}

// live is the life of a thread. It says whether its goroutine may have another.
func (s *scheduler) live(t *thread, own chan *thread) (again bool) {
	defer close(t.gone)
	<-t.resume
	if s.over {
		return false
	}
	defer func() {
		if p := recover(); p != nil {
			s.end(fmt.Errorf("panic: %v\n%s", p, debug.Stack()))
		}
		if !s.over {
			again = true
			s.idle = append(s.idle, own) // before another goes on
			s.leave(t)
		}
	}()
	t.f()
	return false
}

// leave ends a thread and lets another go on.
func (s *scheduler) leave(t *thread) {
	for i, x := range s.threads {
		if x == t {
			s.threads = append(s.threads[:i], s.threads[i+1:]...)
			break
		}
	}
	if next := s.pick(); next != nil {
		s.running = next
		next.resume <- struct{}{}
	}
}

// park has the running thread wait, and lets another go on. It says whether it was woken by the time.
func (s *scheduler) park(ready func() bool, until time.Time) (timed bool) {
	t := s.running
	if s.over {
		runtime.Goexit() // it is left over: it ends, with what it has deferred
	}
	t.ready, t.until, t.timed = ready, until, false
	next := s.pick()
	if next == nil { // the run has ended
		<-t.resume
		runtime.Goexit()
	}
	if next != t {
		s.running = next
		next.resume <- struct{}{}
		<-t.resume
		if s.over {
			runtime.Goexit()
		}
	}
	return t.timed
}

// pick chooses the goroutine that goes on.
func (s *scheduler) pick() *thread {
	if s.steps++; s.steps > s.limit {
		s.end(fmt.Errorf("more than %d steps", s.limit))
		return nil
	}
	// Now and then time passes although there is something to do, for what is due at a time to meet everything else.
	if s.r.IntN(64) == 0 {
		if at := s.next(); !at.IsZero() {
			s.now = at
		}
	}
	for {
		n := len(s.threads)
		for i, from := 0, s.r.IntN(max(n, 1)); i < n; i++ {
			t := s.threads[(from+i)%n]
			switch {
			case t.ready == nil || t.ready():
			case !t.until.IsZero() && !s.now.Before(t.until):
				t.timed = true
			default:
				continue
			}
			t.ready, t.until = nil, time.Time{}
			return t
		}
		at := s.next()
		if at.IsZero() {
			s.end(fmt.Errorf("deadlock: %d goroutines wait for each other\n%s", n, stacks()))
			return nil
		}
		s.now = at
	}
}

// next is the next moment that a goroutine waits for; zero when none does.
func (s *scheduler) next() (at time.Time) {
	for _, t := range s.threads {
		if !t.until.IsZero() && t.until.After(s.now) && (at.IsZero() || t.until.Before(at)) {
			at = t.until
		}
	}
	return at
}

func stacks() string {
	buf := make([]byte, 1<<20)
	var out []string
	for _, g := range strings.Split(string(buf[:runtime.Stack(buf, true)]), "\n\n") {
		if strings.Contains(g, "env.(*scheduler).park") {
			out = append(out, g)
		}
	}
	return strings.Join(out, "\n\n")
}

// Yield is a moment at which another may go on.
func Yield() {
	if s := active.Load(); s != nil && !s.over && s.r.IntN(2) == 0 {
		s.park(nil, time.Time{})
	}
}

// Go runs f in a goroutine of its own.
func Go(f func()) {
	if s := active.Load(); s != nil {
		if !s.over {
			s.thread(f)
		}
		return
	}
	go f()
}

// Workers is how many goroutines are worth having for work that waits for disks.
func Workers() int { return 3 }

// Either is b, or with a scheduler anything: both ways are gone.
func Either(b bool) bool {
	if s := active.Load(); s != nil && !s.over {
		return s.r.IntN(2) == 0
	}
	return b
}

// Processors is how many goroutines can work at the same time.
func Processors() int { return 2 }

// Now is the time of the machine.
func Now() time.Time {
	if s := active.Load(); s != nil {
		s.now = s.now.Add(time.Microsecond)
		return s.now
	}
	return time.Now()
}

// Tick is the moment, by the machine's time.
func Tick() clock.Moment {
	if active.Load() != nil {
		return clock.Moment(Now().UnixNano())
	}
	return clock.Now()
}

// Since is the time that has passed.
func Since(t time.Time) time.Duration { return Now().Sub(t) }

// AfterFunc runs f when d has passed.
func AfterFunc(d time.Duration, f func()) {
	if active.Load() == nil {
		time.AfterFunc(d, f)
		return
	}
	Go(func() {
		Wait(d)
		f()
	})
}

// NewID draws an identity.
func NewID() uuid.UUID {
	s := active.Load()
	if s == nil {
		return uuid.New()
	}
	s.ids++
	var id uuid.UUID
	binary.BigEndian.PutUint64(id[:], s.r.Uint64())
	binary.BigEndian.PutUint64(id[8:], s.ids)
	return id
}

// Recv waits for a value, or for the end of the channel.
func Recv[T any](ch <-chan T) (v T, ok bool) {
	s := active.Load()
	if s == nil {
		v, ok = <-ch
		return v, ok
	}
	s.park(func() bool {
		select {
		case v, ok = <-ch:
			return true
		default:
			return false
		}
	}, time.Time{})
	return v, ok
}

// Send waits until a value is taken; the channel must have a buffer.
func Send[T any](ch chan<- T, v T) {
	s := active.Load()
	if s == nil {
		ch <- v
		return
	}
	s.park(func() bool {
		select {
		case ch <- v:
			return true
		default:
			return false
		}
	}, time.Time{})
}

// Wait waits until one of some channels has something or is closed, and returns which; -1 when d has passed first. Never means
// no time-out.
func Wait(d time.Duration, chs ...<-chan struct{}) (which int) {
	s := active.Load()
	if s == nil {
		return realWait(d, chs)
	}
	var until time.Time
	if d >= 0 {
		until = s.now.Add(max(d, time.Nanosecond))
	}
	timed := s.park(func() bool {
		for i, ch := range chs {
			select {
			case <-ch:
				which = i
				return true
			default:
			}
		}
		return false
	}, until)
	if timed {
		return -1
	}
	return which
}

// Mutex is a lock that the scheduler knows.
type Mutex struct {
	real  sync.Mutex
	held  bool
	order order
}

// Lock waits for the lock.
func (m *Mutex) Lock() {
	s := active.Load()
	if s == nil {
		m.real.Lock()
		return
	}
	s.wanted(&m.order)
	if s.r.IntN(4) == 0 || !m.take() {
		s.park(m.take, time.Time{})
	}
	s.took(&m.order)
}

func (m *Mutex) take() bool {
	if m.held {
		return false
	}
	m.held = true
	return true
}

// TryLock takes the lock if it is free.
func (m *Mutex) TryLock() bool {
	s := active.Load()
	if s == nil {
		return m.real.TryLock()
	}
	if !m.take() {
		return false
	}
	s.took(&m.order)
	return true
}

// Unlock gives it back.
func (m *Mutex) Unlock() {
	s := active.Load()
	switch {
	case s == nil:
		m.real.Unlock()
	case !m.held && !s.over:
		panic("env: unlock of a free lock")
	default:
		m.held = false
		s.gave(&m.order)
	}
}

// RWMutex is a lock for one writer or many readers. A writer that waits keeps new readers out, as in package sync.
type RWMutex struct {
	real    sync.RWMutex
	readers int
	writer  bool
	pending int
	order   order
}

// Lock waits for the lock alone.
func (m *RWMutex) Lock() {
	s := active.Load()
	if s == nil {
		m.real.Lock()
		return
	}
	s.wanted(&m.order)
	m.pending++
	s.park(func() bool {
		if m.writer || m.readers > 0 {
			return false
		}
		m.writer = true
		return true
	}, time.Time{})
	m.pending--
	s.took(&m.order)
}

// Unlock gives it back.
func (m *RWMutex) Unlock() {
	s := active.Load()
	switch {
	case s == nil:
		m.real.Unlock()
	case !m.writer && !s.over:
		panic("env: unlock of a free lock")
	default:
		m.writer = false
		s.gave(&m.order)
	}
}

// RLock waits for the lock together with other readers.
func (m *RWMutex) RLock() {
	s := active.Load()
	if s == nil {
		m.real.RLock()
		return
	}
	s.wanted(&m.order)
	s.park(func() bool {
		if m.writer || m.pending > 0 {
			return false
		}
		m.readers++
		return true
	}, time.Time{})
	s.took(&m.order)
}

// RUnlock gives it back.
func (m *RWMutex) RUnlock() {
	s := active.Load()
	switch {
	case s == nil:
		m.real.RUnlock()
	case m.readers == 0 && !s.over:
		panic("env: unlock of a free lock")
	default:
		m.readers--
		s.gave(&m.order)
	}
}

// Once does something once; others wait until it is done.
type Once struct {
	lock Mutex
	done bool
}

// Do runs f unless one ran before.
func (o *Once) Do(f func()) {
	o.lock.order.rank = apart
	o.lock.Lock()
	defer o.lock.Unlock()
	if !o.done {
		defer func() { o.done = true }()
		f()
	}
}

// Group is goroutines that can be waited for.
type Group struct {
	real sync.WaitGroup
	n    int
}

// Go runs f in a goroutine of its own.
func (g *Group) Go(f func()) {
	if active.Load() == nil {
		g.real.Go(f)
		return
	}
	g.n++
	Go(func() {
		defer func() { g.n-- }()
		f()
	})
}

// Held stands for the locks of a goroutine at a moment.
type Held struct{ locks []*order }

// Holds is what the goroutine holds.
func Holds() Held {
	s := active.Load()
	if s == nil {
		return Held{}
	}
	return Held{slices.Clone(s.running.holds)}
}

// GoOn runs f in a goroutine of its own, which takes over the locks that its caller took since then.
func GoOn(since Held, f func()) {
	Go(f)
	s := active.Load()
	if s == nil || s.over {
		return
	}
	from, to := s.running, s.threads[len(s.threads)-1]
	for _, o := range slices.Clone(from.holds) {
		if slices.Contains(since.locks, o) {
			continue
		}
		o.holders[slices.Index(o.holders, from)] = to
		from.holds = slices.Delete(from.holds, slices.Index(from.holds, o), slices.Index(from.holds, o)+1)
		to.holds = append(to.holds, o)
	}
}

// Wait waits until all have ended.
func (g *Group) Wait() {
	if s := active.Load(); s != nil {
		s.park(func() bool { return g.n == 0 }, time.Time{})
		return
	}
	g.real.Wait()
}

// Cond is a condition of a lock.
type Cond struct {
	L    *Mutex
	real *sync.Cond
	told int
}

// NewCond makes a condition of a lock.
func NewCond(l *Mutex) *Cond { return &Cond{L: l, real: sync.NewCond(l)} }

// Wait gives the lock back until the condition is told of.
func (c *Cond) Wait() {
	s := active.Load()
	if s == nil {
		c.real.Wait()
		return
	}
	seen := c.told
	c.L.Unlock()
	s.park(func() bool { return c.told != seen }, time.Time{})
	c.L.Lock()
}

// Broadcast tells of the condition.
func (c *Cond) Broadcast() {
	c.told++
	if active.Load() == nil {
		c.real.Broadcast()
	}
}
