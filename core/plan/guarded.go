package plan

import (
	"cmp"
	"slices"

	"nidalo/core/layout"
)

// Guarded is a guarded set that could be made of some disks, which are named by where they are in the list of their sizes.
type Guarded struct {
	Parity   []int `json:"parity"` // the largest disks
	Data     []int `json:"data"`
	Capacity int64 `json:"capacity_bytes"` // of all volumes
	Unused   int64 `json:"unused_bytes"`   // of the parity disks, behind the end of the largest volume
	Margin   int   `json:"margin"`
	Striped  int64 `json:"striped_bytes"` // what the striped level with as much parity would have, with its layers; 0: it needs more disks
}

// GuardedSets are the guarded sets of some disks, with one parity disk, two and three, as far as that leaves a data disk.
func GuardedSets(strip int64, sizes []int64) (out []Guarded, err error) {
	data, err := dataOf(sizes)
	if err != nil {
		return nil, err
	}
	order := make([]int, len(sizes))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(i, j int) int { return cmp.Compare(data[j], data[i]) })
	for n := 1; n <= 3 && n < len(sizes); n++ {
		g := Guarded{Parity: slices.Sorted(slices.Values(order[:n])), Data: slices.Sorted(slices.Values(order[n:])), Margin: n}
		lay, err := layout.NewGuarded(strip, layout.Ordered(data, slices.Concat(g.Data, g.Parity)), n)
		if err != nil {
			return out, err
		}
		g.Capacity = lay.Capacity()
		for _, unused := range Unused(lay, layout.Ordered(data, slices.Concat(g.Data, g.Parity))) {
			g.Unused += unused
		}
		level := []layout.Level{layout.Parity1, layout.Parity2, layout.Parity3}[n-1]
		if striped, err := layout.NewLayers(level, strip, 0, data); err == nil {
			g.Striped = striped.Capacity()
		}
		out = append(out, g)
	}
	return out, nil
}
