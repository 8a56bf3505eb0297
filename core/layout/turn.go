package layout

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
)

// Turn is a change from one map of an array to another, stripe by stripe, in ascending logical order. Below a boundary the new map is in force, and
// from it on the old one. It can be made where no block that the new map puts in place lies behind one that is still to be moved; what was
// moved is then never written over by what comes later.
//
// A boundary lies at a whole number of rows of the new map that are also whole strips of either map, or at the end: see Next.
type Turn struct {
	Old, New *Map
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
	for _, r := range new.regions[:len(new.regions)-1] {
		if r.Rows*r.Strip%t.strip != 0 {
			return nil, errors.New("a region of the new map is not made of whole strips of the old one")
		}
	}
	for _, r := range old.regions {
		if slices.ContainsFunc(new.regions, func(o *Region) bool { return o.ID == r.ID }) {
			return nil, fmt.Errorf("region %d is in both maps", r.ID)
		}
		if r.from != r.start || r.Skip != 0 {
			return nil, errors.New("the old map is in the middle of a change")
		}
	}
	return t, t.forwards()
}

// unit is how far apart the boundaries in a region of the new map are, in bytes of the logical space.
func (t *Turn) unit(r *Region) int64 { return t.strip * int64(r.Data*r.Groups) }

// region is the region of the new map in which a byte lies.
func (t *Turn) region(at int64) *Region {
	return t.New.before(at, func(r *Region) int64 { return r.start })
}

// Floor is the last boundary that is not behind a byte.
func (t *Turn) Floor(at int64) int64 {
	if at >= t.Old.capacity {
		return t.Old.capacity
	}
	r := t.region(at)
	return at - (at-r.start)%t.unit(r)
}

// Next is the first boundary behind one that is not the end.
func (t *Turn) Next(boundary int64) int64 {
	r := t.region(boundary)
	return min(boundary+t.unit(r), r.start+r.Stripes()*r.StripeSize(), t.Old.capacity)
}

// Unit is how many bytes of the logical space lie between two boundaries at a place.
func (t *Turn) Unit(at int64) int64 { return t.unit(t.region(at)) }

// Alike is the last boundary below which both maps put everything at the same places.
func (t *Turn) Alike() (boundary int64) {
	for i, r := range t.New.regions {
		if i >= len(t.Old.regions) {
			break
		}
		o := t.Old.regions[i]
		if r.Shape != o.Shape || r.start != o.start || !slices.Equal(r.Slots, o.Slots) || !slices.Equal(r.Begin, o.Begin) {
			break
		}
		boundary = t.Floor(r.start + min(r.Stripes(), o.Stripes())*r.StripeSize())
		if r.Rows != o.Rows {
			break
		}
	}
	return boundary
}

// forwards says whether nothing is ever put where something is that is still to be moved. How far a map has come on a member, as a function
// of how far it has come in the logical space, is made of straight lines, so it is enough to look at the ends of the regions of both.
func (t *Turn) forwards() error {
	var ends []int64
	for _, r := range slices.Concat(t.Old.regions, t.New.regions) {
		ends = append(ends, r.start, r.start+r.Stripes()*r.StripeSize())
	}
	for _, at := range ends {
		if at > t.Old.capacity {
			continue
		}
		for slot := range t.Old.Members {
			// What is at or behind this byte begins, on this member, at a block; nothing of the new map may come further.
			need, ok := t.Old.reach(slot, at, false)
			if !ok {
				continue
			}
			if have, ok := t.New.reach(slot, at, true); ok && have > need {
				return fmt.Errorf("%w: at byte %d, slot %d", ErrBackwards, at, slot)
			}
		}
	}
	return nil
}

// reach is, for the logical space up to a byte, how far a map has come on a member: the block behind the last one that it uses for that (up), or the
// first that it uses for what follows. ok is false when there is none.
func (m *Map) reach(slot int, at int64, up bool) (block int64, ok bool) {
	for _, r := range m.regions {
		if r.place[slot] < 0 {
			continue
		}
		set := r.StripeSize() * int64(r.Groups) // of one row of all groups
		per := int64(r.StripBlocks())
		in := min(max(at-r.start, 0), r.Stripes()*r.StripeSize())
		switch {
		case up && in > 0:
			block, ok = max(block, r.begins(slot)+(in*per+set-1)/set), true
		case !up && in < r.Rows*set:
			first := r.begins(slot) + in*per/set
			if !ok || first < block {
				block, ok = first, true
			}
		}
	}
	return block, ok
}

// At is the map with a boundary: a multiple of the unit, or the end of the old map.
func (t *Turn) At(boundary int64) (*Map, error) {
	if boundary < 0 || boundary > t.Old.capacity || t.Floor(boundary) != boundary {
		return nil, fmt.Errorf("a boundary at byte %d", boundary)
	}
	var regions []Region
	for _, r := range t.New.regions {
		if rows := min(r.Rows, t.rows(r, boundary)); rows > 0 {
			c := r.copy()
			c.Rows = rows
			regions = append(regions, c)
		}
	}
	for _, r := range t.Old.regions {
		set := r.StripeSize() * int64(r.Groups)
		if r.start+r.Rows*set > boundary {
			c := r.copy()
			c.Skip = max(boundary-r.start, 0) / set
			c.from = max(boundary, r.start)
			regions = append(regions, c)
		}
	}
	m, err := newMap(t.Old.Level, t.Old.Members, t.Old.Shape, regions, t.Old.capacity)
	if err == nil && boundary == t.Old.capacity {
		m.Level, m.Shape = t.New.Level, t.New.Shape
	}
	return m, err
}

// rows is how many rows of a region of the new map lie below a boundary.
func (t *Turn) rows(r *Region, boundary int64) int64 {
	set := r.StripeSize() * int64(r.Groups)
	return (max(boundary-r.start, 0) + set - 1) / set
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
