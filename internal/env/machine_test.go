//go:build machine

package env

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// orders plays three goroutines that share a lock and a channel, and tells in which order things happened.
func orders(t *testing.T, seed uint64) (out string) {
	require.NoError(t, Run(seed, 10_000, func() {
		var mu Mutex
		var all Group
		ch := make(chan int, 1)
		for i := range 3 {
			all.Go(func() {
				for range 3 {
					mu.Lock()
					out += fmt.Sprint(i)
					Yield()
					mu.Unlock()
				}
				Send(ch, i)
			})
		}
		for range 3 {
			v, _ := Recv(ch)
			out += fmt.Sprintf("<%d", v)
		}
		all.Wait()
	}))
	return out
}

func TestASeedDecidesTheOrder(t *testing.T) {
	different := map[string]bool{}
	for seed := range uint64(50) {
		first := orders(t, seed)
		require.Equal(t, first, orders(t, seed), "seed %d", seed)
		different[first] = true
	}
	require.Greater(t, len(different), 25, "other seeds go other ways")
}

func TestALostUpdateIsFound(t *testing.T) {
	found := 0
	for seed := range uint64(100) {
		n := 0
		require.NoError(t, Run(seed, 1000, func() {
			var both Group
			for range 2 {
				both.Go(func() {
					was := n
					Yield()
					n = was + 1
				})
			}
			both.Wait()
		}))
		if n == 1 {
			found++
		}
	}
	require.NotZero(t, found)
	require.Less(t, found, 100)
}

func TestRunsThatGoWrongEnd(t *testing.T) {
	err := Run(1, 1000, func() {
		var a, b Mutex
		var both Group
		order := func(first, second *Mutex) {
			first.Lock()
			Wait(time.Second)
			second.Lock()
		}
		both.Go(func() { order(&a, &b) })
		both.Go(func() { order(&b, &a) })
		both.Wait()
	})
	require.ErrorContains(t, err, "deadlock: 3 goroutines")
	require.ErrorContains(t, err, "TestRunsThatGoWrongEnd", "it says where they are")

	err = Run(1, 1000, func() {
		for {
			Wait(time.Millisecond)
		}
	})
	require.ErrorContains(t, err, "more than 1000 steps")

	err = Run(1, 1000, func() {
		var one Group
		one.Go(func() { panic("mistake") })
		one.Wait()
	})
	require.ErrorContains(t, err, "panic: mistake")
}

// Hours of waiting take no time, the shortest wait ends first, and what is left over is let go.
func TestTimeIsTheMachines(t *testing.T) {
	var woken []int
	require.NoError(t, Run(7, 1000, func() {
		for i := range 3 {
			Go(func() {
				Wait(time.Duration(3-i) * time.Hour)
				woken = append(woken, 3-i)
			})
		}
		Go(func() { Recv(make(chan int)) })
		before := Now()
		Wait(5 * time.Hour)
		require.GreaterOrEqual(t, Since(before), 5*time.Hour)
	}))
	require.Equal(t, []int{1, 2, 3}, woken)
}

func TestWritersAreNotKeptOutByReaders(t *testing.T) {
	require.NoError(t, Run(3, 10_000, func() {
		var mu RWMutex
		done := false
		var all Group
		for range 3 {
			all.Go(func() {
				for !done {
					mu.RLock()
					Wait(time.Second)
					mu.RUnlock()
				}
			})
		}
		all.Go(func() {
			mu.Lock()
			done = true
			mu.Unlock()
		})
		all.Wait()
	}))
}

func TestLocksAreTakenInTheOrderOfTheirRanks(t *testing.T) {
	run := func(f func(stripe *RWMutex, roster *Mutex, leaf *Mutex)) error {
		return Run(1, 1000, func() {
			var stripe RWMutex
			var roster, leaf Mutex
			Ranked(&stripe, RankStripe)
			Ranked(&roster, RankRoster)
			f(&stripe, &roster, &leaf)
		})
	}
	require.NoError(t, run(func(stripe *RWMutex, roster, leaf *Mutex) {
		pass := func(take, give func()) {
			take()
			defer give()
		}
		stripe.Lock()
		pass(leaf.Lock, leaf.Unlock)
		pass(roster.Lock, roster.Unlock)
		var others Group
		others.Go(stripe.Unlock) // by another than took it
		others.Wait()
		pass(roster.Lock, roster.Unlock)
		pass(stripe.RLock, stripe.RUnlock)
	}))
	for _, take := range []func(*RWMutex){(*RWMutex).Lock, (*RWMutex).RLock} {
		for rank, held := range map[Rank]func(roster, leaf *Mutex) *Mutex{
			RankRoster: func(roster, _ *Mutex) *Mutex { return roster },
			0:          func(_, leaf *Mutex) *Mutex { return leaf },
		} {
			require.ErrorContains(t, run(func(stripe *RWMutex, roster, leaf *Mutex) {
				held(roster, leaf).Lock()
				take(stripe)
			}), fmt.Sprintf("takes a lock of rank %d and holds one of rank %d\n", RankStripe, rank))
		}
	}
}
