package member

import (
	"cmp"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"nidalo/core/record"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// Limits is when a member is judged, and for what. Counted are reads that failed, reads that were given up because the
// disk took too long, and blocks with wrong checksums, since the member joined. Each was healed or had elsewhere, so they
// say nothing about the data, but a disk that has many will have more.
type Limits struct {
	Failing  int64 // errors from which on the member is failing; negative: never
	Failed   int64 // errors from which on it is failed, if the array can do without it; negative: never
	Tries    int   // how often a write is tried before the member is failed; a failed sync is never repeated
	Patience disk.Patience
	Slow     Slow
}

// Slow is when a disk counts as much slower than its peers.
type Slow struct {
	Factor  float64       // of the median of its peers' time for an operation, and
	Least   time.Duration // at least this much for an operation, on average
	Window  time.Duration // over a window of this length with enough operations,
	Windows int           // in so many of them running: then the member is failing. Negative: never
}

// DefaultLimits: a few dozen bad sectors are a disk in decline; hundreds are a disk that is not worth waiting for. A disk eight
// times slower than its peers for a minute makes every stripe wait for it.
var DefaultLimits = Limits{Failing: 32, Failed: 1024, Tries: 2, Patience: disk.DefaultPatience,
	Slow: Slow{Factor: 8, Least: 20 * time.Millisecond, Window: 10 * time.Second, Windows: 6}}

// orDefault fills in what is zero.
func (l Limits) orDefault() Limits {
	d := DefaultLimits
	return Limits{Failing: cmp.Or(l.Failing, d.Failing), Failed: cmp.Or(l.Failed, d.Failed), Tries: max(1, cmp.Or(l.Tries, d.Tries)),
		Patience: disk.Patience{Read: cmp.Or(l.Patience.Read, d.Patience.Read), Hung: cmp.Or(l.Patience.Hung, d.Patience.Hung)},
		Slow: Slow{cmp.Or(l.Slow.Factor, d.Slow.Factor), cmp.Or(l.Slow.Least, d.Slow.Least), cmp.Or(l.Slow.Window, d.Slow.Window),
			cmp.Or(l.Slow.Windows, d.Slow.Windows)}}
}

// Roll decides which members take part in an array.
type Roll interface {
	// Fail takes a member out because of what it did. It returns once every other member knows.
	Fail(m *Member, to record.Condition, cause error)
	// Decline says that a member that works had better be replaced.
	Decline(m *Member, why string)
	// Needs says whether the array needs the member in a slot to serve its data.
	Needs(slot int) bool
	// IsCopy says whether a disk is no member yet, but a copy of one under way.
	IsCopy(m *Member) bool
	// Alive is why nothing may be written any more, or nil.
	Alive() error
}

// Judge decides what follows from what the members of an array do.
type Judge struct {
	limits   Limits
	roll     Roll
	inPlace  *atomic.Int64 // counts bytes written in place
	keys     atomic.Uint32 // of members, given out so far
	suspects suspects
}

// NewJudge makes a judge; inPlace counts the bytes of data that members write.
func NewJudge(limits Limits, roll Roll, inPlace *atomic.Int64) *Judge {
	return &Judge{limits: limits.orDefault(), roll: roll, inPlace: inPlace, suspects: suspects{some: make(chan struct{}, 1)}}
}

// ReadProblem: one bad sector is not a bad disk, so the place is healed, and counted then; a late answer is counted here,
// since there is nothing to heal. Only a disk that is gone is failed, or one that hangs if the array can do without it.
func (m *Member) ReadProblem(err error) {
	switch j := m.Judge; {
	case j == nil:
	case errors.Is(err, disk.ErrGone):
		j.roll.Fail(m, record.Missing, err)
	case errors.Is(err, disk.ErrHung) && !j.roll.Needs(m.Slot):
		j.roll.Fail(m, record.Failed, err)
	case errors.Is(err, disk.ErrSlow) && !errors.Is(err, disk.ErrAvoided):
		m.Count(&m.Errs.Read)
	}
}

// Late says that an error is no fault of a place on the disk: trying the neighbours would only take longer.
func Late(err error) bool { return errors.Is(err, disk.ErrSlow) || errors.Is(err, disk.ErrHung) }

// NoRoom says that an error is of a file system below a member file that is full, which is no fault of the disk. A sync that failed
// for that reason has lost what was written before, like any other.
func NoRoom(err error) bool { return errors.Is(err, disk.ErrFull) && !errors.Is(err, errUnsynced) }

// WriteProblem: a disk that cannot be written cannot be kept in step, so it is failed; then the write as a whole is as
// good as done, since the roster says that this member is behind. Only a full file system is returned. A copy under way is given
// up for any error: the array can do without it.
func (m *Member) WriteProblem(err error) error {
	m.Failed(err)
	roll := m.Judge.roll
	if NoRoom(err) && !roll.IsCopy(m) {
		return err
	}
	roll.Fail(m, ConditionFor(err), err)
	return roll.Alive()
}

// Failed counts a write that failed. That a disk was taken out is no error of the disk.
func (m *Member) Failed(err error) {
	if !errors.Is(err, disk.ErrGone) {
		m.Errs.Write.Add(1)
	}
}

// ConditionFor is the condition of a member that is left out for an error.
func ConditionFor(err error) record.Condition {
	if errors.Is(err, disk.ErrGone) {
		return record.Missing
	}
	return record.Failed
}

// Count counts an error of a member and has its case looked at when it crosses a limit.
func (m *Member) Count(counter *atomic.Uint64) {
	counter.Add(1)
	if l := m.Judge.limits; m.doubts() == l.Failing || m.doubts() == l.Failed {
		m.Judge.suspects.add(m)
	}
}

// doubts is how many errors count against a member.
func (m *Member) doubts() int64 { return int64(m.Errs.Read.Load() + m.Errs.Checksum.Load()) }

// Watch judges members whose errors crossed a limit. It does so by itself, because the caller that counts an error may hold
// locks that a change of the roster needs.
func (j *Judge) Watch(stop <-chan struct{}) {
	for env.Wait(env.Never, stop, j.suspects.some) != 0 {
		for _, m := range j.suspects.take() {
			j.suspect(m)
		}
	}
}

func (j *Judge) suspect(m *Member) {
	errs := m.doubts()
	if l := j.limits.Failed; l > 0 && errs >= l && !j.roll.Needs(m.Slot) {
		j.roll.Fail(m, record.Failed, fmt.Errorf("%d reads failed, came late or had wrong checksums", errs))
		return
	}
	if l := j.limits.Failing; l > 0 && errs >= l {
		j.roll.Decline(m, fmt.Sprintf("%d reads failed, came late or had wrong checksums; all were restored", errs))
	}
}

// suspects are the members whose errors crossed a limit.
type suspects struct {
	mu   env.Mutex
	list []*Member
	some chan struct{}
}

func (s *suspects) add(m *Member) {
	s.mu.Lock()
	s.list = append(s.list, m)
	s.mu.Unlock()
	select {
	case s.some <- struct{}{}:
	default:
	}
}

func (s *suspects) take() (list []*Member) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, s.list = s.list, nil
	return list
}
