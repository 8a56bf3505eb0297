package array_test

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

func TestAnArrayGetsSmallerWhereNothingIsWritten(t *testing.T) {
	for _, level := range []layout.Level{layout.Parity1, layout.Mirrors, layout.Concat, layout.Striped} {
		t.Run(string(level), func(t *testing.T) {
			f := newFolder(t)
			a := create(t, level, 16<<10, f.disks(4, 24*mib))
			before := a.Capacity()
			want := noise(1, int(before)*3/4)
			require.NoError(t, a.WriteAt(want, 0))
			require.NoError(t, a.Flush())
			half := before / 2
			_, err := a.Shrink(half)
			var used task.UsedError
			require.ErrorAs(t, err, &used)
			require.GreaterOrEqual(t, used.At, half)
			require.Equal(t, used.End, used.At, "all beyond it is written, from its first byte on")
			require.Equal(t, before, a.Capacity())
			_, err = a.Shrink(before + 1)
			require.ErrorContains(t, err, "the array has")
			want = want[:half]
			require.NoError(t, a.Zero(half, before-half))
			clear(want[:2*mib])
			require.NoError(t, a.Zero(0, 2*mib))
			load := newTenants(t, a, 2, mib)
			load.after(mib)
			after, err := a.Shrink(half - 5000)
			require.NoError(t, err)
			require.GreaterOrEqual(t, after, half-5000)
			require.Less(t, after, half+mib)
			require.Equal(t, after, a.Capacity())
			load.after(mib)
			load.leaveIn(want)
			require.ErrorIs(t, a.WriteAt([]byte{1}, after), layout.ErrRange)
			require.ErrorIs(t, a.ReadAt(make([]byte, 1), after), layout.ErrRange)
			if after < half {
				want = want[:after]
			}
			sound(t, a, want)
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			require.Equal(t, after, a.Capacity())
			sound(t, a, want)
			a.Measure()
			require.Positive(t, a.Gain().Bytes)
			_, err = a.Grow()
			require.NoError(t, err)
			a.WaitTasks()
			require.Equal(t, before, a.Capacity())
			rest := make([]byte, before-int64(len(want)))
			sound(t, a, append(want, rest...))
			require.NoError(t, a.Close())
		})
	}
}

// What was given up is taken up again in the groups that there are, not in those that would be chosen anew.
func TestAnArrayGrowsBackInTheGroupsItHas(t *testing.T) {
	f := newFolder(t)
	a, err := array.Create(array.Plan{Name: "groups", Level: layout.Mirrors, Strip: 16 << 10, Groups: 2, Disks: f.disks(6, 24*mib)}, array.Config{})
	require.NoError(t, err)
	before, margin := a.Capacity(), 2
	want := noise(1, mib)
	require.NoError(t, a.WriteAt(want, 0))
	_, err = a.Shrink(before / 2)
	require.NoError(t, err)
	_, err = a.Grow()
	require.NoError(t, err)
	a.WaitTasks()
	require.Equal(t, before, a.Capacity())
	now, _ := a.Margin()
	require.Equal(t, margin, now)
	sound(t, a, want)
	require.NoError(t, a.Close())
}

// A refusal comes before anything is lost.
func TestShrinkingWaitsForWhatIsUnderWay(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 16<<10, f.disks(4, 24*mib))
	require.NoError(t, a.MayShrink())
	require.NoError(t, a.Fail(1, false))
	require.ErrorContains(t, a.MayShrink(), "it has to wait for")
	_, err := a.Shrink(mib)
	require.ErrorContains(t, err, "it has to wait for")
	require.NoError(t, a.Close())
}

func TestMembersAreLetGo(t *testing.T) {
	for _, c := range []struct {
		from, to layout.Level
		n, free  int
		down     bool
	}{
		{layout.Parity1, layout.Parity1, 5, 1, true},
		{layout.Parity1, layout.Parity1, 6, 3, true},
		{layout.Parity2, layout.Parity1, 5, 1, false},
		{layout.Parity1, layout.Mirror, 4, 2, true},
		{layout.Mirror, layout.Mirror, 3, 1, false},
		{layout.Mirrors, layout.Mirrors, 6, 2, true},
		{layout.Parities1, layout.Parity2, 6, 2, true},
		{layout.Striped, layout.Striped, 3, 1, true},
		{layout.Concat, layout.Concat, 3, 1, false},
	} {
		t.Run(fmt.Sprintf("%s of %d to %s without %d", c.from, c.n, c.to, c.free), func(t *testing.T) {
			f := newFolder(t)
			a := create(t, c.from, 16<<10, f.disks(c.n, 16*mib))
			to := task.Target{Level: c.to, Free: c.free}
			plan, err := a.PlanConversion(to, nil)
			require.NoError(t, err)
			keep := plan.After
			if plan.Cut > 0 {
				keep = plan.Cut
			}
			full := noise(1, int(a.Capacity()))
			require.NoError(t, a.WriteAt(full, 0))
			if plan.Cut > 0 {
				require.ErrorAs(t, a.Convert(to, nil), &task.UsedError{})
			}
			require.NoError(t, a.Zero(keep, a.Capacity()-keep))
			want := full[:keep]
			clear(want[:2*mib])
			require.NoError(t, a.Zero(0, 2*mib))
			require.NoError(t, a.Flush())
			load := newTenants(t, a, 2, mib)
			load.after(mib)
			a.SetPace(task.Pace{Rate: 64 * mib})
			require.NoError(t, a.Convert(to, nil))
			turn, err := a.Record().Turns()
			require.NoError(t, err)
			require.Equal(t, c.down, turn.Down)
			if c.from != layout.Concat {
				require.Eventually(t, func() bool { turn := a.Record().Turn; return turn == nil || turn.Moved > keep/3 }, 20*time.Second, time.Millisecond)
			}
			load.leaveIn(want)
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			a.SetPace(task.Pace{Mode: task.Full})
			load = newTenantsOn(t, a, load)
			a.WaitTasks()
			load.after(mib)
			load.leaveIn(want)
			require.Len(t, a.MemberStates(), c.n-c.free)
			require.Equal(t, plan.After, a.Capacity())
			require.Equal(t, c.to, a.Layout().Level)
			require.Equal(t, state.Healthy, a.Condition())
			want = append(want, make([]byte, plan.After-keep)...)
			sound(t, a, want)
			require.NoError(t, a.Flush())
			for i := c.n - c.free; i < c.n; i++ {
				d, err := disk.Open(filepath.Join(f.path, fmt.Sprint("disk", i+1)))
				require.NoError(t, err)
				r, _ := disk.ReadRecord(d)
				require.Nil(t, r, "it is blank")
				require.NoError(t, d.Close())
			}
			a.Abandon()
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			sound(t, a, want)
			if a.Layout().Redundant() {
				require.NoError(t, a.Replace(0, f.disk(16*mib)))
				a.WaitTasks()
				sound(t, a, want)
			}
			require.NoError(t, a.Close())
		})
	}
}
