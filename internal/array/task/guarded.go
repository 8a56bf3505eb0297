package task

import (
	"errors"
	"fmt"
	"slices"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// How a guarded set grows. No data moves: a volume becomes longer at its end, or another disk comes, of which nothing was ever written, so that the parity
// stays what it is. Where the parity disks have to reach further for that, they get further segments first.
//
//	1  the segments are written and synced, and the roster names them       a crash leaves segments that nothing uses
//	2  new disks become empty members, which nothing names                  the same: disks that are no members of anything
//	3  clients are kept away, the cache is brought to the members, and a checkpoint is made: stripes have other names from here on
//	4  the roster names the new members and the new regions                 a crash leaves the old set or the new one

// gainOfGuarded works out by how much volumes can become longer, with the room that their disks and those with parity have.
func (w *Works) gainOfGuarded(g *Gain) {
	rec, lay := w.host.Roster.View(), w.host.Layout()
	parity := parityOf(lay)
	reach := int64(1 << 62)
	for _, slot := range parity {
		reach = min(reach, dataOf(rec.Roster[slot])+g.Unused[slot])
	}
	most := int64(0)
	for slot, room := range g.Unused {
		v, there := lay.Volume(slot)
		if !there {
			continue
		}
		more := max(min(v.Size+room, reach/lay.Shape.Strip*lay.Shape.Strip)-v.Size, 0)
		if more*100 < v.Size { // what rounding leaves is not worth a segment
			continue
		}
		g.more[slot], g.Bytes, most = more, g.Bytes+more, max(most, v.Size+more)
	}
	for slot, more := range reaching(rec, parity, most) {
		g.more[slot] = more
	}
}

// parityOf are the slots of a guarded set that have the parity.
func parityOf(lay *layout.Map) []int {
	r := lay.Regions()[0]
	return r.Slots[r.Data:]
}

// dataOf is how much data the segments of a member have.
func dataOf(e record.Entry) int64 {
	all := e.DataSize
	for _, more := range e.More {
		all += more
	}
	return all
}

// reaching is by how much parity disks have to become longer, by slot, to reach as far as some bytes.
func reaching(rec *record.Record, parity []int, most int64) map[int]int64 {
	out := map[int]int64{}
	for _, slot := range parity {
		if short := most - dataOf(rec.Roster[slot]); short > 0 {
			out[slot] = short
		}
	}
	return out
}

// guardedRegions are those of a guarded set whose members have some segments.
func (w *Works) guardedRegions(roster []record.Entry) ([]layout.Region, error) {
	lay := w.host.Layout()
	return layout.GuardedRegions(lay.Shape.Strip, spaces(roster), parityOf(lay), w.nextID(record.RegionsOf(lay)))
}

// still keeps clients away from all of the array, with everything in its place and durable, until release is called.
func (w *Works) still() (release func(), err error) {
	all := w.host.Layout().Capacity()
	free := w.host.Hold(0, all)
	if err = w.host.Settle(0, all); err == nil {
		unlock := w.host.Stripes.LockAll()
		if err = w.host.Journal.Checkpoint(); err == nil {
			return func() {
				unlock()
				free()
			}, nil
		}
		unlock()
	}
	free()
	return nil, err
}

// NewVolumes is what further data disks of a guarded set would be.
type NewVolumes struct {
	Before, After int64 // capacity, bytes
	Sizes         []int64
	entries       []record.Entry
	more          map[int]int64 // by slot: of data that a parity disk is to have besides
}

// PlanVolumes works out further data disks of a guarded set, with volumes of some names on disks of some sizes.
func (w *Works) PlanVolumes(names []string, sizes []int64) (v NewVolumes, err error) {
	rec, lay := w.host.Roster.View(), w.host.Layout()
	v.Before = lay.Capacity()
	if lay.Level != layout.Guarded {
		return v, fmt.Errorf("level %s has no volumes", lay.Level)
	}
	if len(rec.Roster)+len(sizes) > layout.MaxMembers {
		return v, fmt.Errorf("%d disks: an array has at most %d members", len(rec.Roster)+len(sizes), layout.MaxMembers)
	}
	strip, parity, most := lay.Shape.Strip, parityOf(lay), int64(0)
	v.After = v.Before
	for i, size := range sizes {
		if err := record.CheckVolume(names[i]); err != nil {
			return v, err
		}
		taken := slices.Contains(names[:i], names[i])
		for _, e := range rec.Roster {
			taken = taken || e.Volume == names[i]
		}
		if taken {
			return v, fmt.Errorf("two volumes would have the name %q", names[i])
		}
		place, err := record.PlaceFor(size, 0)
		if err != nil || place.DataSize < strip || place.MaxStripFor() < strip {
			return v, fmt.Errorf("a disk of %s is too small for strips of %s", say.Size(size), say.Size(strip))
		}
		data := min(place.DataSize, w.reach(parity)) / strip * strip
		if data < place.DataSize/strip*strip && size > w.smallest(parity) {
			return v, fmt.Errorf("%w: a disk of %s would be larger than the smallest that has parity, %s", layout.ErrParitySmall, say.Size(size), say.Size(w.smallest(parity)))
		}
		v.entries = append(v.entries, record.Entry{Condition: record.Active, Size: size, DataSize: data, Volume: names[i],
			Witness: record.WitnessOf(len(rec.Roster)+i, len(rec.Roster)+len(sizes))})
		v.Sizes, v.After, most = append(v.Sizes, data), v.After+data, max(most, data)
	}
	v.more = reaching(rec, parity, most)
	return v, nil
}

// reach is how far the disks in some slots can reach, with one more segment each, in bytes of data. Segments cost some room, so those that grew reach
// a little less far than new ones of the same size.
func (w *Works) reach(slots []int) int64 {
	out := int64(1 << 62)
	for _, slot := range slots {
		m, room := w.host.Slots.At(slot), int64(0)
		if m.Live() {
			room = m.Place().Room(m.Bare().Size())
		}
		out = min(out, dataOf(w.host.Roster.View().Roster[slot])+room)
	}
	return out
}

// smallest is the size of the smallest disk in some slots.
func (w *Works) smallest(slots []int) int64 {
	out := int64(1 << 62)
	for _, slot := range slots {
		out = min(out, w.host.Roster.View().Roster[slot].Size)
	}
	return out
}

// AddVolumes adds data disks to a guarded set, with volumes of some names. They belong to the array when nil is returned.
func (w *Works) AddVolumes(names []string, disks []disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	if err := w.Alone(); err != nil {
		return err
	}
	var sizes []int64
	for _, d := range disks {
		sizes = append(sizes, d.Size())
	}
	v, err := w.PlanVolumes(names, sizes)
	if err != nil {
		return err
	}
	if len(v.more) > 0 {
		more := make([]int64, w.host.Slots.Len())
		for slot, n := range v.more {
			more[slot] = n
		}
		places, err := w.extend(more)
		if err != nil {
			return err
		}
		if err := w.host.Roster.Grow(places, record.RegionsOf(w.host.Layout()), w.host.Remap); err != nil {
			return err
		}
	}
	c := Conversion{added: v.entries}
	added, err := w.prepare(&c, disks)
	if err != nil {
		return err
	}
	if c.regions, err = w.guardedRegions(append(slices.Clone(w.host.Roster.View().Roster), c.added...)); err != nil {
		return err
	}
	release, err := w.still()
	if err != nil {
		return err
	}
	defer release()
	if err := w.beginTurn(&c, added); err != nil {
		return err
	}
	w.host.Say(event.ArrayGrown, "", fmt.Sprintf("%s more, %s in all", say.Size(v.After-v.Before), say.Size(v.After)))
	return nil
}

// AddParity makes a disk a further parity disk of a guarded set, and starts to fill it: a rebuild of a member that was never there. It belongs to the array
// when nil is returned.
func (w *Works) AddParity(d disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	if err := w.Alone(); err != nil {
		return err
	}
	e, err := w.PlanParity(d.Size())
	if err != nil {
		return err
	}
	lay, slot := w.host.Layout(), w.host.Slots.Len()
	c := Conversion{added: []record.Entry{e}}
	added, err := w.prepare(&c, []disk.Disk{d})
	if err != nil {
		return err
	}
	roster := append(slices.Clone(w.host.Roster.View().Roster), c.added...)
	if c.regions, err = layout.GuardedRegions(lay.Shape.Strip, spaces(roster), append(slices.Clone(parityOf(lay)), slot), w.nextID(record.RegionsOf(lay))); err != nil {
		return err
	}
	release, err := w.still()
	if err != nil {
		return err
	}
	err = w.beginTurn(&c, added)
	release()
	if err != nil {
		return err
	}
	w.host.Say(event.ParityAdded, added[0].Name(), fmt.Sprintf("the set has %d parity disks, and survives as many losses when this one is filled", lay.Shape.Parity+1))
	w.resumeRebuild(slot)
	return nil
}

// PlanParity works out a further parity disk of a guarded set, of some size.
func (w *Works) PlanParity(size int64) (e record.Entry, err error) {
	rec, lay := w.host.Roster.View(), w.host.Layout()
	switch {
	case lay.Level != layout.Guarded:
		return e, fmt.Errorf("level %s has no parity disks", lay.Level)
	case lay.Shape.Parity == 3:
		return e, errors.New("the set has three parity disks, which is the most there are")
	case len(rec.Roster) == layout.MaxMembers:
		return e, fmt.Errorf("an array has at most %d members", layout.MaxMembers)
	}
	need := lay.Bytes(parityOf(lay)[0])
	place, err := record.PlaceFor(size, need)
	if err != nil || place.DataSize < need || place.MaxStripFor() < lay.Shape.Strip {
		return e, fmt.Errorf("%w: a disk of %s does not reach as far as the largest volume, of %s", layout.ErrParitySmall, say.Size(size), say.Size(need))
	}
	slot := len(rec.Roster)
	return record.Entry{Condition: record.Rebuilding, Size: size, DataSize: need, Witness: record.WitnessOf(slot, slot+1)}, nil
}

// MayTakeOut says why a member cannot be taken out of a guarded set. What parity a disk has goes by which of the parity disks it is, so the last that came goes first.
func (w *Works) MayTakeOut(slot int) error {
	lay := w.host.Layout()
	if lay.Level != layout.Guarded || slot < 0 || slot >= w.host.Slots.Len() || w.host.Slots.At(slot).Condition() == record.Vacant {
		return fmt.Errorf("slot %d has no member of a guarded set", slot)
	}
	parity := parityOf(lay)
	switch last := parity[len(parity)-1]; {
	case slices.Contains(parity, slot) && len(parity) == 1:
		return errors.New("it is the only parity disk")
	case slices.Contains(parity, slot) && slot != last:
		return fmt.Errorf("%s, the parity disk that came last, has to leave first; then this one can be copied onto it", w.host.Slots.At(last).Name())
	case !slices.Contains(parity, slot) && len(lay.Volumes()) == 1:
		return errors.New("it is the only data disk")
	}
	return w.Alone()
}

// ErrWritten is returned by TakeOut when something is written in the volume.
var ErrWritten = errors.New("something is written in its volume")

// TakeOut takes a member out of a guarded set: a parity disk, or a data disk on which nothing is written. It is blank then, and its slot stays empty.
//
//	1  clients are kept away, and all is in place        a crash changes nothing
//	2  the roster and the regions have it no more        a crash leaves the old set or the new one
//	3  the disk is made blank                            a crash leaves a disk that says of itself what is not so any more
func (w *Works) TakeOut(slot int) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	if err := w.MayTakeOut(slot); err != nil {
		return err
	}
	lay := w.host.Layout()
	left := slices.DeleteFunc(slices.Clone(parityOf(lay)), func(p int) bool { return p == slot })
	roster := slices.Clone(w.host.Roster.View().Roster)
	roster[slot] = record.Entry{}
	regions, err := layout.GuardedRegions(lay.Shape.Strip, spaces(roster), left, w.nextID(record.RegionsOf(lay)))
	if err != nil {
		return err
	}
	release, err := w.still()
	if err != nil {
		return err
	}
	freed, err := w.vacate(slot, regions)
	release()
	if err != nil {
		return err
	}
	probe.MemberTakenOut.Seen()
	w.letGo([]*member.Member{freed})
	for s, e := range w.host.Roster.Now().Roster {
		if roster[s].Witness != e.Witness {
			_ = w.seeAgain(&Task{}, w.host.Slots.At(s)) // the member is out: that pages are not witnessed yet does not bring it back
		}
	}
	return nil
}

// vacate is TakeOut when clients are kept away.
func (w *Works) vacate(slot int, regions []layout.Region) (*member.Member, error) {
	lay, m := w.host.Layout(), w.host.Slots.At(slot)
	if _, data := lay.Volume(slot); data && w.host.Stripes.NextMarked(m, 0) < lay.Strips(slot) {
		return nil, ErrWritten
	}
	if why := w.Waits(); why != "" { // something was lost meanwhile
		return nil, fmt.Errorf("it has to wait %s", why)
	}
	return w.host.Roster.Vacate(slot, regions, w.host.Remap)
}

// Alone says why the array cannot get another layout at this moment.
func (w *Works) Alone() error {
	switch why := w.Waits(); {
	case w.host.Alive() != nil:
		return w.host.Alive()
	case w.host.Roster.View().Turn != nil:
		return errConverting
	case why != "":
		return fmt.Errorf("that has to wait %s", why)
	case w.host.Layout().Level == layout.Guarded && w.tasks.Running(state.TaskCheck):
		return fmt.Errorf("that has to wait for the consistency check")
	}
	return nil
}

// extend gives members further segments of so many bytes, by slot, which nothing names yet.
func (w *Works) extend(more []int64) ([]record.Place, error) {
	if err := w.host.Roster.Resize(); err != nil {
		return nil, err
	}
	places := make([]record.Place, len(more))
	return places, member.Parallel(len(places), func(slot int) (err error) {
		m := w.host.Slots.At(slot)
		if places[slot] = *m.Place(); more[slot] == 0 {
			return nil
		}
		if places[slot], err = m.Place().With(more[slot]); err != nil {
			return err
		}
		last := len(places[slot].More) - 1
		if err = w.host.Journal.Blank(m, &places[slot].More[last]); err == nil {
			err = m.Sync()
		}
		return err
	})
}
