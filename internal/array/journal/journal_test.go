package journal_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/rig"
)

func TestAStartFindsWhatWasCommittedOnEveryMember(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 3)
	r.Put(r.Change(7, 1, 0, 2), true)
	r.Put(r.Change(8, 2, 1, 2), false)
	r.Leave()

	r = rig.New(t, dir, 3)
	scans, first, err := r.Read()
	require.NoError(t, err)
	numbers := journal.BatchNumbers(scans, first)
	require.Equal(t, []uint64{1, 2}, numbers)
	for n, slots := range map[uint64][]int{1: {0, 2}, 2: {1, 2}} {
		b := r.GatherBatch(scans, n)
		require.True(t, b.Usable)
		require.Empty(t, b.Lacking)
		require.Len(t, b.Entries, 2)
		for _, slot := range slots {
			e := b.Entries[r.Slots.At(slot)]
			require.NotNil(t, e, "batch %d, slot %d", n, slot)
			require.EqualValues(t, 6+n, e.Runs[0].Start)
		}
		require.Equal(t, []journal.Touched{{St: r.Columns(b, r.Slots.All())[0].St, Col: int(6+n) % 4, N: 1}}, r.Columns(b, r.Slots.All()))
	}
}

func TestABatchOfWhichAMemberHasNoPartIsKnownToLackIt(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 3)
	r.Put(r.Change(0, 1, 0, 1, 2), false)
	m := r.Slots.At(1)
	require.NoError(t, m.Disk.WriteAt(make([]byte, record.Block), m.Ring.Start), "its entry rots")
	r.Leave()

	r = rig.New(t, dir, 3)
	scans, first, err := r.Read()
	require.NoError(t, err)
	b := r.GatherBatch(scans, first)
	require.True(t, b.Usable, "redundancy has the rest")
	require.Equal(t, []*member.Member{r.Slots.At(1)}, b.Lacking)
}

func TestACheckpointLeavesNothingForAStart(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 3)
	c := r.Change(5, 9, 0, 1, 2)
	r.Put(c, true)
	require.NoError(t, r.Checkpoint())
	dirty, _ := r.Tables.DirtyPages()
	require.Zero(t, dirty)
	r.Leave()

	r = rig.New(t, dir, 3)
	scans, first, err := r.Read()
	require.NoError(t, err)
	require.EqualValues(t, 2, first)
	require.Empty(t, journal.BatchNumbers(scans, first))
	for _, m := range r.Slots.All() {
		var sum [3]uint32
		require.NoError(t, r.Tables.Sums(m, 4, sum[:]))
		require.Equal(t, [3]uint32{record.SumNever, c.Writes[0].Sums[0], record.SumNever}, sum)
		buf := make([]byte, record.Block)
		require.NoError(t, m.ReadData([][]byte{buf}, 5))
		require.Equal(t, c.Writes[0].Buf, buf)
	}
}

func TestAFullRingIsEmptiedForWhoeverNeedsRoom(t *testing.T) {
	r := rig.New(t, t.TempDir(), 3)
	blocks := r.Slots.At(0).Ring.Blocks
	for i := range blocks {
		r.Put(r.Change(i%64, byte(i), 0, 1, 2), true)
	}
	require.Positive(t, r.Counts.Checkpoints.Load())
	require.LessOrEqual(t, r.Slots.At(0).Ring.Live, blocks)
	require.Greater(t, r.Counts.Bytes.Load(), 3*blocks*record.Block)
	require.ErrorContains(t, r.Reserve(journal.Reservation{{M: r.Slots.At(0), Blocks: blocks}}), "too few for a change")
}

func TestWhoLeavesIsWrittenDownBeforeABatchIsWithoutIt(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 3)
	gone := r.Slots.At(2)
	r.Roster.Fail(gone, record.Missing, errors.New("it was pulled"))
	require.False(t, gone.Live())
	r.Put(r.Change(0, 1, 0, 1, 2), true)
	for _, slot := range []int{0, 1} {
		rec := r.RecordOn(r.Slots.At(slot).Disk)
		require.EqualValues(t, 2, rec.Epoch)
		require.Equal(t, record.Missing, rec.Roster[2].Condition)
		require.Equal(t, record.State{Epoch: 1, ID: rec.Before}, rec.Roster[2].Left)
		require.True(t, rec.Changes.Has(0), "what it lacks is marked")
	}
	r.Roster.Fail(r.Slots.At(1), record.Failed, errors.New("it failed as well"))
	require.ErrorContains(t, r.Frozen, "too many members are lost")
	require.ErrorIs(t, r.Commit(r.Change(4, 1, 0)), r.Frozen)
}

func TestOldTablesAreNoticedByTheirWitness(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 3)
	r.Put(r.Change(0, 1, 0, 1, 2), true)
	require.NoError(t, r.Checkpoint())
	m := r.Slots.At(1)
	before := make([]byte, record.Block)
	require.NoError(t, m.Disk.ReadAt(before, m.Place().SumStart))
	r.Put(r.Change(0, 2, 0, 1, 2), true)
	require.NoError(t, r.Checkpoint())
	require.NoError(t, m.Disk.WriteAt(before, m.Place().SumStart), "its table is set back")
	r.Leave()

	r = rig.New(t, dir, 3)
	var sum [1]uint32
	require.NoError(t, r.Tables.Sums(r.Slots.At(0), 0, sum[:]))
	require.False(t, record.Unknown(sum[0]))
	require.NoError(t, r.Tables.Sums(r.Slots.At(1), 0, sum[:]))
	require.EqualValues(t, record.SumDoubt, sum[0])
	require.Len(t, r.Events, 1)
	require.Contains(t, r.Events[0], "member-set-back")
}

// When the power goes, of two batches in flight the later may be whole on a member where not even the header of the earlier is. And a walk ends
// where it began: what it met already is not taken for damage.
func TestAWalkGoesOnBehindAnEntryThatWasCutShort(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 3)
	for n := range byte(4) {
		r.Put(r.Change(int64(n), n+1, 0, 1, 2), false)
	}
	m := r.Slots.At(1)
	require.NoError(t, m.Disk.WriteAt(make([]byte, 2*record.Block), m.Ring.Start+2*2*record.Block), "the third of four entries, of two blocks each")
	r.Leave()

	r = rig.New(t, dir, 3)
	s := journal.NewScan(r.Slots.At(1))
	s.ReadHeads(func(err error) { require.NoError(t, err) })
	s.Walk()
	require.Equal(t, []uint64{1, 2, 4}, journal.BatchNumbers([]*journal.Scan{s}, 1))
	scans, first, err := r.Read()
	require.NoError(t, err)
	require.Equal(t, []uint64{1, 2, 3, 4}, journal.BatchNumbers(scans, first))
	require.Empty(t, r.Events, "nothing is damaged")
	require.EqualValues(t, 3, journal.Sure(scans, first), "the fourth named it")
}
