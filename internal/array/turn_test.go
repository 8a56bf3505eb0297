package array_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
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

// enlarge makes all disks of a folder larger.
func (f *folder) enlarge(size int64) {
	paths, err := filepath.Glob(filepath.Join(f.path, "disk*"))
	require.NoError(f.t, err)
	for _, path := range paths {
		require.NoError(f.t, os.Truncate(path, size))
	}
}

// sound checks that an array agrees with itself, and holds some bytes from 0 on.
func sound(t *testing.T, a *array.Array, want []byte) {
	t.Helper()
	got := make([]byte, len(want))
	require.NoError(t, a.ReadAt(got, 0))
	require.True(t, string(got) == string(want), "something else is read")
	found, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, found.Mismatches, "%v", found.Places)
}

func TestAnArrayGrowsOverLargerDisks(t *testing.T) {
	for _, level := range []layout.Level{layout.Parity1, layout.Mirrors, layout.Concat, layout.Striped} {
		t.Run(string(level), func(t *testing.T) {
			f := newFolder(t)
			a := create(t, level, 16<<10, f.disks(4, 24*mib))
			old := noise(1, int(a.Capacity()))
			require.NoError(t, a.WriteAt(old, 0))
			require.NoError(t, a.Flush())
			_, err := a.Grow()
			require.ErrorContains(t, err, "no member has room")
			before := a.Capacity()
			f.enlarge(60 * mib)
			a.Measure()
			copy(old, make([]byte, 4*mib))
			require.NoError(t, a.Zero(0, 4*mib))
			load := newTenants(t, a, 2, 2*mib)
			load.after(mib)
			g, err := a.Grow()
			require.NoError(t, err)
			require.Equal(t, before+g.Bytes, a.Capacity())
			require.Greater(t, a.Capacity(), 2*before)
			news := noise(2, int(a.Capacity()-before))
			got := make([]byte, len(news))
			require.NoError(t, a.ReadAt(got, before))
			require.True(t, string(got) == string(make([]byte, len(news))), "the new room reads as zeros")
			require.NoError(t, a.WriteAt(news, before))
			require.NoError(t, a.Flush())
			load.leave()
			want := append(old, news...)
			for i := range load.wants {
				copy(want[int64(i)*load.size:], load.wants[i])
			}
			sound(t, a, want)
			require.NoError(t, a.Flush())
			a.Abandon()
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			sound(t, a, want)
			f.enlarge(100 * mib)
			a.Measure()
			_, err = a.Grow()
			require.NoError(t, err, "and once more")
			more := a.Capacity()
			if lay := a.Layout(); lay.Redundant() {
				small := f.disk(60 * mib)
				require.Error(t, a.Replace(1, small), "it has no room for the third segment")
				require.NoError(t, small.Close())
				require.NoError(t, a.Replace(1, f.disk(100*mib)))
				a.WaitTasks()
				require.Equal(t, state.Healthy, a.Condition())
			}
			sound(t, a, want)
			require.NoError(t, a.Close())
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			require.Equal(t, more, a.Capacity())
			sound(t, a, want)
			require.NoError(t, a.Close())
		})
	}
}

// conversions are changes of layout, with how many disks there are and how many are added.
var conversions = []struct {
	from, to   layout.Level
	n, more    int
	strip      int64 // of the new layout, KiB
	groups     int
	fewBlocks  bool // not everything was written
	largerOnes bool // the array has grown before
}{
	{from: layout.Parity1, to: layout.Parity1, n: 4, more: 2, strip: 16},
	{from: layout.Parity1, to: layout.Parity2, n: 3, more: 1, strip: 16},
	{from: layout.Parity1, to: layout.Parity2, n: 3, more: 2, strip: 64, largerOnes: true},
	{from: layout.Mirror, to: layout.Parity1, n: 2, more: 1, strip: 16, fewBlocks: true},
	{from: layout.Mirror, to: layout.Mirrors, n: 2, more: 2, strip: 16},
	{from: layout.Mirror, to: layout.Mirror, n: 2, more: 2, strip: 32},
	{from: layout.Mirrors, to: layout.Parity2, n: 4, strip: 16},
	{from: layout.Parity2, to: layout.Mirrors, n: 4, strip: 16},
	{from: layout.Parity2, to: layout.Parity1, n: 5, strip: 16, fewBlocks: true},
	{from: layout.Striped, to: layout.Parity1, n: 3, more: 1, strip: 16},
	{from: layout.Parity1, to: layout.Parities1, n: 4, more: 4, strip: 16, groups: 2, fewBlocks: true},
	{from: layout.Mirrors, to: layout.Mirrors, n: 4, more: 2, strip: 16},
	{from: layout.Striped, to: layout.Mirror, n: 1, more: 1, strip: 64, largerOnes: true},
	{from: layout.Parity3, to: layout.Parity2, n: 6, strip: 16},
}

func TestAnArrayIsConvertedWhileItIsUsed(t *testing.T) {
	for i, c := range conversions {
		t.Run(fmt.Sprintf("%s of %d to %s of %d", c.from, c.n, c.to, c.n+c.more), func(t *testing.T) {
			f := newFolder(t)
			r := rand.New(rand.NewPCG(uint64(i), 3))
			a := create(t, c.from, 16<<10, f.disks(c.n, 16*mib))
			size := int64(16 * mib)
			if c.largerOnes {
				f.enlarge(40 * mib)
				a.Measure()
				size = 40 * mib
				_, err := a.Grow()
				require.NoError(t, err)
			}
			before := a.Capacity()
			want := make([]byte, before)
			if c.fewBlocks {
				for range 6 {
					off := r.Int64N(before - mib)
					p := noise(r.Uint64(), 1+r.IntN(mib))
					copy(want[off:], p)
					require.NoError(t, a.WriteAt(p, off))
				}
			} else {
				copy(want, noise(1, len(want)))
				require.NoError(t, a.WriteAt(want, 0))
			}
			theirs := before / 8 / 4096 * 4096
			clear(want[:3*theirs])
			require.NoError(t, a.Zero(0, 3*theirs))
			require.NoError(t, a.Flush())
			var more []disk.Disk
			for range c.more {
				more = append(more, f.disk(size))
			}
			load := newTenants(t, a, 3, theirs)
			a.SetPace(task.Pace{Mode: task.Full})
			load.after(mib)
			require.NoError(t, a.Convert(task.Target{Level: c.to, Strip: c.strip << 10, Groups: c.groups}, more))
			load.after(mib)
			a.WaitTasks()
			ended := a.TaskStates()
			require.Equal(t, state.TaskDone, ended[len(ended)-1].State, "%v", ended[len(ended)-1].Err)
			load.after(mib)
			load.leaveIn(want)
			require.GreaterOrEqual(t, a.Capacity(), before)
			require.Equal(t, string(c.to), string(a.Layout().Level))
			sound(t, a, want)
			rest := make([]byte, a.Capacity()-before)
			require.NoError(t, a.ReadAt(rest, before))
			require.True(t, string(rest) == string(make([]byte, len(rest))), "the new room reads as zeros")
			copy(rest, noise(9, len(rest)))
			require.NoError(t, a.WriteAt(rest, before))
			require.NoError(t, a.Flush())
			want = append(want, rest...)
			sound(t, a, want)
			require.NoError(t, a.Close())
			a, err := f.reopen(array.Config{})
			require.NoError(t, err)
			sound(t, a, want)
			if a.Layout().Redundant() {
				require.NoError(t, a.Replace(0, f.disk(size)))
				a.WaitTasks()
				require.Equal(t, state.Healthy, a.Condition())
				sound(t, a, want)
			}
			require.NoError(t, a.Close())
		})
	}
}

// A conversion that is cut short goes on where it was, also when a member is lost, and waits while one is away.
func TestAConversionSurvivesStopsAndLosses(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 16<<10, f.disks(4, 24*mib))
	a.SetPace(task.Pace{Rate: 8 * mib})
	before := a.Capacity()
	want := noise(1, int(before))
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Convert(task.Target{Level: layout.Parity2}, f.disks(2, 24*mib)))
	boundary := func() int64 {
		if turn := a.Record().Turn; turn != nil {
			return turn.Moved
		}
		return before
	}
	beyond := func(at int64) {
		t.Helper()
		require.Eventually(t, func() bool { return boundary() > at }, 20*time.Second, 5*time.Millisecond)
	}
	for range 4 {
		at := boundary()
		beyond(at)
		a.Abandon()
		var err error
		a, err = f.reopen(array.Config{})
		require.NoError(t, err)
		require.Greater(t, boundary(), at)
		a.SetPace(task.Pace{Rate: 8 * mib})
		got := make([]byte, len(want))
		require.NoError(t, a.ReadAt(got, 0))
		require.True(t, string(got) == string(want))
	}
	require.NotNil(t, a.Record().Turn, "it is not done yet")
	require.NoError(t, a.Fail(4, false))
	time.Sleep(200 * time.Millisecond) // what was moved at that moment is moved
	at := boundary()
	p := noise(7, 3*mib)
	copy(want[at-mib:], p)
	require.NoError(t, a.WriteAt(p, at-mib), "across the boundary")
	require.NoError(t, a.Flush())
	time.Sleep(300 * time.Millisecond)
	require.Equal(t, at, boundary(), "it waits")
	a.SetPace(task.Pace{Mode: task.Normal})
	require.NoError(t, a.Replace(4, f.disk(24*mib)))
	a.WaitTasks()
	require.Nil(t, a.Record().Turn)
	require.Equal(t, layout.Parity2, a.Layout().Level)
	require.Equal(t, state.Healthy, a.Condition())
	sound(t, a, want)
	require.Equal(t, record.Active, a.MemberStates()[5].Condition)
	require.NoError(t, a.Close())
}

func TestConversionsThatCannotBeMadeAreRefused(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 16<<10, f.disks(4, 24*mib))
	require.ErrorIs(t, a.Convert(task.Target{Level: layout.Parity2}, nil), layout.ErrSmaller)
	require.ErrorIs(t, a.Convert(task.Target{Level: layout.Concat}, nil), layout.ErrBackwards)
	require.ErrorContains(t, a.Convert(task.Target{Level: layout.Parity1}, f.disks(1, 12*mib)), "needs at least")
	require.NoError(t, a.Close())
}

// The new members come into the ring of witnesses: whichever member is set back, whenever a conversion has begun, is noticed.
func TestConvertedMembersKeepWitness(t *testing.T) {
	for _, more := range []int{1, 2} {
		for _, ended := range []bool{false, true} {
			t.Run(fmt.Sprintf("%d more, ended %v", more, ended), func(t *testing.T) {
				f := newFolder(t)
				a := create(t, layout.Mirror, 16<<10, f.disks(3, 24*mib))
				want := noise(1, mib)
				require.NoError(t, a.WriteAt(want, 0))
				require.NoError(t, a.Close())
				path := filepath.Join(f.path, "disk3")
				was := contentsOf(t, f.open2(path))
				a, err := f.reopen(array.Config{})
				require.NoError(t, err)
				want = noise(2, mib)
				require.NoError(t, a.WriteAt(want, 0))
				require.NoError(t, a.Flush())
				require.NoError(t, a.Convert(task.Target{Level: layout.Mirror}, f.disks(more, 24*mib)))
				if ended {
					a.WaitTasks()
					require.NoError(t, a.Close())
					was = contentsOf(t, f.open2(path))
					a, err = f.reopen(array.Config{})
					require.NoError(t, err)
					want = noise(3, mib)
					require.NoError(t, a.WriteAt(want, 0))
					require.NoError(t, a.Close())
				} else {
					a.Abandon()
				}
				place := placeOf(t, f.open2(path))
				overwrite(t, path, place.JournalStart, disk.TailRecord(place.Size), was)
				events := &told{}
				a, err = f.reopen(array.Config{Event: events.add})
				require.NoError(t, err)
				requireReads(t, a, want, 0)
				a.WaitTasks()
				found, err := a.CheckNow(true)
				require.NoError(t, err)
				require.True(t, events.has("member-set-back"))
				require.Zero(t, found.Unrepairable)
				sound(t, a, want)
				require.NoError(t, a.Close())
			})
		}
	}
}

// What the journal of one member alone says of how far a conversion is, is not believed, and stops nothing.
func TestAForgedBoundaryMovesNothing(t *testing.T) {
	for name, boundary := range map[string]int64{"the end": 48 * mib, "further": 0, "no boundary": 48*mib - 1, "out of the array": 1 << 60} {
		t.Run(name, func(t *testing.T) {
			f := newFolder(t)
			a := create(t, layout.Mirror, 16<<10, f.disks(2, 60*mib))
			want := noise(1, 48*mib)
			require.NoError(t, a.WriteAt(want, 0))
			require.NoError(t, a.Flush())
			a.SetPace(task.Pace{Rate: 16 * mib})
			require.NoError(t, a.Convert(task.Target{Level: layout.Parity1}, f.disks(1, 60*mib)))
			require.Eventually(t, func() bool { return a.Record().Turn.Moved > 8*mib }, 20*time.Second, 5*time.Millisecond)
			a.SetPace(task.Pace{Rate: 1})
			time.Sleep(200 * time.Millisecond)
			copy(want, noise(2, mib))
			require.NoError(t, a.WriteAt(want[:mib], 0))
			require.NoError(t, a.Flush())
			at := a.Record().Turn.Moved
			a.Abandon()
			d, err := disk.Open(filepath.Join(f.path, "disk2"))
			require.NoError(t, err)
			own, err := disk.ReadRecord(d)
			require.NoError(t, err)
			ring := make([]byte, own.Place.JournalSize)
			require.NoError(t, d.ReadAt(ring, own.Place.JournalStart))
			last, where := &record.JournalEntry{}, 0
			for i := record.JournalHeads * record.Block; i < len(ring); i += record.Block {
				n, _, err := record.EntrySize(ring[i:], own.Tag())
				if err == nil && i+n*record.Block <= len(ring) {
					if e, err := record.DecodeEntry(ring[i:i+n*record.Block], own.Tag(), &own.Place); err == nil && e.Batch > last.Batch {
						last, where = e, i
					}
				}
			}
			require.Positive(t, last.Batch)
			if last.Moved = boundary; boundary == 0 {
				last.Moved = at + 2*mib
			}
			require.NoError(t, d.WriteAt(last.EncodeHeader(own.Tag(), nil), own.Place.JournalStart+int64(where)))
			require.NoError(t, d.Close())
			events := &told{}
			a, err = f.reopen(array.Config{Event: events.add})
			require.NoError(t, err)
			require.True(t, events.has("journal-damaged"))
			requireReads(t, a, want, 0)
			a.WaitTasks()
			sound(t, a, want)
			require.NoError(t, a.Close())
		})
	}
}
