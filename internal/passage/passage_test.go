//go:build linux

package passage

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func both(t *testing.T) (*Tray, *Memory, string) {
	folder, ring := filepath.Join(t.TempDir(), "trays"), filepath.Join(t.TempDir(), "ring")
	require.NoError(t, os.WriteFile(ring, []byte("what is written"), 0o600))
	tray, err := Make(folder, "tides", "ONE")
	require.NoError(t, err)
	t.Cleanup(tray.Close)
	m, err := Open(folder, "tides", "ONE", ring)
	require.NoError(t, err)
	return tray, m, folder
}

func TestBothSidesSeeTheSame(t *testing.T) {
	tray, m, _ := both(t)
	tray.Hide()
	for _, n := range []int{1, short, short + 1, long} {
		p := tray.Take(n)
		copy(m.Into(p.At, int64(n)), bytes.Repeat([]byte{7}, n))
		require.Equal(t, bytes.Repeat([]byte{7}, n), p.Data)
		p.GiveBack()
	}
	require.Nil(t, tray.Take(long+1))
	got := make([]byte, 7)
	require.NoError(t, m.From(got, 8))
	require.Equal(t, "written", string(got))
	require.Error(t, m.From(got, 9), "beyond the end")
	require.Error(t, m.From(got, -1))
	m.Close()
}

// No two have the same place, and one that something may still be read into is not given out again.
func TestPlacesAreGivenOnce(t *testing.T) {
	tray, m, _ := both(t)
	defer m.Close()
	for _, kind := range []struct{ n, all int }{{short, shorts}, {long, longs}} {
		seen := map[int64]bool{}
		var places []*Place
		for range kind.all {
			p := tray.Take(kind.n)
			require.NotNil(t, p)
			require.False(t, seen[p.At])
			require.NotNil(t, m.Into(p.At, int64(kind.n)))
			seen[p.At] = true
			places = append(places, p)
		}
		require.Nil(t, tray.Take(kind.n))
		lost := places[0].At
		places[0].Abandon()
		require.Nil(t, tray.Take(kind.n))
		for _, p := range places[1:] {
			p.GiveBack()
		}
		for range kind.all - 1 {
			require.NotEqual(t, lost, tray.Take(kind.n).At)
		}
		require.Nil(t, tray.Take(kind.n))
	}
}

func TestAPlaceOutlivesItsTray(t *testing.T) {
	tray, m, _ := both(t)
	defer m.Close()
	p := tray.Take(4096)
	tray.Close()
	require.Nil(t, tray.Take(4096))
	p.Data[0] = 1 // would end the process if it were not there
	p.GiveBack()
	require.Nil(t, tray.all)
}

func TestNothingBeyondTheTrayIsGiven(t *testing.T) {
	_, m, _ := both(t)
	defer m.Close()
	require.NotNil(t, m.Into(size-1, 1))
	for _, bad := range [][2]int64{{-1, 1}, {0, -1}, {size, 1}, {size - 1, 2}, {1, size}, {1<<63 - 1, 1}, {0, 1<<63 - 1}} {
		require.Nil(t, m.Into(bad[0], bad[1]), "%v", bad)
	}
}

func TestOnlyATrayIsOpened(t *testing.T) {
	tray, m, folder := both(t)
	m.Close()
	ring := filepath.Join(t.TempDir(), "none")
	_, err := Open(folder, "tides", "ONE", ring)
	require.ErrorIs(t, err, os.ErrNotExist, "no ring")
	require.NoError(t, os.Truncate(tray.path, 4096))
	_, err = Open(folder, "tides", "ONE", ring)
	require.ErrorContains(t, err, "not a tray")
	require.NoError(t, os.Truncate(tray.path, size))
	require.NoError(t, os.Symlink(tray.path, path(folder, "tides", "LINK")))
	_, err = Open(folder, "tides", "LINK", ring)
	require.Error(t, err)
	require.NoError(t, os.Mkdir(path(folder, "tides", "FOLDER"), 0o700))
	_, err = Open(folder, "tides", "FOLDER", ring)
	require.Error(t, err)

	again, err := Make(folder, "tides", "NEVER")
	require.NoError(t, err)
	require.NoError(t, again.Rename("BEGAN"))
	require.NoError(t, os.WriteFile(ring, nil, 0o600))
	seen, err := Open(folder, "tides", "BEGAN", ring)
	require.NoError(t, err)
	seen.Close()
	_, err = Open(folder, "tides", "NEVER", ring)
	require.ErrorIs(t, err, os.ErrNotExist)

	next, err := Make(folder, "tides", "TWO")
	require.NoError(t, err, "what a dead keeper left is removed")
	defer next.Close()
	for _, gone := range []*Tray{tray, again} {
		_, err = os.Lstat(gone.path)
		require.ErrorIs(t, err, os.ErrNotExist)
	}
	_, err = Make(folder, "other", "TWO")
	require.NoError(t, err)
	_, err = os.Lstat(next.path)
	require.NoError(t, err, "that of another device stays")
}
