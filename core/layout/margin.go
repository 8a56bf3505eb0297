package layout

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"nidalo/core/state"
)

// group is some members of which a number may be lost.
type group struct {
	slots  []int
	parity int
}

// left is how many more of a group may be lost.
func (g group) left(lost func(slot int) bool) int {
	left := g.parity
	for _, slot := range g.slots {
		if lost(slot) {
			left--
		}
	}
	return left
}

// Survives says whether all data can still be had without the members for which lost is true.
func (m *Map) Survives(lost func(slot int) bool) bool {
	return !slices.ContainsFunc(m.groups, func(g group) bool { return g.left(lost) < 0 })
}

// Serves says whether anything can be served without the members for which lost is true: all of it, or at least one whole volume of a guarded set.
func (m *Map) Serves(lost func(slot int) bool) bool {
	return m.Survives(lost) || slices.ContainsFunc(m.volumes, func(v Volume) bool { return !lost(v.Slot) })
}

// Margin is how many further members the array can lose for certain, and how many at best, when those for which lost
// is true are gone already. certain is negative when data is out of reach.
func (m *Map) Margin(lost func(slot int) bool) (certain, best int) {
	certain = m.groups[0].left(lost)
	left := make([]int, len(m.groups))
	for i, g := range m.groups {
		left[i] = g.left(lost)
		certain = min(certain, left[i])
	}
	if certain < 0 {
		return certain, 0
	}
	return certain, mostLost(m.kinds(lost), left)
}

// kind is a set of members that belong to the same groups, so that the loss of one counts like the loss of any other.
type kind struct {
	count  int
	groups []int
}

func (m *Map) kinds(lost func(slot int) bool) (out []kind) {
	index := map[string]int{}
	for slot := range m.Members {
		var in []int
		for i, g := range m.groups {
			if slices.Contains(g.slots, slot) {
				in = append(in, i)
			}
		}
		if len(in) == 0 || lost(slot) {
			continue
		}
		i, ok := index[fmt.Sprint(in)]
		if !ok {
			i = len(out)
			index[fmt.Sprint(in)] = i
			out = append(out, kind{groups: in})
		}
		out[i].count++
	}
	return out
}

// mostLost is how many members of some kinds can be lost when no group may lose more than it has left.
func mostLost(kinds []kind, left []int) (most int) {
	if len(kinds) == 0 {
		return 0
	}
	k, rest := kinds[0], 0
	for _, other := range kinds[1:] {
		rest += other.count
	}
	n, alone := k.count, true
	for _, g := range k.groups {
		n = min(n, left[g])
		alone = alone && !slices.ContainsFunc(kinds[1:], func(o kind) bool { return slices.Contains(o.groups, g) })
	}
	for ; n >= 0 && n+rest > most; n-- {
		for _, g := range k.groups {
			left[g] -= n
		}
		most = max(most, n+mostLost(kinds[1:], left))
		for _, g := range k.groups {
			left[g] += n
		}
		if alone {
			break // to lose fewer of these leaves no more to others
		}
	}
	return most
}

// MarginOfDisks is Margin counted in disks, where several members may be partitions of one: disks names the disk of each slot,
// and slots with the same name go together. An empty name stands for a disk of its own. With luck counts the disks that
// leave in the order that loses least.
func (m *Map) MarginOfDisks(disks []string, lost func(slot int) bool) (certain, best int) {
	slots := map[string][]int{}
	shared := false
	for slot := range m.Members {
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
	certain, best = m.Margin(lost)
	if certain < 0 || !shared {
		return certain, best
	}
	for _, g := range m.groups {
		certain = min(certain, g.disksLeft(slots, lost))
	}
	best = 0
	order := slices.SortedFunc(maps.Keys(slots), func(x, y string) int {
		return cmp.Or(len(slots[x])-len(slots[y]), cmp.Compare(x, y))
	})
	gone := map[int]bool{}
	for _, name := range order {
		for _, slot := range slots[name] {
			gone[slot] = true
		}
		if m.Survives(func(slot int) bool { return lost(slot) || gone[slot] }) {
			best++
			continue
		}
		for _, slot := range slots[name] {
			delete(gone, slot)
		}
	}
	return certain, best
}

// Condition is the condition of a serving array without the members for which gone is true; see MarginOfDisks.
func (m *Map) Condition(disks []string, gone func(slot int) bool) state.Condition {
	certain, _ := m.MarginOfDisks(disks, gone)
	full, _ := m.MarginOfDisks(disks, func(int) bool { return false })
	switch {
	case certain < 0 && m.Serves(gone):
		return state.Partial
	case certain < 0:
		return state.Failed
	case certain == 0 && m.Redundant():
		return state.Exposed
	case certain >= full:
		return state.Healthy
	}
	return state.Degraded
}

// disksLeft is how many disks a group may lose in the worst case: those with most of its members go first.
func (g group) disksLeft(slots map[string][]int, lost func(slot int) bool) (survived int) {
	var counts []int
	for _, of := range slots {
		n := 0
		for _, slot := range of {
			if slices.Contains(g.slots, slot) {
				n++
			}
		}
		if n > 0 {
			counts = append(counts, n)
		}
	}
	slices.SortFunc(counts, func(x, y int) int { return y - x })
	left := g.left(lost)
	for _, n := range counts {
		if left -= n; left < 0 {
			break
		}
		survived++
	}
	return survived
}
