package array

import (
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"nidalo/core/health"
	"nidalo/core/record"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// readData and writeData move blocks of the member's data.
func (a *Array) readData(m *member, bufs [][]byte, block int64) error {
	var err error
	if m.patient != nil {
		err = m.patient.ReadSoon(bufs, m.offset(block))
	} else {
		err = m.disk.ReadVec(bufs, m.offset(block))
	}
	if err != nil {
		a.readProblem(m, err)
	}
	return err
}

// insistData is readData that waits for as long as the disk may take.
func (a *Array) insistData(m *member, bufs [][]byte, block int64) error {
	err := m.disk.ReadVec(bufs, m.offset(block))
	if err != nil {
		a.readProblem(m, err)
	}
	return err
}

func (a *Array) writeData(m *member, bufs [][]byte, block int64) error {
	a.stats.InPlace.Add(int64(disk.Length(bufs)))
	err := m.write(a, bufs, m.offset(block))
	if err != nil {
		return a.writeProblem(m, err)
	}
	return nil
}

// write tries as often as the limits say: a disk may have to find another place for a sector first. Places written again
// are right in any case, since nobody else writes there meanwhile.
func (m *member) write(a *Array, bufs [][]byte, off int64) error {
	for try := 1; ; try++ {
		err := m.disk.WriteVec(bufs, off)
		if err == nil || try >= a.cfg.Limits.Tries || errors.Is(err, disk.ErrGone) || errors.Is(err, disk.ErrFull) || errors.Is(err, disk.ErrHung) {
			return err
		}
		m.errs.write.Add(1)
	}
}

// readProblem: one bad sector is not a bad disk, so the place is healed, and counted then; a late answer is counted here,
// since there is nothing to heal. Only a disk that is gone is failed, or one that hangs if the array can do without it.
func (a *Array) readProblem(m *member, err error) {
	switch {
	case len(a.members) == 0: // only looked at, see Inspect
	case errors.Is(err, disk.ErrGone):
		a.failMember(m, record.Missing, err)
	case errors.Is(err, disk.ErrHung) && !a.WouldFail(m.slot):
		a.failMember(m, record.Failed, err)
	case errors.Is(err, disk.ErrSlow) && !errors.Is(err, disk.ErrAvoided):
		a.count(m, &m.errs.read)
	}
}

// late says that an error is no fault of a place on the disk: trying the neighbours would only take longer.
func late(err error) bool { return errors.Is(err, disk.ErrSlow) || errors.Is(err, disk.ErrHung) }

// count counts an error of a member and has its case looked at when it crosses a limit.
func (a *Array) count(m *member, counter *atomic.Uint64) {
	counter.Add(1)
	switch int64(m.errs.read.Load() + m.errs.checksum.Load()) {
	case a.cfg.Limits.Failing, a.cfg.Limits.Failed:
		a.suspects.add(m)
	}
}

// suspectLoop judges members whose errors crossed a limit. It does so by itself, because whoever counts an error may hold
// locks that a change of the roster needs.
func (a *Array) suspectLoop() {
	for env.Wait(env.Never, a.stop, a.suspects.some) != 0 {
		for _, m := range a.suspects.take() {
			a.suspect(m)
		}
	}
}

// suspects are the members whose errors crossed a limit.
type suspects struct {
	mu   env.Mutex
	list []*member
	some chan struct{}
}

func (s *suspects) add(m *member) {
	s.mu.Lock()
	s.list = append(s.list, m)
	s.mu.Unlock()
	select {
	case s.some <- struct{}{}:
	default:
	}
}

func (s *suspects) take() (list []*member) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, s.list = s.list, nil
	return list
}

func (a *Array) suspect(m *member) {
	errs := int64(m.errs.read.Load() + m.errs.checksum.Load())
	if l := a.cfg.Limits.Failed; l > 0 && errs >= l && !a.WouldFail(m.slot) {
		a.failMember(m, record.Failed, fmt.Errorf("%d reads failed, came late or had wrong checksums", errs))
		return
	}
	if l := a.cfg.Limits.Failing; l > 0 && errs >= l {
		a.declareFailing(m, fmt.Sprintf("%d reads failed, came late or had wrong checksums; all were restored", errs))
	}
}

// declareFailing says that a member that works had better be replaced.
func (a *Array) declareFailing(m *member, why string) {
	if !m.state.CompareAndSwap(int32(record.Active), int32(record.Failing)) {
		return
	}
	m.reason.Store(&why)
	err := a.roster.raise(a, func(r *record.Record) {
		if m.condition() == record.Failing {
			r.Roster[m.slot].Condition, r.Roster[m.slot].Since = record.Failing, a.now()
		}
	})
	if err == nil {
		a.event("member-failing", m.name(), "%s", why)
	}
}

// writeProblem: a disk that cannot be written cannot be kept in step, so it is failed; then the write as a whole is as
// good as done, since the roster says that this member is behind. Only a full file system below a member file is no
// fault of the disk, and is returned; but a sync that failed for that reason has lost what was written before, like any
// other. A copy under way is given up for any error: the array can do without it.
func (a *Array) writeProblem(m *member, err error) error {
	m.errs.write.Add(1)
	switch {
	case errors.Is(err, disk.ErrFull) && !errors.Is(err, errUnsynced) && a.onto[m.slot].Load() != m:
		return err
	case errors.Is(err, disk.ErrGone):
		a.failMember(m, record.Missing, err)
	default:
		a.failMember(m, record.Failed, err)
	}
	return a.alive()
}

// Probe asks every live member whether it is there, so that one that is gone is noticed although nobody reads or writes.
func (a *Array) Probe() {
	if a.alive() != nil {
		return
	}
	_ = a.parallel(len(a.members), func(i int) error {
		m := a.members[i].Load()
		if !m.live() || m.patient == nil {
			return nil
		}
		if err := m.patient.Present(); errors.Is(err, disk.ErrGone) {
			a.failMember(m, record.Missing, err)
		}
		return nil
	})
}

// Health is what a member's disk says of itself, errors.ErrUnsupported when it does not.
func (a *Array) Health(slot int) (health.Readings, error) {
	if m := a.members[slot].Load(); m.live() && m.patient != nil {
		return m.patient.Health()
	}
	return health.Readings{}, errors.ErrUnsupported
}

// Foretell declares a member failing for a reason that was found outside of the engine.
func (a *Array) Foretell(slot int, why string) { a.declareFailing(a.members[slot].Load(), why) }

// compareLoop compares the time that members take for an operation, window by window.
func (a *Array) compareLoop() {
	slow := a.cfg.Limits.Slow
	if slow.Windows < 0 {
		return
	}
	c := comparison{strikes: map[*member]int{}, before: map[*member]disk.Load{}}
	for env.Wait(slow.Window, a.stop) != 0 {
		for _, v := range c.window(a.sharers(), slow) {
			a.declareFailing(v.m, v.why)
		}
	}
}

// sharers are the members among which reads and writes are spread evenly, with what they did so far.
func (a *Array) sharers() map[*member]disk.Load {
	out := map[*member]disk.Load{}
	for slot := range a.members {
		if m := a.members[slot].Load(); m.patient != nil && (m.condition() == record.Active || m.condition() == record.Failing) {
			out[m] = m.patient.Load()
		}
	}
	return out
}

// comparison is what is known of members' speed from one window to the next.
type comparison struct {
	strikes map[*member]int
	before  map[*member]disk.Load
}

type verdict struct {
	m   *member
	why string
}

// enoughOperations makes the mean of a window worth comparing.
const enoughOperations = 8

// window takes what members did so far, and names those that were too slow once too often.
func (c *comparison) window(now map[*member]disk.Load, rule Slow) (out []verdict) {
	means := map[*member]time.Duration{}
	for m, load := range now {
		if n := load.Operations - c.before[m].Operations; n >= enoughOperations {
			means[m] = (load.Time - c.before[m].Time) / time.Duration(n)
		}
	}
	c.before = now
	for m, mine := range means {
		var peers []time.Duration
		for other, mean := range means {
			if other != m {
				peers = append(peers, mean)
			}
		}
		if len(peers) == 0 {
			continue
		}
		slices.Sort(peers)
		median := peers[len(peers)/2]
		if mine < rule.Least || float64(mine) < rule.Factor*float64(median) {
			c.strikes[m] = 0
			continue
		}
		if c.strikes[m]++; c.strikes[m] == rule.Windows {
			out = append(out, verdict{m, fmt.Sprintf("it takes %s for an operation, its peers %s", round(mine), round(median))})
		}
	}
	return out
}

func round(d time.Duration) time.Duration {
	if d > 10*time.Millisecond {
		return d.Round(time.Millisecond)
	}
	return d.Round(10 * time.Microsecond)
}
