package table

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
)

// quiet is a roster of one member, which has no witness, and the Roll of its judge.
type quiet struct{}

func (quiet) Holder(int) int                                      { return -1 }
func (quiet) Epoch() uint64                                       { return 7 }
func (quiet) Starts() uint64                                      { return 1 }
func (quiet) Fail(m *member.Member, to record.Condition, _ error) { m.Become(to) }
func (quiet) Decline(*member.Member, string)                      {}
func (quiet) Needs(int) bool                                      { return false }
func (quiet) IsCopy(*member.Member) bool                          { return false }
func (quiet) Alive() error                                        { return nil }

// rig is the tables of one member on a sparse file.
type rig struct {
	*Tables
	m      *member.Member
	said   []string
	missed error
}

func newRig(t *testing.T, size int64) *rig {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, size))
	d, err := disk.Open(path)
	require.NoError(t, err)
	place, err := record.PlaceFor(size, 0)
	require.NoError(t, err)
	r := &rig{m: member.New(member.NewJudge(member.Limits{}, quiet{}, new(atomic.Int64)), member.Known{Disk: d, Identity: uuid.New(), Place: place, Condition: record.Active})}
	t.Cleanup(r.m.Released)
	for number := range place.MapPages {
		page := make([]byte, record.Block)
		record.SealPage(page, record.MapPage, r.m.Tag, number, 1)
		require.NoError(t, r.m.Disk.WriteAt(page, place.MapStart+number*record.Block))
	}
	r.open()
	return r
}

// open forgets all that is in memory.
func (r *rig) open() {
	slots := member.NewSlots(1)
	slots.Put(r.m)
	r.Tables = New(Host{Slots: slots, Roster: quiet{}, Say: func(kind event.Kind, _, _ string) { r.said = append(r.said, string(kind)) }, Wrote: new(atomic.Int64),
		Missed: func(_ *member.Member, err error) { r.missed = err }}, 0)
}

// checkpoint writes what is dirty; meanwhile is done between the writing and its end.
func (r *rig) checkpoint(t *testing.T, number uint64, meanwhile func()) {
	sums, maps, _ := r.Snapshot()
	for _, d := range slices.Concat(sums, maps) {
		require.NoError(t, r.Write(d, number))
	}
	meanwhile()
	r.Clean(slices.Concat(sums, maps))
	r.Release(sums, maps)
}

func (r *rig) sums(t *testing.T, block int64, n int) []uint32 {
	out := make([]uint32, n)
	require.NoError(t, r.Sums(r.m, block, out))
	return out
}

func (r *rig) inMemory() (n int) {
	for i := range r.shards {
		n += len(r.shards[i].pages)
	}
	return n
}

func TestSumsAreReadBackAsTheyWereWritten(t *testing.T) {
	r := newRig(t, 64<<20)
	const at = record.SumsPerPage - 2 // over the end of a page
	r.Set(r.m, at, 4, []uint32{11, 12, 13, 14}, 0)
	r.Set(r.m, 3*record.SumsPerPage, 2, nil, record.SumLost)
	r.Set(r.m, at+1, 1, nil, record.SumNever)
	r.checkpoint(t, 2, func() {})
	n, _ := r.DirtyPages()
	require.Zero(t, n)
	r.open()
	require.Equal(t, []uint32{0, 11, 0, 13, 14, 0}, r.sums(t, at-1, 6))
	require.Equal(t, []uint32{record.SumLost, record.SumLost, 0}, r.sums(t, 3*record.SumsPerPage, 3))
	next, ok := r.NextBit(r.m, 2, 10)
	require.True(t, ok)
	require.EqualValues(t, 3, next, "page 2 was never written")
	written, epoch, err := r.Changed(r.m, 3)
	require.NoError(t, err)
	require.True(t, written)
	require.EqualValues(t, 7, epoch)
}

func TestAPageThatChangesWhileItIsWrittenStaysDirty(t *testing.T) {
	r := newRig(t, 64<<20)
	r.Set(r.m, 0, 1, []uint32{11}, 0)
	r.checkpoint(t, 2, func() { r.Set(r.m, 1, 1, []uint32{12}, 0) })
	n, _ := r.DirtyPages()
	require.EqualValues(t, 1, n)
	r.checkpoint(t, 3, func() {})
	r.open()
	require.Equal(t, []uint32{11, 12}, r.sums(t, 0, 2))
}

func TestPagesInMemoryAreBoundedAndDirtyOnesStay(t *testing.T) {
	r := newRig(t, 4<<30)
	_, most := r.DirtyPages()
	for page := range 4 * most {
		r.sums(t, page*record.SumsPerPage, 1)
	}
	require.LessOrEqual(t, int64(r.inMemory()), 2*most)
	for page := range 2 * most {
		r.Set(r.m, page*record.SumsPerPage, 1, []uint32{uint32(100 + page)}, 0)
	}
	for page := range 2 * most {
		require.Equal(t, []uint32{uint32(100 + page)}, r.sums(t, page*record.SumsPerPage, 1), "it is nowhere but in memory")
	}
}

func TestADamagedPagePutsItsBlocksInDoubt(t *testing.T) {
	r := newRig(t, 64<<20)
	r.Set(r.m, 5, 1, []uint32{11}, 0)
	r.checkpoint(t, 2, func() {})
	require.NoError(t, r.m.Disk.WriteAt([]byte("rot"), r.m.Place().SumStart+600))
	r.open()
	require.Equal(t, slices.Repeat([]uint32{record.SumDoubt}, record.SumsPerPage), r.sums(t, 0, record.SumsPerPage))
	require.Equal(t, []string{"table-damaged"}, r.said)
	require.EqualValues(t, 1, r.m.Errors().Checksum)

	require.NoError(t, r.m.Disk.WriteAt([]byte("rot"), r.m.Place().MapStart+40))
	r.open()
	next, ok := r.NextBit(r.m, 4, 10)
	require.True(t, ok)
	require.EqualValues(t, 4, next, "a written map that is damaged says written everywhere")
	require.Equal(t, []uint32{record.SumDoubt}, r.sums(t, 4*record.SumsPerPage, 1))
}

func TestOfAMemberThatLeftNothingIsKeptOrWritten(t *testing.T) {
	r := newRig(t, 64<<20)
	r.Set(r.m, 0, 1, []uint32{11}, 0)
	r.m.Become(record.Failed)
	r.Forget(r.m)
	n, _ := r.DirtyPages()
	require.Zero(t, n)
	require.Zero(t, r.inMemory())
	require.Error(t, r.Sums(r.m, 0, make([]uint32, 1)), "what its disk has is old")
	r.Set(r.m, 0, 1, []uint32{12}, 0)
	require.NoError(t, r.missed, "it lacks the change like everything else from now on")
}

// broken is a disk that hangs.
type broken struct{ disk.Disk }

func (b broken) ReadAt([]byte, int64) error { return disk.ErrHung }

func TestAChangeThatCannotBeEnteredIsToldOf(t *testing.T) {
	r := newRig(t, 64<<20)
	whole := r.m.Disk
	r.m.Disk = broken{whole}
	defer func() { r.m.Disk = whole }()
	hangs := quietButNeeded{}
	r.m.Judge = member.NewJudge(member.Limits{}, hangs, new(atomic.Int64))
	r.Set(r.m, 0, 1, []uint32{11}, 0)
	require.True(t, errors.Is(r.missed, disk.ErrHung), "%v", r.missed)
}

// quietButNeeded is a Roll of an array that cannot do without its member.
type quietButNeeded struct{ quiet }

func (quietButNeeded) Needs(int) bool { return true }
