package lab

import (
	"bytes"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/disk"
)

const mib = 1 << 20

func newLab(t *testing.T) *Lab {
	l := At(t.TempDir())
	require.NoError(t, l.New(10, 16*mib))
	return l
}

func TestBaysAreNumberedAndFull(t *testing.T) {
	l := newLab(t)
	bays, err := l.Bays()
	require.NoError(t, err)
	require.Equal(t, []string{"A1", "A2", "A3", "A4", "A5", "A6", "A7", "A8", "B1", "B2"}, bays)
	serials := map[string]bool{}
	for _, b := range bays {
		d, err := l.Disk(b)
		require.NoError(t, err)
		require.False(t, serials[d.Serial], "%s twice", d.Serial)
		serials[d.Serial] = true
		require.EqualValues(t, 16*mib, d.Size)
	}
	require.ErrorContains(t, l.New(1, 16*mib), "already")
	_, err = l.Disk("../A1")
	require.ErrorContains(t, err, "no bay")
}

func TestAPulledDiskIsGoneForWhoeverHasItOpenAndCanComeBack(t *testing.T) {
	l := newLab(t)
	d, err := l.Open("A3")
	require.NoError(t, err)
	block := bytes.Repeat([]byte("tide"), 1024)
	require.NoError(t, d.WriteAt(block, 4096))
	_, err = l.Open("A3")
	require.ErrorIs(t, err, disk.ErrInUse)
	pulled, err := l.Pull("A3")
	require.NoError(t, err)
	require.ErrorIs(t, d.ReadAt(make([]byte, 10), 0), disk.ErrGone)
	require.ErrorIs(t, d.WriteAt(block, 0), disk.ErrGone)
	require.ErrorIs(t, d.Sync(), disk.ErrGone)
	_, err = l.Pull("A3")
	require.ErrorIs(t, err, ErrEmpty)
	_, err = l.Insert("B1", 16*mib, pulled.Serial)
	require.ErrorContains(t, err, "pull it first")
	_, err = l.Insert("A3", 0, "nobody")
	require.ErrorContains(t, err, pulled.Serial, "the drawer is listed")
	_, err = l.Insert("A3", 0, pulled.Serial)
	require.NoError(t, err)
	require.ErrorIs(t, d.ReadAt(make([]byte, 10), 0), disk.ErrGone, "the old handle stays dead")
	require.NoError(t, d.Close())
	d, err = l.Open("A3")
	require.NoError(t, err)
	defer d.Close()
	got := make([]byte, len(block))
	require.NoError(t, d.ReadAt(got, 4096))
	require.Equal(t, block, got)
}

func TestFaultsAreFeltByAnOpenDiskAtOnce(t *testing.T) {
	l := newLab(t)
	d, err := l.Open("A1")
	require.NoError(t, err)
	defer d.Close()
	p := make([]byte, 4096)
	require.NoError(t, d.WriteAt(bytes.Repeat([]byte{7}, 64<<10), 8*mib))

	require.NoError(t, l.Unreadable("A1", []Range{{8 * mib, 8192}}))
	require.Error(t, d.ReadAt(p, 8*mib+4096))
	require.NoError(t, d.ReadAt(p, 8*mib+8192))
	require.NoError(t, d.WriteAt(p, 8*mib+4096), "writing reallocates")
	require.NoError(t, d.ReadAt(p, 8*mib+4096))
	require.Error(t, d.ReadAt(p, 8*mib), "only what was written")

	require.NoError(t, l.Corrupt("A1", []Range{{8*mib + 8192, 100}}, 1))
	require.NoError(t, d.ReadAt(p, 8*mib+8192), "silently")
	require.NotEqual(t, byte(7), p[0])
	require.Equal(t, byte(7), p[100])

	require.NoError(t, l.SetFaults("A1", func(f *Faults) { f.FailWrites = true }))
	require.Error(t, d.WriteAt(p, 0))
	require.NoError(t, l.SetFaults("A1", func(f *Faults) { *f = Faults{Latency: 30 * time.Millisecond} }))
	began := time.Now()
	require.NoError(t, d.WriteAt(p, 0))
	require.GreaterOrEqual(t, time.Since(began), 30*time.Millisecond)
	require.Error(t, l.Unreadable("A1", []Range{{16 * mib, 1}}), "beyond the disk")

	ranges, err := l.WrittenRanges("A1", 50, 3)
	require.NoError(t, err)
	for _, r := range ranges {
		require.GreaterOrEqual(t, r.Offset, int64(8*mib))
		require.Less(t, r.Offset, int64(8*mib+64<<10), "damage hits something")
	}
}

func TestWipeMakesADiskBlank(t *testing.T) {
	l := newLab(t)
	d, err := l.Open("A2")
	require.NoError(t, err)
	defer d.Close()
	c, err := disk.Look(d)
	require.NoError(t, err)
	require.True(t, c.Blank())
	require.NoError(t, d.WriteAt([]byte("EFI PART"), 512))
	require.NoError(t, d.WriteAt([]byte("end"), 16*mib-3))
	c, err = disk.Look(d)
	require.NoError(t, err)
	require.Equal(t, []string{"a GPT partition table"}, c.Findings)
	require.NoError(t, disk.Wipe(d))
	c, err = disk.Look(d)
	require.NoError(t, err)
	require.True(t, c.Blank())
	_, err = disk.Open(filepath.Join(t.TempDir(), "nothing"))
	require.ErrorContains(t, err, "no such file")
}
