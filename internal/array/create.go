package array

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// Plan is an array that could be created.
type Plan struct {
	Name   string
	Level  layout.Level
	Strip  int64
	Groups int
	Disks  []disk.Disk // in slot order
	// Volumes are the names of those of a guarded set, by slot; the disks behind them have the parity.
	Volumes []string
	// SpinDown is the time without work after which a disk of it is put to sleep; 0: never.
	SpinDown time.Duration
}

// Layout works out the map of the plan and each member's place without touching a disk.
func (p Plan) Layout() (*layout.Map, []record.Place, error) {
	if err := record.CheckName(p.Name); err != nil {
		return nil, nil, err
	}
	sizes := make([]int64, len(p.Disks))
	for i, d := range p.Disks {
		place, err := record.PlaceFor(d.Size(), 0)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", d.Identity(), err)
		}
		if most := place.MaxStripFor(); p.Strip > most {
			return nil, nil, fmt.Errorf("%s: a disk of %d bytes takes strips of at most %dKiB", d.Identity(), d.Size(), most>>10)
		}
		sizes[i] = place.DataSize
	}
	var lay *layout.Map
	var err error
	if p.Level == layout.Guarded {
		lay, err = p.guarded(sizes)
	} else {
		lay, err = layout.NewLayers(p.Level, p.Strip, p.Groups, sizes)
	}
	if err != nil {
		return nil, nil, err
	}
	places := make([]record.Place, len(p.Disks))
	for i, d := range p.Disks {
		if places[i], err = record.PlaceFor(d.Size(), lay.Blocks(i)*Block); err != nil {
			return nil, nil, fmt.Errorf("%s: %w", d.Identity(), err)
		}
	}
	return lay, places, nil
}

// guarded is the map of a guarded set of disks with some bytes of data.
func (p Plan) guarded(sizes []int64) (*layout.Map, error) {
	names := map[string]bool{}
	for _, name := range p.Volumes {
		if err := record.CheckVolume(name); err != nil {
			return nil, err
		}
		if names[name] {
			return nil, fmt.Errorf("two volumes would have the name %q", name)
		}
		names[name] = true
	}
	lay, err := layout.NewGuarded(p.Strip, sizes, len(sizes)-len(p.Volumes))
	if errors.Is(err, layout.ErrParitySmall) {
		n := len(p.Volumes)
		return nil, fmt.Errorf("%w: the largest data disk has %s, and %s has %s", layout.ErrParitySmall, say.Size(slices.Max(sizes[:n])),
			p.Disks[n+slices.Index(sizes[n:], slices.Min(sizes[n:]))].Identity(), say.Size(slices.Min(sizes[n:])))
	}
	return lay, err
}

// Create writes a new array onto the plan's disks, whatever they hold, and opens it. The disks belong to the array then.
func Create(p Plan, cfg Config) (*Array, error) {
	lay, places, err := p.Layout()
	if err != nil {
		return nil, err
	}
	rec := &record.Record{Array: env.NewID(), Name: p.Name, Level: p.Level, Strip: p.Strip, Epoch: 1, EpochID: env.NewID(), Starts: 1, SpinDown: int64(p.SpinDown / time.Second)}
	if p.Level.Nested() {
		rec.Groups = lay.Shape.Groups
	}
	if lay.Mixed() || p.Level == layout.Guarded {
		rec.Regions = record.RegionsOf(lay)
	}
	a := newArray(cfg, roster.ToServe, lay, rec)
	rec.Created = a.now()
	rec.Roster = make([]record.Entry, len(p.Disks))
	a.journal.Anew()
	for i, d := range p.Disks {
		rec.Roster[i] = record.Entry{ID: env.NewID(), Condition: record.Active, Size: d.Size(),
			DataSize: places[i].DataSize, Since: rec.Created, Witness: record.WitnessOf(i, len(p.Disks))}
		if i < len(p.Volumes) {
			rec.Roster[i].Volume = p.Volumes[i]
		}
	}
	a.roster.Show()
	for i, d := range p.Disks {
		k := namedBy(rec, i)
		k.Disk, k.Place = d, places[i]
		a.slots.Put(member.New(a.judge, k))
	}
	// Records last: a disk whose preparation was cut short is not a member of anything.
	if err := member.Parallel(len(p.Disks), func(i int) error { return a.journal.Prepare(a.slots.At(i)) }); err != nil {
		return nil, err
	}
	if err := a.roster.Update(func(*record.Record) {}); err != nil {
		return nil, err
	}
	a.start()
	return a, nil
}

// namedBy is what a record tells of the member in a slot; its disk and its place are not among it.
func namedBy(rec *record.Record, slot int) member.Known {
	e := rec.Roster[slot]
	return member.Known{Slot: slot, Identity: e.ID, Condition: e.Condition, Cursor: e.Cursor, Base: e.Base, Errors: e.Errors}
}

// Open starts an array from its current members: a missing one is marked so on the others, the journals are
// replayed, and interrupted rebuilds go on. The disks of the set's current members belong to the array then.
func Open(s roster.Set, cfg Config) (*Array, error) {
	a, gone, err := assemble(s, cfg, roster.ToServe)
	if err != nil {
		return nil, err
	}
	// First all get the epoch there is, so that no member is ever more than one behind whatever crash comes next; and numbers
	// for the checkpoints of this start, before it writes a page.
	if err = a.roster.Update(func(r *record.Record) { r.Clean, r.Starts = false, r.Starts+1 }); err == nil {
		err = a.roster.Absent(gone)
	}
	if err == nil {
		err = a.replay()
	}
	if err != nil {
		a.freeze(err)
		return nil, err
	}
	for _, slot := range gone {
		e := s.Newest.Roster[slot]
		a.event(event.MemberMissing, state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}.String(), "slot %d was not found when the array was started", slot)
	}
	a.start()
	a.works.Resume()
	return a, nil
}

// Look opens an array to look at it, as its members have it now: nothing is written to them, nothing that their journals
// hold is brought in place, and no task runs. The set's disks belong to the array when nil is returned; they need not be
// writable. Only what tells of the array may be called, and Close.
func Look(s roster.Set, cfg Config) (*Array, error) {
	cfg.Event = nil
	a, gone, err := assemble(s, cfg, roster.ToLook)
	if err != nil {
		return nil, err
	}
	a.looking = true
	_ = a.roster.Absent(gone) // in memory, which cannot fail
	return a, nil
}

// Unsettled says, of an array that is only looked at, that it was not stopped in order: what its journals hold is not in
// place, and a start is needed for that.
func (a *Array) Unsettled() bool { return a.looking && !a.roster.View().Clean }

// assemble makes an array of the members of a set, and says which of them are not there. Nothing is written yet.
func assemble(s roster.Set, cfg Config, use roster.Use) (a *Array, gone []int, err error) {
	if s.Doubt != nil {
		return nil, nil, s.Doubt
	}
	if !s.Serves() {
		return nil, nil, fmt.Errorf("%w: %s", ErrFailed, s.Shortage())
	}
	rec := s.Newest.Clone()
	lay, err := rec.Layout()
	if err != nil {
		return nil, nil, err
	}
	a = newArray(cfg, use, lay, rec)
	as := func(d disk.Disk) disk.Disk {
		if use == roster.ToLook {
			return disk.NewShadow(d, nil)
		}
		return d
	}
	for slot := range rec.Roster {
		e := &rec.Roster[slot]
		c := s.Current[slot]
		if c.Disk == nil && e.Condition != record.Failed && e.Condition != record.Missing && e.Condition != record.Vacant {
			gone = append(gone, slot)
		}
		k := namedBy(rec, slot)
		place, err := record.Place{}, error(nil)
		if c.Disk != nil {
			place, err = e.PlaceOf(c.Record.Place)
		}
		switch {
		case err != nil:
			return nil, nil, fmt.Errorf("%s: %w", c.Disk.Identity(), err)
		case c.Disk != nil:
			k.Disk, k.Place, k.Has = as(c.Disk), place, c.Record.State()
		case k.Condition != record.Failed && k.Condition != record.Vacant:
			k.Condition = record.Missing
		}
		a.slots.Put(member.New(a.judge, k))
		if e.Onto != uuid.Nil {
			if copied := s.Onto[slot]; copied.Disk != nil && c.Disk != nil {
				copied.Disk = as(copied.Disk)
				a.works.TakeUp(slot, copied)
			} else {
				e.Onto, e.Cursor = uuid.Nil, 0 // it is not there any more, or there is nothing to copy from
			}
		}
	}
	a.roster.Show()
	return a, gone, nil
}
