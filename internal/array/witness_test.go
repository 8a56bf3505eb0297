package array_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

// overwrite puts blocks of another moment back onto a disk file that nobody has open.
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

// A copy takes over what its member knew of another one's pages: who is set back right after is noticed all the same.
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

	// Slot 1 is set back while nothing runs. What is written first after that is in other pages, so nobody has looked at those
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
