package array_test

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
)

// A client that reads on has each stripe of which something is lost computed once, however small its requests are. Strips that are there and come before
// one that is lost were read for it already, and are read again.
func TestAStripeIsComputedOnceForOneThatReadsOn(t *testing.T) {
	want := noise(9, 16*mib)
	for strips, most := range map[int]int64{1: 167, 3: 134} { // percent; without it 200 and 167
		size := strips * layout.MinStrip
		a, _, meters := lackingTwo(t, want)
		got := make([]byte, size)
		for at := 0; at+size <= len(want); at += size {
			require.NoError(t, a.ReadAt(got, int64(at)))
			require.True(t, bytes.Equal(want[at:at+size], got), "at %d by %d", at, size)
		}
		for slot, m := range meters {
			if slot != 1 && slot != 3 {
				require.LessOrEqual(t, m.read.Load()*100/int64(len(want)/4), most, "slot %d by %d", slot, size)
			}
		}
		require.NoError(t, a.Close())
	}
}

// Two reads that need the same stripe at the same time read it once: the second waits for what the first leaves.
func TestTwoReadsOfAStripeThatMeetReadItOnce(t *testing.T) {
	want := noise(11, mib)
	a, _, meters := lackingTwo(t, want)
	gate := make(chan struct{})
	for _, m := range meters {
		m.gate = gate
	}
	got := make([]byte, 4*layout.MinStrip) // the first stripe, in which slots 1 and 3 have data
	var both sync.WaitGroup
	for _, role := range []int{1, 3} {
		both.Go(func() {
			assert.NoError(t, a.ReadAt(got[role*layout.MinStrip:][:layout.MinStrip], int64(role*layout.MinStrip)))
		})
	}
	require.Eventually(t, func() bool { return meters[0].read.Load() > 0 }, 10*time.Second, time.Millisecond)
	time.Sleep(20 * time.Millisecond) // for the second to come; later it finds what was kept
	close(gate)
	both.Wait()
	for _, role := range []int{1, 3} {
		require.True(t, bytes.Equal(want[role*layout.MinStrip:][:layout.MinStrip], got[role*layout.MinStrip:][:layout.MinStrip]), "role %d", role)
	}
	for slot, m := range meters {
		if slot != 1 && slot != 3 {
			require.EqualValues(t, layout.MinStrip, m.read.Load(), "slot %d", slot)
		}
	}
	require.NoError(t, a.Close())
}

// What was kept of a stripe is given up when it changes: readers beside a writer never see what was there before a write that was flushed when they began.
func TestWhatIsKeptOfAStripeNeverOutlivesAWrite(t *testing.T) {
	const strips, strip = 48, layout.MinStrip
	a, _, _ := lackingTwo(t, make([]byte, strips*strip))
	var flushed [strips]atomic.Uint64
	var over atomic.Bool
	var all sync.WaitGroup
	for n := range uint64(3) {
		all.Go(func() {
			r, got := rand.New(rand.NewPCG(n, 1)), make([]byte, strip)
			for !over.Load() {
				from := r.IntN(strips)
				for i := from; i < min(strips, from+8); i++ {
					least := flushed[i].Load()
					if !assert.NoError(t, a.ReadAt(got, int64(i*strip))) || !assert.GreaterOrEqual(t, binary.LittleEndian.Uint64(got), least, "strip %d", i) {
						return
					}
				}
			}
		})
	}
	r, buf := rand.New(rand.NewPCG(7, 1)), make([]byte, strip)
	for version := range uint64(1500) {
		i := r.IntN(strips)
		binary.LittleEndian.PutUint64(buf, version)
		require.NoError(t, a.WriteAt(buf, int64(i*strip)))
		require.NoError(t, a.Flush())
		flushed[i].Store(version)
	}
	over.Store(true)
	all.Wait()
	require.NoError(t, a.Close())
}
