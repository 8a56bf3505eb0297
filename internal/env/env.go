// Package env is what the engine takes from the machine it runs on: locks, goroutines, waiting, time and identities.
//
// In the ordinary build these are Go's own (real.go). With the build tag "machine" the same engine is compiled against a
// scheduler that draws everything from a seed (machine.go): one goroutine runs at a time, and at every lock, wait and disk
// operation the seed says which one goes on. A run then repeats exactly, whatever it does at the same time. Nothing else in
// the engine knows which of the two it is.
//
// The rule for code that uses it: code that may wait does so through this package. Operations on channels that cannot wait (a
// select with a default, a close, a send into a buffer that has room) stay as they are.
package env

import "time"

// A Rank is the place of a lock in the order of locks: a goroutine that holds one takes only locks of the same or a higher rank. Ranked
// states it where the lock is made, and the machine checks it. A lock without a rank is a leaf: a goroutine that holds it takes no lock with
// a rank.
type Rank int

// The ranks, in the order in which locks are taken.
const (
	RankJoin    Rank = iota + 1 // one disk at a time becomes a member
	RankRange                   // a part of the logical space; several ascending
	RankStripe                  // a stripe; several ascending
	RankPass                    // one checkpoint at a time
	RankBarrier                 // shared from a commit to the end of its writes in place; alone while a checkpoint begins
	RankLeader                  // one batch of the journals at a time
	RankPage                    // a page of the tables; one may lead to another
	RankRoster                  // the record that all members carry
)

// Never is the time-out of a wait without one.
const Never time.Duration = -1

func realWait(d time.Duration, chs []<-chan struct{}) int {
	var c [3]<-chan struct{}
	copy(c[:], chs)
	var over <-chan time.Time
	if d >= 0 {
		t := time.NewTimer(d)
		defer t.Stop()
		over = t.C
	}
	select {
	case <-c[0]:
		return 0
	case <-c[1]:
		return 1
	case <-c[2]:
		return 2
	case <-over:
		return -1
	}
}
