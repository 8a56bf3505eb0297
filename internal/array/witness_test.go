package array_test

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
)

// overwrite puts blocks of another moment back onto a disk file that is not open.
func overwrite(t *testing.T, path string, from, to int64, was []byte) {
	d, err := disk.Open(path)
	require.NoError(t, err)
	require.NoError(t, d.WriteAt(was[from:to], from))
	require.NoError(t, d.Close())
}

func contentsOf(t *testing.T, d disk.Disk) []byte {
	out := make([]byte, d.Size())
	require.NoError(t, d.ReadAt(out, 0))
	return out
}

// What a member's journal still holds from before it was away says nothing about its blocks by now: it must not speak against
// the heads of the others when one of them is behind.
func TestLeftoversInAJournalRefuteNobody(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity2, 4, array.Config{})
	want := noise(1, mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.WriteAt(noise(2, mib), 0)) // journalled, since these are overwrites
	require.NoError(t, a.Flush())
	traps[2].set(func(string, int64) error { return disk.ErrGone })
	want = noise(3, mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	require.Equal(t, record.Missing, a.MemberStates()[2].Condition)
	back := f.open(traps[2].Identity().Path)
	own, err := disk.ReadRecord(back)
	require.NoError(t, err)
	require.NoError(t, a.Return(back, own, false))
	a.WaitTasks()
	require.Equal(t, record.Active, a.MemberStates()[2].Condition)
	a.Abandon()

	behind, err := disk.Open(traps[1].Identity().Path)
	require.NoError(t, err)
	own, err = disk.ReadRecord(behind)
	require.NoError(t, err)
	h := record.JournalHead{Sequence: 1000, Batch: 1}
	require.NoError(t, behind.WriteAt(h.Encode(own.Tag()), own.Place.JournalStart))
	require.NoError(t, behind.Close())
	events := &told{}
	a, err = f.reopen(array.Config{Event: events.add})
	require.NoError(t, err)
	require.False(t, events.has("journal-damaged"))
	requireReads(t, a, want, 0)
	require.NoError(t, a.Close())
}

// The sums of what was committed have to be entered into the tables before a journal is emptied. When a disk that the array
// cannot do without does not answer for a while just then, the array stops, and the next start enters them.
func TestATableThatCannotBeReadEmptiesNoJournal(t *testing.T) {
	f := newFolder(t)
	size := int64(4 << 30) // more pages than are kept in memory
	disks := f.disks(2, size)
	limits := member.Limits{Patience: disk.Patience{Read: 50 * time.Millisecond, Hung: time.Second}}
	cfg := array.Config{Tables: 1, Limits: limits}
	a, err := array.Create(array.Plan{Name: "tides", Level: layout.Striped, Strip: layout.MinStrip, Disks: disks}, cfg)
	require.NoError(t, err)
	require.NoError(t, a.WriteAt(noise(1, 4096), 0))
	require.NoError(t, a.Close())
	set := f.judge()
	one := &trap{Disk: set.Current[0].Disk}
	set.Current[0].Disk = one
	a, err = array.Open(set, cfg)
	require.NoError(t, err)

	place := placeOf(t, one.Disk)
	hold, late := make(chan struct{}), false
	one.set(func(op string, off int64) error {
		switch {
		case op == "write" && !late && off < place.MapStart: // into the journal
			for off := int64(64 * mib); off < 6<<30; off += 4 * mib {
				require.NoError(t, a.ReadAt(make([]byte, 4096), off)) // until the page has left the memory
			}
			late = true
		case op == "read" && late && off >= place.MapStart && off < place.DataStart:
			<-hold
		}
		return nil
	})
	want := noise(2, 4096)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush(), "it is in the journal")
	require.True(t, late)
	require.Eventually(t, func() bool { return errors.Is(a.Failure(), array.ErrFailed) && errors.Is(a.Failure(), disk.ErrHung) }, 10*time.Second, time.Millisecond)
	close(hold)
	_ = a.Close()
	require.Eventually(t, func() bool { // the disk is heard again, and let go of
		d, err := disk.Open(filepath.Join(f.path, "disk1"))
		return err == nil && d.Close() == nil
	}, 5*time.Second, time.Millisecond)
	a, reopened := f.reopen(array.Config{})
	require.NoError(t, reopened)
	requireReads(t, a, want, 0)
	require.NoError(t, a.Close())
}

// A copy takes over what its member knew of another one's pages: one that is set back right after is noticed all the same.
func TestACopyKeepsWitness(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Mirrors, 4, array.Config{})
	require.NoError(t, a.WriteAt(noise(1, mib), 0))
	require.NoError(t, a.Close())
	was := contentsOf(t, f.open2(traps[1].Identity().Path))
	a, err := f.reopen(array.Config{})
	require.NoError(t, err)
	want := noise(2, mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Close())

	// Slot 1 is set back while nothing runs. What is written first after that is in other pages, so nothing has looked at those
	// of slot 1 when the copy takes the place of slot 2, which keeps their witnesses.
	place := placeOf(t, f.open2(traps[1].Identity().Path))
	overwrite(t, traps[1].Identity().Path, place.JournalStart, disk.TailRecord(place.Size), was)
	events := &told{}
	a, err = f.reopen(array.Config{Event: events.add})
	require.NoError(t, err)
	require.NoError(t, a.Retire(2, f.disk(48*mib)))
	a.WaitTasks()
	requireReads(t, a, want, 0)
	require.True(t, events.has("member-set-back"))
	result, err := a.CheckNow(true)
	require.NoError(t, err)
	require.Zero(t, result.Unrepairable)
	require.NoError(t, a.Close())
}

// A witness that does not answer proves nothing and excuses no page: what it may know to be old is not returned meanwhile.
func TestAWitnessThatHangsExcusesNobody(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Striped, 2, array.Config{})
	require.NoError(t, a.WriteAt(noise(1, mib), 0))
	require.NoError(t, a.Close())
	was := contentsOf(t, f.open2(traps[1].Identity().Path))
	a, err := f.reopen(array.Config{})
	require.NoError(t, err)
	require.NoError(t, a.WriteAt(noise(2, mib), 0))
	require.NoError(t, a.Close())
	place := placeOf(t, f.open2(traps[1].Identity().Path))
	overwrite(t, traps[1].Identity().Path, place.JournalStart, disk.TailRecord(place.Size), was)

	set := f.judge()
	holder, hold := &trap{Disk: set.Current[0].Disk}, make(chan struct{})
	holder.set(func(op string, off int64) error {
		if op == "read" && off >= place.WitnessStart && off < place.SumStart {
			<-hold
		}
		return nil
	})
	set.Current[0].Disk = holder
	limits := member.Limits{Patience: disk.Patience{Read: 50 * time.Millisecond, Hung: 200 * time.Millisecond}}
	a, err = array.Open(set, array.Config{Limits: limits})
	if err == nil {
		require.Error(t, a.ReadAt(make([]byte, 4096), layout.MinStrip), "the second strip is the one that was set back")
		a.Abandon()
	}
	close(hold)
	a, err = f.reopen(array.Config{})
	require.NoError(t, err)
	require.ErrorIs(t, a.ReadAt(make([]byte, 4096), layout.MinStrip), array.ErrUnreadable)
	a.Abandon()
}
