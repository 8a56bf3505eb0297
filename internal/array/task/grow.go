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
)

// Gain is what the array would have more if it took up the room of members whose disks are larger than they need be.
type Gain struct {
	Bytes  int64   // of capacity
	Unused []int64 // by slot: bytes of data that one more segment could have
	Short  []int   // slots whose disks have no room, while others have
	Then   int64   // of capacity, if those had as much as the others
	Moves  bool    // data is laid out anew for it
	Cut    bool    // some of it was given up when the array was made smaller
	more   []int64 // by slot: of data that the new segment is to have; 0: none
}

// errNoGain is returned when there is nothing to be taken up.
var errNoGain = errors.New("no member has room that the array does not use")

// Gain works out what Grow would gain, with the disks as large as they were when they were measured.
func (w *Works) Gain() (g Gain) {
	n, lay := w.host.Slots.Len(), w.host.Layout()
	g.Unused, g.more = make([]int64, n), make([]int64, n)
	strip, least := lay.Shape.Strip, int64(-1)
	for slot := range n {
		if m := w.host.Slots.At(slot); m.Live() {
			g.Unused[slot] = m.Place().Room(m.Bare().Size()) / strip * strip
		} else {
			return g // what its disk will have is not known
		}
		if least < 0 || g.Unused[slot] < least {
			least = g.Unused[slot]
		}
	}
	if lay.Level == layout.Guarded {
		w.gainOfGuarded(&g)
		return g
	}
	if g.Cut = w.wasCut(); lay.Mixed() || g.Cut {
		w.gainOfLayers(&g)
		return g
	}
	if lay.Level.Appends() {
		for slot, room := range g.Unused {
			if room*int64(n)*100 >= lay.Capacity() {
				g.more[slot] = room
				g.Bytes += room
			}
		}
		return g
	}
	gain := least / strip * int64(lay.Shape.Groups) * lay.Shape.StripeSize()
	if gain*100 >= lay.Capacity() { // what rounding leaves of disks is not worth a segment
		g.Bytes = gain
		for slot := range g.more {
			g.more[slot] = least
		}
		return g
	}
	most := slices.Max(g.Unused)
	then := most
	for slot, room := range g.Unused {
		if room*50 < most {
			g.Short = append(g.Short, slot)
		} else {
			then = min(then, room)
		}
	}
	g.Then = then / strip * int64(lay.Shape.Groups) * lay.Shape.StripeSize()
	if g.Then*100 < lay.Capacity() {
		g.Then, g.Short = 0, nil
	}
	return g
}

// wasCut says whether the array has less than its segments have room for, since it was made smaller.
func (w *Works) wasCut() bool {
	lay := w.host.Layout()
	all := sum(laidOut(lay.Level, lay.Shape, w.host.Roster.View().Roster, lay.Shape.Strip, 0))
	return (all-lay.Capacity())*100 >= lay.Capacity()
}

// gainOfLayers works out what is gained when the array is laid out anew over all that the disks have. What it has stays where it is as far as it can.
func (w *Works) gainOfLayers(g *Gain) {
	rec, lay := w.host.Roster.View().Clone(), w.host.Layout()
	for slot, room := range g.Unused {
		if e := &rec.Roster[slot]; room > 0 {
			e.More = append(slices.Clone(e.More), room)
		}
	}
	regions := laidOut(lay.Level, lay.Shape, rec.Roster, lay.Shape.Strip, 0)
	after := sum(regions)
	if (after-lay.Capacity())*100 < lay.Capacity() {
		return
	}
	g.Bytes, g.Moves = after-lay.Capacity(), true
	for slot, room := range g.Unused {
		e := rec.Roster[slot]
		if _, first, ok := e.Segment(len(e.More)); ok && room > 0 && slices.ContainsFunc(regions, func(r layout.Region) bool {
			at := slices.Index(r.Slots, slot)
			return at >= 0 && r.Begin[at] >= first
		}) {
			g.more[slot] = room
		}
	}
	if _, err := w.planWider(g.more); err != nil { // such as groups that are narrower in other places
		*g = Gain{Unused: g.Unused, Cut: g.Cut, more: make([]int64, len(g.more))}
	}
}

// Measure finds out how large the disks of the members are by now. It takes as long as a disk that hangs.
func (w *Works) Measure() {
	_ = member.Parallel(w.host.Slots.Len(), func(slot int) error {
		if m := w.host.Slots.At(slot); m.Live() {
			m.Measure()
		}
		return nil
	})
}

// Waits says what a change of layout has to wait for, as the end of a sentence; empty: nothing.
func (w *Works) Waits() string {
	for slot := range w.host.Slots.Len() {
		switch m := w.host.Slots.At(slot); {
		case w.host.Slots.Onto(slot) != nil:
			return fmt.Sprintf("for the copy of %s", m.Name())
		case m.Condition() == record.Rebuilding:
			return fmt.Sprintf("for the rebuild of %s", m.Name())
		case m.Condition() == record.Vacant:
		case !m.Full():
			return fmt.Sprintf("for %s, which is %s", m.Name(), m.Condition())
		}
	}
	return ""
}

// Grow takes up the room that was measured: what all members have behind what the array uses, by one more segment on each and one more region over them.
// No data moves.
//
//	1  the members' records say how large their disks are, if these have grown      a crash leaves larger disks of the same array
//	2  the maps of the new segments are written and synced                          the same: nothing names the segments
//	3  the roster names them and the new region                                     a crash leaves the old size or the new one
//	4  clients may use the new room
//
// Where sizes are mixed there is no new region: a conversion lays the layers out anew over the segments, from the first that becomes wider on. A crash
// before it begins leaves segments that nothing uses, which the next Grow takes up.
func (w *Works) Grow() (Gain, error) {
	w.joins.Lock()
	defer w.joins.Unlock()
	if err := w.Alone(); err != nil {
		return Gain{}, err
	}
	g := w.Gain()
	if g.Bytes == 0 {
		return g, errNoGain
	}
	places, err := w.extend(g.more)
	if err != nil {
		return g, err
	}
	regions, err := w.grown(g, places)
	if err != nil {
		return g, err
	}
	if w.host.Layout().Level == layout.Guarded {
		release, err := w.still()
		if err != nil {
			return g, err
		}
		defer release()
	}
	if err := w.host.Roster.Grow(places, regions, w.host.Remap); err != nil {
		return g, err
	}
	lay := w.host.Layout()
	if g.Moves {
		return g, w.convert(wider(lay), nil)
	}
	w.host.Say(event.ArrayGrown, "", fmt.Sprintf("%s more, %s in all", say.Size(g.Bytes), say.Size(lay.Capacity())))
	return g, nil
}

// grown are the regions of the array with one more over the last segments of some members.
func (w *Works) grown(g Gain, places []record.Place) ([]layout.Region, error) {
	lay := w.host.Layout()
	regions := record.RegionsOf(lay)
	switch {
	case g.Moves:
		return regions, nil // they are laid out anew by a conversion
	case lay.Level == layout.Guarded:
		roster := slices.Clone(w.host.Roster.View().Roster)
		for slot, p := range places {
			roster[slot].More = p.Sizes()
		}
		return w.guardedRegions(roster)
	}
	id := w.nextID(regions)
	if lay.Level.Appends() {
		for slot, more := range g.more {
			if more > 0 {
				shape := lay.Shape
				shape.Groups = 1
				regions = append(regions, layout.Region{Shape: shape, ID: id, Rows: more / shape.Strip, Slots: []int{slot}, Begin: []int64{firstOfLast(places[slot])}})
				id++
			}
		}
		return regions, nil
	}
	all := layout.Region{Shape: lay.Shape, ID: id, Rows: g.more[0] / lay.Shape.Strip}
	for _, slot := range regions[0].Slots {
		all.Slots, all.Begin = append(all.Slots, slot), append(all.Begin, firstOfLast(places[slot]))
	}
	return append(regions, all), nil
}

// nextID is an identity that no region has.
func (w *Works) nextID(regions []layout.Region) int {
	id := int(w.regions.Load())
	for _, r := range regions {
		id = max(id, r.ID+1)
	}
	return id
}

func firstOfLast(p record.Place) int64 { return p.More[len(p.More)-1].First }
