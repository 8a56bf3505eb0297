package member

import (
	"sync/atomic"
	"time"

	"nidalo/internal/env"
)

// Parallel runs f for 0…n-1, some at the same time, and returns the first error by index.
func Parallel(n int, f func(i int) error) error {
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
	for range min(n, depth) - 1 {
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
	timed := func(i int) error {
		began := env.Now()
		err := f(i)
		old := o.answer.Load()
		o.answer.Store(old + (int64(env.Since(began))-old)/8)
		return err
	}
	if time.Duration(o.answer.Load()) > quickMember {
		return Parallel(n, timed)
	}
	var first error
	for i := range n {
		if err := timed(i); err != nil && first == nil {
			first = err
		}
	}
	return first
}

// depth is how much one operation does at the same time.
const depth = 16
