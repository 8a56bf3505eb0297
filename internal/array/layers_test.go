package array_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// Disks of different sizes are used layer by layer. Each layer survives as many losses as the level.
func TestAnArrayOfMixedSizes(t *testing.T) {
	for _, c := range []struct {
		level layout.Level
		sizes []int64 // MiB
	}{
		{layout.Parity1, []int64{60, 60, 60, 24}},
		{layout.Parity1, []int64{24, 40, 60, 90, 90}},
		{layout.Parity2, []int64{90, 24, 60, 90, 60, 90}},
		{layout.Parity3, []int64{24, 24, 60, 60, 60, 60}},
		{layout.Striped, []int64{24, 60, 40}},
		{layout.Mirrors, []int64{60, 90, 24, 24, 40, 24}},
		{layout.Parities1, []int64{60, 90, 60, 24, 40, 60}},
		{layout.Parities2, []int64{24, 60, 60, 60, 60, 90, 90, 90}},
	} {
		t.Run(fmt.Sprint(c.level, c.sizes), func(t *testing.T) {
			f := newFolder(t)
			var disks []disk.Disk
			for _, size := range c.sizes {
				disks = append(disks, f.disk(size*mib))
			}
			a := create(t, c.level, 16<<10, disks)
			require.True(t, a.Layout().Mixed())
			want := noise(1, int(a.Capacity()))
			require.NoError(t, a.WriteAt(want, 0))
			require.NoError(t, a.Flush())
			sound(t, a, want)
			margin, _ := a.Margin()
			parity := a.Layout().Shape.Parity
			require.Equal(t, parity, margin)
			for slot := 0; parity > 0 && slot < len(c.sizes); slot += 3 {
				copy(want[slot*mib:], noise(uint64(slot), 2*mib))
				require.NoError(t, a.Fail(slot, false))
				require.NoError(t, a.WriteAt(want[slot*mib:(slot+2)*mib], int64(slot*mib)))
				last := len(want) - mib
				copy(want[last:], noise(uint64(100+slot), mib))
				require.NoError(t, a.WriteAt(want[last:], int64(last)))
				requireReads(t, a, want, 0)
				small := f.disk(c.sizes[slot]*mib - 4*mib)
				require.Error(t, a.Replace(slot, small))
				require.NoError(t, small.Close())
				require.NoError(t, a.Replace(slot, f.disk(c.sizes[slot]*mib)))
				a.WaitTasks()
				require.Equal(t, state.Healthy, a.Condition())
				sound(t, a, want)
			}
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err := f.reopen(array.Config{})
			require.NoError(t, err)
			sound(t, a, want)
			if parity > 1 {
				require.NoError(t, a.Fail(0, false))
				require.NoError(t, a.Fail(2, false))
				requireReads(t, a, want, 0)
				require.NoError(t, a.Replace(0, f.disk(c.sizes[0]*mib)))
				require.NoError(t, a.Replace(2, f.disk(c.sizes[2]*mib)))
				a.WaitTasks()
				require.Equal(t, state.Healthy, a.Condition())
				sound(t, a, want)
			}
			require.NoError(t, a.Close())
		})
	}
}

// A new disk comes into every layer that it reaches.
func TestADiskIsAddedToLayers(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 16<<10, []disk.Disk{f.disk(60 * mib), f.disk(60 * mib), f.disk(24 * mib), f.disk(60 * mib)})
	want := noise(1, int(a.Capacity()))
	require.NoError(t, a.WriteAt(want, 0))
	small := f.disk(20 * mib)
	require.ErrorContains(t, a.Convert(task.Target{Level: layout.Parity1}, []disk.Disk{small}), "needs at least")
	require.NoError(t, small.Close())
	require.NoError(t, a.Convert(task.Target{Level: layout.Parity1}, []disk.Disk{f.disk(90 * mib)}))
	a.WaitTasks()
	var members []int
	for _, r := range a.Layout().Regions() {
		members = append(members, len(r.Slots))
	}
	require.Equal(t, []int{5, 4}, members)
	require.Greater(t, a.Capacity(), int64(len(want)))
	sound(t, a, want)
	require.NoError(t, a.Fail(4, false))
	requireReads(t, a, want, 0)
	require.NoError(t, a.Close())
}

// Groups that are used differently far are not always widened: data would be put where other data still is. The room is not offered then.
func TestRoomThatCannotBeTakenIsNotOffered(t *testing.T) {
	f := newFolder(t)
	var disks []disk.Disk
	for _, size := range []int64{60, 60, 60, 24, 60, 90} {
		disks = append(disks, f.disk(size*mib))
	}
	a := create(t, layout.Parities1, 16<<10, disks)
	require.NoError(t, a.Replace(3, f.disk(90*mib)))
	a.WaitTasks()
	require.Zero(t, a.Gain().Bytes)
	_, err := a.Grow()
	require.ErrorContains(t, err, "no member has room that the array does not use")
	require.NoError(t, a.Close())
}

// A larger disk in the place of a small one widens a layer: what lies in it is laid out anew, the rest stays where it is, and no logical address moves.
func TestALayerIsWidened(t *testing.T) {
	for _, c := range []struct {
		level  layout.Level
		sizes  []int64 // MiB
		slot   int     // whose disk is exchanged
		by     int64   // MiB
		layers []int   // how many members each has then
	}{
		{layout.Parity1, []int64{60, 60, 60, 24}, 3, 60, []int{4, 4, 3}},
		{layout.Parity1, []int64{24, 40, 60, 60}, 0, 90, []int{4, 4, 3}},
		{layout.Parity2, []int64{24, 60, 60, 90, 90, 90}, 1, 90, []int{6, 5, 4}},
		{layout.Mirrors, []int64{60, 60, 24, 60}, 2, 60, []int{4, 4, 2}},
		{layout.Parities1, []int64{60, 60, 60, 60, 24, 24}, 4, 40, []int{6, 3, 2}},
	} {
		t.Run(fmt.Sprint(c.level, c.sizes, c.by), func(t *testing.T) {
			f := newFolder(t)
			var disks []disk.Disk
			for _, size := range c.sizes {
				disks = append(disks, f.disk(size*mib))
			}
			a := create(t, c.level, 16<<10, disks)
			before := a.Capacity()
			want := noise(1, int(before))
			require.NoError(t, a.WriteAt(want, 0))
			require.NoError(t, a.Flush())
			clear(want[:4*mib])
			require.NoError(t, a.Zero(0, 4*mib))
			a.Measure()
			require.Zero(t, a.Gain().Bytes)
			require.NoError(t, a.Replace(c.slot, f.disk(c.by*mib)))
			a.WaitTasks()
			gain := a.Gain()
			require.Positive(t, gain.Bytes)
			require.True(t, gain.Moves)
			load := newTenants(t, a, 2, 2*mib)
			load.after(mib)
			a.SetPace(task.Pace{Rate: 16 * mib})
			_, err := a.Grow()
			require.NoError(t, err)
			first := a.Layout().Regions()[0]
			require.Eventually(t, func() bool {
				turn := a.Record().Turn
				return turn == nil || turn.Moved >= first.Stripes()*first.StripeSize()
			}, 10*time.Second, time.Millisecond, "the layer of all stays where it is")
			load.after(mib)
			load.leaveIn(want)
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			a.WaitTasks()
			require.Equal(t, before+gain.Bytes, a.Capacity())
			var members []int
			for _, r := range a.Layout().Regions() {
				members = append(members, len(r.Slots))
			}
			require.Equal(t, c.layers, members)
			want = append(want, make([]byte, a.Capacity()-before)...)
			sound(t, a, want)
			copy(want[before:], noise(2, int(a.Capacity()-before)))
			require.NoError(t, a.WriteAt(want[before:], before))
			require.NoError(t, a.Fail(0, false))
			requireReads(t, a, want, 0)
			require.NoError(t, a.Replace(0, f.disk(max(c.by, c.sizes[0])*mib)))
			a.WaitTasks()
			sound(t, a, want)
			require.NoError(t, a.Close())
		})
	}
}
