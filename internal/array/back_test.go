package array_test

import (
	"fmt"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// A conversion that is cancelled goes back while clients go on, over a crash, and can be made again then.
func TestAConversionGoesBack(t *testing.T) {
	type change struct {
		from, to      layout.Level
		n, more, free int
		strip         int64
		groups        int
		larger        bool
	}
	var all []change
	for i, c := range conversions {
		if i%2 > 0 && !c.largerOnes {
			continue // a few of each way are enough
		}
		all = append(all, change{c.from, c.to, c.n, c.more, 0, c.strip, c.groups, c.largerOnes})
	}
	all = append(all, []change{
		{from: layout.Parity1, to: layout.Parity1, n: 5, free: 1},
		{from: layout.Parity2, to: layout.Parity1, n: 5, free: 1},
		{from: layout.Parity1, to: layout.Mirror, n: 4, free: 2},
		{from: layout.Mirrors, to: layout.Mirrors, n: 6, free: 2},
		{from: layout.Parities1, to: layout.Parity2, n: 6, free: 2},
		{from: layout.Striped, to: layout.Striped, n: 3, free: 1},
	}...)
	var turned atomic.Int32
	t.Cleanup(func() { require.Greater(t, turned.Load(), int32(3), "crashed on the way back") })
	for i, c := range all {
		t.Run(fmt.Sprintf("%s of %d to %s of %d", c.from, c.n, c.to, c.n+c.more-c.free), func(t *testing.T) {
			f := newFolder(t)
			size := int64(16 * mib)
			a := create(t, c.from, 16<<10, f.disks(c.n, size))
			if c.larger {
				size = 40 * mib
				f.enlarge(size)
				a.Measure()
				_, err := a.Grow()
				require.NoError(t, err)
			}
			var sizes []int64
			for range c.more {
				sizes = append(sizes, size)
			}
			to := task.Target{Level: c.to, Strip: c.strip << 10, Groups: c.groups, Free: c.free}
			plan, err := a.PlanConversion(to, sizes)
			require.NoError(t, err)
			require.True(t, plan.Back)
			keep := a.Capacity()
			if plan.Cut > 0 {
				keep = plan.Cut
			}
			want := noise(1, int(keep))
			require.NoError(t, a.WriteAt(want, 0))
			clear(want[:3*mib])
			require.NoError(t, a.Zero(0, 3*mib))
			require.NoError(t, a.Flush())
			before := a.Layout()
			load := newTenants(t, a, 2, mib)
			a.SetPace(task.Pace{Rate: 64 * mib})
			require.NoError(t, a.Convert(to, f.disks(c.more, size)))
			if i%3 > 0 { // else at once
				require.Eventually(t, func() bool { turn := a.Record().Turn; return turn == nil || turn.Moved > keep/3 }, 20*time.Second, time.Millisecond)
			}
			switch err := a.Steer(state.TaskConvert, -1, state.TaskCancelled); {
			case a.Record().Turn == nil:
				load.leave()
				require.NoError(t, a.Close())
				t.Skip("it was done already")
			default:
				require.NoError(t, err)
			}
			require.Error(t, a.Steer(state.TaskConvert, -1, state.TaskCancelled), "it goes back already")
			load.after(mib)
			back := func() bool { turn := a.Record().Turn; return turn == nil || turn.Way == record.Back }
			if i%2 > 0 {
				require.Eventually(t, back, 20*time.Second, time.Millisecond)
			}
			load.leaveIn(want)
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			if turn := a.Record().Turn; turn != nil && turn.Way == record.Back {
				turned.Add(1)
			}
			a.SetPace(task.Pace{Mode: task.Full})
			load = newTenantsOn(t, a, load)
			require.Eventually(t, func() bool { return a.Record().Turn == nil }, 60*time.Second, time.Millisecond)
			a.WaitTasks()
			load.after(mib)
			load.leaveIn(want)
			require.Len(t, a.MemberStates(), c.n)
			require.Equal(t, before.Level, a.Layout().Level)
			require.Equal(t, before.Shape, a.Layout().Shape)
			require.Equal(t, keep, a.Capacity())
			require.Equal(t, state.Healthy, a.Condition())
			sound(t, a, want)
			require.NoError(t, a.Flush())
			for i := range c.more {
				d, err := disk.Open(filepath.Join(f.path, fmt.Sprint("disk", c.n+i+1)))
				require.NoError(t, err)
				r, _ := disk.ReadRecord(d)
				require.Nil(t, r, "it is blank")
				require.NoError(t, d.Close())
			}
			if i%2 > 0 {
				a.Abandon()
				a, err = f.reopen(array.Config{})
				require.NoError(t, err)
				sound(t, a, want)
			}
			require.NoError(t, a.Convert(to, f.disks(c.more, size)), "once more, to the end")
			require.Eventually(t, func() bool { return a.Record().Turn == nil }, 60*time.Second, time.Millisecond)
			a.WaitTasks()
			require.Equal(t, c.to, a.Layout().Level)
			sound(t, a, append(want, make([]byte, a.Capacity()-keep)...))
			require.NoError(t, a.Close())
		})
	}
}

// What could not go back is known beforehand, and refused.
func TestAConversionThatCannotGoBackSaysSo(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 16<<10, f.disks(4, 16*mib))
	want := noise(1, int(a.Capacity()))
	require.NoError(t, a.WriteAt(want, 0))
	to := task.Target{Level: layout.Striped, Strip: 128 << 10}
	plan, err := a.PlanConversion(to, nil)
	require.NoError(t, err)
	require.False(t, plan.Back)
	a.SetPace(task.Pace{Rate: 16 * mib})
	require.NoError(t, a.Convert(to, nil))
	require.ErrorContains(t, a.Steer(state.TaskConvert, -1, state.TaskCancelled), "cannot go back, only be paused")
	a.SetPace(task.Pace{Mode: task.Full})
	a.WaitTasks()
	require.Nil(t, a.Record().Turn)
	require.ErrorIs(t, a.Steer(state.TaskConvert, -1, state.TaskCancelled), task.ErrNone)
	sound(t, a, append(want, make([]byte, a.Capacity()-int64(len(want)))...))
	require.NoError(t, a.Close())
}
