package array_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
)

// TestAFlushTellsOfWhatCannotBeKept: a block whose member is away, in a column of which another block is lost, has no place;
// the whole column has one again.
func TestAFlushTellsOfWhatCannotBeKept(t *testing.T) {
	const strip = 64 << 10
	f := newFolder(t)
	a, err := array.Create(array.Plan{Name: "tides", Level: layout.Parity1, Strip: strip, Disks: f.disks(4, 24*mib)}, array.Config{})
	require.NoError(t, err)
	want := noise(1, 3*strip)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(2, false))
	path := filepath.Join(f.path, "disk2")
	own, err := disk.ReadRecord(f.open2(path))
	require.NoError(t, err)
	rot, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = rot.WriteAt(noise(2, 4096), own.Place.DataStart)
	require.NoError(t, err)
	require.NoError(t, rot.Close())

	require.NoError(t, a.WriteAt(noise(3, 4096), 2*strip))
	require.ErrorIs(t, a.Flush(), array.ErrUnkept)
	require.NoError(t, a.Flush(), "it is told once, and does not stand in the way of what comes")
	require.Eventually(t, func() bool { // once the destage is over, of which it was
		got := make([]byte, 4096)
		err := a.ReadAt(got, 2*strip)
		require.True(t, err != nil || string(got) == string(noise(3, 4096)), "it is never read as something else")
		return errors.Is(err, array.ErrUnreadable)
	}, 5*time.Second, time.Millisecond)
	want = noise(4, 3*strip)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	got := make([]byte, len(want))
	require.NoError(t, a.ReadAt(got, 0))
	require.Equal(t, want, got)
	require.NoError(t, a.Close())
}

// TestBroughtBackAsItWas: with old, data that cannot be proven is as it was when the member left, and all that others know is new.
func TestBroughtBackAsItWas(t *testing.T) {
	for _, old := range []bool{false, true} {
		f := newFolder(t)
		a, err := array.Create(array.Plan{Name: "tides", Level: layout.Mirrors, Strip: 64 << 10, Groups: 2, Disks: f.disks(4, 24*mib)}, array.Config{})
		require.NoError(t, err)
		before, after := noise(1, 2*mib), noise(2, 2*mib)
		require.NoError(t, a.WriteAt(before, 0))
		require.NoError(t, a.Flush())
		require.NoError(t, a.Fail(0, false))
		require.NoError(t, a.WriteAt(after[:mib], 0))
		require.NoError(t, a.Close())
		require.NoError(t, os.Remove(filepath.Join(f.path, "disk2")))
		set := f.judge()
		_, err = array.Open(set, array.Config{})
		require.ErrorIs(t, err, array.ErrFailed)

		found := set.Stale
		for _, c := range set.Current {
			if c.Disk != nil {
				found = append(found, c)
			}
		}
		r, _, err := array.Rescue(roster.States(found)[0], nil, old, array.Config{})
		require.NoError(t, err)
		require.NoError(t, r.Readmit(func(int64) error { return nil }))
		r.Abandon()
		a, err = f.reopen(array.Config{})
		require.NoError(t, err)
		got := make([]byte, 64<<10)
		for off := int64(0); off < 2*mib; off += int64(len(got)) {
			err, group := a.ReadAt(got, off), off/int64(len(got))%2
			switch changed := off < mib; {
			case group == 1 && changed:
				require.NoError(t, err)
				require.Equal(t, after[off:][:len(got)], got, "the other mirror was there all the while")
			case changed && old:
				require.NoError(t, err)
				require.Equal(t, before[off:][:len(got)], got)
			case changed:
				require.ErrorIs(t, err, array.ErrUnreadable)
			default:
				require.NoError(t, err)
				require.Equal(t, before[off:][:len(got)], got)
			}
		}
		require.NoError(t, a.Close())
	}
}
