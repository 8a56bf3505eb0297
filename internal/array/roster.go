package array

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"nidalo/core/health"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// roster guards the member record that all live members carry.
type roster struct {
	mu    env.Mutex
	rec   *record.Record                // Slot, Member and Place are filled in for each member when it is written
	shown atomic.Pointer[record.Record] // rec as it was last written or is being written, never changed
	// unsettled: a member was dropped, and the roster that says so is not on all others yet.
	unsettled atomic.Bool
	arriving  *member.Member                 // is about to be active: the record that is being written says so
	epoch     atomic.Uint64                  // of shown
	changes   atomic.Pointer[record.Changes] // as they are on the members
}

// Holder is the slot that keeps the witnesses of the pages of another; -1 when none does.
func (r *roster) Holder(slot int) int { return r.shown.Load().Roster[slot].Witness }

// Epoch is that of the roster as it is shown.
func (r *roster) Epoch() uint64 { return r.epoch.Load() }

// Starts is how often the array was started.
func (r *roster) Starts() uint64 { return r.shown.Load().Starts }

// Name is the array's name.
func (a *Array) Name() string { return *a.name.Load() }

// Rename gives the array another name, on all members.
func (a *Array) Rename(name string) error {
	if err := record.CheckName(name); err != nil {
		return err
	}
	err := a.roster.update(a, func(r *record.Record) { r.Name = name })
	if err == nil {
		a.name.Store(&name)
	}
	return err
}

// ID is the array's identity.
func (a *Array) ID() uuid.UUID { return a.roster.view().Array }

// view does not wait for a roster that is being written: a member may take long to be found hanging.
func (r *roster) view() *record.Record { return r.shown.Load().Clone() }

// update changes the record and writes it to every live member without raising the epoch: for cursors, counters and the
// like, whose loss with a member does no harm.
func (r *roster) update(a *Array, change func(*record.Record)) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := a.alive(); err != nil {
		return err
	}
	change(r.rec)
	return r.write(a)
}

// raise changes the roster: a new epoch, durable on every live member before it returns. Whoever leaves a member out of
// a batch calls it first, so a member that is behind can always be told from one that is current.
func (r *roster) raise(a *Array, change func(*record.Record)) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := a.alive(); err != nil {
		return err
	}
	change(r.rec)
	r.next()
	return r.write(a)
}

// next begins a new epoch in the record; r.mu is held.
func (r *roster) next() {
	r.rec.Before = record.Short(r.rec.EpochID)
	r.rec.Epoch++
	r.rec.EpochID = env.NewID()
	r.rec.Clean = false
}

// activate makes a member that is rebuilt active: on the members first, so that nobody counts on it before a start would.
func (r *roster) activate(a *Array, m *member.Member) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := a.alive(); err != nil {
		return err
	}
	if m.Condition() != record.Rebuilding {
		return fmt.Errorf("%s is %s", m.Name(), m.Condition())
	}
	e := &r.rec.Roster[m.Slot]
	e.Here(record.Active, a.now())
	r.next()
	r.arriving = m
	err := r.write(a)
	r.arriving = nil
	if err == nil && m.Condition() == record.Rebuilding {
		m.Become(record.Active)
	}
	return err
}

// write puts the record on every live member. A member that does not take it is failed, and then the others are written
// again. When there is no room for it the array stops: what the members say of each other is not known any more. r.mu is
// held.
func (r *roster) write(a *Array) error {
again:
	r.rec.Generation++
	var live []*member.Member
	for slot := range a.slots.Len() {
		m := a.slots.At(slot)
		e := &r.rec.Roster[slot]
		e.Errors = m.Errors()
		if m.Disk != nil {
			id := m.Disk.Identity()
			e.Bay, e.Model, e.Serial, e.Path = id.Bay, id.Model, id.Serial, id.Path
		}
		if m.Live() {
			live = append(live, m)
		}
	}
	if len(live) == 0 {
		a.freeze(fmt.Errorf("%w: no member is left that the roster could be written to", ErrFailed))
		return a.alive()
	}
	if whole(r.rec) {
		r.rec.Changes = record.Changes{}
	}
	if err := r.encodable(live); err != nil {
		a.freeze(fmt.Errorf("%w: the roster could not be written: %w", ErrFailed, err))
		return a.alive()
	}
	r.shown.Store(r.rec.Clone())
	r.epoch.Store(r.rec.Epoch)
	errs := make([]error, len(live))
	_ = a.parallel(len(live), func(i int) error {
		errs[i] = live[i].PutRecord(r.rec)
		return nil
	})
	failed := false
	for i, err := range errs {
		switch {
		case err == nil:
		case member.NoRoom(err):
			a.freeze(fmt.Errorf("%w: the roster could not be written: %w; make space there and start the array again", ErrFailed, err))
			return a.alive()
		default:
			live[i].Errs.Write.Add(1)
			if err := r.drop(a, live[i], member.ConditionFor(err), err); err != nil {
				return err
			}
			failed = true
		}
	}
	if failed {
		r.next()
		goto again
	}
	changes := r.rec.Changes
	r.changes.Store(&changes)
	r.unsettled.Store(false)
	return nil
}

// encodable says whether the record is one that can be read back: that it is not would be no fault of a member.
func (r *roster) encodable(live []*member.Member) error {
	if len(live) == 0 {
		return nil
	}
	own := r.rec.Clone()
	own.Slot, own.Member, own.Place = live[0].Slot, live[0].Identity, live[0].Place
	_, err := own.Encode()
	return err
}

// whole says whether nobody is away.
func whole(rec *record.Record) bool {
	return !slices.ContainsFunc(rec.Roster, func(e record.Entry) bool {
		return !e.Condition.Counts()
	})
}

// leaves notes in a record that a member is out, which has one state in its own record and may have another, and holds
// everything up to epoch base (0: nothing that counts). The first to leave begins the change map.
func leaves(rec *record.Record, slot int, to record.Condition, now time.Time, has, tried record.State, base uint64) {
	if whole(rec) {
		rec.Changes = record.Changes{Since: rec.Epoch}
	}
	e := &rec.Roster[slot]
	e.Left, e.Tried, e.Base = has, tried, base
	e.Condition, e.Cursor, e.Since = to, 0, now
}

// mark notes which parts of the array some stripes lie in, on all members, when somebody is away: before what changes
// there counts. It says whether that had to be written.
func (a *Array) mark(stripes func(yield func(number int64) bool)) (wrote bool, err error) {
	on := a.roster.changes.Load()
	if on == nil || on.Since == 0 {
		return false, nil
	}
	marked, all := *on, a.Layout().Stripes()
	for number := range stripes {
		if !probe.AwayNotMarked.On() {
			marked.Mark(record.ChangePart(number, all))
		}
	}
	if marked == *on {
		return false, nil
	}
	probe.ChangeMarked.Seen()
	return true, a.roster.update(a, func(r *record.Record) {
		if r.Changes.Since != 0 {
			for i, v := range marked.Parts {
				r.Changes.Parts[i] |= v
			}
		}
	})
}

// settle waits until the roster on the members says of everybody who is out that he is. When it could not be written the
// array stops: nothing may be committed that a start would take for the work of all.
func (r *roster) settle(a *Array) {
	if !r.unsettled.Load() {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.unsettled.Load() {
		a.freeze(fmt.Errorf("%w: the roster could not be written", ErrFailed))
	}
}

// drop takes a member out of the roster in memory; r.mu is held. When that would put data out of reach the array is
// frozen instead and nothing is written any more: members that vanished together can come back together.
func (r *roster) drop(a *Array, m *member.Member, to record.Condition, cause error) error {
	if m.Condition() == to || !m.Live() {
		return nil
	}
	lost := func(slot int) bool {
		other := a.slots.At(slot)
		arrives := other == r.arriving && other.Live()
		return other == m || !arrives && !other.Condition().Counts()
	}
	if a.rescue != nil {
		m.Become(to)
		a.tables.Forget(m)
		return nil
	}
	if certain, _ := a.Layout().Margin(lost); certain < 0 {
		m.Become(to)
		m.Lost.Store(a.now().UnixNano())
		a.freeze(fmt.Errorf("%w: %s: %s; too many members are lost, nothing more is written", ErrFailed, m.Name(), strings.TrimPrefix(cause.Error(), m.Name()+": ")))
		return a.alive()
	}
	r.unsettled.Store(true)
	m.Become(to)
	m.Because(cause)
	a.tables.Forget(m)
	base := m.Has.Epoch
	if r.rec.Roster[m.Slot].Condition == record.Rebuilding {
		base = m.Base // it had not caught up yet
		if probe.ReturnLosesBase.On() {
			base = 0
		}
	}
	has, tried := m.Has, m.Tried
	if probe.LeftInRosterEpoch.On() {
		has, tried = r.rec.State(), r.rec.State()
	}
	leaves(r.rec, m.Slot, to, a.now(), has, tried, base)
	m.Release()
	a.event("member-"+to.String(), m.Name(), "%v", cause)
	return nil
}

// roll is the array as its members' judge sees it.
type roll struct{ a *Array }

func (r roll) Fail(m *member.Member, to record.Condition, cause error) { r.a.failMember(m, to, cause) }
func (r roll) Needs(slot int) bool                                     { return r.a.WouldFail(slot) }
func (r roll) IsCopy(m *member.Member) bool                            { return r.a.slots.IsCopy(m) }
func (r roll) Alive() error                                            { return r.a.alive() }

func (r roll) Decline(m *member.Member, why string) {
	a := r.a
	if !m.Decline(why) {
		return
	}
	err := a.roster.raise(a, func(r *record.Record) {
		if m.Condition() == record.Failing {
			r.Roster[m.Slot].Condition, r.Roster[m.Slot].Since = record.Failing, a.now()
		}
	})
	if err == nil {
		a.event("member-failing", m.Name(), "%s", why)
	}
}

// failMember takes a member out because of what it did. It returns once every other member knows.
func (a *Array) failMember(m *member.Member, to record.Condition, cause error) {
	a.roster.mu.Lock()
	defer a.roster.mu.Unlock()
	if !m.Live() || a.alive() != nil {
		return
	}
	if a.looking {
		m.Become(to)
		return
	}
	if a.slots.IsCopy(m) {
		// Not a member yet: nobody but the copy misses it.
		m.Become(to)
		a.tables.Forget(m)
		a.event("copy-failed", m.Name(), "%v", cause)
		return
	}
	if err := a.roster.drop(a, m, to, cause); err != nil {
		return
	}
	a.roster.next()
	if probe.LeaverNotWrittenDown.On() {
		a.roster.unsettled.Store(false)
		return
	}
	if err := a.roster.write(a); err != nil {
		a.freeze(fmt.Errorf("%w: the roster could not be written: %w", ErrFailed, err))
	}
}

// ErrMargin is wrapped by Fail when the array would lose data.
var ErrMargin = errors.New("the data would be out of reach")

// ByAdministrator is the reason of members that Fail declared failed: it says nothing about the disk.
const ByAdministrator = "declared failed by the administrator"

// Fail declares the member in slot failed. Unless force is set it refuses when the array would fail with it.
func (a *Array) Fail(slot int, force bool) error {
	if slot < 0 || slot >= a.slots.Len() {
		return fmt.Errorf("slot %d: the array has slots 0 to %d", slot, a.slots.Len()-1)
	}
	m := a.slots.At(slot)
	if !m.Live() {
		return fmt.Errorf("%s is %s already", m.Name(), m.Condition())
	}
	if !force && a.WouldFail(slot) {
		return ErrMargin
	}
	if m.Condition() != record.Rebuilding {
		// What is in its journal gets into place, so that nothing of what it holds is in doubt if it comes back.
		if err := a.checkpoint(); err != nil && a.alive() != nil {
			return err
		}
	}
	a.failMember(m, record.Failed, errors.New(ByAdministrator))
	m.Released()
	return nil
}

// WouldFail says whether the array, as it is now, needs the member in slot to serve its data.
func (a *Array) WouldFail(slot int) bool {
	m := a.slots.At(slot)
	return m.Live() && m.Condition() != record.Rebuilding && !a.Layout().Survives(func(s int) bool {
		o := a.slots.At(s)
		return s == slot || !o.Condition().Counts()
	})
}

// MemberState is what is known of a member.
type MemberState struct {
	Slot      int
	Condition record.Condition
	Disk      disk.Identity
	Size      int64
	Cursor    int64 // strips rebuilt, when rebuilding
	Errors    record.Errors
	Since     time.Time
	Reason    string // why it is failing, failed or missing; empty when this process did not see it
	CatchesUp bool   // it is away, and what it holds still counts when it comes back
}

// MemberStates lists the members by slot.
func (a *Array) MemberStates() []MemberState {
	rec := a.roster.view()
	out := make([]MemberState, a.slots.Len())
	for slot := range a.slots.Len() {
		m := a.slots.At(slot)
		e := rec.Roster[slot]
		out[slot] = MemberState{
			Slot: slot, Condition: m.Condition(), Cursor: m.Cursor.Load(), Size: e.Size, Since: e.Since, CatchesUp: m.Condition() == record.Missing && (e.Base != 0 || m.Lost.Load() != 0),
			Disk:   disk.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial},
			Errors: m.Errors(),
		}
		if m.Disk != nil {
			out[slot].Disk = m.Disk.Identity()
		}
		if at := m.Lost.Load(); at != 0 {
			out[slot].Since = time.Unix(0, at)
		}
		out[slot].Reason = m.Why()
	}
	return out
}

// Epoch is the roster's epoch.
func (a *Array) Epoch() uint64 { return a.roster.view().Epoch }

// Record is a copy of the array's record, as the members hold it but for what is each member's own.
func (a *Array) Record() *record.Record { return a.roster.view() }

// Margin is how many further disks can be lost for certain, and at best. Members that are partitions of one disk are lost
// together.
func (a *Array) Margin() (certain, best int) {
	return a.Layout().MarginOfDisks(a.disks(), a.gone)
}

func (a *Array) gone(slot int) bool {
	return !a.slots.At(slot).Condition().Counts()
}

// disks names the physical disk of each member, by slot.
func (a *Array) disks() []string {
	out := make([]string, a.slots.Len())
	for slot := range a.slots.Len() {
		if m := a.slots.At(slot); m.Disk != nil {
			id := m.Disk.Identity()
			out[slot] = record.SpindleOf(id.Model, id.Serial)
		}
	}
	return out
}

// Condition tells how the array stands.
func (a *Array) Condition() state.Condition {
	if err := a.frozen.Load(); err != nil && !errors.Is(*err, ErrStopped) {
		return state.Failed
	}
	return ConditionOf(a.Layout(), a.disks(), a.gone)
}

// ConditionOf is the condition of a serving array without the members for which gone is true. disks names the disk of each
// slot, see layout.MarginOfDisks.
func ConditionOf(lay *layout.Map, disks []string, gone func(slot int) bool) state.Condition {
	certain, _ := lay.MarginOfDisks(disks, gone)
	full, _ := lay.MarginOfDisks(disks, func(int) bool { return false })
	switch {
	case certain < 0:
		return state.Failed
	case certain == 0 && lay.Redundant():
		return state.Exposed
	case certain >= full:
		return state.Healthy
	}
	return state.Degraded
}

// Failure is why the array serves nothing any more, or nil.
func (a *Array) Failure() error { return a.alive() }

// ErrTwoMembers and ErrNoMember are returned by FindSlot.
var (
	ErrTwoMembers = errors.New("that means two members")
	ErrNoMember   = errors.New("no such member")
)

// FindSlot finds a member by its bay, serial, path or slot number. A word that means two members is refused.
func (a *Array) FindSlot(name string) (int, error) {
	found := -1
	for _, m := range a.MemberStates() {
		if m.Disk.Matches(name) || fmt.Sprint(m.Slot) == name {
			if found >= 0 {
				return 0, ErrTwoMembers
			}
			found = m.Slot
		}
	}
	if found < 0 {
		return 0, ErrNoMember
	}
	return found, nil
}

// Probe asks every live member whether it is there, so that one that is gone is noticed although nobody reads or writes.
func (a *Array) Probe() {
	if a.alive() != nil {
		return
	}
	_ = a.parallel(a.slots.Len(), func(i int) error {
		m := a.slots.At(i)
		if !m.Live() || m.Patient == nil {
			return nil
		}
		if err := m.Patient.Present(); errors.Is(err, disk.ErrGone) {
			m.ReadProblem(err)
		}
		return nil
	})
}

// Health is what a member's disk says of itself, errors.ErrUnsupported when it does not.
func (a *Array) Health(slot int) (health.Readings, error) {
	if m := a.slots.At(slot); m.Live() && m.Patient != nil {
		return m.Patient.Health()
	}
	return health.Readings{}, errors.ErrUnsupported
}

// Foretell declares a member failing for a reason that was found outside of the engine.
func (a *Array) Foretell(slot int, why string) { roll{a}.Decline(a.slots.At(slot), why) }
