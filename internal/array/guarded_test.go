package array_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
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

// A set grows by further disks, and by larger ones in the place of its own, while it is used. Nothing that it has moves.
func TestAGuardedSetGrows(t *testing.T) {
	f := newFolder(t)
	a := guarded(t, f, 2, []int64{24, 40, 40, 44})
	want := noise(1, int(a.Capacity()))
	clear(want[:4*mib]) // of the tenants
	require.NoError(t, a.WriteAt(want, 0))
	load := newTenants(t, a, 2, 2*mib)
	load.after(mib)
	require.NoError(t, a.AddVolumes([]string{"maps", "charts"}, []disk.Disk{f.disk(32 * mib), f.disk(24 * mib)}))
	load.after(mib)
	load.leaveIn(want)
	require.Len(t, a.Layout().Volumes(), 4)
	require.Equal(t, []string{"book0", "book1", "", "", "maps", "charts"}, volumesOf(a))
	for _, v := range a.Layout().Volumes()[2:] {
		require.EqualValues(t, len(want), v.Start, "what is there keeps its place")
		want = append(want, make([]byte, v.Size)...)
	}
	sound(t, a, want)
	last := a.Layout().Volumes()[3]
	copy(want[last.Start:], noise(2, int(last.Size)))
	require.NoError(t, a.WriteAt(want[last.Start:], last.Start))
	for _, lost := range [][]int{{0, 5}, {1, 2}, {4, 3}} {
		for _, slot := range lost {
			require.NoError(t, a.Fail(slot, false))
		}
		requireReads(t, a, want, 0)
		for _, slot := range lost {
			size := map[int]int64{0: 64, 2: 90, 3: 80}[slot] // larger ones
			require.NoError(t, a.Replace(slot, f.disk(max(size, 40)*mib)))
		}
		a.WaitTasks()
		sound(t, a, want)
	}
	_, err := a.PlanVolumes([]string{"more"}, []int64{100 * mib})
	require.ErrorIs(t, err, layout.ErrParitySmall)
	for name, says := range map[string]string{"maps": "two volumes", "parity": "cannot be called", "a/b": "allowed"} {
		_, err = a.PlanVolumes([]string{name}, []int64{24 * mib})
		require.ErrorContains(t, err, says)
	}

	// The volumes of the disks that are larger now become longer, and so does parity.
	a.Measure()
	require.Positive(t, a.Gain().Bytes)
	before := volumes(a)
	_, err = a.Grow()
	require.NoError(t, err)
	a.Measure()
	require.Zero(t, a.Gain().Bytes)
	now := volumes(a)
	require.Greater(t, now[0].Size, int64(50*mib))
	grown := make([]byte, a.Capacity())
	for slot, v := range before {
		require.GreaterOrEqual(t, now[slot].Size, v.Size)
		copy(grown[now[slot].Start:], want[v.Start:v.Start+v.Size])
	}
	want = grown
	sound(t, a, want)
	end := int(now[0].Start + now[0].Size)
	copy(want[end-4*mib:end], noise(3, 4*mib))
	require.NoError(t, a.WriteAt(want[end-4*mib:end], int64(end-4*mib)))

	// A further volume on a disk as large as the smallest with parity: it reaches as far as that.
	require.NoError(t, a.AddVolumes([]string{"last"}, []disk.Disk{f.disk(80 * mib)}))
	want = append(want, noise(4, int(a.Capacity())-len(want))...)
	require.NoError(t, a.WriteAt(want[len(grown):], int64(len(grown))))
	require.NoError(t, a.Flush())
	a.Abandon()
	a, err = f.reopen(array.Config{})
	require.NoError(t, err)
	sound(t, a, want)
	require.NoError(t, a.Fail(0, false))
	require.NoError(t, a.Fail(6, false))
	requireReads(t, a, want, 0)
	require.NoError(t, a.Close())
}

// Further parity disks are filled while the set is used, over a crash, and then it survives as many losses more.
func TestParityIsAddedToAGuardedSet(t *testing.T) {
	f := newFolder(t)
	a := guarded(t, f, 1, []int64{24, 40, 32, 44})
	want := noise(1, int(a.Capacity()))
	clear(want[:4*mib]) // of the tenants
	require.NoError(t, a.WriteAt(want, 0))
	load := newTenants(t, a, 2, 2*mib)
	load.after(mib)
	a.SetPace(task.Pace{Rate: 16 * mib})
	require.ErrorIs(t, a.PlanParity(30*mib), layout.ErrParitySmall)
	require.NoError(t, a.AddParity(f.disk(40*mib)))
	margin, _ := a.Margin()
	require.Equal(t, 1, margin, "it counts when it is filled")
	load.after(mib)
	load.leaveIn(want)
	require.NoError(t, a.Flush())
	a.Abandon()
	a, err := f.reopen(array.Config{})
	require.NoError(t, err)
	a.WaitTasks()
	margin, _ = a.Margin()
	require.Equal(t, 2, margin)
	require.NoError(t, a.AddVolumes([]string{"maps"}, []disk.Disk{f.disk(40 * mib)}))
	want = append(want, noise(2, int(a.Capacity())-len(want))...)
	require.NoError(t, a.WriteAt(want[len(want)-20*mib:], int64(len(want)-20*mib)))
	clear(want[int(a.Layout().Volumes()[3].Start) : len(want)-20*mib])
	require.NoError(t, a.AddParity(f.disk(48*mib)))
	a.WaitTasks()
	sound(t, a, want)
	for _, slot := range []int{0, 3, 5} {
		require.NoError(t, a.Fail(slot, false))
	}
	requireReads(t, a, want, 0)
	require.ErrorContains(t, a.PlanParity(48*mib), "three parity disks")
	require.NoError(t, a.Close())
}

// volumes are those of a set, by slot.
func volumes(a *array.Array) map[int]layout.Volume {
	out := map[int]layout.Volume{}
	for _, v := range a.Layout().Volumes() {
		out[v.Slot] = v
	}
	return out
}

func volumesOf(a *array.Array) (names []string) {
	for _, e := range a.Record().Roster {
		names = append(names, e.Volume)
	}
	return names
}
