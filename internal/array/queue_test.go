package array

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/internal/disk"
)

// A client that rewrites and flushes the same stripes for ever leaves an entry in the queues at every turn.
func TestTheQueuesOfTheCacheAreBounded(t *testing.T) {
	var disks []disk.Disk
	for i := range 3 {
		path := filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 24<<20))
		d, err := disk.Open(path)
		require.NoError(t, err, i)
		disks = append(disks, d)
	}
	a, err := Create(Plan{Name: "tides", Level: layout.Parity1, Strip: layout.MinStrip, Disks: disks}, Config{})
	require.NoError(t, err)
	defer a.Abandon()
	buf := make([]byte, a.Layout().Shape.StripeSize())
	for i := range 3 * leastQueue {
		require.NoError(t, a.WriteAt(buf, int64(i%3)*int64(len(buf))))
		require.NoError(t, a.Flush())
		a.cache.queue.Lock()
		n := len(a.cache.queue.order) + len(a.cache.queue.full)
		a.cache.queue.Unlock()
		require.LessOrEqual(t, n, 2*leastQueue)
	}
}
