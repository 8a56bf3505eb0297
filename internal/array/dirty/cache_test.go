package dirty

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
)

type nobody struct{}

func (nobody) Fail(error) {}

// A client that rewrites and flushes the same stripes for ever leaves an entry in the queues at every turn.
func TestTheQueuesOfTheCacheAreBounded(t *testing.T) {
	lay, err := layout.New(layout.Parity1, layout.MinStrip, 0, []int64{1 << 20, 1 << 20, 1 << 20})
	require.NoError(t, err)
	c := New(1<<20, lay, func() error { return nil })
	buf := make([]byte, layout.MinStrip)
	for i := range 3 * leastQueue {
		st := lay.Stripe(int64(i % 3))
		for role := range st.Data {
			require.NoError(t, c.Put(Piece{Stripe: st, Role: role, Buf: buf, By: nobody{}}))
		}
		_, l := c.Take(st.ID(), NewCommit())
		require.Equal(t, st.Data*st.StripBlocks(), l.count)
		c.Done(st.ID())
		require.False(t, c.Holds(st.ID()))
		require.LessOrEqual(t, len(c.queue.order)+len(c.queue.full), 2*leastQueue)
	}
	require.Zero(t, c.used.Load())
}

// What is written while a stripe is destaged stands above what is being destaged, also when that comes back.
func TestLaterWritesStandAboveWhatIsDestaged(t *testing.T) {
	lay, err := layout.New(layout.Parity1, layout.MinStrip, 0, []int64{1 << 20, 1 << 20, 1 << 20})
	require.NoError(t, err)
	c := New(1<<20, lay, func() error { return nil })
	st := lay.Stripe(5)
	put := func(fill byte, first, n int) {
		buf := bytes.Repeat([]byte{fill}, n*layout.Block)
		require.NoError(t, c.Put(Piece{Stripe: st, Role: 1, From: int64(first) * layout.Block, Buf: buf, By: nobody{}}))
	}
	read := func() (got []byte, missing []Run) {
		buf := bytes.Repeat([]byte{9}, 4*layout.Block)
		missing = c.Overlay(Piece{Stripe: st, Role: 1, Buf: buf}, nil)
		for col := range 4 {
			got = append(got, buf[col*layout.Block])
		}
		return got, missing
	}
	put(1, 0, 3)
	taken, _ := c.Take(st.ID(), NewCommit())
	require.Equal(t, st, taken)
	put(2, 1, 1)
	require.NoError(t, c.Zero(nobody{}, st, layout.MinStrip+2*layout.Block, layout.Block))
	for range 2 {
		got, missing := read()
		require.Equal(t, []byte{1, 2, 0, 9}, got)
		require.Equal(t, []Run{{First: 3, N: 1}}, missing)
		if c.Blocks(st.ID()) == 2 { // only what came later
			c.PutBack(st.ID())
		}
	}
	require.Equal(t, 3, c.Blocks(st.ID()))
	known, written := c.State(st.ID(), 1, 2)
	require.True(t, known)
	require.False(t, written)
	_, _ = c.Take(st.ID(), NewCommit())
	c.Done(st.ID())
	require.Zero(t, c.used.Load())
}
