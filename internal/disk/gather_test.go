package disk_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/disk"
)

// gathering is a real file that notes how many operations it got together, and fails when it is asked for a certain place.
type gathering struct {
	gated
	writes, reads []int
	fails         int64
}

var errPlace = errors.New("that place")

func (g *gathering) many(all []disk.Stretch, count *[]int, one func(bufs [][]byte, off int64) error) error {
	*count = append(*count, len(all))
	for _, s := range all {
		if s.Off == g.fails {
			return errPlace
		}
		if err := one(s.Bufs, s.Off); err != nil {
			return err
		}
	}
	return nil
}

func (g *gathering) WriteMany(all []disk.Stretch) error {
	return g.many(all, &g.writes, g.File.WriteVec)
}

func (g *gathering) ReadMany(l *disk.Landing, all []disk.Stretch) error {
	<-g.gate
	if !l.Arm(func() {}) {
		return disk.ErrRevoked
	}
	return g.many(all, &g.reads, g.File.ReadVec)
}

// Many operations go out together in bounded portions, and long ones alone; the first error ends it, and a read that was given up lands nowhere.
func TestManyOperationsGoOutInPortions(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, make([]byte, 16<<20), 0o600))
	f, err := disk.Open(path)
	require.NoError(t, err)
	defer f.Close()
	g := &gathering{gated: gated{f, make(chan struct{})}, fails: -1}
	patient := func() *disk.Patient {
		return disk.NewPatient(g, disk.Patience{Read: 40 * time.Millisecond, Hung: time.Hour}, func() bool { return true })
	}
	p := patient()
	require.True(t, p.Gathers())

	var all []disk.Stretch
	add := func(n, length int) {
		for range n {
			at := int64(0)
			if k := len(all); k > 0 {
				at = all[k-1].Off + int64(disk.Length(all[k-1].Bufs)) + 4096
			}
			b := bytes.Repeat([]byte{byte(len(all) + 1)}, length)
			all = append(all, disk.Stretch{Bufs: [][]byte{b[:length/2], b[length/2:]}, Off: at})
		}
	}
	add(70, 4096)
	add(1, 2<<20)
	add(5, 300<<10)
	late := []disk.Stretch{{Bufs: [][]byte{{1, 2, 3}}, Off: 0}, {Bufs: [][]byte{{4}}, Off: 4096}}
	require.ErrorIs(t, patient().ReadMany(late), disk.ErrSlow)
	close(g.gate)
	require.NoError(t, p.WriteMany(all))
	require.Equal(t, []int{64, 6, 3, 2}, g.writes)
	require.Equal(t, []byte{1, 2, 3}, late[0].Bufs[0])

	got := make([]disk.Stretch, len(all))
	for i, s := range all {
		got[i] = disk.Stretch{Bufs: [][]byte{make([]byte, disk.Length(s.Bufs))}, Off: s.Off}
	}
	require.NoError(t, p.ReadMany(got))
	require.Equal(t, []int{64, 6, 3, 2}, g.reads)
	for i, s := range all {
		require.Equal(t, bytes.Join(s.Bufs, nil), got[i].Bufs[0], "stretch %d", i)
	}

	g.fails, g.writes = all[65].Off, nil
	require.ErrorIs(t, p.WriteMany(all), errPlace)
	require.Equal(t, []int{64, 6}, g.writes)
}
