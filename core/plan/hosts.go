package plan

import (
	"slices"

	"nidalo/core/layout"
)

// Spread is an order of disks of some sizes, on some hosts, in which each group of a level has as few of one host as can be. Where a level
// has one group the order means nothing.
func Spread(level layout.Level, strip int64, groups int, sizes []int64, hosts []string) []int {
	order := Arrange(level, strip, groups, sizes)
	lay, err := Layout(level, strip, groups, layout.Ordered(sizes, order))
	if err != nil || lay.Shape.Groups < 2 || lay.Mixed() {
		return order
	}
	count := map[string]int{}
	for _, h := range hosts {
		count[h]++
	}
	// Host by host, the largest first, dealt to the groups in turns.
	dealt := slices.Clone(order)
	slices.SortStableFunc(dealt, func(x, y int) int {
		switch {
		case count[hosts[x]] != count[hosts[y]]:
			return count[hosts[y]] - count[hosts[x]]
		case hosts[x] < hosts[y]:
			return -1
		case hosts[x] > hosts[y]:
			return 1
		}
		return 0
	})
	out := make([]int, 0, len(order))
	for g := range lay.Shape.Groups {
		for i := g; i < len(dealt); i += lay.Shape.Groups {
			out = append(out, dealt[i])
		}
	}
	return out
}

// Outlasts lists the levels at which disks of some sizes, in the right order, survive the loss of any one of their hosts, those with the
// most capacity first. None, where nothing is known of hosts.
func Outlasts(strip int64, sizes []int64, hosts []string) (out []Option) {
	if len(hosts) != len(sizes) {
		return nil
	}
	for _, o := range All(strip, sizes, Assumptions{}) {
		if o.Level == layout.Guarded {
			continue
		}
		order := Spread(o.Level, strip, 0, sizes, hosts)
		lay, err := Layout(o.Level, strip, 0, layout.Ordered(sizes, order))
		if err != nil {
			continue
		}
		losses := layout.WithoutHosts(lay, layout.Ordered(hosts, order), func(int) bool { return false })
		if !slices.ContainsFunc(losses, func(l layout.HostLoss) bool { return !l.Survived }) {
			o.Capacity = lay.Capacity()
			out = append(out, o)
		}
	}
	slices.SortStableFunc(out, func(x, y Option) int {
		switch {
		case x.Capacity > y.Capacity:
			return -1
		case x.Capacity < y.Capacity:
			return 1
		}
		return 0
	})
	return out
}
