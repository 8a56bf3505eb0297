// Package layout says where a logical byte of an array lives, how much an array holds, and which losses it survives.
// It is arithmetic only.
//
// # Model
//
// Every level is the same three steps:
//
//  1. The members form one or more groups of equal size. A group is a code of k data strips and m parity strips
//     (package parity): levels 5, 6 and triple have m = 1, 2, 3; a mirror is k = 1 with m copies more; striping alone
//     has m = 0. Levels 10, 50 and 60 are several such groups, concat is one group per member.
//  2. A stripe is one strip on each member of one group, all at the same row. Stripes are numbered from 0 in logical
//     order. Striped levels deal them out to the groups in turn; concat fills one group after the other.
//  3. Within a row, the roles 0…k-1 (data) and k…k+m-1 (parity) are turned by k slots a row:
//     slot = (role + row·k) mod (k+m). Consecutive data strips then lie on consecutive members all the way around, so a
//     long read keeps every member busy, and parity visits all members.
package layout

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
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

// Geometry is the shape of an array. The zero value is not usable; see New.
type Geometry struct {
	Level   Level
	Members int
	Strip   int64   // bytes of one strip
	Groups  int     // number of groups
	Data    int     // data strips of a stripe, k
	Parity  int     // parity strips (or further copies) of a stripe, m
	Rows    []int64 // rows of each group
	starts  []int64 // concat: first stripe of each group, and the total at the end
}

// New works out the shape of an array of the given member data sizes, in slot order and in bytes. groups is the number
// of groups for the nested levels, or 0 for the default: pairs for level 10, and for 50 and 60 the fewest groups of
// equal size. Sizes are rounded down to whole strips; all but concat use the smallest of them.
func New(level Level, strip int64, groups int, sizes []int64) (*Geometry, error) {
	n := len(sizes)
	g := &Geometry{Level: level, Members: n, Strip: strip}
	if strip < MinStrip || strip > MaxStrip || strip&(strip-1) != 0 {
		return nil, fmt.Errorf("strip size %d bytes: must be a power of two from 16KiB to 1MiB", strip)
	}
	if n > MaxMembers {
		return nil, fmt.Errorf("%d disks: an array has at most %d members", n, MaxMembers)
	}
	if !slices.Contains(Levels(), level) {
		return nil, fmt.Errorf("unknown level %q: the levels are 0, 1, 5, 6, triple, 10, 50, 60 and concat", string(level))
	}
	least, parity := Needs(level)
	if n < least {
		return nil, fmt.Errorf("level %s needs at least %d disks; %d given", level, least, n)
	}
	nested := level == Mirrors || level == Parities1 || level == Parities2
	if groups != 0 && !nested {
		return nil, fmt.Errorf("level %s has no groups to choose: only levels 10, 50 and 60 do", level)
	}
	switch {
	case level == Concat:
		g.Groups = n
	case nested:
		smallest := map[Level]int{Mirrors: 2, Parities1: 3, Parities2: 4}[level]
		if groups == 0 {
			groups = defaultGroups(level, n, smallest)
		}
		if groups < 2 || n%groups != 0 || n/groups < smallest {
			return nil, fmt.Errorf("level %s cannot be made of %d disks in %d groups: it needs two or more groups of equal size, each of at least %d disks",
				level, n, groups, smallest)
		}
		g.Groups = groups
	default:
		g.Groups = 1
	}
	per := n / g.Groups
	switch level {
	case Mirror, Mirrors:
		g.Data, g.Parity = 1, per-1
	default:
		g.Data, g.Parity = per-parity, parity
	}
	return g, g.setRows(sizes)
}

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

func (g *Geometry) setRows(sizes []int64) error {
	g.Rows = make([]int64, g.Groups)
	smallest := slices.Min(sizes)
	for i := range g.Rows {
		size := smallest
		if g.Level == Concat {
			size = sizes[i]
		}
		g.Rows[i] = size / g.Strip
		if g.Rows[i] < 1 {
			return fmt.Errorf("a member holds %d bytes of data: less than one strip of %d", size, g.Strip)
		}
	}
	g.starts = make([]int64, g.Groups+1)
	for i, rows := range g.Rows {
		g.starts[i+1] = g.starts[i] + rows
	}
	return nil
}

// Width is the number of members of one group, k+m.
func (g *Geometry) Width() int { return g.Data + g.Parity }

// StripeSize is the data of one stripe in bytes.
func (g *Geometry) StripeSize() int64 { return int64(g.Data) * g.Strip }

// StripBlocks is the length of a strip in blocks.
func (g *Geometry) StripBlocks() int { return int(g.Strip / Block) }

// Stripes is the number of stripes of the array.
func (g *Geometry) Stripes() int64 { return g.starts[g.Groups] }

// Capacity is the usable capacity in bytes.
func (g *Geometry) Capacity() int64 { return g.Stripes() * g.StripeSize() }

// Redundant says whether the level can lose a member at all.
func (g *Geometry) Redundant() bool { return g.Parity > 0 }

// Stripe is one stripe's place: the group it is in and its row there.
type Stripe struct {
	Number int64
	Group  int
	Row    int64
}

// Locate finds a stripe by its number, which must be within the array.
func (g *Geometry) Locate(number int64) Stripe {
	if g.Level == Concat {
		group, found := slices.BinarySearch(g.starts, number)
		if !found {
			group--
		}
		return Stripe{number, group, number - g.starts[group]}
	}
	return Stripe{number, int(number % int64(g.Groups)), number / int64(g.Groups)}
}

// At finds the stripe of a group and row.
func (g *Geometry) At(group int, row int64) Stripe {
	if g.Level == Concat {
		return Stripe{g.starts[group] + row, group, row}
	}
	return Stripe{row*int64(g.Groups) + int64(group), group, row}
}

// Slot is the slot (within the whole array) that has the given role in a stripe: roles below Data are data strips in
// logical order, the others parity.
func (g *Geometry) Slot(s Stripe, role int) int {
	width := int64(g.Width())
	turn := (s.Row % width) * int64(g.Data) % width
	return s.Group*int(width) + int((int64(role)+turn)%width)
}

// Role is the inverse of Slot; the slot must be one of the stripe's group.
func (g *Geometry) Role(s Stripe, slot int) int {
	width := int64(g.Width())
	turn := (s.Row % width) * int64(g.Data) % width
	return int((int64(slot-s.Group*int(width)) - turn + width) % width)
}

// GroupOf is the group a slot belongs to.
func (g *Geometry) GroupOf(slot int) int { return slot / g.Width() }

// Survives says whether all data can still be had without the members for which lost is true.
func (g *Geometry) Survives(lost func(slot int) bool) bool {
	certain, _ := g.Margin(lost)
	return certain >= 0
}

// Margin is how many further members the array can lose for certain, and how many at best, when those for which lost
// is true are gone already. certain is negative when data is out of reach.
func (g *Geometry) Margin(lost func(slot int) bool) (certain, best int) {
	certain = g.Parity
	for group := 0; group < g.Groups; group++ {
		left := g.Parity
		for i := 0; i < g.Width(); i++ {
			if lost(group*g.Width() + i) {
				left--
			}
		}
		certain = min(certain, left)
		best += max(left, 0)
	}
	if certain < 0 {
		return certain, 0
	}
	return certain, best
}

// MarginOfDisks is Margin counted in disks, where several members may be partitions of one: disks names the disk of each slot,
// and slots with the same name go together. An empty name stands for a disk of its own. With luck counts the disks that
// leave in the order that loses least.
func (g *Geometry) MarginOfDisks(disks []string, lost func(slot int) bool) (certain, best int) {
	members, _ := g.Margin(lost)
	slots := map[string][]int{}
	shared := false
	for slot := range g.Groups * g.Width() {
		name := ""
		if slot < len(disks) {
			name = disks[slot]
		}
		if name == "" {
			name = fmt.Sprintf("\x00%d", slot)
		}
		if !lost(slot) {
			slots[name] = append(slots[name], slot)
			shared = shared || len(slots[name]) > 1
		}
	}
	if members < 0 || !shared {
		return g.Margin(lost)
	}
	// The worst case for a group: the disks with most of its members go first.
	certain = g.Parity
	for group := range g.Groups {
		left := g.Parity
		var counts []int
		for i := range g.Width() {
			if lost(group*g.Width() + i) {
				left--
			}
		}
		for _, of := range slots {
			n := 0
			for _, slot := range of {
				if g.GroupOf(slot) == group {
					n++
				}
			}
			if n > 0 {
				counts = append(counts, n)
			}
		}
		slices.SortFunc(counts, func(x, y int) int { return y - x })
		survived := 0
		for _, n := range counts {
			if left -= n; left < 0 {
				break
			}
			survived++
		}
		certain = min(certain, survived)
	}
	order := slices.SortedFunc(maps.Keys(slots), func(x, y string) int {
		return cmp.Or(len(slots[x])-len(slots[y]), cmp.Compare(x, y))
	})
	gone := map[int]bool{}
	for _, name := range order {
		for _, slot := range slots[name] {
			gone[slot] = true
		}
		if g.Survives(func(slot int) bool { return lost(slot) || gone[slot] }) {
			best++
			continue
		}
		for _, slot := range slots[name] {
			delete(gone, slot)
		}
	}
	return certain, best
}

// ErrRange is returned for addresses outside the array.
var ErrRange = errors.New("beyond the end of the array")

// Check reports ErrRange unless length bytes at offset lie within the array.
func (g *Geometry) Check(offset, length int64) error {
	if offset < 0 || length < 0 || offset > g.Capacity() || length > g.Capacity()-offset {
		return fmt.Errorf("%d bytes at offset %d of %d: %w", length, offset, g.Capacity(), ErrRange)
	}
	return nil
}
