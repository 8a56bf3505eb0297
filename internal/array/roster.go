package array

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// member is one slot's disk as the engine works with it. A replacement is a new member.
type member struct {
	slot int
	disk disk.Disk // nil when there is none (missing)
	// patient is disk as what it is when the engine is not serial; else nil.
	patient  *disk.Patient
	identity uuid.UUID
	place    record.Place
	tag      uint64
	key      uint32 // for the page cache; unique in the array
	state    atomic.Int32
	cursor   atomic.Int64 // how many of its strips are rebuilt
	left     uint64       // when rebuilding: above the cursor it has all that was not changed after this epoch; 0: nothing
	has      rosterState  // that its own record is in, for certain; guarded by roster.mu
	tried    rosterState  // that was last written to it, perhaps in part; guarded by roster.mu
	errs     struct{ read, write, checksum atomic.Uint64 }
	setBack  atomic.Bool // one of its pages was older than its witness; it was said
	stale    bool        // in a rescue: it left the array earlier, at the epoch left
	ring     ring
	reason   atomic.Pointer[string] // why it is failing or failed, when this process saw it
	lost     atomic.Int64           // when the array failed by its loss, which no roster tells any more; ns
	keeps    atomic.Bool            // it cannot give blocks back
	closing  env.Once
	closed   chan struct{} // closed when the disk is
}

// rosterState names a state of the roster.
type rosterState struct{ epoch, id uint64 }

func stateOfRecord(r *record.Record) rosterState {
	return rosterState{r.Epoch, record.Short(r.EpochID)}
}

// release closes the member's disk, so that others can open it. It does not wait: what is under way on a disk that hangs
// holds it for as long as it hangs.
func (m *member) release() {
	if m.disk == nil {
		return
	}
	m.closing.Do(func() {
		if m.patient == nil {
			_ = m.disk.Close()
			close(m.closed)
			return
		}
		env.Go(func() {
			_ = m.disk.Close()
			close(m.closed)
		})
	})
}

// released waits until the disk is closed, but not for long.
func (m *member) released() {
	if m.disk == nil {
		return
	}
	m.release()
	env.Wait(releaseWait, m.closed)
}

// reserve makes room for a stretch of the member where that may be short, in a file on a file system that is nearly full.
func (m *member) reserve(off, n int64) error {
	d := m.disk
	if m.patient != nil {
		d = m.patient.Disk
	}
	if r, ok := d.(disk.Reserver); ok {
		return r.Reserve(off, n)
	}
	return nil
}

// releaseWait is how long a command waits for the handle of a disk that left; only a disk that hangs takes longer.
const releaseWait = 2 * time.Second

// bareMember is a member of which nothing is known yet.
func (a *Array) bareMember(slot int, d disk.Disk) *member {
	m := &member{slot: slot, disk: d, key: a.keys.Add(1), closed: make(chan struct{})}
	if d != nil {
		m.patient = disk.NewPatient(d, a.cfg.Limits.Patience, func() bool { return !a.WouldFail(slot) })
		m.disk = m.patient
	}
	return m
}

func (a *Array) newMember(slot int, d disk.Disk, r *record.Record) *member {
	m := a.bareMember(slot, d)
	e := r.Roster[slot]
	m.state.Store(int32(e.Condition))
	m.cursor.Store(e.Cursor)
	m.left = e.Base
	m.errs.read.Store(e.Errors.Read)
	m.errs.write.Store(e.Errors.Write)
	m.errs.checksum.Store(e.Errors.Checksum)
	return m
}

func (m *member) condition() record.Condition { return record.Condition(m.state.Load()) }

// live says that the member takes part: it is written to, and its record is kept.
func (m *member) live() bool {
	switch m.condition() {
	case record.Active, record.Failing, record.Rebuilding:
		return m.disk != nil
	}
	return false
}

// usable says that what the member holds of a stripe is current.
func (m *member) usable(st layout.Stripe) bool {
	switch m.condition() {
	case record.Active, record.Failing:
		return m.disk != nil
	case record.Rebuilding:
		return m.disk != nil && st.Nth(m.slot) < m.cursor.Load()
	}
	return false
}

func (m *member) name() string {
	if m.disk == nil {
		return fmt.Sprintf("slot %d", m.slot)
	}
	return m.disk.Identity().String()
}

func (m *member) offset(block int64) int64 { return m.place.DataStart + block*Block }

// roster guards the member record that all live members carry.
type roster struct {
	mu    env.Mutex
	rec   *record.Record                // Slot, Member and Place are filled in for each member when it is written
	ids   []uuid.UUID                   // by slot: the identity each member's own record carries
	shown atomic.Pointer[record.Record] // rec as it was last written or is being written, never changed
	// unsettled: a member was dropped, and the roster that says so is not on all others yet.
	unsettled atomic.Bool
	arriving  *member                        // is about to be active: the record that is being written says so
	epoch     atomic.Uint64                  // of shown
	changes   atomic.Pointer[record.Changes] // as they are on the members
}

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
func (r *roster) activate(a *Array, m *member) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := a.alive(); err != nil {
		return err
	}
	if m.condition() != record.Rebuilding {
		return fmt.Errorf("%s is %s", m.name(), m.condition())
	}
	e := &r.rec.Roster[m.slot]
	e.Condition, e.Cursor, e.Since = record.Active, 0, a.now()
	e.Left, e.LeftID, e.Tried, e.TriedID, e.Base = 0, 0, 0, 0, 0
	r.next()
	r.arriving = m
	err := r.write(a)
	r.arriving = nil
	if err == nil && m.condition() == record.Rebuilding {
		m.state.Store(int32(record.Active))
	}
	return err
}

// write puts the record on every live member. A member that does not take it is failed, and then the others are written
// again. When there is no room for it the array stops: what the members say of each other is not known any more. r.mu is
// held.
func (r *roster) write(a *Array) error {
again:
	r.rec.Generation++
	var live []*member
	for slot := range a.members {
		m := a.members[slot].Load()
		e := &r.rec.Roster[slot]
		e.Errors = record.Errors{Read: m.errs.read.Load(), Write: m.errs.write.Load(), Checksum: m.errs.checksum.Load()}
		if m.disk != nil {
			id := m.disk.Identity()
			e.Bay, e.Model, e.Serial, e.Path = id.Bay, id.Model, id.Serial, id.Path
		}
		if m.live() {
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
		errs[i] = r.writeOne(live[i])
		return nil
	})
	failed := false
	for i, err := range errs {
		switch {
		case err == nil:
		case errors.Is(err, disk.ErrFull) && !errors.Is(err, errUnsynced):
			a.freeze(fmt.Errorf("%w: the roster could not be written: %w; make space there and start the array again", ErrFailed, err))
			return a.alive()
		default:
			live[i].errs.write.Add(1)
			if err := r.drop(a, live[i], conditionFor(err), err); err != nil {
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
func (r *roster) encodable(live []*member) error {
	if len(live) == 0 {
		return nil
	}
	own := r.rec.Clone()
	own.Slot, own.Member, own.Place = live[0].slot, r.ids[live[0].slot], live[0].place
	_, err := own.Encode()
	return err
}

// whole says whether nobody is away.
func whole(rec *record.Record) bool {
	return !slices.ContainsFunc(rec.Roster, func(e record.Entry) bool {
		return e.Condition != record.Active && e.Condition != record.Failing
	})
}

// leaves notes in a record that a member is out, which has one state in its own record and may have another, and holds
// everything up to epoch base (0: nothing that counts). The first to leave begins the change map.
func leaves(rec *record.Record, slot int, to record.Condition, now time.Time, has, tried rosterState, base uint64) {
	if whole(rec) {
		rec.Changes = record.Changes{Since: rec.Epoch}
	}
	e := &rec.Roster[slot]
	e.Left, e.LeftID, e.Tried, e.TriedID, e.Base = has.epoch, has.id, tried.epoch, tried.id, base
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

func conditionFor(err error) record.Condition {
	if errors.Is(err, disk.ErrGone) {
		return record.Missing
	}
	return record.Failed
}

// errUnsynced marks errors of a sync: what was written before may be gone, and no further sync can tell.
var errUnsynced = errors.New("what was written may not be durable")

// sync makes what was written to the member durable.
func (m *member) sync() error {
	if err := m.disk.Sync(); err != nil {
		return fmt.Errorf("%w: %w", err, errUnsynced)
	}
	return nil
}

// writeOne writes both copies, one after the other with a sync in between: a crash leaves at least one whole.
func (r *roster) writeOne(m *member) error {
	own := r.rec.Clone()
	own.Slot, own.Member, own.Place = m.slot, r.ids[m.slot], m.place
	buf, err := own.Encode()
	if err != nil {
		return err
	}
	m.tried = stateOfRecord(own)
	for _, off := range []int64{0, disk.TailRecord(m.place.Size)} {
		if err := m.disk.WriteAt(buf, off); err != nil {
			return err
		}
		if err := m.sync(); err != nil {
			return err
		}
	}
	m.has = m.tried
	return nil
}

// drop takes a member out of the roster in memory; r.mu is held. When that would put data out of reach the array is
// frozen instead and nothing is written any more: members that vanished together can come back together.
func (r *roster) drop(a *Array, m *member, to record.Condition, cause error) error {
	if m.condition() == to || !m.live() {
		return nil
	}
	lost := func(slot int) bool {
		other := a.members[slot].Load()
		arrives := other == r.arriving && other.live()
		return other == m || !arrives && other.condition() != record.Active && other.condition() != record.Failing
	}
	if a.rescue != nil {
		m.state.Store(int32(to))
		a.tables.forget(m)
		return nil
	}
	if certain, _ := a.Layout().Margin(lost); certain < 0 {
		m.state.Store(int32(to))
		m.lost.Store(a.now().UnixNano())
		a.freeze(fmt.Errorf("%w: %s: %s; too many members are lost, nothing more is written", ErrFailed, m.name(), strings.TrimPrefix(cause.Error(), m.name()+": ")))
		return a.alive()
	}
	r.unsettled.Store(true)
	m.state.Store(int32(to))
	why := cause.Error()
	m.reason.Store(&why)
	a.tables.forget(m)
	base := m.has.epoch
	if r.rec.Roster[m.slot].Condition == record.Rebuilding {
		base = m.left // it had not caught up yet
		if probe.ReturnLosesBase.On() {
			base = 0
		}
	}
	has, tried := m.has, m.tried
	if probe.LeftInRosterEpoch.On() {
		has, tried = stateOfRecord(r.rec), stateOfRecord(r.rec)
	}
	leaves(r.rec, m.slot, to, a.now(), has, tried, base)
	m.release()
	a.event("member-"+to.String(), m.name(), "%v", cause)
	return nil
}

// failMember takes a member out because of what it did. It returns once every other member knows.
func (a *Array) failMember(m *member, to record.Condition, cause error) {
	a.roster.mu.Lock()
	defer a.roster.mu.Unlock()
	if !m.live() || a.alive() != nil {
		return
	}
	if a.looking {
		m.state.Store(int32(to))
		return
	}
	if a.onto[m.slot].Load() == m {
		// Not a member yet: nobody but the copy misses it.
		m.state.Store(int32(to))
		a.tables.forget(m)
		a.event("copy-failed", m.name(), "%v", cause)
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
	if slot < 0 || slot >= len(a.members) {
		return fmt.Errorf("slot %d: the array has slots 0 to %d", slot, len(a.members)-1)
	}
	m := a.members[slot].Load()
	if !m.live() {
		return fmt.Errorf("%s is %s already", m.name(), m.condition())
	}
	if !force && a.WouldFail(slot) {
		return ErrMargin
	}
	if m.condition() != record.Rebuilding {
		// What is in its journal gets into place, so that nothing of what it holds is in doubt if it comes back.
		if err := a.checkpoint(); err != nil && a.alive() != nil {
			return err
		}
	}
	a.failMember(m, record.Failed, errors.New(ByAdministrator))
	m.released()
	return nil
}

// WouldFail says whether the array, as it is now, needs the member in slot to serve its data.
func (a *Array) WouldFail(slot int) bool {
	m := a.members[slot].Load()
	return m.live() && m.condition() != record.Rebuilding && !a.Layout().Survives(func(s int) bool {
		o := a.members[s].Load()
		return s == slot || o.condition() != record.Active && o.condition() != record.Failing
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
	out := make([]MemberState, len(a.members))
	for slot := range a.members {
		m := a.members[slot].Load()
		e := rec.Roster[slot]
		out[slot] = MemberState{
			Slot: slot, Condition: m.condition(), Cursor: m.cursor.Load(), Size: e.Size, Since: e.Since, CatchesUp: m.condition() == record.Missing && (e.Base != 0 || m.lost.Load() != 0),
			Disk:   disk.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial},
			Errors: record.Errors{Read: m.errs.read.Load(), Write: m.errs.write.Load(), Checksum: m.errs.checksum.Load()},
		}
		if m.disk != nil {
			out[slot].Disk = m.disk.Identity()
		}
		if at := m.lost.Load(); at != 0 {
			out[slot].Since = time.Unix(0, at)
		}
		if why := m.reason.Load(); why != nil {
			out[slot].Reason = *why
		}
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
	c := a.members[slot].Load().condition()
	return c != record.Active && c != record.Failing
}

// disks names the physical disk of each member, by slot.
func (a *Array) disks() []string {
	out := make([]string, len(a.members))
	for slot := range a.members {
		if m := a.members[slot].Load(); m.disk != nil {
			id := m.disk.Identity()
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
