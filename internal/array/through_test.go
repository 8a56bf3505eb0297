package array_test

import (
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

// insist has a client flush after each of its writes until they go through.
func insist(t *testing.T, c *array.Client) {
	for range 10 {
		require.NoError(t, c.WriteAt(noise(1, 4096), 0))
		require.NoError(t, c.Flush())
	}
}

// Where a client flushes after each write, its writes are committed before they are answered. Its flush then has to do only with what others wrote.
func TestWritesOfAClientThatFlushesEachGoThrough(t *testing.T) {
	dir, err := os.MkdirTemp("/dev/shm", "nidalo")
	if err != nil {
		t.Skip("there is no memory to keep files in")
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	a, traps, _ := trapped(t, &folder{t: t, path: dir}, layout.Parity1, 3, array.Config{})
	var syncs atomic.Int64
	for _, d := range traps {
		d.set(func(op string, _ int64) error {
			if op == "sync" {
				syncs.Add(1)
			}
			return nil
		})
	}
	synced := func(f func() error) bool {
		before := syncs.Load()
		require.NoError(t, f())
		return syncs.Load() > before
	}
	mine, other := a.NewClient(), a.NewClient()
	write := func(c *array.Client, off int64) func() error {
		return func() error { return c.WriteAt(noise(uint64(off), 4096), off) }
	}
	require.False(t, synced(write(mine, 4096)), "nothing is known of it yet")
	require.Eventually(t, func() bool { // a member may seem slow for a moment
		insist(t, mine)
		return synced(write(mine, 8192))
	}, 10*time.Second, time.Millisecond)
	require.False(t, synced(mine.Flush))
	require.False(t, synced(write(other, 12288)))
	require.True(t, synced(mine.Flush), "a flush is for what others wrote, too")
	for range 70 { // two writes to a flush, until that is known
		require.NoError(t, write(mine, 4096)())
		require.NoError(t, write(mine, 8192)())
		require.NoError(t, mine.Flush())
	}
	require.False(t, synced(write(mine, 16384)))
	require.True(t, synced(mine.Flush))
	require.NoError(t, a.Close())
}

// A write that was to go through and could not be committed is dirty as any other: the flush tries again, and says what is wrong as long as something is.
func TestAWriteThatCannotGoThroughIsDirty(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity1, 3, array.Config{})
	c := a.NewClient()
	insist(t, c)
	for _, d := range traps {
		d.set(func(op string, _ int64) error {
			if op == "reserve" {
				return disk.ErrFull
			}
			return nil
		})
	}
	want := noise(2, 4096)
	require.NoError(t, c.WriteAt(want, mib))
	require.Error(t, c.Flush())
	require.NoError(t, a.NewClient().Flush(), "only the client that wrote it learns of it")
	for _, d := range traps {
		d.set(nil)
	}
	require.NoError(t, c.Flush())
	a.Abandon()
	b, err := f.reopen(array.Config{})
	require.NoError(t, err)
	requireReads(t, b, want, mib)
	require.NoError(t, b.Close())
}
