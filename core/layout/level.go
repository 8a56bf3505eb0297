// Package layout says where a logical byte of an array lives, how much an array holds, and which losses it survives.
// It is arithmetic only.
//
// # Model
//
// A map is a list of regions, which cover the logical space one after the other. Within a region every level is the same three
// steps:
//
//  1. The members of the region form one or more groups of equal size. A group is a code of k data strips and m parity
//     strips (package parity): levels 5, 6 and triple have m = 1, 2, 3; a mirror is k = 1 with m copies more; striping
//     alone has m = 0. Levels 10, 50 and 60 are several such groups. Concat is a region per member.
//  2. A stripe is one strip on each member of one group, all at the same row of the region. Stripes are numbered from 0 in
//     logical order, and dealt out to the groups in turn.
//  3. Within a row, the roles 0…k-1 (data) and k…k+m-1 (parity) are turned by k places a row:
//     place = (role + row·k) mod (k+m). Consecutive data strips then lie on consecutive members all the way around, so a
//     long read keeps every member busy, and parity visits all members.
//
// Only this package knows levels by name. All other code asks a stripe for its shape and its places.
package layout

import (
	"fmt"
	"slices"
)

// Level names a level as users write it.
type Level string

// The levels.
const (
	Striped    Level = "0"
	Mirror     Level = "1"
	Parity1    Level = "5"
	Parity2    Level = "6"
	Parity3    Level = "triple"
	Mirrors    Level = "10"
	Parities1  Level = "50"
	Parities2  Level = "60"
	Concat     Level = "concat"
	MaxMembers       = 64
	Block            = 4096 // bytes: the unit of checksums and of what never tears
	MinStrip         = 16 << 10
	MaxStrip         = 1 << 20
)

// DefaultStrip is 64 KiB: large enough that a member seeks rarely in long transfers and a request of a database page or
// a file system block touches one data member only; small enough that 1 MiB requests fill whole stripes of the usual
// widths (a full stripe needs no reads before it is written).
const DefaultStrip = 64 << 10

// Levels lists all levels in the order they are shown.
func Levels() []Level {
	return []Level{Striped, Mirror, Parity1, Parity2, Parity3, Mirrors, Parities1, Parities2, Concat}
}

// ShapeOf is the shape of the stripes of a level of n members; see New for the groups.
func ShapeOf(level Level, strip int64, groups, n int) (shape Shape, err error) {
	if strip < MinStrip || strip > MaxStrip || strip&(strip-1) != 0 {
		return shape, fmt.Errorf("strip size %d bytes: must be a power of two from 16KiB to 1MiB", strip)
	}
	if n > MaxMembers {
		return shape, fmt.Errorf("%d disks: an array has at most %d members", n, MaxMembers)
	}
	if !slices.Contains(Levels(), level) {
		return shape, fmt.Errorf("unknown level %q: the levels are 0, 1, 5, 6, triple, 10, 50, 60 and concat", string(level))
	}
	least, parity := Needs(level)
	if n < least {
		return shape, fmt.Errorf("level %s needs at least %d disks; %d given", level, least, n)
	}
	if groups != 0 && !level.Nested() {
		return shape, fmt.Errorf("level %s has no groups to choose: only levels 10, 50 and 60 do", level)
	}
	if level.Nested() {
		smallest := map[Level]int{Mirrors: 2, Parities1: 3, Parities2: 4}[level]
		if groups == 0 {
			groups = defaultGroups(level, n, smallest)
		}
		if groups < 2 || n%groups != 0 || n/groups < smallest {
			return shape, fmt.Errorf("level %s cannot be made of %d disks in %d groups: it needs two or more groups of equal size, each of at least %d disks",
				level, n, groups, smallest)
		}
	}
	shape = Shape{Groups: max(groups, 1), Strip: strip}
	if level == Concat {
		shape.Groups = n
	}
	per := n / shape.Groups
	if level == Mirror || level == Mirrors {
		parity = per - 1
	}
	shape.Data, shape.Parity = per-parity, parity
	return shape, nil
}

// ShapeFor is the shape, for people, of a level that is made of some regions.
func ShapeFor(level Level, regions []Region) Shape {
	shape := regions[0].Shape
	if level == Concat {
		shape.Groups = 0
		slots := map[int]bool{}
		for _, r := range regions {
			for _, slot := range r.Slots {
				slots[slot] = true
			}
		}
		shape.Groups = len(slots)
	}
	return shape
}

// New works out the map of an array of the given member data sizes, in slot order and in bytes. groups is the number
// of groups for the nested levels, or 0 for the default: pairs for level 10, and for 50 and 60 the fewest groups of
// equal size. Sizes are rounded down to whole strips. Concat uses each in full; the other levels use the
// smallest.
func New(level Level, strip int64, groups int, sizes []int64) (*Map, error) {
	n := len(sizes)
	shape, err := ShapeOf(level, strip, groups, n)
	if err != nil {
		return nil, err
	}
	var regions []Region
	if level == Concat {
		one := shape
		one.Groups = 1
		for slot, size := range sizes {
			regions = append(regions, Region{Shape: one, ID: slot, Rows: size / strip, Slots: []int{slot}, Begin: []int64{0}})
		}
	} else {
		whole := Region{Shape: shape, Rows: slices.Min(sizes) / strip, Begin: make([]int64, n)}
		for slot := range sizes {
			whole.Slots = append(whole.Slots, slot)
		}
		regions = append(regions, whole)
	}
	for slot, size := range sizes {
		if size < strip && (level == Concat || size == slices.Min(sizes)) {
			return nil, fmt.Errorf("member %d holds %d bytes of data: less than one strip of %d", slot, size, strip)
		}
	}
	return NewMap(level, n, shape, regions)
}

// Nested says whether a level is several groups of another.
func (l Level) Nested() bool { return l == Mirrors || l == Parities1 || l == Parities2 }

// Appends says whether the members of a level are used one after the other, each to its own end, instead of side by side.
func (l Level) Appends() bool { return l == Concat }

// Needs returns the fewest disks a level can be made of and its parity strips per stripe (0 for mirrors, whose copies
// are counted by their size).
func Needs(level Level) (least, parity int) {
	switch level {
	case Mirror:
		return 2, 0
	case Parity1:
		return 3, 1
	case Parity2:
		return 4, 2
	case Parity3:
		return 5, 3
	case Mirrors:
		return 4, 0
	case Parities1:
		return 6, 1
	case Parities2:
		return 8, 2
	}
	return 1, 0
}

func defaultGroups(level Level, n, smallest int) int {
	if level == Mirrors {
		return n / 2
	}
	for groups := 2; groups*smallest <= n; groups++ {
		if n%groups == 0 {
			return groups
		}
	}
	return 2
}
