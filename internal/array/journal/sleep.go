package journal

import (
	"math"
	"slices"
	"time"

	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// Members may sleep. What they hold is durable then, in place or in their journals, and a crash is like any other. They wake with the first
// operation. Two things let them sleep for long:
//
//   - a checkpoint that would wake one is put off, until a ring or the tables run short of room, for a day at most
//   - a member with an empty ring, of which no page is to be written, sleeps through the checkpoints that others need. Its head says that
//     it sleeps, and stays as it is while theirs go on. So what it claims is less than what theirs do, and right: no batch in between
//     has a part of it. A start must not hold that against the others, which it would take for heads that claim too much.

// restLatest is for how long a checkpoint is put off that would wake members.
const restLatest = 24 * time.Hour

// Sleep puts a member to sleep, and says whether it did: it does not when something was asked of it meanwhile.
func (j *Journal) Sleep(m *member.Member) (asleep bool, err error) {
	j.ckpt.Lock()
	defer j.ckpt.Unlock()
	if err := j.host.Alive(); err != nil || !m.Live() {
		return false, err
	}
	waiting := j.host.Tables.Waiting()
	j.mu.Lock()
	busy, empty, head := m.Ring.Reserved > 0, m.Ring.Live == 0 && !waiting[m.Slot], m.Ring.Head
	j.mu.Unlock()
	if busy {
		return false, nil
	}
	batch := j.settled.Load() + 1
	if probe.SleepsWithJournal.On() {
		batch, empty = j.batch+1, true
	}
	if empty {
		if err := j.writeHead(m, batch, head, max(1, j.number.Load())); err != nil || !m.Live() {
			return false, err
		}
	}
	return m.Sleep()
}

// Tidy makes a checkpoint if there is anything to be written and no member has to wake for it.
func (j *Journal) Tidy() error {
	j.mu.Lock()
	live := slices.ContainsFunc(j.host.Slots.All(), func(m *member.Member) bool { return m.Live() && m.Ring.Live > 0 })
	j.mu.Unlock()
	if dirty, _ := j.host.Tables.DirtyPages(); !live && dirty == 0 || j.wouldWake() {
		return nil
	}
	return j.Checkpoint()
}

// wouldWake says whether a checkpoint would wake a member.
func (j *Journal) wouldWake() bool {
	members := j.host.Slots.All()
	if !slices.ContainsFunc(members, (*member.Member).Asleep) {
		return false
	}
	waiting := j.host.Tables.Waiting()
	j.mu.Lock()
	defer j.mu.Unlock()
	return slices.ContainsFunc(members, func(m *member.Member) bool {
		return m.Live() && m.Asleep() && (waiting[m.Slot] || m.Ring.Live > 0)
	})
}

// claims is the first batch that may not be in place, by a member's head. One that slept says nothing of batches that it has no part in; if it
// has none at all, it is math.MaxUint64.
func (s *Scan) claims() uint64 {
	if s.Head.Slept == 0 {
		return s.Head.Batch
	}
	first := uint64(math.MaxUint64)
	for n := range s.Entries {
		if n >= s.Head.Batch {
			first = min(first, n)
		}
	}
	return first
}
