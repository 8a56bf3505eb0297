package plan

import (
	"time"

	"nidalo/core/layout"
)

// Layer is one part of an array whose disks differ in size. It lies over all disks that are large enough.
type Layer struct {
	Slots    []int         `json:"slots"`
	Each     int64         `json:"each_bytes"` // of each of those members
	Capacity int64         `json:"capacity_bytes"`
	Margin   int           `json:"margin"`
	Mirror   bool          `json:"mirror,omitempty"` // the members of a group hold the same
	Groups   int           `json:"groups"`
	Rebuild  time.Duration `json:"rebuild_ns,omitempty"` // of what one member has of it, as assumed
}

// Layers are those of a map, from the one that all members have upwards; nil when there is just one.
func Layers(lay *layout.Map) (out []Layer) {
	if !lay.Mixed() {
		return nil
	}
	for _, r := range lay.Regions() {
		out = append(out, Layer{Slots: r.Slots, Each: r.Rows * r.Strip, Capacity: r.Stripes() * r.StripeSize(), Margin: r.Parity, Mirror: r.Mirrored(), Groups: r.Groups})
	}
	return out
}

// Unused is how much of its data each of the members of a map has no use for, of whole strips, by slot. sizes are those of their data, in bytes.
func Unused(lay *layout.Map, sizes []int64) []int64 {
	out := make([]int64, len(sizes))
	for slot, size := range sizes {
		out[slot] = max(size/lay.Shape.Strip*lay.Shape.Strip-lay.Bytes(slot), 0)
	}
	return out
}
