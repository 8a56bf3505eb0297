package member

import (
	"sync/atomic"
	"time"

	"nidalo/internal/env"
)

// Parallel runs f for 0…n-1, some at the same time, and returns the first error by index.
func Parallel(n int, f func(i int) error) error { return parallel(depth, n, f) }

func parallel(width, n int, f func(i int) error) error {
	if n <= 1 {
		for i := 0; i < n; i++ {
			if err := f(i); err != nil {
				return err
			}
		}
		return nil
	}
	var wg env.Group
	var next atomic.Int64
	var mu env.Mutex
	first, firstAt := error(nil), n
	work := func() {
		for {
			i := int(next.Add(1)) - 1
			if i >= n {
				return
			}
			if err := f(i); err != nil {
				mu.Lock()
				if i < firstAt {
					first, firstAt = err, i
				}
				mu.Unlock()
			}
		}
	}
	for range min(n, width) - 1 {
		wg.Go(work)
	}
	work()
	wg.Wait()
	return first
}

// SmallFan is how many bytes an operation on several members moves to be worth handing to other goroutines in any case.
const SmallFan = 256 << 10

// quickMember is how soon members answer small operations for waking another goroutine to cost more than it saves: so it
// is with files in memory or in the system's cache, and never with a disk that is waited for.
const quickMember = 30 * time.Microsecond

// Fan does operations on several members, at the same time where that pays.
type Fan struct {
	answer atomic.Int64 // nanoseconds in which members answered small operations lately
}

// Out is Parallel for one operation on each of n members that moves bytes altogether. Small operations are done one
// after the other while members answer quickly.
func (o *Fan) Out(n, bytes int, f func(i int) error) error {
	if n <= 1 || bytes > SmallFan {
		return Parallel(n, f)
	}
	return o.each(n, 0, f)
}

// each runs f for 0…n-1, one after the other while members answer quickly, and notes how long it took besides so much.
func (o *Fan) each(n int, besides time.Duration, f func(i int) error) error {
	if !o.Quick() {
		return Parallel(n, func(i int) error {
			began := env.Tick()
			err := f(i)
			o.answered(int64(env.Tick()-began) - int64(besides))
			return err
		})
	}
	began := env.Tick()
	var first error
	for i := range n {
		if err := f(i); err != nil && first == nil {
			first = err
		}
	}
	o.answered(int64(env.Tick()-began)/int64(max(n, 1)) - int64(besides))
	return first
}

// OnOne does n operations on one member, within Out: one after the other while members answer quickly, and otherwise several on their way at a time,
// so that a member far away does not cost a round trip for each.
func (o *Fan) OnOne(n int, f func(i int) error) error {
	if n > 1 && !o.Quick() {
		return Parallel(n, f)
	}
	for i := range n {
		if err := f(i); err != nil {
			return err
		}
	}
	return nil
}

// answered notes in how many nanoseconds a member answered; less than none is none. A very long time counts for less than it was: often the processor was elsewhere.
func (o *Fan) answered(took int64) {
	old := o.answer.Load()
	o.answer.Store(old + (min(max(0, took), 6*int64(quickMember))-old)/8)
}

// Reads is Parallel for one read from each of n members, each of so many bytes: while they come at the speed of memory one after the
// other, which keeps what was read where the processor finds it.
func (o *Fan) Reads(n, bytes int, f func(i int) error) error {
	return o.each(n, time.Duration(bytes)*time.Second/slowMemory, f)
}

// Work is Parallel for work that reads with Reads: while memory is all that limits it, on as many goroutines as there are processors.
func (o *Fan) Work(n int, f func(i int) error) error {
	if o.Quick() {
		return parallel(env.Processors(), n, f)
	}
	return Parallel(n, f)
}

// slowMemory is how much can be copied from the system's memory in a second at least, bytes.
const slowMemory = 2 << 30

// Quick says whether members answer small operations so soon that waking another goroutine costs more than it saves.
func (o *Fan) Quick() bool { return env.Either(time.Duration(o.answer.Load()) <= quickMember) }

// depth is how much one operation does at the same time.
const depth = 16
