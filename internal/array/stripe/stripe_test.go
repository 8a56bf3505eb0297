package stripe

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/array/buffer"
	"nidalo/internal/array/member"
	"nidalo/internal/array/table"
	"nidalo/internal/disk"
)

// quiet is a roster in which nothing happens, and a Roll that takes out a member that fails.
type quiet struct{}

func (quiet) Holder(int) int                                      { return -1 }
func (quiet) Epoch() uint64                                       { return 1 }
func (quiet) Starts() uint64                                      { return 1 }
func (quiet) Fail(m *member.Member, to record.Condition, _ error) { m.Become(to) }
func (quiet) Decline(*member.Member, string)                      {}
func (quiet) Needs(int) bool                                      { return false }
func (quiet) IsCopy(*member.Member) bool                          { return false }
func (quiet) Alive() error                                        { return nil }

// newStripes makes the stripes of members on files, laid out in two regions: level 6 of 4, and behind it a mirror of two of them.
func newStripes(t *testing.T) (*Stripes, *layout.Map) {
	const members, rows = 4, 40
	one := layout.Shape{Data: 2, Parity: 2, Groups: 1, Strip: layout.MinStrip}
	two := layout.Shape{Data: 1, Parity: 1, Groups: 1, Strip: layout.MinStrip}
	lay, err := layout.NewMap(layout.Parity2, members, one, []layout.Region{
		{Shape: one, ID: 0, Rows: rows, Slots: []int{0, 1, 2, 3}, Begin: make([]int64, 4)},
		{Shape: two, ID: 1, Rows: rows, Slots: []int{3, 1}, Begin: []int64{rows*4 + 3, rows * 4}},
	})
	require.NoError(t, err)
	slots := member.NewSlots(members)
	judge := member.NewJudge(member.Limits{}, quiet{}, new(atomic.Int64))
	for slot := range members {
		path := filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 12<<20))
		d, err := disk.Open(path)
		require.NoError(t, err)
		place, err := record.PlaceFor(d.Size(), 0)
		require.NoError(t, err)
		m := member.New(judge, member.Known{Slot: slot, Disk: d, Identity: uuid.New(), Place: place, Condition: record.Active})
		page := make([]byte, record.Block)
		record.SealPage(page, record.MapPage, m.Tag, 0, 1)
		require.NoError(t, m.Disk.WriteAt(page, place.MapStart))
		slots.Put(m)
		t.Cleanup(m.Released)
	}
	tables := table.New(table.Host{Slots: slots, Roster: quiet{}, Say: func(event.Kind, string, string) {}, Wrote: new(atomic.Int64)}, 0)
	return New(Host{Slots: slots, Tables: tables, Scratch: &buffer.Scratch{}, Layout: func() *layout.Map { return lay }, Epoch: quiet{}.Epoch,
		Alive: quiet{}.Alive, Counts: &Counts{}}), lay
}

// fill writes a stripe with noise from a seed, as a destage would leave it, and returns its strips by role.
func fill(t *testing.T, s *Stripes, st layout.Stripe, seed uint64) [][]byte {
	strips := make([][]byte, st.Width())
	r := rand.NewChaCha8([32]byte{byte(seed)})
	for role := range strips {
		strips[role] = make([]byte, st.Strip)
		if role < st.Data {
			_, _ = r.Read(strips[role])
		}
	}
	parity.Encode(strips[st.Data:], strips[:st.Data])
	for role, strip := range strips {
		m := s.host.Slots.At(st.Slot(role))
		require.NoError(t, m.WriteData([][]byte{strip}, st.Block(m.Slot)))
		s.host.Tables.Set(m, st.Block(m.Slot), st.StripBlocks(), record.SumsOf(strip), 0)
	}
	return strips
}

func TestWhatIsLostOrWrongComesFromTheOthersAndIsHealed(t *testing.T) {
	s, lay := newStripes(t)
	for number, st := range []layout.Stripe{lay.Stripe(3), lay.Stripe(lay.Stripes() - 2)} {
		strips := fill(t, s, st, uint64(number))
		wrong := s.host.Slots.At(st.Slot(0))
		require.NoError(t, wrong.WriteData([][]byte{make([]byte, record.Block)}, st.Block(wrong.Slot)+1))
		c, err := s.Load(st, 0, st.StripBlocks(), nil)
		require.NoError(t, err)
		require.Equal(t, Mismatch, c.Wrong[0][1])
		require.NoError(t, c.Recover())
		require.Equal(t, strips[0], c.Bufs[0])
		require.Equal(t, 1, c.Heal())
		c.Free()
		buf := make([]byte, st.Strip)
		require.NoError(t, s.ReadVerified(wrong, st.Block(wrong.Slot), buf, record.SumsOf(strips[0])))
	}
}

func TestAsManyMembersAsThereIsParityCanBeMissing(t *testing.T) {
	s, lay := newStripes(t)
	st := lay.Stripe(5)
	strips := fill(t, s, st, 1)
	s.host.Slots.At(st.Slot(0)).Become(record.Missing)
	s.host.Slots.At(st.Slot(1)).Become(record.Failed)
	c, err := s.Load(st, 1, 2, nil)
	require.NoError(t, err)
	require.NoError(t, c.Recover())
	for role := range st.Data {
		require.Equal(t, strips[role][record.Block:3*record.Block], c.Bufs[role][:2*record.Block])
	}
	s.host.Slots.At(st.Slot(2)).Become(record.Missing)
	c, err = s.Load(st, 1, 2, nil)
	require.NoError(t, err)
	require.NoError(t, c.Recover())
	require.False(t, c.Known[0][0], "one too many")
}

func TestWhatWasNeverWrittenIsSkipped(t *testing.T) {
	s, lay := newStripes(t)
	require.Equal(t, lay.Stripes(), s.NextWritten(0))
	require.Zero(t, s.Used())
	behind := lay.Stripe(lay.Stripes() - 4) // in the second region
	fill(t, s, behind, 1)
	next := s.NextWritten(0)
	require.LessOrEqual(t, next, behind.Ordinal())
	st := lay.Stripe(next)
	require.Positive(t, s.Used())
	require.True(t, st.Region.ID == 1 || s.Untouched(st, nil), "a page of sums may cover what lies before")
	require.False(t, s.Untouched(behind, nil))
	for _, slot := range behind.Members(behind.Group) {
		nth := s.NextWrittenStrip(slot, 0)
		require.LessOrEqual(t, nth, behind.Nth(slot))
		require.Positive(t, s.WrittenFrom(slot, 0))
	}
	require.Equal(t, lay.Strips(0), s.NextMarked(s.host.Slots.At(0), 0), "it has no part in that region")
}

func TestTheOddOneIsFoundWhenTheCodeShowsIt(t *testing.T) {
	s, lay := newStripes(t)
	st := lay.Stripe(2)
	fill(t, s, st, 3)
	m := s.host.Slots.At(st.Slot(1))
	other := slices.Repeat([]byte{7}, record.Block)
	require.NoError(t, m.WriteData([][]byte{other}, st.Block(m.Slot)+2))
	s.host.Tables.Set(m, st.Block(m.Slot)+2, 1, record.SumsOf(other), 0)
	c, err := s.Load(st, 0, st.StripBlocks(), nil)
	require.NoError(t, err)
	defer c.Free()
	require.True(t, c.Sound())
	require.False(t, c.Agrees())
	guilty, unsure := c.Contradictions()
	require.Equal(t, []Place{{Role: 1, Col: 2}}, guilty)
	require.Empty(t, unsure)
}

// Columns are used again: nothing of a stripe that was wrong in several ways may be left in the next.
func TestColumnsThatAreUsedAgainKnowNothing(t *testing.T) {
	s, lay := newStripes(t)
	bad, good := lay.Stripe(2), lay.Stripe(3)
	fill(t, s, bad, 5)
	strips := fill(t, s, good, 6)
	m := s.host.Slots.At(bad.Slot(0))
	require.NoError(t, m.WriteData([][]byte{make([]byte, record.Block)}, bad.Block(m.Slot)))
	s.host.Tables.Set(m, bad.Block(m.Slot)+1, 1, nil, record.SumLost)
	s.host.Tables.Set(m, bad.Block(m.Slot)+2, 1, nil, record.SumDoubt)
	for n := 1; n <= good.StripBlocks(); n *= 2 {
		c, err := s.Load(bad, 0, good.StripBlocks(), nil)
		require.NoError(t, err)
		require.False(t, c.Sound())
		require.NoError(t, c.Recover())
		c.Free()
		c, err = s.Load(good, good.StripBlocks()-n, n, nil)
		require.NoError(t, err)
		require.True(t, c.Sound())
		require.True(t, c.Agrees())
		for role, strip := range strips {
			require.Equal(t, strip[len(strip)-n*record.Block:], c.Bufs[role])
		}
		c.Free()
	}
}

func TestStripesAreLockedApart(t *testing.T) {
	s, lay := newStripes(t)
	unlock := s.Lock(Rows(lay.Stripe(0), 3), true)
	s.Lock(Rows(lay.Stripe(3), 1), true)() // does not wait
	order := make(chan string, 2)
	go func() {
		s.Lock(Rows(lay.Stripe(2), 1), false)()
		order <- "second"
	}()
	order <- "first"
	unlock()
	require.Equal(t, "first", <-order)
	require.Equal(t, "second", <-order)
	s.LockAll()()
}
