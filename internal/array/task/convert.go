package task

import (
	"errors"
	"fmt"
	"slices"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// Target is the layout that an array is to have.
type Target struct {
	Level  layout.Level
	Strip  int64
	Groups int
	Free   int  // how many of the last members are to be let go
	widen  bool // the same layout over more of the disks
}

// Conversion is a change of layout that could be made.
type Conversion struct {
	Target
	Members             int
	Before, After       int64 // capacity, bytes
	Cut                 int64 // to which the array has to be made smaller first; 0: it has not
	Moves               int64 // bytes of the logical space that are written, at most
	Need                int64 // of each new disk, bytes
	Written             int64 // bytes of the logical space, of an array that is laid out anew
	MarginNow, MarginAt int   // how many members may be lost for certain: now, and then
	Shape               layout.Shape
	At                  layout.Shape // its shape then
	Map                 *layout.Map  // then; nil where nothing has to be moved
	Back                bool         // it can go back as long as it is under way, see GoBack
	record              *record.Turn // nil: nothing has to be moved
	regions             []layout.Region
	added               []record.Entry
}

// PlanConversion works out a change of layout onto the members there are and some more disks of given sizes.
func (w *Works) PlanConversion(to Target, sizes []int64) (Conversion, error) {
	return w.planOn(w.host.Roster.View(), w.host.Layout(), to, sizes)
}

// PlanAfter is PlanConversion of the array as it will be when the change of layout that is under way is done.
func (w *Works) PlanAfter(to Target, sizes []int64) (Conversion, error) {
	rec := w.host.Roster.View().Clone()
	if rec.Turn != nil {
		rec.EndTurn()
	}
	lay, err := rec.Layout()
	if err != nil {
		return Conversion{}, err
	}
	return w.planOn(rec, lay, to, sizes)
}

// PlanWiden works out how layers are laid out anew over the room that was gained, see Gain.
func (w *Works) PlanWiden() (Conversion, error) { return w.planWider(w.Gain().more) }

// planWider is PlanWiden with one more segment of so many bytes, by slot.
func (w *Works) planWider(more []int64) (Conversion, error) {
	rec := w.host.Roster.View().Clone()
	for slot, n := range more {
		if n > 0 {
			rec.Roster[slot].More = append(slices.Clone(rec.Roster[slot].More), n)
		}
	}
	return w.planOn(rec, w.host.Layout(), wider(w.host.Layout()), nil)
}

// wider is the layout that there is, over more of the disks.
func wider(lay *layout.Map) Target {
	to := Target{Level: lay.Level, Strip: lay.Shape.Strip, widen: true}
	if lay.Level.Nested() {
		to.Groups = lay.Shape.Groups
	}
	return to
}

// planOn is PlanConversion for members as some record has them, and some map.
func (w *Works) planOn(rec *record.Record, lay *layout.Map, to Target, sizes []int64) (Conversion, error) {
	c := Conversion{Target: to, Members: len(rec.Roster) + len(sizes) - to.Free, Before: lay.Capacity(), Shape: lay.Shape}
	switch {
	case rec.Turn != nil:
		return c, errConverting
	case lay.Level == layout.Guarded || c.Level == layout.Guarded:
		return c, errGuarded
	case to.Free > 0 && len(sizes) > 0:
		return c, errors.New("disks are either added or taken out")
	}
	if c.Strip == 0 {
		c.Strip = rec.Strip
	}
	if !c.widen && c.Free == 0 && c.Level == lay.Level && c.Strip == lay.Shape.Strip && len(sizes) == 0 && (c.Groups == 0 || c.Groups == lay.Shape.Groups) {
		return c, fmt.Errorf("the array has level %s with such strips and groups already", c.Level)
	}
	shape, err := layout.ShapeOf(c.Level, c.Strip, c.Groups, c.Members)
	if err != nil {
		return c, err
	}
	for _, m := range w.host.Slots.All() {
		if most := m.Place().MaxStripFor(); c.Strip > most {
			return c, fmt.Errorf("%s takes strips of at most %dKiB", m.Name(), most>>10)
		}
	}
	if err := c.enlist(rec, sizes, max(w.strip(), c.Strip), lay.Mixed()); err != nil {
		return c, err
	}
	c.regions, c.At = record.RegionsOf(lay), shape
	c.MarginNow, _ = lay.Margin(allThere)
	roster := append(slices.Clone(rec.Roster), c.added...)
	if c.Free == 0 && !c.widen && c.Level == lay.Level && c.Level.Appends() && c.Strip == lay.Shape.Strip {
		return c, c.behind(roster, len(rec.Roster), w.nextID(c.regions))
	}
	after := *rec
	after.Roster = roster
	return c, w.anew(&c, &after, lay)
}

// errGuarded is returned where a guarded set would have to be laid out anew, or become one.
var errGuarded = errors.New("a guarded set is not laid out anew: make another array of other disks, and copy what the first holds")

func allThere(int) bool { return false }

// behind works out new members that are used behind what there is, so that nothing has to be moved.
func (c *Conversion) behind(roster []record.Entry, from, id int) error {
	c.regions = append(c.regions, appended(c.At, roster, from, id)...)
	after, err := layout.NewMap(c.Level, c.Members, c.At, slices.Clone(c.regions))
	if err == nil {
		c.After, c.MarginAt = after.Capacity(), c.MarginNow
	}
	return err
}

// anew works out how the array is laid out anew, for a record with the roster that it has then.
func (w *Works) anew(c *Conversion, after *record.Record, lay *layout.Map) error {
	strip := c.Strip
	for _, r := range c.regions {
		strip = max(strip, r.Strip)
	}
	c.record = &record.Turn{Level: c.Level, Groups: 0, Strip: c.Strip, Regions: laidOut(c.Level, c.At, after.Roster[:c.Members], strip, w.nextID(c.regions))}
	if c.Level.Nested() {
		c.record.Groups = c.At.Groups
	}
	if len(c.record.Regions) == 0 {
		return errors.New("the members have no room for strips of that size")
	}
	if c.Free > 0 {
		c.record.Members = c.Members
		if err := c.makeRoom(lay); err != nil {
			return err
		}
	}
	c.After = sum(c.record.Regions)
	after.Regions, after.Turn = c.regions, c.record
	turn, err := after.Turns()
	if turn == nil {
		return err
	}
	if err == nil && turn.Down {
		err = w.fits(turn)
	}
	c.Map, c.After = turn.New, turn.New.Capacity()
	c.Back = w.mayTurn(turn) == nil
	c.MarginAt, _ = turn.New.Margin(allThere)
	c.Written = w.host.Stripes.Used()
	switch alike := turn.Alike(0); {
	case alike >= lay.Capacity():
	case lay != w.host.Layout(): // a later one
		c.Moves = c.Written
	default:
		st, _ := lay.Locate(alike)
		c.Moves = w.host.Stripes.UsedFrom(st.Ordinal())
	}
	return err
}

// makeRoom has the regions of the array end where those of fewer members do.
func (c *Conversion) makeRoom(lay *layout.Map) error {
	if c.After = sum(c.record.Regions); c.After >= lay.Capacity() {
		return nil
	}
	cut, err := lay.Cut(c.After)
	if err != nil {
		return err
	}
	c.Cut, c.regions = cut.Capacity(), record.RegionsOf(cut)
	return nil
}

// sum is the capacity of some regions, bytes.
func sum(regions []layout.Region) (bytes int64) {
	for _, r := range regions {
		bytes += r.Stripes() * r.StripeSize()
	}
	return bytes
}

// mayTurn says why a change of layout could not go back, if so.
func (w *Works) mayTurn(turn *layout.Turn) error {
	back, err := turn.Back()
	if err == nil && back.Down {
		err = w.fits(back)
	}
	return err
}

// fits says whether the journals have room for what is moved at once downwards: whole rows of both layouts.
func (w *Works) fits(turn *layout.Turn) error {
	each := turn.MostEach()
	for _, m := range w.host.Slots.All() {
		if m.Live() && each/record.Block > m.Ring.Blocks/2 {
			return fmt.Errorf("%s would be moved at once on each member, and the journal of %s is too small for that: choose strips that are smaller", say.Size(each), m.Name())
		}
	}
	return nil
}

// enlist lays out the entries of new members: segments like the smallest of those there are, or one over the whole disk where sizes are mixed.
func (c *Conversion) enlist(rec *record.Record, sizes []int64, strip int64, mixed bool) error {
	least := slices.Clone(rec.Roster)
	e := record.Entry{Condition: record.Active, DataSize: least[0].DataSize, More: slices.Clone(least[0].More)}
	for _, o := range least {
		e.DataSize = min(e.DataSize, o.DataSize)
		e.More = e.More[:min(len(e.More), len(o.More))]
		for i := range e.More {
			e.More[i] = min(e.More[i], o.More[i])
		}
	}
	c.Need = needSize(e, strip)
	for i, size := range sizes {
		if size < c.Need {
			return fmt.Errorf("a disk of %s is too small: a member of this array needs at least %s (%d bytes)", say.Size(size), say.Size(c.Need), c.Need)
		}
		own := e
		if mixed {
			p, err := record.PlaceFor(size, 0)
			if err != nil {
				return err
			}
			own.DataSize, own.More = p.DataSize, nil
		}
		own.Size, own.Witness = size, record.WitnessOf(len(rec.Roster)+i, len(rec.Roster)+len(sizes))
		c.added = append(c.added, own)
	}
	return nil
}

// spaces are the segments of some members, by slot.
func spaces(roster []record.Entry) [][]layout.Space {
	out := make([][]layout.Space, len(roster))
	for slot, e := range roster {
		for i := 0; ; i++ {
			size, first, ok := e.Segment(i)
			if !ok {
				break
			}
			out[slot] = append(out[slot], layout.Space{First: first, Size: size})
		}
	}
	return out
}

// laidOut are the regions of a shape over the segments of some members: over those that all have, or in layers where the level mixes. They are whole
// multiples of the largest strip high.
func laidOut(level layout.Level, shape layout.Shape, roster []record.Entry, strip int64, id int) (out []layout.Region) {
	switch {
	case level.Appends():
		return appended(shape, roster, 0, id)
	case level.Mixes():
		return layout.Layers(shape, strip, spaces(roster), id)
	}
	for i := 0; ; i++ {
		r := layout.Region{Shape: shape, ID: id + i, Rows: 1 << 60}
		for slot, e := range roster {
			size, first, ok := e.Segment(i)
			if !ok {
				return out
			}
			r.Rows = min(r.Rows, size/strip*(strip/shape.Strip))
			r.Slots, r.Begin = append(r.Slots, slot), append(r.Begin, first)
		}
		if r.Rows > 0 {
			out = append(out, r)
		}
	}
}

// appended are regions, over the members from a slot on, for a level whose members are used one after the other.
func appended(shape layout.Shape, roster []record.Entry, from, id int) (out []layout.Region) {
	shape.Groups = 1
	for slot, e := range roster {
		if slot < from {
			continue
		}
		for i := 0; ; i++ {
			size, first, ok := e.Segment(i)
			if !ok {
				break
			}
			if rows := size / shape.Strip; rows > 0 {
				out = append(out, layout.Region{Shape: shape, ID: id + len(out), Rows: rows, Slots: []int{slot}, Begin: []int64{first}})
			}
		}
	}
	return out
}

// Convert begins to change the layout of the array, with some more disks. These belong to the array when nil is returned.
func (w *Works) Convert(to Target, disks []disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	return w.convert(to, disks)
}

// convert is Convert with nothing else joining meanwhile.
func (w *Works) convert(to Target, disks []disk.Disk) error {
	var sizes []int64
	for _, d := range disks {
		sizes = append(sizes, d.Size())
	}
	c, err := w.PlanConversion(to, sizes)
	if err != nil {
		return err
	}
	switch {
	case w.host.Alive() != nil:
		return w.host.Alive()
	case w.Waits() != "":
		return fmt.Errorf("the layout cannot be changed at the moment: it has to wait %s", w.Waits())
	}
	if c.Cut > 0 {
		if err := w.cut(c.Cut); err != nil {
			return err
		}
		if c, err = w.PlanConversion(to, sizes); err != nil {
			return err
		}
	}
	if err := w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	added, err := w.prepare(&c, disks)
	if err != nil {
		return err
	}
	if c.record != nil {
		c.record.Started = w.host.Now()
	}
	if err := w.beginTurn(&c, added); err != nil {
		return err
	}
	if c.record == nil {
		w.host.Say(event.ArrayGrown, "", fmt.Sprintf("%s more, %s in all", say.Size(c.After-c.Before), say.Size(c.After)))
		return nil
	}
	w.host.Say(event.ArrayConverting, "", fmt.Sprintf("to level %s of %d members", c.Level, c.Members))
	_, _ = w.startTurn() // it cannot start when the array is being stopped; the record says that it is to go on, and the disks are the array's
	return nil
}

// prepare makes disks empty members of the slots that the array will have for them.
func (w *Works) prepare(c *Conversion, disks []disk.Disk) (added []*member.Member, err error) {
	for i, d := range disks {
		e := &c.added[i]
		place, err := record.PlaceFor(d.Size(), e.DataSize, e.More...)
		if err != nil {
			return nil, err
		}
		e.ID = env.NewID()
		m := member.New(w.host.Judge, member.Known{Slot: w.host.Slots.Len() + i, Disk: d, Identity: e.ID, Place: place, Condition: record.Missing})
		w.host.Slots.Put(m)
		if err := w.blank(m); err != nil {
			return nil, err
		}
		added = append(added, m)
	}
	return added, nil
}

// beginTurn writes down that a change of layout has begun. The first new disk keeps the witnesses of the last member from here on, and has what was
// known of that one before it counts.
func (w *Works) beginTurn(c *Conversion, added []*member.Member) error {
	return w.host.Journal.Between(func(checkpoint uint64) error {
		if len(added) > 0 {
			last := added[0].Slot - 1
			if holder := w.host.Roster.Holder(last); holder >= 0 {
				if err := w.host.Tables.Hand(w.host.Slots.At(last), w.host.Slots.At(holder), added[0], checkpoint); err != nil {
					return err
				}
				if err := added[0].Sync(); err != nil {
					return err
				}
			}
		}
		return w.host.Roster.BeginTurn(c.record, c.regions, c.added, added, w.host.Remap)
	})
}
