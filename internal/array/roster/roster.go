// Package roster keeps the list of the members of an array, since which epoch each belongs to it, and writes it down on every member.
package roster

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Host is what the roster takes from outside.
type Host struct {
	Slots  *member.Slots
	Layout func() *layout.Map
	Now    func() time.Time
	Alive  func() error                             // why nothing may be written any more, or nil
	Freeze func(why error)                          // nothing more may be written
	Say    func(kind event.Kind, disk, text string) // tells what happened to a disk, or to the array
	Forget func(m *member.Member)                   // a member left: what is kept of it in memory counts no more
	Agree  func(*record.Record, record.State) error // see array.Config; nil: nobody else has a say
	Use    Use
	Writer uint64 // of records; see record.WriterOf
}

// Use is what the members of an array are opened for.
type Use int

// The uses.
const (
	ToServe   Use = iota
	ToLook        // to look at them: a failure is kept in memory only
	ToSalvage     // to read as much as possible: the array goes on when members fail
)

// New makes the roster of an array as a record has it.
func New(host Host, rec *record.Record) *Roster {
	rec.Writer = host.Writer
	r := &Roster{host: host, rec: rec}
	env.Ranked(&r.mu, env.RankRoster)
	r.Show()
	return r
}

// Show makes the record as it is now what others see.
func (r *Roster) Show() {
	r.shown.Store(r.rec.Clone())
	r.epoch.Store(r.rec.Epoch)
}

// Roster guards the member record that all live members carry, and decides which members take part.
type Roster struct {
	host  Host
	mu    env.Mutex
	rec   *record.Record                // Slot, Member and Place are filled in for each member when it is written
	shown atomic.Pointer[record.Record] // rec as it was last written or is being written, never changed
	// unsettled: a member was dropped, and the roster that says so is not on all others yet.
	unsettled atomic.Bool
	pending   atomic.Pointer[layout.Map]     // that is about to be in force, see Pend
	arriving  *member.Member                 // is about to be active: the record that is being written says so
	epoch     atomic.Uint64                  // of shown
	agreed    record.State                   // what Agree was asked last; under mu
	whole     record.State                   // that is on all members that took part in it; under mu
	changes   atomic.Pointer[record.Changes] // as they are on the members
	owed      atomic.Pointer[[]record.Parts] // by slot, as it is on the members
}

// Holder is the slot that keeps the witnesses of the pages of another; -1 when none does.
func (r *Roster) Holder(slot int) int {
	if all := r.shown.Load().Roster; slot < len(all) {
		return all[slot].Witness
	}
	return -1 // it was let go
}

// Epoch is that of the roster as it is shown.
func (r *Roster) Epoch() uint64 { return r.epoch.Load() }

// Starts is how often the array was started.
func (r *Roster) Starts() uint64 { return r.shown.Load().Starts }

// View does not wait for a roster that is being written: a member may take long to be found hanging.
func (r *Roster) View() *record.Record { return r.shown.Load().Clone() }

// Update changes the record and writes it to every live member without raising the epoch: for cursors, counters and the
// like, whose loss with a member does no harm.
func (r *Roster) Update(change func(*record.Record)) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.host.Alive(); err != nil {
		return err
	}
	change(r.rec)
	return r.write()
}

// Beat writes the record again, with the next number, to members on other hosts: whoever looks at it there sees that the array is in use. A member that
// is out of touch is left alone.
func (r *Roster) Beat() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.host.Alive(); err != nil {
		return err
	}
	var elsewhere []*member.Member
	for slot := range r.host.Slots.Len() {
		if m := r.host.Slots.At(slot); m.Live() && m.Patient != nil && m.Patient.InTouchElsewhere() {
			elsewhere = append(elsewhere, m)
		}
	}
	if len(elsewhere) == 0 {
		return nil
	}
	r.rec.Generation++
	if member.Parallel(len(elsewhere), func(i int) error { return elsewhere[i].PutRecord(r.rec) }) == nil {
		return nil
	}
	if err := r.host.Alive(); err != nil { // the array was stopped meanwhile, which is no fault of a member
		return err
	}
	return r.write() // which knows what follows from that
}

// Begin counts a start: for numbers of checkpoints that no page has.
func (r *Roster) Begin() error { return r.Update(func(rec *record.Record) { rec.Starts++ }) }

// change is a change of the roster. All of it is called with the roster held.
type change struct {
	Make  func(*record.Record) error // changes the record; after an error nothing is raised or written
	First func(*record.Record) error // is called before the new epoch is on any member; may be nil
	Done  func()                     // is called when it is on all that take part; may be nil
}

// errUnchanged is returned by a change that turns out to be none.
var errUnchanged = errors.New("nothing is to be changed")

// raise changes the roster: a new epoch, durable on every live member before it returns. It comes before the first batch that leaves a
// member out, so a member that is behind can always be told from one that is current.
func (r *Roster) raise(c change) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.host.Alive(); err != nil {
		return err
	}
	if err := c.Make(r.rec); err != nil {
		return err
	}
	r.next()
	if c.First != nil {
		if err := c.First(r.rec); err != nil {
			return err
		}
	}
	if err := r.write(); err != nil {
		return err
	}
	if c.Done != nil {
		c.Done()
	}
	return nil
}

// next begins a new epoch in the record; r.mu is held.
func (r *Roster) next() {
	r.rec.Before = record.Short(r.rec.EpochID)
	r.rec.Epoch++
	r.rec.EpochID = env.NewID()
	r.rec.Clean = false
}

// Join makes a prepared disk the member of its slot, with nothing rebuilt yet.
func (r *Roster) Join(m *member.Member) error {
	return r.raise(change{Make: func(rec *record.Record) error {
		m.Become(record.Rebuilding)
		r.host.Slots.Put(m)
		e := &rec.Roster[m.Slot]
		was := *e
		*e = record.Entry{ID: m.Identity, Condition: record.Rebuilding, Size: m.Place().Size, DataSize: e.DataSize, More: e.More, Since: r.host.Now(), Base: m.Base, Witness: was.Witness, Volume: e.Volume}
		if was.ID == m.Identity { // until its own record says that it is back
			e.Left, e.Tried, e.Owed = was.Left, was.Tried, was.Owed
		}
		return nil
	}})
}

// Empty makes a prepared blank disk the active member of its slot, in a guarded set that has nothing to restore it from. The parity disks have to be filled anew. What others
// that are away hold of its stripes is of what was there before.
func (r *Roster) Empty(m *member.Member, parity []*member.Member) error {
	return r.raise(change{
		Make: func(rec *record.Record) error {
			m.Become(record.Active)
			r.host.Slots.Put(m)
			e := &rec.Roster[m.Slot]
			*e = record.Entry{ID: m.Identity, Condition: record.Active, Size: m.Place().Size, DataSize: e.DataSize, More: e.More, Since: r.host.Now(), Witness: e.Witness, Volume: e.Volume}
			for _, p := range parity {
				p.Base = 0
				p.Cursor.Store(0)
				p.Become(record.Rebuilding)
				o := &rec.Roster[p.Slot]
				o.Here(record.Rebuilding, r.host.Now())
			}
			if rec.Changes.Since != 0 {
				rec.Changes.Parts.MarkAll()
			}
			return nil
		},
	})
}

// Vacate takes a member out of a guarded set, whose slot stays empty. Whose pages it bore witness of, the member does that bears witness of its own.
func (r *Roster) Vacate(slot int, regions []layout.Region, remap func(*layout.Map)) (freed *member.Member, err error) {
	err = r.relay(func(rec *record.Record) {
		own := rec.Roster[slot].Witness
		for i := range rec.Roster {
			if e := &rec.Roster[i]; e.Witness == slot {
				if e.Witness = own; own == i {
					e.Witness = -1
				}
			}
		}
		rec.Roster[slot] = record.Entry{Condition: record.Vacant, Witness: -1, Since: r.host.Now()}
		rec.Regions = regions
	}, func() {
		freed = r.host.Slots.At(slot)
		freed.Become(record.Vacant)
		r.host.Slots.Put(member.New(freed.Judge, member.Known{Slot: slot, Condition: record.Vacant}))
	}, remap)
	return freed, err
}

// Resize writes down how large the disks of the members are, when they have grown: the second copy of a record goes to the new end before
// the first says so.
func (r *Roster) Resize() error {
	var grown []*member.Member
	var was []int64 // their sizes
	for _, m := range r.host.Slots.All() {
		if p := *m.Place(); m.Live() && m.Bare().Size() > p.Size {
			grown, was = append(grown, m), append(was, p.Size)
			p.Size = m.Bare().Size()
			m.Extend(p)
		}
	}
	if len(grown) == 0 {
		return nil
	}
	if err := r.Update(func(rec *record.Record) {
		for slot := range rec.Roster {
			if m := r.host.Slots.At(slot); m.Live() {
				rec.Roster[slot].Size = m.Place().Size
			}
		}
	}); err != nil {
		return err
	}
	for i, m := range grown { // an old record is not to turn up again
		old, now := disk.TailRecord(was[i]), disk.TailRecord(m.Place().Size)
		n := min(now-old, record.Size)
		if n <= 0 || !m.Live() {
			continue
		}
		if err := m.Disk.WriteAt(make([]byte, n), old); err != nil {
			if err = m.WriteProblem(err); err != nil {
				return err
			}
		}
	}
	return nil
}

// relay changes how the array is laid out, and has the new map put in force when all members know. then does what has to be done in memory before they are
// told; nothing is changed when the map cannot be made.
func (r *Roster) relay(how func(*record.Record), then func(), remap func(*layout.Map)) error {
	var lay *layout.Map
	return r.raise(change{
		Make: func(rec *record.Record) (err error) {
			after := rec.Clone()
			how(after)
			if lay, err = after.Layout(); err != nil {
				return err
			}
			changesLayout(after)
			*rec = *after
			then()
			return nil
		},
		Done: func() { remap(lay) },
	})
}

// Grow gives the members places with more segments, and the array more regions.
func (r *Roster) Grow(places []record.Place, regions []layout.Region, remap func(*layout.Map)) error {
	return r.relay(func(rec *record.Record) {
		rec.Regions = regions
		for slot, p := range places {
			rec.Roster[slot].More = p.Sizes()
		}
	}, func() {
		for slot, p := range places {
			if m := r.host.Slots.At(slot); m.Live() {
				m.Extend(p)
			}
		}
	}, remap)
}

// BeginTurn begins a change of layout, with some more members in slots behind the last; without a turn only these are new, and regions.
func (r *Roster) BeginTurn(turn *record.Turn, regions []layout.Region, entries []record.Entry, added []*member.Member, remap func(*layout.Map)) error {
	return r.relay(func(rec *record.Record) {
		back := intoRing(rec, len(entries))
		if turn != nil && len(entries) > 0 {
			turn.Had = len(rec.Roster)
		}
		for i, e := range entries {
			if e.Since = r.host.Now(); i == len(entries)-1 && back >= 0 {
				e.Witness = back
			}
			rec.Roster = append(rec.Roster, e)
		}
		rec.Regions, rec.Turn = regions, turn
	}, func() {
		r.Show()
		for i, m := range added {
			m.Become(entries[i].Condition)
		}
		r.host.Slots.Add(added)
	}, remap)
}

// intoRing makes room for some more members at the end of the ring of witnesses, and says who keeps those of the last one; -1: as it would be otherwise.
func intoRing(rec *record.Record, more int) (back int) {
	last := len(rec.Roster) - 1
	for last > 0 && rec.Roster[last].Condition == record.Vacant {
		last--
	}
	if more == 0 || probe.TwoWitnessedByOne.On() {
		return -1
	}
	if back = rec.Roster[last].Witness; back < 0 {
		back = last
	}
	rec.Roster[last].Witness = len(rec.Roster)
	return back
}

// TurnBack has a change of layout go back from where it is. Members that came with it are let go at the end, those that were to go stay.
func (r *Roster) TurnBack(moved int64, remap func(*layout.Map)) error {
	return r.relay(func(rec *record.Record) {
		rec.Turn.Way, rec.Turn.Moved, rec.Turn.Members, rec.Turn.Started = record.Back, moved, rec.Turn.Had, r.host.Now()
	}, func() {}, remap)
}

// EndTurn makes the layout that a change has come to the only one, and lets the members go that it has no use for.
func (r *Roster) EndTurn(remap func(*layout.Map)) (freed []*member.Member, err error) {
	members := 0
	err = r.relay(func(rec *record.Record) {
		members = rec.Turn.Members
		rec.EndTurn()
	}, func() {
		if members > 0 {
			freed = r.host.Slots.Drop(members)
		}
	}, remap)
	return freed, err
}

// Cut has the array have fewer rows.
func (r *Roster) Cut(regions []layout.Region, remap func(*layout.Map)) error {
	return r.relay(func(rec *record.Record) { rec.Regions = regions }, func() {}, remap)
}

// changesLayout prepares a record for another layout: what counts stripes of the present one counts them no more.
func changesLayout(rec *record.Record) {
	if rec.Changes.Since != 0 {
		rec.Changes.Parts.MarkAll()
		for i := range rec.Roster {
			if e := &rec.Roster[i]; rec.Level == layout.Guarded && e.Condition.Lacks() {
				e.Owed.MarkAll()
			}
		}
	}
}

// CopyOnto notes that the member of the disk's slot is copied onto it.
func (r *Roster) CopyOnto(m *member.Member) error {
	return r.raise(change{Make: func(rec *record.Record) error {
		e := &rec.Roster[m.Slot]
		e.Onto, e.Cursor = m.Identity, 0
		return nil
	}})
}

// Exchange makes a copy that is whole the member of its slot. ready is asked first.
func (r *Roster) Exchange(old, m *member.Member, ready func() error) error {
	return r.raise(change{Make: func(rec *record.Record) error {
		if err := ready(); err != nil {
			return err
		}
		r.unsettled.Store(true)
		m.Become(record.Active)
		r.host.Slots.Put(m) // before the old one is out: there is no moment without one
		old.Become(record.Missing)
		r.host.Slots.EndCopy(m)
		e := &rec.Roster[m.Slot]
		*e = record.Entry{ID: m.Identity, Condition: record.Active, Size: m.Place().Size, DataSize: e.DataSize, More: e.More, Since: r.host.Now(), Witness: e.Witness, Volume: e.Volume}
		return nil
	}})
}

// BringBack makes members active that had left, and the absent ones missing, for good. The new roster is on the returning members first: a
// crash leaves all of them back, or none. After an error the array must not be used any more.
func (r *Roster) BringBack(back []*member.Member) error {
	put := func(rec *record.Record) error {
		for _, m := range back {
			if err := m.PutRecord(rec); err != nil {
				return fmt.Errorf("%s: %w", m.Name(), err)
			}
		}
		return nil
	}
	return r.raise(change{
		Make: func(rec *record.Record) error {
			if err := put(rec); err != nil {
				return err
			}
			for slot := range rec.Roster {
				e := &rec.Roster[slot]
				if !r.host.Slots.At(slot).Live() && e.Condition != record.Failed && e.Condition != record.Missing && e.Condition != record.Vacant {
					leaves(rec, slot, record.Missing, r.host.Now(), record.State{}, record.State{}, 0)
				}
			}
			for _, m := range back {
				rec.Roster[m.Slot].Here(record.Active, r.host.Now())
			}
			return nil
		},
		First: func(rec *record.Record) error {
			rec.Generation++
			if err := put(rec); err != nil {
				return err
			}
			for _, m := range back {
				m.Become(record.Active)
				r.host.Slots.Put(m)
			}
			return nil
		},
	})
}

// Absent notes that the members of some slots were not there when the array was opened.
func (r *Roster) Absent(slots []int) error {
	note := func(rec *record.Record) error {
		for _, slot := range slots {
			notFound(rec, slot, r.host.Now())
		}
		return nil
	}
	switch {
	case r.host.Use == ToLook:
		r.mu.Lock()
		defer r.mu.Unlock()
		_ = note(r.rec)
		r.Show()
		return nil
	case len(slots) == 0:
		return nil
	}
	return r.raise(change{Make: note})
}

// NewEpoch raises the epoch for nothing else.
func (r *Roster) NewEpoch() error {
	return r.raise(change{Make: func(*record.Record) error { return nil }})
}

// Now is the record as it is shown, which is not to be changed.
func (r *Roster) Now() *record.Record { return r.shown.Load() }

// Activate makes a member that is rebuilt active: on the members first, so that nothing counts on it before a start would.
func (r *Roster) Activate(m *member.Member) error {
	return r.raise(change{
		Make: func(rec *record.Record) error {
			if m.Condition() != record.Rebuilding {
				return fmt.Errorf("%s is %s", m.Name(), m.Condition())
			}
			rec.Roster[m.Slot].Here(record.Active, r.host.Now())
			r.arriving = m
			return nil
		},
		Done: func() {
			if m.Condition() == record.Rebuilding {
				m.Become(record.Active)
			}
		},
	})
}

// write puts the record on every live member. A member that does not take it is failed, and then the others are written
// again. When there is no room for it the array stops: what the members say of each other is not known any more. r.mu is
// held.
func (r *Roster) write() error {
	defer func() { r.arriving = nil }()
again:
	r.rec.Generation++
	var live []*member.Member
	for slot := range r.host.Slots.Len() {
		m := r.host.Slots.At(slot)
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
		r.host.Freeze(errors.New("no member is left that the roster could be written to"))
		return r.host.Alive()
	}
	if whole(r.rec) {
		r.rec.Changes = record.Changes{}
	}
	if err := r.encodable(live); err != nil {
		r.host.Freeze(fmt.Errorf("the roster could not be written: %w", err))
		return r.host.Alive()
	}
	if err := r.agree(); err != nil {
		return err
	}
	r.Show()
	errs := make([]error, len(live))
	_ = member.Parallel(len(live), func(i int) error {
		errs[i] = live[i].PutRecord(r.rec)
		return nil
	})
	failed := false
	for i, err := range errs {
		switch {
		case err == nil:
		case member.NoRoom(err):
			r.host.Freeze(fmt.Errorf("the roster could not be written: %w; make space there and start the array again", err))
			return r.host.Alive()
		default:
			live[i].Failed(err)
			if err := r.drop(live[i], member.ConditionFor(err), err); err != nil {
				return err
			}
			failed = true
		}
	}
	if failed {
		r.next()
		goto again
	}
	r.onMembers()
	r.unsettled.Store(false)
	return nil
}

// agree asks host.Agree, once for each state of the roster, and stops the array when it does not consent. r.mu is held.
func (r *Roster) agree() error {
	if r.host.Agree == nil || r.agreed == r.rec.State() {
		return nil
	}
	if err := r.host.Agree(r.rec, r.whole); err != nil {
		r.host.Freeze(err)
		return r.host.Alive()
	}
	r.agreed = r.rec.State()
	return nil
}

// onMembers notes what of the record is on the members now.
func (r *Roster) onMembers() {
	r.whole = r.rec.State()
	changes, owed := r.rec.Changes, make([]record.Parts, len(r.rec.Roster))
	for slot, e := range r.rec.Roster {
		owed[slot] = e.Owed
	}
	r.changes.Store(&changes)
	r.owed.Store(&owed)
}

// encodable says whether the record is one that can be read back: that it is not would be no fault of a member.
func (r *Roster) encodable(live []*member.Member) error {
	if len(live) == 0 {
		return nil
	}
	own := r.rec.Clone()
	own.Slot, own.Member, own.Place = live[0].Slot, live[0].Identity, *live[0].Place()
	_, err := own.Encode()
	return err
}

// whole says whether no member is away.
func whole(rec *record.Record) bool {
	return !slices.ContainsFunc(rec.Roster, func(e record.Entry) bool {
		return e.Condition.Lacks()
	})
}

// leaves notes in a record that a member is out, which has one state in its own record and may have another, and holds
// everything up to epoch base (0: nothing that counts). The first to leave begins the change map.
func leaves(rec *record.Record, slot int, to record.Condition, now time.Time, has, tried record.State, base uint64) {
	if whole(rec) {
		rec.Changes = record.Changes{Since: rec.Epoch}
	}
	e := &rec.Roster[slot]
	if e.Condition.Counts() {
		e.Owed = record.Parts{}
	}
	e.Left, e.Tried, e.Base, e.Void = has, tried, base, 0
	e.Condition, e.Cursor, e.Since = to, 0, now
}

// Marks says whether changes are marked: a member is away.
func (r *Roster) Marks() bool {
	on := r.changes.Load()
	return on != nil && on.Since != 0
}

// Mark notes which parts of the array some stripes lie in, on all members, when a member is away: before what changes
// there counts. owed are slots of a guarded set whose own data changes without them, each with a stripe. It says whether that had to be written.
func (r *Roster) Mark(stripes iter.Seq[int64], owed iter.Seq2[int, int64]) (wrote bool, err error) {
	on := r.changes.Load()
	if on == nil || on.Since == 0 {
		return false, nil
	}
	marked, all := *on, r.host.Layout().Stripes()
	owes := slices.Clone(*r.owed.Load())
	for slot, number := range owed {
		if !probe.OwedNotMarked.On() {
			owes[slot].Mark(record.ChangePart(number, all))
		}
	}
	turns := r.shown.Load().Turn != nil // and so the ordinals of stripes change
	for number := range stripes {
		for part := 0; turns && part < record.ChangeParts; part++ {
			marked.Mark(part)
		}
		if !probe.AwayNotMarked.On() {
			marked.Mark(record.ChangePart(number, all))
		}
	}
	if marked == *on && slices.Equal(owes, *r.owed.Load()) {
		return false, nil
	}
	probe.ChangeMarked.Seen()
	return true, r.Update(func(rec *record.Record) {
		if rec.Changes.Since != 0 {
			for i, v := range marked.Parts {
				rec.Changes.Parts[i] |= v
			}
			for slot := range owes {
				for i, v := range owes[slot] {
					rec.Roster[slot].Owed[i] |= v
				}
			}
		}
	})
}

// Owed says whether the data of a slot that is away, or catches up, may have changed without it in a stripe.
func (r *Roster) Owed(slot int, st layout.Stripe) bool {
	return r.shown.Load().Roster[slot].Owed.Has(record.ChangePart(st.Ordinal(), r.host.Layout().Stripes()))
}

// Limit notes, of members of a guarded set that are away, from which batch on what is in their journals never happened.
func (r *Roster) Limit(void uint64) error {
	limits := func(e record.Entry) bool {
		return !e.Condition.TakesPart() && (e.Void == 0 || e.Void > void)
	}
	if !slices.ContainsFunc(r.Now().Roster, limits) {
		return nil
	}
	return r.Update(func(rec *record.Record) {
		for i := range rec.Roster {
			if e := &rec.Roster[i]; limits(*e) {
				e.Void = void
			}
		}
	})
}

// LayoutNow is the map in force.
func (r *Roster) LayoutNow() *layout.Map { return r.host.Layout() }

// Partial says whether more members of a guarded set are lost than it has parity.
func (r *Roster) Partial() bool {
	lay := r.host.Layout()
	return lay.Volumes() != nil && !lay.Survives(func(slot int) bool { return !r.host.Slots.At(slot).Condition().Counts() })
}

// Unsettled says whether a member is out that the roster on the members does not name yet.
func (r *Roster) Unsettled() bool { return r.unsettled.Load() }

// Settle waits until the roster on the members names every member that is out. When it could not be written the
// array stops: nothing may be committed that a start would take for the work of all.
func (r *Roster) Settle() {
	if !r.unsettled.Load() {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.unsettled.Load() {
		r.host.Freeze(errors.New("the roster could not be written"))
	}
}

// drop takes a member out of the roster in memory; r.mu is held. When that would put data out of reach the array is
// frozen instead and nothing is written any more: members that vanished together can come back together.
func (r *Roster) drop(m *member.Member, to record.Condition, cause error) error {
	if m.Condition() == to || !m.Live() {
		return nil
	}
	lost := func(slot int) bool {
		other := r.host.Slots.At(slot)
		arrives := other == r.arriving && other.Live()
		return other == m || !arrives && !other.Condition().Counts()
	}
	if r.host.Use == ToSalvage {
		m.Become(to)
		r.host.Forget(m)
		return nil
	}
	if !r.goesOn(lost) {
		m.Become(to)
		m.Lost.Store(r.host.Now().UnixNano())
		r.host.Freeze(fmt.Errorf("%s: %s; too many members are lost, nothing more is written", m.Name(), disk.Plain(strings.TrimPrefix(cause.Error(), m.Name()+": "))))
		return r.host.Alive()
	}
	r.unsettled.Store(true)
	m.Become(to)
	m.Because(cause)
	r.host.Forget(m)
	base := m.Has.Epoch
	if r.rec.Roster[m.Slot].Condition == record.Rebuilding {
		base = m.Base // it had not caught up yet
		if was := r.rec.Roster[m.Slot]; base != 0 && (m.Has == was.Left || m.Has == was.Tried) {
			probe.VanishedJoining.Seen()
		}
		if probe.ReturnLosesBase.On() {
			base = 0
		}
	}
	has, tried := m.Has, m.Tried
	if probe.LeftInRosterEpoch.On() {
		has, tried = r.rec.State(), r.rec.State()
	}
	leaves(r.rec, m.Slot, to, r.host.Now(), has, tried, base)
	m.Release()
	kind := event.MemberFailed
	if to == record.Missing {
		kind = event.MemberMissing
	}
	r.host.Say(kind, m.Name(), cause.Error())
	if !r.survives(lost) {
		r.host.Say(event.VolumeLost, m.Name(), "more members are lost than there are parity disks: the volumes on the others stay in service")
	}
	return nil
}

// The roster is the members' judge's Roll.

// Alive is why nothing may be written any more, or nil.
func (r *Roster) Alive() error { return r.host.Alive() }

// IsCopy says whether a disk is no member yet, but a copy of one under way.
func (r *Roster) IsCopy(m *member.Member) bool { return r.host.Slots.IsCopy(m) }

// Needs says whether the array, as it is now, needs the member in a slot to serve its data.
func (r *Roster) Needs(slot int) bool {
	m := r.host.Slots.At(slot)
	return m.Live() && m.Condition() != record.Rebuilding && !r.survives(func(s int) bool {
		return s == slot || !r.host.Slots.At(s).Condition().Counts()
	})
}

// Pend says that another map is about to be in force, until it is called with nil: what a batch on its way moves is lost when the members it is on
// are not enough for that map.
func (r *Roster) Pend(lay *layout.Map) { r.pending.Store(lay) }

// survives says whether the array can do without some members, under the map in force and under one that is about to be.
func (r *Roster) survives(lost func(slot int) bool) bool {
	next := r.pending.Load()
	return r.host.Layout().Survives(lost) && (next == nil || next.Survives(lost))
}

// goesOn says whether the array goes on without some members: a guarded set does for one volume.
func (r *Roster) goesOn(lost func(slot int) bool) bool {
	if lay := r.host.Layout(); lay.Volumes() != nil {
		return lay.Serves(lost)
	}
	return r.survives(lost)
}

// Decline says that a member that works had better be replaced.
func (r *Roster) Decline(m *member.Member, why string) {
	if !m.Decline(why) {
		return
	}
	err := r.raise(change{Make: func(rec *record.Record) error {
		if m.Condition() == record.Failing {
			rec.Roster[m.Slot].Condition, rec.Roster[m.Slot].Since = record.Failing, r.host.Now()
		}
		return nil
	}})
	if err == nil {
		r.host.Say(event.MemberFailing, m.Name(), why)
	}
}

// Fail takes a member out because of what it did. It returns once every other member knows.
func (r *Roster) Fail(m *member.Member, to record.Condition, cause error) {
	err := r.raise(change{Make: func(*record.Record) error {
		switch {
		case !m.Live():
			return errUnchanged
		case r.host.Use == ToLook, !r.IsCopy(m) && r.host.Slots.At(m.Slot) != m: // it is only looked at, or has not joined yet
			m.Become(to)
			return errUnchanged
		case r.IsCopy(m):
			// Not a member yet: only the copy misses it.
			m.Become(to)
			r.host.Forget(m)
			r.host.Say(event.CopyFailed, m.Name(), cause.Error())
			return errUnchanged
		}
		if err := r.drop(m, to, cause); err != nil {
			return errUnchanged // the array has stopped
		}
		if probe.LeaverNotWrittenDown.On() {
			r.next()
			r.unsettled.Store(false)
			return errUnchanged
		}
		return nil
	}})
	if err != nil && !errors.Is(err, errUnchanged) && r.host.Alive() == nil {
		r.host.Freeze(fmt.Errorf("the roster could not be written: %w", err))
	}
}

// notFound notes in a record that a member was not there at a start. Its own record may be the one before: nothing was
// written in an epoch that not all live members had.
func notFound(r *record.Record, slot int, now time.Time) {
	e, has, base := r.Roster[slot], r.Previous(), r.Epoch
	if has.Epoch == 0 {
		has = r.State() // the array is new: there was no state before
	}
	if e.Condition == record.Rebuilding {
		if base = e.Base; e.Left.Epoch != 0 && e.Cursor == 0 {
			has = e.Left
		}
	}
	leaves(r, slot, record.Missing, now, has, r.State(), base)
}

// ErrStale is wrapped when nothing that a disk holds may be taken for what the array has now.
var ErrStale = errors.New("it cannot come back")

// Awaits says which slot waits for the disk that carries a member record: its member is missing (or, with failed, was
// failed), and left the array in the very state the record has.
func (r *Roster) Awaits(own *record.Record, failed bool) (slot int, err error) {
	rec := r.View()
	slot = slices.IndexFunc(rec.Roster, func(e record.Entry) bool { return e.ID == own.Member })
	if own.Array != rec.Array || slot < 0 {
		return -1, fmt.Errorf("%w: it is no member of %s any more", ErrStale, rec.Name)
	}
	e := rec.Roster[slot]
	switch {
	case e.Condition != record.Missing && (e.Condition != record.Failed || !failed):
		return -1, fmt.Errorf("slot %d is %s", slot, e.Condition)
	case e.Base == 0:
		return -1, fmt.Errorf("%w: it was not rebuilt when it left", ErrStale)
	case !e.LeftBy(own):
		return -1, fmt.Errorf("%w: it went on by itself, or was set back (it has epoch %d, and left in %d)", ErrStale, own.Epoch, e.Left.Epoch)
	case e.DataSize > own.Place.DataSize || own.Place.Size > e.Size:
		return -1, fmt.Errorf("%w: its places are not those of slot %d", ErrStale, slot)
	}
	return slot, nil
}
