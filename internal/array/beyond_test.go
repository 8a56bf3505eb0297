package array_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// back gives an array a disk back that it declared failed.
func (f *folder) back(a *array.Array, n string) {
	d := f.open(filepath.Join(f.path, "disk"+n))
	own, err := disk.ReadRecord(d)
	require.NoError(f.t, err)
	require.NoError(f.t, a.Return(d, own, true))
}

// again opens the array of a folder, and lets go of the disks that are no members of it now.
func (f *folder) again(set roster.Set) (*array.Array, error) {
	for _, c := range set.Stale {
		require.NoError(f.t, c.Disk.Close())
	}
	return array.Open(set, array.Config{})
}

// filled is a set of three volumes and one parity disk with something everywhere, and what that is.
func filled(t *testing.T, f *folder) (a *array.Array, v []layout.Volume, want []byte) {
	a = guarded(t, f, 1, []int64{24, 40, 32, 40})
	want = noise(1, int(a.Capacity()))
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	return a, a.Layout().Volumes(), want
}

// mended waits until nothing is under way, and holds an array that lacks nothing against what was written.
func mended(t *testing.T, a *array.Array, want []byte) {
	t.Helper()
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	sound(t, a, want)
}

// unreadable are the bytes of an array that cannot be read, and holds what can be against what was written.
func unreadable(t *testing.T, a *array.Array, want []byte, from, to int64) (lost int64) {
	t.Helper()
	got := make([]byte, array.Block)
	for at := from; at < to; at += array.Block {
		if err := a.ReadAt(got, at); err != nil {
			require.ErrorIs(t, err, array.ErrUnreadable)
			lost += array.Block
			continue
		}
		require.True(t, string(got) == string(want[at:at+array.Block]), "something else is read at %d", at)
	}
	return lost
}

// A guarded set that loses more disks than it has parity goes on with the volumes on the others, over a start, and takes the lost ones back in any order.
func TestAGuardedSetGoesOnBeyondItsParity(t *testing.T) {
	for name, order := range map[string][]string{"the last first": {"2", "1"}, "the first first": {"1", "2"}} {
		t.Run(name, func(t *testing.T) {
			f := newFolder(t)
			a, v, want := filled(t, f)
			write := func(volume int, at int64, seed uint64) error {
				at += v[volume].Start
				err := a.WriteAt(noise(seed, mib), at)
				if err == nil {
					err = a.Flush()
				}
				if err == nil {
					copy(want[at:], noise(seed, mib))
				}
				return err
			}
			require.NoError(t, a.Fail(0, false))
			require.NoError(t, write(0, 2*mib, 2), "its disk is away, and parity takes it")
			require.ErrorIs(t, a.Fail(1, false), task.ErrMargin)
			require.NoError(t, a.Fail(1, true))
			require.Equal(t, state.Partial, a.Condition())
			used := func() {
				t.Helper()
				require.Zero(t, unreadable(t, a, want, v[2].Start, v[2].Start+v[2].Size), "a volume whose disk is there is whole")
				require.EqualValues(t, v[0].Size, unreadable(t, a, want, v[0].Start, v[0].Start+v[0].Size))
				require.EqualValues(t, v[0].Size, unreadable(t, a, want, v[1].Start, v[1].Start+v[1].Size), "where only one disk is lost parity tells")
				require.NoError(t, write(2, 3*mib, 3))
				require.NoError(t, write(1, v[1].Size-4*mib, 4))
				require.ErrorIs(t, write(1, 3*mib, 5), array.ErrUnkept)
				require.ErrorIs(t, write(0, 3*mib, 6), array.ErrUnkept)
				require.ErrorIs(t, a.Zero(v[0].Start+4*mib, mib), array.ErrUnkept)
				require.NoError(t, a.Flush())
			}
			used()
			spare := f.disk(40 * mib)
			require.ErrorIs(t, a.Replace(0, spare), task.ErrPartial)
			require.NoError(t, spare.Close())
			a.Abandon()
			a, err := f.again(f.judge())
			require.NoError(t, err, "those that are there know that the others are lost")
			require.Equal(t, state.Partial, a.Condition())
			used()
			require.NoError(t, a.Close())
			a, err = f.again(f.judge())
			require.NoError(t, err)
			f.back(a, order[0])
			a.WaitTasks()
			if name == "the last first" {
				require.Equal(t, state.Exposed, a.Condition())
				sound(t, a, want)
			} else {
				lost := unreadable(t, a, want, v[0].Start, v[0].Start+v[0].Size)
				require.GreaterOrEqual(t, lost, int64(mib), "what it missed, nothing tells")
				require.LessOrEqual(t, lost, int64(2*mib))
			}
			require.NoError(t, write(2, 5*mib, 7))
			f.back(a, order[1])
			mended(t, a, want)
			require.NoError(t, a.Close())
		})
	}
}

// Parity that was lost last knows nothing of what changed without it; what came back before counts by itself.
func TestParityThatWasAwayRestoresNothingOld(t *testing.T) {
	f := newFolder(t)
	a := guarded(t, f, 1, []int64{24, 40, 32, 40})
	v := a.Layout().Volumes()
	want := noise(1, int(a.Capacity()))
	clear(want[v[0].Start+8*mib : v[0].Start+12*mib])
	clear(want[v[1].Start+8*mib : v[1].Start+12*mib])
	clear(want[v[2].Start+8*mib : v[2].Start+12*mib])
	require.NoError(t, a.WriteAt(want[:8*mib], 0))
	for _, at := range []int64{v[0].Start + 12*mib, v[1].Start, v[1].Start + 12*mib, v[2].Start, v[2].Start + 12*mib} {
		end := at + 8*mib
		if end < v[2].Start+v[2].Size {
			require.NoError(t, a.WriteAt(want[at:end], at))
		}
	}
	for at := int64(0); at < int64(len(want)); at += array.Block { // what was not written is zeros
		got := make([]byte, array.Block)
		require.NoError(t, a.ReadAt(got, at))
		copy(want[at:], got)
	}
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(3, false)) // parity
	at := v[0].Start + 8*mib             // only this disk tells that anything is there
	copy(want[at:], noise(2, mib))
	require.NoError(t, a.WriteAt(want[at:at+mib], at))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(0, true))
	f.back(a, "4")
	a.WaitTasks()
	require.Equal(t, state.Exposed, a.Condition())
	lost := unreadable(t, a, want, 0, int64(len(want)))
	require.GreaterOrEqual(t, lost, int64(mib), "it must not read as zeros")
	require.LessOrEqual(t, lost, int64(2*mib))
	f.back(a, "1")
	mended(t, a, want)
	require.NoError(t, a.Close())
}

// Members may be missing without the others having noted that they are lost. They may only be late, so the set starts without them when it is told to.
func TestAGuardedSetStartsWithoutTooManyOnlyWhenToldTo(t *testing.T) {
	f := newFolder(t)
	a, v, want := filled(t, f)
	require.NoError(t, a.Close())
	away := func(n string) func() {
		from := filepath.Join(f.path, "disk"+n)
		to := filepath.Join(f.path, "away"+n)
		move(t, from, to)
		return func() { move(t, to, from) }
	}
	back1, back2 := away("1"), away("2")
	set := f.judge()
	_, err := array.Open(set, array.Config{})
	require.ErrorIs(t, err, array.ErrFailed)
	require.Equal(t, []int{0, 1}, set.Untold())
	set.Surviving = true
	a, err = array.Open(set, array.Config{})
	require.NoError(t, err)
	require.Equal(t, state.Partial, a.Condition())
	require.Zero(t, unreadable(t, a, want, v[2].Start, v[2].Start+v[2].Size))
	copy(want[v[2].Start:], noise(2, mib))
	require.NoError(t, a.WriteAt(want[v[2].Start:v[2].Start+mib], v[2].Start))
	require.NoError(t, a.Flush())
	back1()
	back2()
	for _, n := range []string{"1", "2"} {
		f.back(a, n)
		a.WaitTasks()
	}
	mended(t, a, want)
	require.NoError(t, a.Close())
}

func move(t *testing.T, from, to string) { require.NoError(t, os.Rename(from, to)) }

// What nothing can restore is given up: its volume is empty on a blank disk, and parity is worked out anew.
func TestAVolumeThatNothingRestoresBeginsEmpty(t *testing.T) {
	for name, both := range map[string]bool{"the other comes back": false, "so does the other": true} {
		t.Run(name, func(t *testing.T) {
			f := newFolder(t)
			a, v, want := filled(t, f)
			require.NoError(t, a.Fail(0, false))
			blank := f.disk(40 * mib)
			require.ErrorIs(t, a.GiveUp(0, blank), task.ErrRestorable)
			require.NoError(t, a.Fail(1, true))
			require.ErrorContains(t, a.GiveUp(2, blank), "no volume whose disk is lost")
			require.NoError(t, a.GiveUp(0, blank))
			require.Equal(t, state.Partial, a.Condition(), "nothing tells what was on the other")
			clear(want[v[0].Start : v[0].Start+v[0].Size])
			copy(want[v[0].Start+mib:], noise(2, 2*mib))
			require.NoError(t, a.WriteAt(want[v[0].Start+mib:v[0].Start+3*mib], v[0].Start+mib))
			err := a.Receive(v[1].Start-mib, 2*mib, func([]byte) error {
				require.Fail(t, "a part is taken of what cannot be taken whole")
				return nil
			})
			require.ErrorIs(t, err, array.ErrNotTaken)
			require.Zero(t, unreadable(t, a, want, v[0].Start, v[0].Start+v[0].Size))
			require.Zero(t, unreadable(t, a, want, v[2].Start, v[2].Start+v[2].Size))
			require.EqualValues(t, v[1].Size, unreadable(t, a, want, v[1].Start, v[1].Start+v[1].Size))
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err = f.again(f.judge())
			require.NoError(t, err)
			require.Equal(t, state.Partial, a.Condition())
			if both {
				require.NoError(t, a.GiveUp(1, f.disk(40*mib)))
				clear(want[v[1].Start : v[1].Start+v[1].Size])
			} else {
				f.back(a, "2")
			}
			mended(t, a, want)
			for slot := range 4 {
				require.NoError(t, a.Fail(slot, false))
				requireReads(t, a, want, 0)
				require.NoError(t, a.Replace(slot, f.disk(40*mib)))
				a.WaitTasks()
			}
			require.NoError(t, a.Close())
		})
	}
}

// What nothing tells any more of one volume leaves the others protected, from the check that follows on, and reads as an error until it is written.
func TestWhatOneVolumeLostLeavesTheOthersProtected(t *testing.T) {
	f := newFolder(t)
	a, v, want := filled(t, f)
	require.NoError(t, a.Fail(0, false))
	copy(want[2*mib:], noise(2, mib))
	require.NoError(t, a.WriteAt(want[2*mib:3*mib], 2*mib))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(3, true), "the parity, which alone has that")
	f.back(a, "1")
	a.WaitTasks()
	require.NoError(t, a.Replace(3, f.disk(40*mib)))
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	lost := unreadable(t, a, want, v[0].Start, v[0].Start+v[0].Size)
	require.GreaterOrEqual(t, lost, int64(mib))
	for range 2 { // the second time too: they are still lost
		found, err := a.CheckNow(true)
		require.NoError(t, err)
		require.Equal(t, lost/array.Block, found.Unrepairable)
	}
	require.NoError(t, a.Close())
	a, err := f.again(f.judge())
	require.NoError(t, err)
	require.NoError(t, a.Fail(1, false))
	for _, other := range v[1:] {
		require.Zero(t, unreadable(t, a, want, other.Start, other.Start+other.Size))
	}
	require.Equal(t, lost, unreadable(t, a, want, v[0].Start, v[0].Start+v[0].Size))
	require.ErrorIs(t, a.WriteAt([]byte("part"), 2*mib+100), array.ErrUnreadable, "the other bytes of the block are not known")
	require.NoError(t, a.WriteAt(want[:4*mib], 0))
	require.NoError(t, a.Flush())
	f.back(a, "2")
	mended(t, a, want)
	require.NoError(t, a.Close())
}
