package array

import (
	"errors"
	"sync"
	"time"

	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Disks of a guarded set may sleep while nothing is asked of them. What that means for the journals is in journal/sleep.go, for the tables in
// table/later.go.

// gather is how long what was written waits in the cache, if no flush asks for it, while a parity disk sleeps: so that it is not woken for
// each few blocks.
const gather = time.Minute

// resting is what is known of members for the sake of their sleep.
type resting struct {
	mu    env.Mutex                    // held as long as members are being put to sleep, which may take a while
	since map[*member.Member]time.Time // when something was asked of each last
	awake sync.Map                     // by *member.Member: why it cannot sleep
	over  bool                         // the array is being stopped
}

// end ends that members are put to sleep, and waits for one that is just being put.
func (r *resting) end() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.over = true
}

// Before a disk sleeps, pages are compared: those of about 16 GiB of data in one call of Doze, in pieces, since a checkpoint waits for each.
const (
	comparedPiece  = 128
	comparedPieces = 32
)

// MostSpinDown is the longest time after which disks may be put to sleep.
const MostSpinDown = 7 * 24 * time.Hour

// ErrNotGuarded is returned for other arrays: each of their reads and writes needs several disks, so none could sleep for long.
var ErrNotGuarded = errors.New("only the disks of a guarded set sleep")

// SetSpinDown says after which time a disk of which nothing was asked is put to sleep; 0: never. The record of all members has it.
func (a *Array) SetSpinDown(after time.Duration) error {
	if a.Layout().Volumes() == nil {
		return ErrNotGuarded
	}
	return a.roster.Update(func(r *record.Record) { r.SpinDown = int64(after / time.Second) })
}

// SpinDown is the time after which a disk of which nothing was asked is put to sleep; 0: never.
func (a *Array) SpinDown() time.Duration {
	return time.Duration(a.roster.View().SpinDown) * time.Second
}

// Rest puts members to sleep of which nothing was asked for as long as the array says. It is to be called every second or so.
func (a *Array) Rest() {
	after := a.SpinDown()
	if a.looking || a.alive() != nil || after <= 0 {
		return
	}
	busy := a.tasks.Any()
	r := &a.resting
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.over {
		return
	}
	now, since := a.now(), map[*member.Member]time.Time{}
	for _, m := range a.slots.All() {
		last, known := r.since[m]
		if m.Used() || busy || !known {
			last = now
		}
		since[m] = last
		if _, cannot := r.awake.Load(m); !cannot && m.Live() && !m.Asleep() && now.Sub(last) >= after {
			if _, err := a.Doze(m.Slot); errors.Is(err, member.ErrNoSleep) {
				r.awake.Store(m, err)
			}
			m.Used() // what was read for it does not count
		}
	}
	r.since = since
}

// Doze puts a member to sleep, and says whether it did: not while anything of it is under way. The error wraps member.ErrNoSleep when the disk
// cannot be.
func (a *Array) Doze(slot int) (asleep bool, err error) {
	m := a.slots.At(slot)
	if !m.Live() || m.Asleep() {
		return m.Asleep(), nil
	}
	if err := a.journal.Tidy(); err != nil {
		return false, err
	}
	for _, other := range a.slots.All() {
		if !other.Live() || other != m && a.roster.Holder(other.Slot) != slot {
			continue
		}
		if all, err := a.acquaint(other); err != nil || !all {
			return false, err
		}
	}
	if err := a.journal.Tidy(); err != nil { // witnesses may have been told something
		return false, err
	}
	if asleep, err = a.journal.Sleep(m); asleep {
		probe.MemberSlept.Seen()
	}
	return asleep, err
}

// acquaint compares some more pages of a member with their witnesses, and says whether all have been by now.
func (a *Array) acquaint(m *member.Member) (all bool, err error) {
	for n := 0; n < comparedPieces && !all && err == nil; n++ {
		err = a.journal.Apart(func() (err error) {
			all, err = a.tables.Acquaint(m, comparedPiece)
			return err
		})
	}
	return all, err
}

// Turning says whether the disk of a member turns, and why it does not sleep although it should; nil: it can.
func (a *Array) Turning(slot int) (turns bool, why error) {
	m := a.slots.At(slot)
	if v, cannot := a.resting.awake.Load(m); cannot {
		why = v.(error)
	}
	return !m.Asleep(), why
}

// destageAge is how long what was written waits in the cache.
func (a *Array) destageAge() time.Duration {
	if vs := a.Layout().Volumes(); vs != nil {
		for _, m := range a.slots.All() {
			if _, data := a.Layout().Volume(m.Slot); !data && m.Live() && m.Asleep() {
				return gather
			}
		}
	}
	return 0
}
