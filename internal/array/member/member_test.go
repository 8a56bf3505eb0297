package member

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/disk"
)

// faulty is a file of which some operations fail.
type faulty struct {
	disk.Disk
	writes, syncs, reads error
	tries                int
}

func (f *faulty) WriteVec(bufs [][]byte, off int64) error {
	if f.tries++; f.writes != nil {
		return f.writes
	}
	return f.Disk.WriteVec(bufs, off)
}

func (f *faulty) ReadVec(bufs [][]byte, off int64) error {
	if f.reads != nil {
		return f.reads
	}
	return f.Disk.ReadVec(bufs, off)
}

func (f *faulty) Sync() error { return errors.Join(f.syncs, f.Disk.Sync()) }

// ledger is a Roll that writes down what it is told.
type ledger struct {
	failed   record.Condition
	declined string
	needs    bool
	copied   bool
}

func (l *ledger) Fail(m *Member, to record.Condition, _ error) { l.failed = to; m.Become(to) }
func (l *ledger) Decline(_ *Member, why string)                { l.declined = why }
func (l *ledger) Needs(int) bool                               { return l.needs }
func (l *ledger) IsCopy(*Member) bool                          { return l.copied }
func (l *ledger) Alive() error                                 { return nil }

func someMember(t *testing.T, limits Limits) (*Member, *faulty, *ledger) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, 16<<20))
	d, err := disk.Open(path)
	require.NoError(t, err)
	place, err := record.PlaceFor(d.Size(), 0)
	require.NoError(t, err)
	f, l := &faulty{Disk: d}, &ledger{}
	m := New(NewJudge(limits, l, new(atomic.Int64)), Known{Slot: 1, Disk: f, Place: place, Condition: record.Active})
	t.Cleanup(m.Released)
	return m, f, l
}

func TestAWriteIsTriedAgainAndThenCostsTheMember(t *testing.T) {
	m, f, l := someMember(t, Limits{Tries: 3})
	block := [][]byte{make([]byte, layout.Block)}
	require.NoError(t, m.WriteData(block, 0))
	require.Equal(t, 1, f.tries)
	f.writes = io.ErrShortWrite
	require.NoError(t, m.WriteData(block, 0), "the array goes on without it")
	require.Equal(t, 1+3, f.tries)
	require.Equal(t, record.Failed, l.failed)
	require.False(t, m.Live())
	require.EqualValues(t, 3, m.Errors().Write)
}

func TestAFullFileSystemIsNoFaultOfTheDiskUnlessASyncFailed(t *testing.T) {
	m, f, l := someMember(t, Limits{})
	block := [][]byte{make([]byte, layout.Block)}
	f.writes = disk.ErrFull
	require.ErrorIs(t, m.WriteData(block, 0), disk.ErrFull)
	require.Zero(t, l.failed)
	f.syncs = disk.ErrFull
	require.NoError(t, m.WriteProblem(m.Sync()))
	require.Equal(t, record.Failed, l.failed)

	m, f, l = someMember(t, Limits{})
	l.copied, f.writes = true, disk.ErrFull
	require.NoError(t, m.WriteData(block, 0), "a copy is given up")
	require.Equal(t, record.Failed, l.failed)
}

func TestADiskThatIsGoneIsMissingAndOneThatHangsIsFailedOnlyWhenItCanBeSpared(t *testing.T) {
	m, f, l := someMember(t, Limits{})
	f.reads, l.needs = disk.ErrHung, true
	m.ReadProblem(disk.ErrHung)
	require.Zero(t, l.failed)
	l.needs = false
	m.ReadProblem(disk.ErrHung)
	require.Equal(t, record.Failed, l.failed)
	m.ReadProblem(disk.ErrGone)
	require.Equal(t, record.Missing, l.failed)
}

func TestErrorsThatCrossALimitAreJudged(t *testing.T) {
	m, _, l := someMember(t, Limits{Failing: 2, Failed: 4})
	judge := func() {
		for _, m := range m.Judge.suspects.take() {
			m.Judge.suspect(m)
		}
	}
	m.Count(&m.Errs.Read)
	judge()
	require.Empty(t, l.declined)
	m.Count(&m.Errs.Checksum)
	judge()
	require.Contains(t, l.declined, "2 reads failed")
	l.needs = true
	m.Count(&m.Errs.Read)
	m.Count(&m.Errs.Read)
	judge()
	require.Zero(t, l.failed, "the array cannot do without it")
	l.needs = false
	m.Judge.suspects.add(m)
	judge()
	require.Equal(t, record.Failed, l.failed)
}

func TestTheRingTakesEntriesWholeAndCountsWhatItSkips(t *testing.T) {
	r := Ring{Blocks: 10}
	require.EqualValues(t, 0, r.Take(6))
	require.EqualValues(t, 6, r.Take(3))
	require.EqualValues(t, 0, r.Take(4), "it does not fit before the end")
	require.EqualValues(t, 4, r.Head)
	require.EqualValues(t, 6+3+1+4, r.Live)
}

func TestOperationsAreDoneForAllAndTheFirstErrorByPlaceIsTold(t *testing.T) {
	one, two := errors.New("one"), errors.New("two")
	var done atomic.Int64
	for _, bytes := range []int{0, SmallFan + 1} {
		done.Store(0)
		err := new(Fan).Out(9, bytes, func(i int) error {
			done.Add(1)
			return map[int]error{3: one, 7: two}[i]
		})
		require.ErrorIs(t, err, one)
		require.EqualValues(t, 9, done.Load())
	}
}
