package plan

import (
	"cmp"
	"slices"

	"nidalo/core/layout"
)

// Spread is Arrange for disks on some hosts: where a level has several groups, and the order of Arrange loses one with a host, it deals the disks so
// that each group has as few of one host as can be, unless that takes capacity.
func Spread(level layout.Level, strip int64, groups int, sizes []int64, hosts []string) []int {
	order := Arrange(level, strip, groups, sizes)
	lay, err := Layout(level, strip, groups, layout.Ordered(sizes, order))
	if err != nil || lay.Shape.Groups < 2 || outlasts(lay, hosts, order) {
		return order
	}
	count := map[string]int{}
	for _, h := range hosts {
		count[h]++
	}
	dealt := slices.Clone(order)
	slices.SortStableFunc(dealt, func(x, y int) int { // host by host, the largest first
		return cmp.Or(count[hosts[y]]-count[hosts[x]], cmp.Compare(hosts[x], hosts[y]))
	})
	out := make([]int, 0, len(order))
	for g := range lay.Shape.Groups {
		for i := g; i < len(dealt); i += lay.Shape.Groups {
			out = append(out, dealt[i])
		}
	}
	if other, err := Layout(level, strip, groups, layout.Ordered(sizes, out)); err != nil || other.Capacity() < lay.Capacity() {
		return order
	}
	return out
}

// outlasts says whether disks in an order survive the loss of any one of their hosts.
func outlasts(lay *layout.Map, hosts []string, order []int) bool {
	losses := layout.WithoutHosts(lay, layout.Ordered(hosts, order), func(int) bool { return false })
	return !slices.ContainsFunc(losses, func(l layout.HostLoss) bool { return !l.Survived })
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
		if outlasts(lay, hosts, order) {
			o.Capacity = lay.Capacity()
			out = append(out, o)
		}
	}
	slices.SortStableFunc(out, func(x, y Option) int { return cmp.Compare(y.Capacity, x.Capacity) })
	return out
}
