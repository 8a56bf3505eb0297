package array

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"nidalo/core/record"
	"nidalo/internal/disk"
)

// member is one slot's disk as the engine works with it. A replacement is a new member.
type member struct {
	slot   int
	disk   disk.Disk // nil when there is none (missing)
	place  record.Place
	tag    uint64
	key    uint32 // for the page cache; unique in this process
	state  atomic.Int32
	cursor atomic.Int64 // rows below it are rebuilt
	errs   struct{ read, write, checksum atomic.Uint64 }
	ring   ring
}

var memberKeys atomic.Uint32

func newMember(slot int, d disk.Disk, r *record.Record) *member {
	m := &member{slot: slot, disk: d, key: memberKeys.Add(1)}
	e := r.Roster[slot]
	m.state.Store(int32(e.Condition))
	m.cursor.Store(e.Cursor)
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

// usable says that what the member holds at a row is current.
func (m *member) usable(row int64) bool {
	switch m.condition() {
	case record.Active, record.Failing:
		return m.disk != nil
	case record.Rebuilding:
		return m.disk != nil && row < m.cursor.Load()
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

// readData and writeData move blocks of the member's data.
func (a *Array) readData(m *member, bufs [][]byte, block int64) error {
	err := m.disk.ReadVec(bufs, m.offset(block))
	if err != nil {
		a.readProblem(m, err)
	}
	return err
}

func (a *Array) writeData(m *member, bufs [][]byte, block int64) error {
	a.stats.InPlace.Add(int64(disk.Length(bufs)))
	err := m.disk.WriteVec(bufs, m.offset(block))
	if err != nil {
		return a.writeProblem(m, err)
	}
	return nil
}

// readProblem: one bad sector is not a bad disk, so the place is healed, and counted then; only a disk that is gone is
// failed.
func (a *Array) readProblem(m *member, err error) {
	if errors.Is(err, disk.ErrGone) {
		a.failMember(m, record.Missing, err)
	}
}

// count counts an error of a member and has its case looked at when it crosses a limit.
func (a *Array) count(m *member, counter *atomic.Uint64) {
	counter.Add(1)
	switch int64(m.errs.read.Load() + m.errs.checksum.Load()) {
	case a.cfg.Limits.Failing, a.cfg.Limits.Failed:
		select {
		case a.suspects <- m:
		default:
		}
	}
}

// suspectLoop judges members whose errors crossed a limit. It does so by itself, because whoever counts an error may hold
// locks that a change of the roster needs.
func (a *Array) suspectLoop() {
	for {
		select {
		case <-a.stop:
			return
		case m := <-a.suspects:
			a.suspect(m)
		}
	}
}

func (a *Array) suspect(m *member) {
	errs := int64(m.errs.read.Load() + m.errs.checksum.Load())
	if l := a.cfg.Limits.Failed; l > 0 && errs >= l && !a.WouldFail(m.slot) {
		a.failMember(m, record.Failed, fmt.Errorf("%d reads failed or had wrong checksums", errs))
		return
	}
	if l := a.cfg.Limits.Failing; l > 0 && errs >= l && m.state.CompareAndSwap(int32(record.Active), int32(record.Failing)) {
		err := a.roster.raise(a, func(r *record.Record) {
			if m.condition() == record.Failing {
				r.Roster[m.slot].Condition, r.Roster[m.slot].Since = record.Failing, a.now()
			}
		})
		if err == nil {
			a.event("member-failing", m.name(), "%d reads failed or had wrong checksums; all were restored", errs)
		}
	}
}

// writeProblem: a disk that cannot be written cannot be kept in step, so it is failed; then the write as a whole is as
// good as done, since the roster says that this member is behind. Only a full file system below a member file is no
// fault of the disk, and is returned.
func (a *Array) writeProblem(m *member, err error) error {
	m.errs.write.Add(1)
	switch {
	case errors.Is(err, disk.ErrFull):
		return err
	case errors.Is(err, disk.ErrGone):
		a.failMember(m, record.Missing, err)
	default:
		a.failMember(m, record.Failed, err)
	}
	return a.alive()
}

// roster guards the member record that all live members carry.
type roster struct {
	mu  sync.Mutex
	rec *record.Record // Slot, Member and Place are filled in for each member when it is written
	ids []uuid.UUID    // by slot: the identity each member's own record carries
}

// Name is the array's name.
func (a *Array) Name() string { return *a.name.Load() }

// ID is the array's identity.
func (a *Array) ID() uuid.UUID { return a.roster.view().Array }

func (r *roster) view() *record.Record {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.rec.Clone()
}

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
	r.rec.Epoch++
	r.rec.EpochID = uuid.New()
	r.rec.Clean = false
	return r.write(a)
}

// write puts the record on every live member. A member that does not take it is failed, and then the others are written
// again. r.mu is held.
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
	errs := make([]error, len(live))
	_ = a.parallel(len(live), func(i int) error {
		errs[i] = r.writeOne(live[i])
		return nil
	})
	failed := false
	for i, err := range errs {
		switch {
		case err == nil:
		case errors.Is(err, disk.ErrFull):
			return err
		default:
			live[i].errs.write.Add(1)
			if err := r.drop(a, live[i], conditionFor(err), err); err != nil {
				return err
			}
			failed = true
		}
	}
	if failed {
		r.rec.Epoch++
		r.rec.EpochID = uuid.New()
		goto again
	}
	return nil
}

func conditionFor(err error) record.Condition {
	if errors.Is(err, disk.ErrGone) {
		return record.Missing
	}
	return record.Failed
}

// writeOne writes both copies, one after the other with a sync in between: a crash leaves at least one whole.
func (r *roster) writeOne(m *member) error {
	own := r.rec.Clone()
	own.Slot, own.Member, own.Place = m.slot, r.ids[m.slot], m.place
	buf, err := own.Encode()
	if err != nil {
		return err
	}
	if err := m.disk.WriteAt(buf, 0); err != nil {
		return err
	}
	if err := m.disk.Sync(); err != nil {
		return err
	}
	if err := m.disk.WriteAt(buf, disk.TailRecord(m.place.Size)); err != nil {
		return err
	}
	return m.disk.Sync()
}

// drop takes a member out of the roster in memory; r.mu is held. When that would put data out of reach the array is
// frozen instead and nothing is written any more: members that vanished together can come back together.
func (r *roster) drop(a *Array, m *member, to record.Condition, cause error) error {
	if m.condition() == to || !m.live() {
		return nil
	}
	lost := func(slot int) bool {
		other := a.members[slot].Load()
		return other == m || other.condition() != record.Active && other.condition() != record.Failing
	}
	if certain, _ := a.geo.Margin(lost); certain < 0 {
		m.state.Store(int32(to))
		a.freeze(fmt.Errorf("%w: %s: %v; too many members are lost, nothing more is written", ErrFailed, m.name(), cause))
		return a.alive()
	}
	m.state.Store(int32(to))
	a.tables.forget(m)
	e := &r.rec.Roster[m.slot]
	e.Condition, e.Cursor, e.Since = to, 0, a.now()
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
	if err := a.roster.drop(a, m, to, cause); err != nil {
		return
	}
	a.roster.rec.Epoch++
	a.roster.rec.EpochID = uuid.New()
	if err := a.roster.write(a); err != nil {
		a.freeze(fmt.Errorf("%w: the roster could not be written: %w", ErrFailed, err))
	}
}

// ErrMargin is wrapped by Fail when the array would lose data.
var ErrMargin = errors.New("the data would be out of reach")

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
	a.failMember(m, record.Failed, errors.New("declared failed by the administrator"))
	return nil
}

// Probe touches every live member, so that one that is gone is noticed although nobody reads or writes.
func (a *Array) Probe() {
	if a.alive() != nil {
		return
	}
	_ = a.parallel(len(a.members), func(i int) error {
		m := a.members[i].Load()
		if !m.live() {
			return nil
		}
		buf := make([]byte, Block)
		if err := m.disk.ReadAt(buf, 0); errors.Is(err, disk.ErrGone) {
			a.failMember(m, record.Missing, err)
		}
		return nil
	})
}

// WouldFail says whether the array, as it is now, needs the member in slot to serve its data.
func (a *Array) WouldFail(slot int) bool {
	m := a.members[slot].Load()
	return m.live() && m.condition() != record.Rebuilding && !a.geo.Survives(func(s int) bool {
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
	Cursor    int64 // rows rebuilt, when rebuilding
	Errors    record.Errors
	Since     time.Time
}

// MemberStates lists the members by slot.
func (a *Array) MemberStates() []MemberState {
	rec := a.roster.view()
	out := make([]MemberState, len(a.members))
	for slot := range a.members {
		m := a.members[slot].Load()
		e := rec.Roster[slot]
		out[slot] = MemberState{
			Slot: slot, Condition: m.condition(), Cursor: m.cursor.Load(), Size: e.Size, Since: e.Since,
			Disk:   disk.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial},
			Errors: record.Errors{Read: m.errs.read.Load(), Write: m.errs.write.Load(), Checksum: m.errs.checksum.Load()},
		}
		if m.disk != nil {
			out[slot].Disk = m.disk.Identity()
		}
	}
	return out
}

// Epoch is the roster's epoch.
func (a *Array) Epoch() uint64 { return a.roster.view().Epoch }

// Record is a copy of the array's record, as the members hold it but for what is each member's own.
func (a *Array) Record() *record.Record { return a.roster.view() }

// Margin is how many further members can be lost for certain, and at best.
func (a *Array) Margin() (certain, best int) {
	return a.geo.Margin(func(slot int) bool {
		c := a.members[slot].Load().condition()
		return c != record.Active && c != record.Failing
	})
}

// Condition is the condition of an array.
type Condition string

// The conditions of an array.
const (
	Healthy  Condition = "healthy"
	Degraded Condition = "degraded"
	Exposed  Condition = "exposed"
	FailedC  Condition = "failed"
)

// Condition tells how the array stands.
func (a *Array) Condition() Condition {
	if err := a.frozen.Load(); err != nil && !errors.Is(*err, ErrStopped) {
		return FailedC
	}
	certain, _ := a.Margin()
	full, _ := a.geo.Margin(func(int) bool { return false })
	return ConditionFor(certain, full)
}

// ConditionFor is the condition of a serving array with the given margin, of the full margin of its level.
func ConditionFor(certain, full int) Condition {
	switch {
	case certain < 0:
		return FailedC
	case certain == full:
		return Healthy
	case certain == 0:
		return Exposed
	}
	return Degraded
}

// Failure is why the array serves nothing any more, or nil.
func (a *Array) Failure() error { return a.alive() }

// used slots of the same disk never repeat, so a slot is found by its disk.
func (a *Array) slotOf(match func(MemberState) bool) int {
	return slices.IndexFunc(a.MemberStates(), match)
}

// FindSlot finds a member by its bay, serial, path or slot number.
func (a *Array) FindSlot(name string) (int, bool) {
	if slot := a.slotOf(func(m MemberState) bool { return m.Disk.Matches(name) }); slot >= 0 {
		return slot, true
	}
	var slot int
	if n, err := fmt.Sscanf(name, "%d", &slot); n == 1 && err == nil && fmt.Sprint(slot) == name && slot >= 0 && slot < len(a.members) {
		return slot, true
	}
	return 0, false
}
