package array_test

import (
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

// meter is a disk that counts what is read of its data.
type meter struct {
	disk.Disk
	from int64
	read atomic.Int64
	gate chan struct{} // closed when reads of its data may go on; nil: they may
}

// reads counts, and waits until it may.
func (d *meter) reads(n int, off int64) {
	if off < d.from {
		return
	}
	d.read.Add(int64(n))
	if d.gate != nil {
		<-d.gate
	}
}

func (d *meter) ReadAt(p []byte, off int64) error {
	d.reads(len(p), off)
	return d.Disk.ReadAt(p, off)
}

func (d *meter) ReadVec(b [][]byte, off int64) error {
	d.reads(disk.Length(b), off)
	return d.Disk.ReadVec(b, off)
}

// lackingTwo is an array of level 6 in a folder that lost slots 1 and 3, and meters on its disks.
func lackingTwo(t *testing.T, want []byte) (*array.Array, *folder, []*meter) {
	f := newFolder(t)
	meters, disks := make([]*meter, 6), make([]disk.Disk, 6)
	for i := range meters {
		meters[i] = &meter{Disk: f.disk(64 * mib), from: 1 << 62}
		disks[i] = meters[i]
	}
	a, err := array.Create(array.Plan{Name: "tides", Level: layout.Parity2, Strip: layout.MinStrip, Disks: disks}, array.Config{Cache: 4 * mib})
	require.NoError(t, err)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	for _, m := range meters {
		m.from = placeOf(t, m.Disk).DataStart
	}
	require.NoError(t, a.Fail(1, false))
	require.NoError(t, a.Fail(3, false))
	return a, f, meters
}

// rebuildingTwo is lackingTwo with new disks in the place of those that were lost, rebuilt no faster than rate until the caller changes that.
func rebuildingTwo(t *testing.T, rate int64) (*array.Array, []*meter, []byte) {
	want := noise(7, 96*mib)
	a, f, meters := lackingTwo(t, want)
	a.SetPace(task.Pace{Rate: rate})
	require.NoError(t, a.Replace(1, f.disk(64*mib)))
	require.NoError(t, a.Replace(3, f.disk(64*mib)))
	return a, meters, want
}

func requireHealthyAgain(t *testing.T, a *array.Array, want []byte) {
	t.Helper()
	a.WaitTasks()
	for slot, m := range a.MemberStates() {
		require.Equal(t, record.Active, m.Condition, "slot %d", slot)
	}
	requireReads(t, a, want, 0)
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches, "%+v", result)
	require.NoError(t, a.Close())
}

// Two members that are rebuilt at once cost the others one reading, not two.
func TestTwoRebuildsReadTheOthersOnce(t *testing.T) {
	a, meters, want := rebuildingTwo(t, 64<<10) // until both have begun
	a.SetPace(task.Pace{Mode: task.Full})
	a.WaitTasks()
	for slot, m := range meters {
		if slot == 1 || slot == 3 {
			continue
		}
		share := int64(len(want) / 4)
		require.Greater(t, m.read.Load(), share*9/10, "slot %d", slot)
		require.Less(t, m.read.Load(), share*3/2, "slot %d was read more than once", slot)
	}
	requireHealthyAgain(t, a, want)
}

// One that is carried, or carries, may be paused at any time: the other goes on by itself.
func TestARebuildThatIsCarriedGoesOnByItself(t *testing.T) {
	for _, slot := range []int{1, 3} {
		a, _, want := rebuildingTwo(t, 8<<20)
		done := func(slot int) int64 {
			for _, s := range a.TaskStates() {
				if s.Kind == state.TaskRebuild && s.Slot == slot {
					return s.Done
				}
			}
			return 0
		}
		both := func() bool { return done(1) > 0 && done(1) == done(3) }
		require.Eventually(t, both, 20*time.Second, time.Millisecond, "they go on together")
		require.NoError(t, a.Steer(state.TaskRebuild, slot, state.TaskPaused))
		other, at := 4-slot, done(slot)+4*mib
		require.Eventually(t, func() bool { return done(other) > at }, 20*time.Second, time.Millisecond, "the other goes on")
		require.NoError(t, a.Steer(state.TaskRebuild, slot, state.TaskRunning))
		a.SetPace(task.Pace{Mode: task.Full})
		requireHealthyAgain(t, a, want)
	}
}

// A piece that failed is not passed over, when nothing behind it was ever written and the cursor jumps: what it should have filled would
// count as filled.
func TestARebuildDoesNotJumpOverWhatFailed(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
	const rows = 2 * record.SumsPerPage / (layout.MinStrip / array.Block) // they fill two pages of sums: what is behind was never written
	want := noise(5, rows*3*layout.MinStrip)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(1, false))
	const fails = rows - 32 // the last piece
	from := placeOf(t, traps[2].Disk).DataStart + fails*layout.MinStrip
	traps[2].set(func(op string, off int64) error {
		if op == "read" && off >= from {
			time.Sleep(100 * time.Millisecond) // as long as it takes until the rebuild has begun all its pieces
			return disk.ErrHung
		}
		return nil
	})
	require.NoError(t, a.Replace(1, f.disk(48*mib)))
	a.WaitTasks()
	m := a.MemberStates()[1]
	require.Equal(t, record.Rebuilding, m.Condition)
	require.LessOrEqual(t, m.Cursor, int64(fails), "the cursor is behind what failed")
	traps[2].set(nil)
	require.Eventually(t, func() bool {
		a.GoOn()
		a.WaitTasks()
		return a.MemberStates()[1].Condition == record.Active
	}, 20*time.Second, 10*time.Millisecond)
	require.NoError(t, a.Fail(3, false)) // now the new disk is needed
	requireReads(t, a, want, 0)
	require.NoError(t, a.Close())
}
