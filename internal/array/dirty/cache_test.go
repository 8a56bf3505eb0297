package dirty

import (
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
		_, l := c.Take(st.ID())
		require.Equal(t, st.Data*st.StripBlocks(), l.count)
		c.Done(st.ID())
		require.LessOrEqual(t, len(c.queue.order)+len(c.queue.full), 2*leastQueue)
	}
	require.Zero(t, c.used.Load())
}
