package array_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// Parity disks and emptied data disks are taken out of a set while it is used. Their slots stay empty, also over a crash, and others come behind them.
func TestMembersAreTakenOutOfAGuardedSet(t *testing.T) {
	f := newFolder(t)
	a := guarded(t, f, 2, []int64{24, 40, 32, 44, 44})
	want := noise(1, int(a.Capacity()))
	clear(want[:4*mib]) // of the tenants
	require.NoError(t, a.WriteAt(want, 0))
	load := newTenants(t, a, 2, 2*mib)
	load.after(mib)
	require.ErrorContains(t, a.TakeOut(3), "has to leave first")
	require.NoError(t, a.TakeOut(4))
	require.ErrorContains(t, a.TakeOut(3), "the only parity disk")
	require.ErrorIs(t, a.TakeOut(1), task.ErrWritten)
	v := a.Layout().Volumes()
	require.NoError(t, a.Zero(v[1].Start, v[1].Size))
	require.NoError(t, a.TakeOut(1))
	load.after(mib)
	load.leaveIn(want)
	rest := append(append([]byte{}, want[:v[1].Start]...), want[v[2].Start:]...)
	sound(t, a, rest)
	require.Equal(t, state.Healthy, a.Condition())
	margin, _ := a.Margin()
	require.Equal(t, 1, margin)
	require.NoError(t, a.Flush())
	a.Abandon()
	a, err := f.reopen(array.Config{})
	require.NoError(t, err)
	require.Equal(t, state.Healthy, a.Condition())
	require.Equal(t, []record.Condition{record.Active, record.Vacant, record.Active, record.Active, record.Vacant}, conditions(a))
	sound(t, a, rest)
	require.ErrorContains(t, a.Replace(1, f.disk(40*mib)), "vacant")
	require.NoError(t, a.AddVolumes([]string{"maps"}, []disk.Disk{f.disk(40 * mib)}))
	require.NoError(t, a.AddParity(f.disk(48*mib)))
	a.WaitTasks()
	last := a.Layout().Volumes()[2]
	rest = append(rest, noise(3, int(last.Size))...)
	require.NoError(t, a.WriteAt(rest[last.Start:], last.Start))
	for _, lost := range [][]int{{0, 5}, {2, 3}, {6, 0}} {
		for _, slot := range lost {
			require.NoError(t, a.Fail(slot, false))
		}
		requireReads(t, a, rest, 0)
		for _, slot := range lost {
			require.NoError(t, a.Replace(slot, f.disk(48*mib)))
		}
		a.WaitTasks()
		sound(t, a, rest)
	}
	require.NoError(t, a.Close())
}

func conditions(a *array.Array) (out []record.Condition) {
	for _, m := range a.MemberStates() {
		out = append(out, m.Condition)
	}
	return out
}
