package layout

import (
	"cmp"
	"slices"
)

// Space is a stretch of a member's data that regions can be made of.
type Space struct {
	First int64 // block
	Size  int64 // bytes
}

// Mixes says whether a level uses what some members have more than others, in layers. A mirror does not: fewer members have fewer copies.
func (l Level) Mixes() bool { return l != Mirror && l != Guarded && !l.Appends() }

// mostLayers is how many layers are made at most. Each costs a region of the record, of which there is a limited number.
const mostLayers = 32

// Layers makes regions of a shape of what members have, by slot, of a level that mixes. In each group a layer lies over all members that reach that far,
// and survives as many losses as the level: of as few members as that plus one it is a mirror, and what fewer than those have stays unused. Groups of which
// as many members reach that far lie side by side in one region. A layer that would be less than a hundredth of the whole stays unused as well. Each is a
// multiple of granule bytes high, which is one of the strip. The regions are numbered from an identity on.
func Layers(shape Shape, granule int64, spaces [][]Space, id int) []Region {
	var out []Region
	for left := copySpaces(spaces, granule); ; {
		slots, width := widest(left, shape)
		if width == 0 {
			break
		}
		r := Region{Rows: 1 << 60, Slots: slots,
			Shape: Shape{Data: width - shape.Parity, Parity: shape.Parity, Groups: len(slots) / width, Strip: shape.Strip}}
		for _, slot := range slots {
			r.Begin, r.Rows = append(r.Begin, left[slot][0].First), min(r.Rows, left[slot][0].Size/granule*(granule/r.Strip))
		}
		take(left, &r, granule)
		out = append(out, r)
	}
	return worthwhile(out, id)
}

// widest finds the groups of which most members have something left, and as many in each of them: the slots of those members, and how many there are in
// a group; none when no group has more than may be lost.
func widest(left [][]Space, shape Shape) (slots []int, width int) {
	per := len(left) / shape.Groups
	for g := range shape.Groups {
		var reach []int
		for slot := g * per; slot < (g+1)*per; slot++ {
			if len(left[slot]) > 0 {
				reach = append(reach, slot)
			}
		}
		switch {
		case len(reach) <= shape.Parity || len(reach) < width:
		case len(reach) > width:
			slots, width = reach, len(reach)
		default:
			slots = append(slots, reach...)
		}
	}
	return slots, width
}

// copySpaces copies what has some bytes at all.
func copySpaces(spaces [][]Space, least int64) [][]Space {
	out := make([][]Space, len(spaces))
	for slot, of := range spaces {
		for _, s := range of {
			if s.Size >= least {
				out[slot] = append(out[slot], s)
			}
		}
	}
	return out
}

// worthwhile leaves out layers that are not worth a region, and numbers the rest.
func worthwhile(layers []Region, id int) (out []Region) {
	bytes := func(r Region) int64 { return r.Stripes() * r.StripeSize() }
	var all int64
	for _, r := range layers {
		all += bytes(r)
	}
	for i, r := range layers {
		if (i == 0 || bytes(r)*100 >= all) && len(out) < mostLayers { // the first has all members
			r.ID = id + len(out)
			out = append(out, r)
		}
	}
	return out
}

// NewLayers is New, which for levels that mix uses what members have more than the smallest, see Layers.
func NewLayers(level Level, strip int64, groups int, sizes []int64) (*Map, error) {
	m, err := New(level, strip, groups, sizes)
	if err != nil || !level.Mixes() {
		return m, err
	}
	spaces := make([][]Space, len(sizes))
	for slot, size := range sizes {
		spaces[slot] = []Space{{0, size}}
	}
	regions := Layers(m.Shape, strip, spaces, 0)
	if len(regions) < 2 {
		return m, nil
	}
	return NewMap(level, len(sizes), m.Shape, regions)
}

// Arrange is the order in which disks of some sizes are best put into slots, each by where it is in sizes. Where groups would be of different sizes otherwise,
// those of one group are of like sizes; else the order stays as it is.
func Arrange(level Level, strip int64, groups int, sizes []int64) (order []int) {
	for i := range sizes {
		order = append(order, i)
	}
	as, err := NewLayers(level, strip, groups, sizes)
	if err != nil || !level.Nested() {
		return order
	}
	sorted := slices.Clone(order)
	slices.SortStableFunc(sorted, func(i, j int) int { return cmp.Compare(sizes[j], sizes[i]) })
	if other, err := NewLayers(level, strip, groups, Ordered(sizes, sorted)); err == nil && (other.Capacity()-as.Capacity())*100 > as.Capacity() {
		return sorted
	}
	return order
}

// Ordered are some things in an order, see Arrange.
func Ordered[T any](of []T, order []int) (out []T) {
	for _, i := range order {
		out = append(out, of[i])
	}
	return out
}

// Mixed says whether the members of a level that puts them side by side are used differently far.
func (m *Map) Mixed() bool {
	return !m.Level.Appends() && slices.ContainsFunc(m.regions, func(r *Region) bool { return len(r.Slots) != len(m.regions[0].Slots) })
}
