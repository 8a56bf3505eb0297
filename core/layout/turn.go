package layout

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
)

// Turn is a change from one map of an array to another, stripe by stripe: upwards in logical order, or downwards from the end. On one side of a boundary
// the new map is in force, on the other side still the old one. It can be made upwards where no block that the new map puts in place lies behind one that
// is still to be moved, downwards where none lies before one. What was moved is then never written over by what comes later.
//
// How far a change is, is said in bytes of the logical space that are laid out anew. Upwards a boundary lies at a whole number of rows of the new map that
// are also whole strips of either map, or at the end. Downwards it lies at whole rows of both maps, or at the beginning.
type Turn struct {
	Old, New *Map
	Down     bool
	strip    int64 // the largest of all, bytes
}

// ErrBackwards is wrapped where a change would put blocks behind others that are still to be moved.
var ErrBackwards = errors.New("the data would have to move the other way")

// ErrSmaller is wrapped where the new map has less room than the old one.
var ErrSmaller = errors.New("the array would be smaller")

// NewTurn says how to change from one map to another of the same members, of which the old one may use fewer. The identities of the regions must all
// differ.
func NewTurn(old, new *Map) (*Turn, error) {
	if old.Members != new.Members {
		return nil, fmt.Errorf("maps of %d and %d members", old.Members, new.Members)
	}
	if new.capacity < old.capacity {
		return nil, fmt.Errorf("%w: from %d to %d bytes", ErrSmaller, old.capacity, new.capacity)
	}
	t := &Turn{Old: old, New: new}
	for _, r := range slices.Concat(old.regions, new.regions) {
		t.strip = max(t.strip, r.Strip)
	}
	if err := t.wholeStrips(); err != nil {
		return nil, err
	}
	for _, r := range old.regions {
		if slices.ContainsFunc(new.regions, func(o *Region) bool { return o.ID == r.ID }) {
			return nil, fmt.Errorf("region %d is in both maps", r.ID)
		}
		if r.from != r.start || r.Skip != 0 {
			return nil, errors.New("the old map is in the middle of a change")
		}
	}
	err := t.forwards()
	if errors.Is(err, ErrBackwards) && t.backwards() == nil {
		t.Down, err = true, t.meet()
	}
	return t, err
}

// Back is the change from the new layout to the old one, as far as this one can have come. It goes the other way: with so much moved here, all else is
// moved there, and the map is the same. Not every boundary here is one there, see Floor.
func (t *Turn) Back() (*Turn, error) {
	last, err := t.At(t.Old.capacity)
	if err != nil {
		return nil, err
	}
	back := &Turn{Old: last, New: t.Old, Down: !t.Down, strip: t.strip}
	if err = back.wholeStrips(); err == nil && back.Down {
		err = back.meet()
	}
	return back, err
}

// wholeStrips says whether regions of the new map end where a strip of the old one does, which the boundaries rely on.
func (t *Turn) wholeStrips() error {
	for _, r := range t.New.regions[:len(t.New.regions)-1] {
		if r.Rows*r.Strip%t.strip != 0 {
			return fmt.Errorf("region %d is not made of whole strips of the layout before", r.ID)
		}
	}
	return nil
}

// meet says whether rows of both maps begin at common bytes, every few rows, wherever they lie over one another.
func (t *Turn) meet() error {
	for _, o := range t.Old.regions {
		for _, r := range t.New.regions {
			if set := o.StripeSize() * int64(o.Groups); min(o.end(), r.end()) > max(o.start, r.start) && (o.start-r.start)%common(set, t.unit(r)) != 0 {
				return fmt.Errorf("%w: rows of regions %d and %d do not begin at common places", ErrBackwards, o.ID, r.ID)
			}
		}
	}
	return nil
}

// common is the greatest common divisor.
func common(x, y int64) int64 {
	for y != 0 {
		x, y = y, x%y
	}
	return x
}

// MostEach is more than one member ever has of what lies between two boundaries, see Each.
func (t *Turn) MostEach() (most int64) {
	for _, r := range t.New.regions {
		each := t.strip
		for _, o := range t.Old.regions {
			if set := o.StripeSize() * int64(o.Groups); t.Down && min(o.end(), r.end()) > max(o.start, r.start) {
				each = max(each, 2*t.strip*(set/common(set, t.unit(r)))) // twice: two stretches may meet at the edge of a region
			}
		}
		most = max(most, each)
	}
	return most
}

// unit is how far apart the boundaries in a region of the new map are, in bytes of the logical space.
func (t *Turn) unit(r *Region) int64 { return t.strip * int64(r.Data*r.Groups) }

// region is the region of the new map in which a byte lies.
func (t *Turn) region(at int64) *Region {
	return t.New.before(at, func(r *Region) int64 { return r.start })
}

// boundary is where the one map ends and the other begins when so much is moved.
func (t *Turn) boundary(moved int64) int64 {
	if t.Down {
		return t.Old.capacity - moved
	}
	return moved
}

// Stretch is what is moved, in bytes of the logical space, between two states of the change.
func (t *Turn) Stretch(moved, then int64) (from, to int64) {
	if t.Down {
		return t.boundary(then), t.boundary(moved)
	}
	return moved, then
}

// Floor is how much is moved at the last boundary before so much is.
func (t *Turn) Floor(moved int64) int64 {
	switch {
	case moved >= t.Old.capacity:
		return t.Old.capacity
	case t.Down:
		at := t.boundary(moved)
		for at < t.Old.capacity && !t.whole(at) {
			at = min(t.floor(at)+t.unit(t.region(at)), t.end(at), t.Old.capacity)
		}
		return t.Old.capacity - at
	}
	return t.floor(moved)
}

// floor is the last whole row of the new map that begins at or before a byte, and is one of strips of either map.
func (t *Turn) floor(at int64) int64 {
	r := t.region(at)
	return at - (at-r.start)%t.unit(r)
}

// end is the end of the region of the new map in which a byte lies.
func (t *Turn) end(at int64) int64 { return t.region(at).end() }

// whole says whether a row of each map begins at a byte, or the array.
func (t *Turn) whole(at int64) bool {
	if at == 0 || at == t.Old.capacity {
		return true
	}
	o := t.Old.before(at, func(r *Region) int64 { return r.start })
	return t.floor(at) == at && (at-o.start)%(o.StripeSize()*int64(o.Groups)) == 0
}

// Next is how much is moved at the next boundary; not everything is yet.
func (t *Turn) Next(moved int64) int64 {
	if !t.Down {
		return min(moved+t.unit(t.region(moved)), t.end(moved), t.Old.capacity)
	}
	at := t.floor(t.boundary(moved) - 1)
	for !t.whole(at) {
		at = t.floor(at - 1)
	}
	return t.Old.capacity - at
}

// Unit is how many bytes of the logical space lie between two boundaries where so much is moved.
func (t *Turn) Unit(moved int64) int64 {
	if moved >= t.Old.capacity {
		return 1
	}
	if t.Down {
		return t.Next(moved) - moved
	}
	return t.unit(t.region(moved))
}

// Each is what one member has of a unit.
func (t *Turn) Each(moved int64) int64 {
	if moved >= t.Old.capacity {
		return 0
	}
	from, _ := t.Stretch(moved, t.Next(moved))
	r := t.region(from)
	return (t.Unit(moved) + int64(r.Data*r.Groups) - 1) / int64(r.Data*r.Groups)
}

// Alike is how much is moved when everything was passed over that both maps put at the same places, up to the last boundary of which that is so.
func (t *Turn) Alike(moved int64) int64 {
	alike := t.alike()
	switch {
	case !t.Down:
		return max(moved, t.Floor(alike))
	case t.boundary(moved) <= alike:
		return t.Old.capacity
	}
	return moved
}

// alike is up to where both maps put everything at the same places.
func (t *Turn) alike() (at int64) {
	for i, r := range t.New.regions {
		if i >= len(t.Old.regions) {
			break
		}
		o := t.Old.regions[i]
		if r.Shape != o.Shape || r.start != o.start || !slices.Equal(r.Slots, o.Slots) || !slices.Equal(r.Begin, o.Begin) {
			break
		}
		at = r.start + min(r.Stripes(), o.Stripes())*r.StripeSize()
		if r.Rows != o.Rows {
			break
		}
	}
	return min(at, t.Old.capacity)
}

// forwards says whether, upwards, nothing is ever put where something is that is still to be moved. How far a map has come on a member, as a function
// of how far it has come in the logical space, is made of straight lines, so it is enough to look at their ends, from both sides.
func (t *Turn) forwards() error {
	return t.everywhere(func(slot int, p point) bool {
		// What follows begins, on this member, at a block; nothing of the new map may come further.
		need, ok := t.Old.follows(slot, p)
		have, there := t.New.comes(slot, p)
		return !ok || !there || have <= need
	})
}

// backwards is the same downwards.
func (t *Turn) backwards() error {
	return t.everywhere(func(slot int, p point) bool {
		// What is before ends, on this member, before a block; nothing that follows in the new map may begin before that.
		need, ok := t.Old.comes(slot, p)
		have, there := t.New.follows(slot, p)
		return !ok || !there || have >= need
	})
}

// point is a byte of the logical space as it is come to from one side: from behind when after is true.
type point struct {
	at    int64
	after bool
}

// everywhere asks at all ends of regions, for every member.
func (t *Turn) everywhere(fine func(slot int, p point) bool) error {
	for _, r := range slices.Concat(t.Old.regions, t.New.regions) {
		for _, p := range []point{{r.start, true}, {r.start, false}, {r.end(), false}, {r.end(), true}} {
			if p.at > t.Old.capacity || p.after && p.at == t.Old.capacity || !p.after && p.at == 0 {
				continue
			}
			for slot := range t.Old.Members {
				if !fine(slot, p) {
					return fmt.Errorf("%w: at byte %d, slot %d", ErrBackwards, p.at, slot)
				}
			}
		}
	}
	return nil
}

// end is the byte of the logical space behind the region.
func (r *Region) end() int64 { return r.start + r.Stripes()*r.StripeSize() }

// block is how far a region has come on a member at a byte of the logical space, rounded up or down.
func (r *Region) block(slot int, at int64, up bool) int64 {
	set := r.StripeSize() * int64(r.Groups) // of one row of all groups
	in := min(max(at-r.start, 0), r.Rows*set) * int64(r.StripBlocks())
	if up {
		in += set - 1
	}
	return r.begins(slot) + in/set
}

// comes is how far a map has come on a member before a point: the block behind the last one that it uses for that. ok is false when there is none.
func (m *Map) comes(slot int, p point) (block int64, ok bool) {
	for _, r := range m.regions {
		if r.place[slot] >= 0 && (r.start < p.at || r.start == p.at && p.after) {
			block, ok = max(block, r.block(slot, p.at, true)), true
		}
	}
	return block, ok
}

// follows is the first block of a member that a map uses for what lies behind a point. ok is false when there is none.
func (m *Map) follows(slot int, p point) (block int64, ok bool) {
	for _, r := range m.regions {
		if r.place[slot] < 0 || r.end() < p.at || r.end() == p.at && p.after {
			continue
		}
		if first := r.block(slot, p.at, false); !ok || first < block {
			block, ok = first, true
		}
	}
	return block, ok
}

// At is the map with so much moved: what Next or Floor said, or everything.
func (t *Turn) At(moved int64) (*Map, error) {
	if moved < 0 || moved > t.Old.capacity || t.Floor(moved) != moved {
		return nil, fmt.Errorf("a boundary with %d bytes moved", moved)
	}
	first, last := t.New, t.Old
	if t.Down {
		first, last = t.Old, t.New
	}
	boundary := t.boundary(moved)
	regions := append(first.below(boundary), last.from(boundary, t.Old.capacity)...)
	m, err := newMap(t.Old.Level, t.Old.Members, t.Old.Shape, regions, t.Old.capacity)
	if err == nil && moved == t.Old.capacity {
		m.Level, m.Shape = t.New.Level, t.New.Shape
	}
	return m, err
}

// below are the regions of a map up to a byte of the logical space, or to the end of the row in which that lies.
func (m *Map) below(end int64) (regions []Region) {
	for _, r := range m.regions {
		c := r.copy()
		if c.Rows = min(r.Rows, r.rowsTo(end)); c.Rows > 0 {
			regions = append(regions, c)
		}
	}
	return regions
}

// from are the regions of a map from a byte of the logical space on, up to another.
func (m *Map) from(begin, end int64) (regions []Region) {
	for _, r := range m.regions {
		c := r.copy()
		c.Rows = min(r.Rows, r.rowsTo(end))
		c.Skip = max(begin-r.start, 0) / (r.StripeSize() * int64(r.Groups))
		if c.from = max(begin, r.start); c.Rows > c.Skip {
			regions = append(regions, c)
		}
	}
	return regions
}

// rowsTo is how many rows the region would have up to a byte of the logical space, in part or whole.
func (r *Region) rowsTo(at int64) int64 {
	set := r.StripeSize() * int64(r.Groups)
	return (max(at-r.start, 0) + set - 1) / set
}

func (r *Region) copy() Region {
	return Region{Shape: r.Shape, ID: r.ID, Rows: r.Rows, Slots: r.Slots, Begin: r.Begin, start: r.start, from: r.from}
}

// Stretch is some blocks of a member's data.
type Stretch struct {
	Slot  int
	Block int64
	N     int64
}

// Free lists the stretches that no region uses of those blocks that either map uses, by slot, ascending: nothing may be written there any
// more, or not yet.
func (t *Turn) Free(at *Map) (out []Stretch) {
	for slot := range t.Old.Members {
		type span struct{ from, to int64 }
		var used, all []span
		collect := func(m *Map, to *[]span) {
			for _, r := range m.on[slot] {
				from, n := r.Span(slot)
				*to = append(*to, span{from, from + n})
			}
		}
		collect(at, &used)
		collect(t.Old, &all)
		collect(t.New, &all)
		slices.SortFunc(all, func(x, y span) int { return cmp.Compare(x.from, y.from) })
		next := int64(0)
		for _, a := range all {
			for from := max(a.from, next); from < a.to; {
				to, skip := a.to, int64(0)
				for _, u := range used {
					if u.from <= from && from < u.to {
						skip = max(skip, u.to)
					} else if u.from > from {
						to = min(to, u.from)
					}
				}
				if skip > 0 {
					from = skip
					continue
				}
				out = append(out, Stretch{slot, from, to - from})
				from = to
			}
			next = max(next, a.to)
		}
	}
	return out
}
