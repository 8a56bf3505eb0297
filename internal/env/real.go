//go:build !machine

package env

import (
	"runtime"
	"sync"
	"time"

	"github.com/google/uuid"

	"nidalo/internal/clock"
)

// The locks are those of package sync.
type (
	Mutex   = sync.Mutex
	RWMutex = sync.RWMutex
	Once    = sync.Once
	Group   = sync.WaitGroup
	Cond    = sync.Cond
)

// Ranked states the rank of a lock; only the machine makes something of it.
func Ranked[L *Mutex | *RWMutex](L, Rank) {}

// NewCond makes a condition of a lock.
func NewCond(l *Mutex) *Cond { return sync.NewCond(l) }

// Go runs f in a goroutine of its own.
func Go(f func()) { go f() }

// Held stands for the locks of a goroutine at a moment; only the machine makes something of it.
type Held struct{}

// Holds is what the goroutine holds.
func Holds() Held { return Held{} }

// GoOn runs f in a goroutine of its own, which takes over the locks that its caller took since then.
func GoOn(since Held, f func()) { go f() }

// Yield lets others go on; only a scheduler of tests makes something of it.
func Yield() {}

// Workers is how many goroutines are worth having for work that waits for disks.
func Workers() int { return min(6, processors+1) }

// Either is b. A scheduler of tests answers as it likes: there, both ways are gone.
func Either(b bool) bool { return b }

// Processors is how many goroutines can work at the same time.
func Processors() int { return processors }

// processors is as many as Go found when the program began: more goroutines than that may run later.
var processors = runtime.GOMAXPROCS(0)

// Now is the time.
func Now() time.Time { return time.Now() }

// Since is the time that has passed.
func Since(t time.Time) time.Duration { return time.Since(t) }

// Tick is the moment, by a clock that is read in half the time and never jumps.
func Tick() clock.Moment { return clock.Now() }

// AfterFunc runs f when d has passed.
func AfterFunc(d time.Duration, f func()) { time.AfterFunc(d, f) }

// NewID draws an identity.
func NewID() uuid.UUID { return uuid.New() }

// Recv waits for a value, or for the end of the channel.
func Recv[T any](ch <-chan T) (T, bool) {
	v, ok := <-ch
	return v, ok
}

// Send waits until a value is taken.
func Send[T any](ch chan<- T, v T) { ch <- v }

// Wait waits until one of at most three channels has something or is closed, and returns which; -1 when d has passed first.
// Never means no time-out.
func Wait(d time.Duration, chs ...<-chan struct{}) int { return realWait(d, chs) }
