package layout

import (
	"errors"
	"fmt"
	"slices"
)

// Guarded is a set of disks that stay separate, under common parity: each data disk is a volume of its own, as long as the disk, and up to three other
// disks have the parity of all. Roles do not turn. What lies at the same height on the disks that reach that far is one stripe, so there is a region between
// each two neighbouring sizes. The weight of a data disk in the parity goes by its slot, which never changes.
const Guarded Level = "guarded"

// Known says whether a level is one that a record may name.
func Known(level Level) bool { return level == Guarded || slices.Contains(Levels(), level) }

// Volume is what a data disk of a guarded set has for clients.
type Volume struct {
	Slot  int
	Start int64 // byte of the logical space, in which the volumes follow one another by slot
	Size  int64 // bytes
}

// ErrParitySmall is wrapped where a data disk has more room than a disk that is to have its parity.
var ErrParitySmall = errors.New("a parity disk is smaller than a data disk")

// GuardedRegions are the regions of a guarded set over what members have, by slot, those in parity having the parity. The regions are numbered from an
// identity on. Sizes are rounded down to whole strips.
func GuardedRegions(strip int64, spaces [][]Space, parity []int, id int) (out []Region, err error) {
	for left := copySpaces(spaces, strip); ; {
		r := Region{Shape: Shape{Groups: 1, Parity: len(parity), Strip: strip, Fixed: true}, ID: id + len(out)}
		for slot, of := range left {
			if len(of) > 0 && !slices.Contains(parity, slot) {
				r.Slots = append(r.Slots, slot)
			}
		}
		if r.Data = len(r.Slots); r.Data == 0 {
			return out, nil
		}
		r.Slots = append(r.Slots, parity...)
		for _, slot := range r.Slots {
			if len(left[slot]) == 0 {
				return nil, fmt.Errorf("%w: slot %d", ErrParitySmall, slot)
			}
			r.Begin = append(r.Begin, left[slot][0].First)
			if n := left[slot][0].Size / strip; r.Rows == 0 || n < r.Rows {
				r.Rows = n
			}
		}
		take(left, &r, strip)
		out = append(out, r)
	}
}

// take takes what a region uses out of what members have, of which less than some bytes do not count.
func take(left [][]Space, r *Region, least int64) {
	for _, slot := range r.Slots {
		of := left[slot]
		of[0].First, of[0].Size = of[0].First+r.Rows*r.Strip/Block, of[0].Size-r.Rows*r.Strip
		if of[0].Size < least {
			left[slot] = of[1:]
		}
	}
}

// NewGuarded is the map of a new guarded set of disks with room for some bytes of data, by slot, of which the last ones have the parity.
func NewGuarded(strip int64, sizes []int64, parity int) (*Map, error) {
	switch n := len(sizes); {
	case strip < MinStrip || strip > MaxStrip || strip&(strip-1) != 0:
		return nil, fmt.Errorf("strip size %d bytes: must be a power of two from 16KiB to 1MiB", strip)
	case parity < 1 || parity > 3:
		return nil, fmt.Errorf("a guarded set has one to three parity disks; %d given", parity)
	case n <= parity:
		return nil, errors.New("a guarded set needs a data disk besides its parity disks")
	case n > MaxMembers:
		return nil, fmt.Errorf("%d disks: an array has at most %d members", n, MaxMembers)
	}
	spaces, last := make([][]Space, len(sizes)), []int(nil)
	for slot, size := range sizes {
		if size < strip {
			return nil, fmt.Errorf("member %d holds %d bytes of data: less than one strip of %d", slot, size, strip)
		}
		spaces[slot] = []Space{{0, size}}
		if slot >= len(sizes)-parity {
			last = append(last, slot)
		}
	}
	regions, err := GuardedRegions(strip, spaces, last, 0)
	if err != nil {
		return nil, err
	}
	return NewMap(Guarded, len(sizes), regions[0].Shape, regions)
}

// Volumes are those of a guarded set, by slot; nil at all other levels. They are not to be changed.
func (m *Map) Volumes() []Volume { return m.volumes }

// Volume is the volume on a slot; ok is false when there is none.
func (m *Map) Volume(slot int) (v Volume, ok bool) {
	i := slices.IndexFunc(m.volumes, func(v Volume) bool { return v.Slot == slot })
	if i < 0 {
		return v, false
	}
	return m.volumes[i], true
}

// findVolumes finds the volumes of a guarded set. It is an error when regions are not as GuardedRegions makes them.
func (m *Map) findVolumes() error {
	first := m.regions[0]
	for _, r := range m.regions {
		if !r.Fixed || r.Groups != 1 || r.Skip != 0 || r.Strip != first.Strip || r.Parity < 1 || r.Parity > 3 || !slices.Equal(r.Slots[r.Data:], first.Slots[first.Data:]) ||
			slices.ContainsFunc(r.Slots[:r.Data], func(slot int) bool { return slices.Contains(first.Slots[first.Data:], slot) }) {
			return fmt.Errorf("region %d is none of a guarded set", r.ID)
		}
	}
	var at int64
	for slot := range m.Members {
		var size int64
		for _, r := range m.on[slot] {
			if r.place[slot] < r.Data {
				size += r.Rows * r.Strip
			}
		}
		if size > 0 {
			m.volumes = append(m.volumes, Volume{slot, at, size})
			at += size
		}
	}
	return nil
}

// inVolume is Locate in a guarded set.
func (m *Map) inVolume(off int64) (st Stripe, in int64) {
	v := m.volumeAt(off)
	off -= v.Start
	for _, r := range m.on[v.Slot] {
		if n := r.Rows * r.Strip; off >= n {
			off -= n
			continue
		}
		return r.At(0, off/r.Strip), int64(r.place[v.Slot])*r.Strip + off%r.Strip
	}
	panic("no such byte")
}

func (m *Map) volumeAt(off int64) Volume {
	i, found := slices.BinarySearchFunc(m.volumes, off, func(v Volume, off int64) int { return int(max(min(v.Start-off, 1), -1)) })
	if !found {
		i--
	}
	return m.volumes[i]
}

// Left is how many bytes of the logical space from one in the data of a stripe on lie there one after the other.
func (s Stripe) Left(in int64) int64 {
	if s.Fixed {
		return s.Strip - in%s.Strip
	}
	return s.StripeSize() - in
}

// At is the byte of the logical space at which the strip of a data role of a stripe begins.
func (m *Map) At(st Stripe, role int) int64 {
	if !st.Fixed {
		return st.Offset() + int64(role)*st.Strip
	}
	slot := st.Slots[role]
	v, _ := m.Volume(slot)
	return v.Start + st.Nth(slot)*st.Strip
}

// Ahead is the first byte from one of the logical space on that lies in a stripe, by its ordinal, or behind that; or where the volume of that one ends.
func (m *Map) Ahead(off, ordinal int64) int64 {
	if m.volumes == nil {
		return m.Offset(ordinal)
	}
	v := m.volumeAt(off)
	for _, r := range m.on[v.Slot] {
		if ordinal < r.first+r.Stripes() {
			row := max(ordinal-r.first, 0)
			return max(off, v.Start+(r.nth[r.place[v.Slot]]+row)*r.Strip)
		}
	}
	return v.Start + v.Size
}

// Weight is which data strip of the code a data role of the region is: see parity.Coefficient.
func (r *Region) Weight(role int) int {
	if r.Fixed {
		return r.Slots[role]
	}
	return role
}
