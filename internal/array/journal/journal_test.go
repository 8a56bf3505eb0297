package journal_test

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/table"
	"nidalo/internal/disk"
)

// rig is a journal with its members on files, a roster and tables, and no array.
type rig struct {
	*journal.Journal
	slots  *member.Slots
	tables *table.Tables
	roster *roster.Roster
	frozen error
	events []string
	counts journal.Counts
}

// newRig makes members on new files, or takes those that are there.
func newRig(t *testing.T, dir string, members int) *rig {
	r := &rig{slots: member.NewSlots(members)}
	disks := make([]disk.Disk, members)
	sizes := make([]int64, members)
	fresh := false
	for slot := range members {
		path := filepath.Join(dir, string(rune('a'+slot)))
		if _, err := os.Stat(path); err != nil {
			fresh = true
			require.NoError(t, os.WriteFile(path, nil, 0o600))
			require.NoError(t, os.Truncate(path, 12<<20))
		}
		d, err := disk.Open(path)
		require.NoError(t, err)
		disks[slot] = d
		place, err := record.PlaceFor(d.Size(), 0)
		require.NoError(t, err)
		sizes[slot] = place.DataSize
	}
	lay, err := layout.New(layout.Parity1, layout.MinStrip, 0, sizes)
	require.NoError(t, err)
	rec := &record.Record{}
	if fresh {
		rec = &record.Record{Array: uuid.New(), Name: "tides", Created: time.Now(), Level: layout.Parity1, Strip: layout.MinStrip, Epoch: 1, EpochID: uuid.New(), Starts: 1}
		for slot := range members {
			rec.Roster = append(rec.Roster, record.Entry{ID: uuid.New(), Condition: record.Active, Size: disks[slot].Size(), DataSize: sizes[slot],
				Since: time.Now(), Witness: record.WitnessOf(slot, members)})
		}
	} else {
		rec = r.recordOn(t, disks[0])
	}
	alive := func() error { return r.frozen }
	say := func(kind event.Kind, _, text string) { r.events = append(r.events, string(kind)+": "+text) }
	whole := func() *layout.Map { return lay }
	r.roster = roster.New(roster.Host{Slots: r.slots, Layout: whole, Now: time.Now, Alive: alive, Freeze: func(why error) { r.frozen = why }, Say: say,
		Forget: func(m *member.Member) { r.tables.Forget(m) }}, rec)
	judge := member.NewJudge(member.Limits{}, r.roster, new(atomic.Int64))
	for slot, e := range rec.Roster {
		place, err := record.PlaceFor(disks[slot].Size(), e.DataSize)
		require.NoError(t, err)
		r.slots.Put(member.New(judge, member.Known{Slot: slot, Disk: disks[slot], Identity: e.ID, Place: place, Condition: e.Condition}))
	}
	r.tables = table.New(table.Host{Slots: r.slots, Roster: r.roster, Say: say, Missed: func(*member.Member, error) {}, Wrote: new(atomic.Int64)}, 0)
	r.Journal = journal.New(journal.Host{Slots: r.slots, Tables: r.tables, Fan: &member.Fan{}, Roster: r.roster, Layout: whole, Alive: alive,
		Freeze: func(why error) { r.frozen = why }, Say: say, Covers: func() func(bool) { return func(bool) {} }, Idle: func() {},
		Emptied: func(*member.Member, int64, int64) {}, Counts: &r.counts})
	if fresh {
		r.Anew()
		for _, m := range r.slots.All() {
			require.NoError(t, r.Prepare(m))
		}
		require.NoError(t, r.roster.Update(func(*record.Record) {}))
	} else {
		require.NoError(t, r.roster.Begin())
	}
	t.Cleanup(r.leave)
	return r
}

// leave closes the files, as a crash would.
func (r *rig) leave() {
	for _, m := range r.slots.All() {
		m.Released()
	}
}

func (r *rig) recordOn(t *testing.T, d disk.Disk) *record.Record {
	buf := make([]byte, record.Size)
	require.NoError(t, d.ReadAt(buf, 0))
	rec, err := record.Decode(buf)
	require.NoError(t, err)
	return rec
}

// change is one block of some members at the same place, each filled with a byte.
func (r *rig) change(block int64, fill byte, slots ...int) *journal.Change {
	c := &journal.Change{}
	for _, slot := range slots {
		buf := slices.Repeat([]byte{fill}, record.Block)
		c.Writes = append(c.Writes, journal.Write{M: r.slots.At(slot), Kind: record.RunPayload, Block: block, N: 1, Buf: buf, Sums: record.SumsOf(buf)})
	}
	return c
}

// commit commits a change, and brings it in place when that is wanted.
func (r *rig) commit(t *testing.T, c *journal.Change, place bool) {
	need := journal.Reservation{}
	for _, w := range c.Writes {
		need[w.M] += 2
	}
	require.NoError(t, r.Reserve(need))
	defer r.Unreserve(need)
	r.Barrier.RLock()
	defer r.Barrier.RUnlock()
	require.NoError(t, r.Commit(c))
	if place {
		require.NoError(t, r.Place(c))
	}
}

func TestAStartFindsWhatWasCommittedOnEveryMember(t *testing.T) {
	dir := t.TempDir()
	r := newRig(t, dir, 3)
	r.commit(t, r.change(7, 1, 0, 2), true)
	r.commit(t, r.change(8, 2, 1, 2), false)
	r.leave()

	r = newRig(t, dir, 3)
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
			e := b.Entries[r.slots.At(slot)]
			require.NotNil(t, e, "batch %d, slot %d", n, slot)
			require.EqualValues(t, 6+n, e.Runs[0].Start)
		}
		require.Equal(t, []journal.Touched{{St: r.Columns(b, r.slots.All())[0].St, Col: int(6+n) % 4, N: 1}}, r.Columns(b, r.slots.All()))
	}
}

func TestABatchOfWhichAMemberHasNoPartIsKnownToLackIt(t *testing.T) {
	dir := t.TempDir()
	r := newRig(t, dir, 3)
	r.commit(t, r.change(0, 1, 0, 1, 2), false)
	m := r.slots.At(1)
	require.NoError(t, m.Disk.WriteAt(make([]byte, record.Block), m.Ring.Start), "its entry rots")
	r.leave()

	r = newRig(t, dir, 3)
	scans, first, err := r.Read()
	require.NoError(t, err)
	b := r.GatherBatch(scans, first)
	require.True(t, b.Usable, "redundancy has the rest")
	require.Equal(t, []*member.Member{r.slots.At(1)}, b.Lacking)
}

func TestACheckpointLeavesNothingForAStart(t *testing.T) {
	dir := t.TempDir()
	r := newRig(t, dir, 3)
	c := r.change(5, 9, 0, 1, 2)
	r.commit(t, c, true)
	require.NoError(t, r.Checkpoint())
	dirty, _ := r.tables.DirtyPages()
	require.Zero(t, dirty)
	r.leave()

	r = newRig(t, dir, 3)
	scans, first, err := r.Read()
	require.NoError(t, err)
	require.EqualValues(t, 2, first)
	require.Empty(t, journal.BatchNumbers(scans, first))
	for _, m := range r.slots.All() {
		var sum [3]uint32
		require.NoError(t, r.tables.Sums(m, 4, sum[:]))
		require.Equal(t, [3]uint32{record.SumNever, c.Writes[0].Sums[0], record.SumNever}, sum)
		buf := make([]byte, record.Block)
		require.NoError(t, m.ReadData([][]byte{buf}, 5))
		require.Equal(t, c.Writes[0].Buf, buf)
	}
}

func TestAFullRingIsEmptiedForWhoeverNeedsRoom(t *testing.T) {
	r := newRig(t, t.TempDir(), 3)
	blocks := r.slots.At(0).Ring.Blocks
	for i := range blocks {
		r.commit(t, r.change(i%64, byte(i), 0, 1, 2), true)
	}
	require.Positive(t, r.counts.Checkpoints.Load())
	require.LessOrEqual(t, r.slots.At(0).Ring.Live, blocks)
	require.Greater(t, r.counts.Bytes.Load(), 3*blocks*record.Block)
	require.ErrorContains(t, r.Reserve(journal.Reservation{r.slots.At(0): blocks}), "too few for a change")
}

func TestWhoLeavesIsWrittenDownBeforeABatchIsWithoutIt(t *testing.T) {
	dir := t.TempDir()
	r := newRig(t, dir, 3)
	gone := r.slots.At(2)
	r.roster.Fail(gone, record.Missing, errors.New("it was pulled"))
	require.False(t, gone.Live())
	r.commit(t, r.change(0, 1, 0, 1, 2), true)
	for _, slot := range []int{0, 1} {
		rec := r.recordOn(t, r.slots.At(slot).Disk)
		require.EqualValues(t, 2, rec.Epoch)
		require.Equal(t, record.Missing, rec.Roster[2].Condition)
		require.Equal(t, record.State{Epoch: 1, ID: rec.Before}, rec.Roster[2].Left)
		require.True(t, rec.Changes.Has(0), "what it lacks is marked")
	}
	r.roster.Fail(r.slots.At(1), record.Failed, errors.New("it failed as well"))
	require.ErrorContains(t, r.frozen, "too many members are lost")
	require.ErrorIs(t, r.Commit(r.change(4, 1, 0)), r.frozen)
}

func TestOldTablesAreNoticedByTheirWitness(t *testing.T) {
	dir := t.TempDir()
	r := newRig(t, dir, 3)
	r.commit(t, r.change(0, 1, 0, 1, 2), true)
	require.NoError(t, r.Checkpoint())
	m := r.slots.At(1)
	before := make([]byte, record.Block)
	require.NoError(t, m.Disk.ReadAt(before, m.Place.SumStart))
	r.commit(t, r.change(0, 2, 0, 1, 2), true)
	require.NoError(t, r.Checkpoint())
	require.NoError(t, m.Disk.WriteAt(before, m.Place.SumStart), "its table is set back")
	r.leave()

	r = newRig(t, dir, 3)
	var sum [1]uint32
	require.NoError(t, r.tables.Sums(r.slots.At(0), 0, sum[:]))
	require.False(t, record.Unknown(sum[0]))
	require.NoError(t, r.tables.Sums(r.slots.At(1), 0, sum[:]))
	require.EqualValues(t, record.SumDoubt, sum[0])
	require.Len(t, r.events, 1)
	require.Contains(t, r.events[0], "member-set-back")
}
