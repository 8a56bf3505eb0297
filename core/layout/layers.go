package layout

import "slices"

// Space is a stretch of a member's data that regions can be made of.
type Space struct {
	First int64 // block
	Size  int64 // bytes
}

// Mixes says whether a level uses what some members have more than others, in layers.
func (l Level) Mixes() bool {
	return l == Striped || l == Parity1 || l == Parity2 || l == Parity3
}

// mostLayers is how many layers are made at most. Each costs a region of the record, of which there is a limited number.
const mostLayers = 32

// Layers makes regions of what members have, by slot, of a level that mixes. A layer lies over all members that reach that far, and survives as many
// losses as the level: of as few members as that plus one it is a mirror, and what fewer than those have stays unused. So does a layer that would be
// less than a hundredth of the whole. Each is a multiple of granule bytes high, which is one of the strip. The regions are numbered from an identity on.
func Layers(level Level, strip, granule int64, spaces [][]Space, id int) []Region {
	_, parity := Needs(level)
	var out []Region
	for left := copySpaces(spaces, granule); ; {
		r := Region{Shape: Shape{Groups: 1, Strip: strip, Parity: parity}, Rows: 1 << 60}
		for slot, of := range left {
			if len(of) > 0 {
				r.Slots, r.Begin, r.Rows = append(r.Slots, slot), append(r.Begin, of[0].First), min(r.Rows, of[0].Size/granule*(granule/strip))
			}
		}
		if r.Data = len(r.Slots) - parity; r.Data < 1 {
			break
		}
		for _, slot := range r.Slots {
			of := left[slot]
			of[0].First, of[0].Size = of[0].First+r.Rows*strip/Block, of[0].Size-r.Rows*strip
			if of[0].Size < granule {
				left[slot] = of[1:]
			}
		}
		out = append(out, r)
	}
	return worthwhile(out, id)
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
	regions := Layers(level, strip, strip, spaces, 0)
	if len(regions) < 2 {
		return m, nil
	}
	return NewMap(level, len(sizes), m.Shape, regions)
}

// Mixed says whether the members of a level that puts them side by side are used differently far.
func (m *Map) Mixed() bool {
	return !m.Level.Appends() && slices.ContainsFunc(m.regions, func(r *Region) bool { return len(r.Slots) != len(m.regions[0].Slots) })
}
