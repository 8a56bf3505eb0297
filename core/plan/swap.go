package plan

import (
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/record"
)

// Swap is what putting disks of one size in the place of some members, one after the other, takes and gives.
type Swap struct {
	Disks  int           `json:"disks"`
	Size   int64         `json:"size_bytes"`     // of each new disk
	Margin int           `json:"margin"`         // with all members there
	During int           `json:"margin_during"`  // while a member is out and rebuilt; copying it instead keeps the margin
	Each   time.Duration `json:"each_ns"`        // of one rebuild or copy, as assumed
	Whole  time.Duration `json:"whole_ns"`       // of all, without the time to change disks
	Loss   float64       `json:"loss_replacing"` // chance of losing data in all rebuilds
	Copy   float64       `json:"loss_copying"`   // chance of losing data in the same time when members are copied instead
	Now    int64         `json:"capacity_now_bytes"`
	Then   int64         `json:"capacity_then_bytes"` // what the sizes would give; the array must be grown to have it
	Wasted int64         `json:"unused_bytes"`        // of the new disks, as long as other members are smaller
}

// SwapFor works out the exchange of the members in slots of an array of disks of the given sizes, in bytes, which it uses in layers or not. It refuses disks
// that are smaller than what the array uses of its members.
func SwapFor(level layout.Level, strip int64, groups int, sizes []int64, layers bool, slots []int, size int64, a Assumptions) (Swap, error) {
	made := layout.New
	if layers {
		made = layout.NewLayers
	}
	data, err := dataOf(sizes)
	if err != nil {
		return Swap{}, err
	}
	g, err := made(level, strip, groups, data)
	if err != nil {
		return Swap{}, err
	}
	if g.Shape.Parity == 0 {
		return Swap{}, fmt.Errorf("level %s has no redundancy: a member can only be copied while it works, not replaced", level)
	}
	then := slices.Clone(sizes)
	s := Swap{Disks: len(slots), Size: size, Now: g.Capacity()}
	for _, slot := range slots {
		need := g.Bytes(slot)
		if p, err := record.PlaceFor(size, need); err != nil || p.DataSize < need {
			return Swap{}, fmt.Errorf("a disk of %d bytes is too small for slot %d: %d bytes of data have to fit, beside its tables", size, slot, need)
		}
		then[slot] = size
	}
	if data, err = dataOf(then); err != nil {
		return Swap{}, err
	}
	after, err := made(level, strip, groups, data)
	if err != nil {
		return Swap{}, err
	}
	s.Then = after.Capacity()
	smallest := sizeOf(g, sizes)
	s.Each = a.RebuildTime(smallest)
	s.Whole = s.Each * time.Duration(len(slots))
	s.Margin, _ = g.Margin(func(int) bool { return false })
	s.During, _ = g.Margin(func(slot int) bool { return slot == slots[0] })
	for _, n := range Unused(after, data) {
		s.Wasted += n
	}
	kept := 1.0
	for range slots {
		kept *= 1 - a.LossInRebuild(g.Shape.Width(), g.Shape.Parity, smallest)
	}
	s.Loss = 1 - kept
	s.Copy = a.LossWithin(g.Shape.Groups, g.Shape.Width(), g.Shape.Parity, smallest, s.Whole)
	return s, nil
}
