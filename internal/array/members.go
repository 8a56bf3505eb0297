package array

import (
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"nidalo/core/health"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
)

// Name is the array's name.
func (a *Array) Name() string { return *a.name.Load() }

// Rename gives the array another name, on all members.
func (a *Array) Rename(name string) error {
	if err := record.CheckName(name); err != nil {
		return err
	}
	err := a.roster.Update(func(r *record.Record) { r.Name = name })
	if err == nil {
		a.name.Store(&name)
	}
	return err
}

// ID is the array's identity.
func (a *Array) ID() uuid.UUID { return a.roster.View().Array }

// WouldFail says whether the array, as it is now, needs the member in slot to serve its data.
func (a *Array) WouldFail(slot int) bool {
	return a.roster.Needs(slot)
}

// MemberState is what is known of a member.
type MemberState struct {
	Slot      int
	Condition record.Condition
	Disk      state.Identity
	Size      int64
	Cursor    int64 // strips rebuilt, when rebuilding
	Errors    record.Errors
	Since     time.Time
	Reason    string    // why it is failing, failed or missing; empty when this process did not see it
	Load      disk.Load // what its disk did since it was opened
	CatchesUp bool      // it is away, and what it holds still counts when it comes back
}

// Vacant says whether its slot is empty, for good.
func (m MemberState) Vacant() bool { return m.Condition == record.Vacant }

// MemberStates lists the members by slot.
func (a *Array) MemberStates() []MemberState {
	rec := a.roster.View()
	out := make([]MemberState, len(rec.Roster))
	for slot, e := range rec.Roster {
		m := a.slots.At(slot)
		out[slot] = MemberState{
			Slot: slot, Condition: m.Condition(), Cursor: m.Cursor.Load(), Size: e.Size, Since: e.Since, CatchesUp: m.Condition() == record.Missing && (e.Base != 0 || m.Lost.Load() != 0),
			Disk:   state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial},
			Errors: m.Errors(),
		}
		if m.Disk != nil {
			out[slot].Disk = m.Disk.Identity()
		}
		if at := m.Lost.Load(); at != 0 {
			out[slot].Since = time.Unix(0, at)
		}
		out[slot].Reason = m.Why()
		if m.Live() && m.Patient != nil {
			out[slot].Load = m.Patient.Load()
		}
	}
	return out
}

// Late is an operation of a member that took long.
type Late struct {
	Slot int
	Disk state.Identity
	disk.Late
}

// Late are operations of members that took long and ended after a moment, and those under way, whose end is zero.
func (a *Array) Late(after time.Time) (out []Late) {
	for slot := range a.roster.View().Roster {
		m := a.slots.At(slot)
		if m.Disk == nil || m.Patient == nil {
			continue
		}
		for _, l := range m.Patient.Late(after) {
			out = append(out, Late{Slot: slot, Disk: m.Disk.Identity(), Late: l})
		}
	}
	return out
}

// Epoch is the roster's epoch.
func (a *Array) Epoch() uint64 { return a.roster.View().Epoch }

// Record is a copy of the array's record, as the members hold it but for what is each member's own.
func (a *Array) Record() *record.Record { return a.roster.View() }

// Beat shows on members on other hosts that the array is in use.
func (a *Array) Beat() error { return a.roster.Beat() }

// Margin is how many further disks can be lost for certain, and at best. Members that are partitions of one disk are lost
// together. In a guarded set that is in service in part every further loss is that of a volume.
func (a *Array) Margin() (certain, best int) {
	certain, best = a.Layout().MarginOfDisks(a.disks(), a.gone)
	if certain < 0 && a.Layout().Serves(a.gone) {
		return 0, 0
	}
	return certain, best
}

func (a *Array) gone(slot int) bool {
	for {
		m := a.slots.At(slot)
		if m.Condition().Counts() {
			return false
		}
		if a.slots.At(slot) == m { // else another has taken its place in that moment, and it left only then
			return true
		}
	}
}

// disks names what each member is lost with, by slot, see state.Spindles.
func (a *Array) disks() []string {
	out := make([]state.Identity, a.slots.Len())
	for slot := range out {
		if m := a.slots.At(slot); m.Disk != nil {
			out[slot] = m.Disk.Identity()
		}
	}
	return state.Spindles(out)
}

// Condition tells how the array stands.
func (a *Array) Condition() state.Condition {
	if err := a.frozen.Load(); err != nil && !errors.Is(*err, ErrStopped) {
		return state.Failed
	}
	return a.Layout().Condition(a.disks(), a.gone)
}

// Failure is why the array serves nothing any more, or nil.
func (a *Array) Failure() error { return a.alive() }

// Oust stops all writing because another host has the array.
func (a *Array) Oust(why error) { a.fail(why) }

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

// Probe asks every live member whether it is there, and whole, so that one that is not is noticed although nothing is read or written.
func (a *Array) Probe() {
	if a.alive() != nil {
		return
	}
	lacks := make([]string, a.slots.Len())
	_ = member.Parallel(len(lacks), func(i int) error {
		m := a.slots.At(i)
		if !m.Live() || m.Patient == nil {
			return nil
		}
		if err := m.Patient.Present(); errors.Is(err, disk.ErrGone) {
			m.ReadProblem(err)
		} else if err == nil {
			lacks[i] = m.Patient.Lacks()
		}
		return nil
	})
	for i, why := range lacks {
		if m := a.slots.At(i); why != "" && m.Live() {
			a.roster.Decline(m, why)
		}
	}
}

// Lacks says why the disk of a member had better be replaced although no operation has failed; empty: nothing is known.
func (a *Array) Lacks(slot int) string {
	if m := a.slots.At(slot); m.Live() && m.Patient != nil {
		return m.Patient.Lacks()
	}
	return ""
}

// Health is what a member's disk says of itself, errors.ErrUnsupported when it does not.
func (a *Array) Health(slot int) (health.Readings, error) {
	if m := a.slots.At(slot); m.Live() && m.Patient != nil {
		return m.Patient.Health()
	}
	return health.Readings{}, errors.ErrUnsupported
}

// Foretell declares a member failing for a reason that was found outside of the engine.
func (a *Array) Foretell(slot int, why string) { a.roster.Decline(a.slots.At(slot), why) }

// Trouble is why the journals cannot be emptied at the moment, or nil. Nothing that was flushed is lost by it.
func (a *Array) Trouble() error { return a.journal.Trouble() }

// Awaits says which slot waits for the disk that carries a member record, see roster.
func (a *Array) Awaits(own *record.Record, failed bool) (slot int, err error) {
	return a.roster.Awaits(own, failed)
}

// Used is how much of the usable capacity lies where something was ever written, in bytes: an upper bound, in steps of a checksum page.
func (a *Array) Used() int64 { return a.stripes.Used() }
