package replay_test

import (
	"errors"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/replay"
	"nidalo/internal/array/rig"
)

var errFailed = errors.New("the array has failed")

// run replays the journals of a rig; note as in a rescue.
func run(r *rig.Rig, note func(string)) error {
	return replay.Run(replay.Host{Slots: r.Slots, Roster: r.Roster, Journal: r.Journal, Tables: r.Tables, Stripes: r.Stripes,
		CopyAgain: func([]layout.Stripe) error { return nil }, Lacks: func(m *member.Member, _ uint64) bool { return !m.Live() },
		Say:  func(kind event.Kind, _, text string) { r.Events = append(r.Events, string(kind)+": "+text) },
		Note: note, Alive: func() error { return r.Frozen }, Failed: errFailed, Replayed: new(atomic.Int64)})
}

// wipe destroys the journal of a member from its first entry on.
func wipe(t *testing.T, r *rig.Rig, slots ...int) {
	for _, slot := range slots {
		m := r.Slots.At(slot)
		require.NoError(t, m.Disk.WriteAt(make([]byte, 64*record.Block), m.Ring.Start))
	}
}

// holds fails unless a change is in place on every member, with its sums.
func holds(t *testing.T, r *rig.Rig, c *journal.Change) {
	t.Helper()
	for _, w := range c.Writes {
		require.Equal(t, w.Buf, r.Holds(w.M.Slot, w.Block), "member %d", w.M.Slot)
		var sum [1]uint32
		require.NoError(t, r.Tables.Sums(r.Slots.At(w.M.Slot), w.Block, sum[:]))
		require.Equal(t, w.Sums[0], sum[0], "member %d", w.M.Slot)
	}
}

// said counts the events of a kind.
func said(r *rig.Rig, kind event.Kind) (n int) {
	for _, e := range r.Events {
		if strings.HasPrefix(e, string(kind)+":") {
			n++
		}
	}
	return n
}

func TestWhatWasCommittedIsInPlaceAfterAStart(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 4)
	one, two := r.Layout.Stripe(2), r.Layout.Stripe(9)
	placed, first, last := r.Write(one, 0, 10), r.Write(two, 1, 20), r.Write(one, 0, 30)
	r.Put(placed, true)
	r.Put(first, false)
	r.Put(last, false)
	r.Leave()

	r = rig.New(t, dir, 4)
	require.NoError(t, run(r, nil))
	holds(t, r, first)
	holds(t, r, last)
	require.Equal(t, 1, said(r, event.JournalReplayed))
	r.Leave()

	r = rig.New(t, dir, 4)
	scans, from, err := r.Read()
	require.NoError(t, err)
	require.Empty(t, journal.BatchNumbers(scans, from), "a second start has nothing to do")
	holds(t, r, last)
}

func TestTheLastBatchIsCompletedOrNeverHappened(t *testing.T) {
	for lacking, completed := range map[int]bool{1: true, 2: false} {
		dir := t.TempDir()
		r := rig.New(t, dir, 4)
		st := r.Layout.Stripe(3)
		before, last := r.Write(st, 2, 40), r.Write(st, 2, 90)
		r.Put(before, true)
		require.NoError(t, r.Checkpoint())
		r.Put(last, false)
		wipe(t, r, []int{2, 0}[:lacking]...)
		r.Leave()

		r = rig.New(t, dir, 4)
		require.NoError(t, run(r, nil))
		want := before
		if completed {
			want = last
		}
		holds(t, r, want)
		if completed {
			require.Zero(t, said(r, event.BatchDropped))
			continue
		}
		require.Equal(t, 1, said(r, event.BatchDropped))
		r.Leave()
		r = rig.New(t, dir, 4)
		require.NoError(t, run(r, nil))
		holds(t, r, before)
	}
}

func TestABatchBeforeTheLastIsNotGivenUp(t *testing.T) {
	begin := func(t *testing.T) (*rig.Rig, *journal.Change, *journal.Change) {
		dir := t.TempDir()
		r := rig.New(t, dir, 4)
		earlier, last := r.Write(r.Layout.Stripe(0), 0, 50), r.Write(r.Layout.Stripe(1), 0, 60)
		r.Put(earlier, false)
		for _, slot := range []int{1, 3} { // of two members, the entry of the first batch alone
			m := r.Slots.At(slot)
			require.NoError(t, m.Disk.WriteAt(make([]byte, record.Block), m.Ring.Start))
		}
		r.Put(last, false)
		r.Leave()
		return rig.New(t, dir, 4), earlier, last
	}
	r, _, _ := begin(t)
	require.ErrorIs(t, run(r, nil), errFailed, "what was flushed may be in it")

	r, _, last := begin(t)
	var notes []string
	require.NoError(t, run(r, func(text string) { notes = append(notes, text) }), "a rescue goes on")
	holds(t, r, last)
}

func TestWhatAMemberThatIsAwayLacksIsMarked(t *testing.T) {
	dir := t.TempDir()
	r := rig.New(t, dir, 4)
	r.Roster.Fail(r.Slots.At(1), record.Missing, errors.New("it was pulled"))
	st := r.Layout.Stripe(r.Layout.Stripes() - 1)
	r.Put(r.Write(st, 0, 70), false)
	r.Leave()

	r = rig.New(t, dir, 4)
	require.False(t, r.Slots.At(1).Live())
	require.NoError(t, run(r, nil))
	rec := r.RecordOn(r.Slots.At(0).Disk)
	require.True(t, rec.Changes.Has(record.ChangePart(st.Ordinal(), r.Layout.Stripes())))
	require.False(t, rec.Changes.Has(record.ChangePart(0, r.Layout.Stripes())))
}
