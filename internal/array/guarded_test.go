package array_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

// guarded makes a guarded set of data disks and parity disks of some sizes, in MiB.
func guarded(t *testing.T, f *folder, parity int, sizes []int64) *array.Array {
	var disks []disk.Disk
	p := array.Plan{Name: "archive", Level: layout.Guarded, Strip: 16 << 10}
	for i, size := range sizes {
		disks = append(disks, f.disk(size*mib))
		if i < len(sizes)-parity {
			p.Volumes = append(p.Volumes, fmt.Sprint("book", i))
		}
	}
	p.Disks = disks
	a, err := array.Create(p, array.Config{})
	require.NoError(t, err)
	return a
}

// What is lost of a guarded set comes from parity and the other disks, is written while it is away, and is rebuilt, volume by volume.
func TestAGuardedSetSurvivesAsManyLossesAsItHasParity(t *testing.T) {
	for _, c := range []struct {
		parity int
		sizes  []int64 // MiB, the last ones have the parity
	}{
		{1, []int64{24, 40, 32, 40}},
		{2, []int64{40, 24, 28, 40, 44}},
		{3, []int64{24, 24, 40, 36, 40, 40, 48}},
		{1, []int64{24, 40}},
		{2, []int64{24, 40, 40}},
	} {
		t.Run(fmt.Sprint(c.parity, c.sizes), func(t *testing.T) {
			f := newFolder(t)
			a := guarded(t, f, c.parity, c.sizes)
			volumes := a.Layout().Volumes()
			require.Len(t, volumes, len(c.sizes)-c.parity)
			want := noise(1, int(a.Capacity()))
			clear(want[3*mib : 5*mib])
			require.NoError(t, a.WriteAt(want[:3*mib], 0))
			require.NoError(t, a.WriteAt(want[5*mib:], 5*mib))
			require.NoError(t, a.Flush())
			sound(t, a, want)
			margin, _ := a.Margin()
			require.Equal(t, c.parity, margin)
			for first := range c.sizes {
				for i := range c.parity {
					require.NoError(t, a.Fail((first+i)%len(c.sizes), false))
				}
				margin, _ := a.Margin()
				require.Zero(t, margin)
				requireReads(t, a, want, 0)
				for i, v := range volumes { // a part, and the end of each
					at := int(v.Start) + first*mib + 4096*i
					copy(want[at:], noise(uint64(100*first+i), mib/2))
					require.NoError(t, a.WriteAt(want[at:at+mib/2], int64(at)))
					end := int(v.Start + v.Size)
					copy(want[end-mib/4:end], noise(uint64(50*first+i), mib/4))
					require.NoError(t, a.WriteAt(want[end-mib/4:end], int64(end-mib/4)))
				}
				zero := int(volumes[0].Start) + 6*mib
				clear(want[zero : zero+mib])
				require.NoError(t, a.Zero(int64(zero), mib))
				requireReads(t, a, want, 0)
				for i := range c.parity {
					slot := (first + i) % len(c.sizes)
					require.NoError(t, a.Replace(slot, f.disk(c.sizes[slot]*mib)))
				}
				a.WaitTasks()
				require.Equal(t, state.Healthy, a.Condition())
				sound(t, a, want)
			}
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err := f.reopen(array.Config{})
			require.NoError(t, err)
			sound(t, a, want)
			require.NoError(t, a.Close())
		})
	}
}

// Parity has to reach as far as the largest data disk.
func TestAGuardedSetWithParityThatIsTooSmallIsRefused(t *testing.T) {
	f := newFolder(t)
	p := array.Plan{Name: "archive", Level: layout.Guarded, Strip: 16 << 10, Volumes: []string{"books", "maps"}, Disks: []disk.Disk{f.disk(24 * mib), f.disk(40 * mib), f.disk(32 * mib)}}
	_, err := array.Create(p, array.Config{})
	require.ErrorIs(t, err, layout.ErrParitySmall)
	require.ErrorContains(t, err, "the largest data disk has")
	p.Volumes[1] = "books"
	_, err = array.Create(p, array.Config{})
	require.ErrorContains(t, err, "two volumes")
}
