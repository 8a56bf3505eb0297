// Package plan is the arithmetic of decisions: what an array of given disks would hold, survive and risk at each level. It
// is pure; everything it assumes is an argument.
package plan

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/record"
)

// Option is one way to make an array of some disks.
type Option struct {
	Level    layout.Level  `json:"level"`
	Groups   int           `json:"groups"`
	Members  int           `json:"members"`
	Raw      int64         `json:"raw_bytes"`
	Capacity int64         `json:"capacity_bytes"`
	Unequal  int64         `json:"lost_to_unequal_sizes_bytes"`
	Layers   []Layer       `json:"layers,omitempty"` // of disks of different sizes, where the level uses them so
	Overhead float64       `json:"overhead_percent"` // of the raw capacity: redundancy, tables, unequal sizes
	Margin   int           `json:"margin"`
	Best     int           `json:"margin_best"`
	Read     float64       `json:"read_speed"`       // sequential, in units of one disk
	Write    float64       `json:"write_speed"`      // sequential into fresh space, in units of one disk
	Small    int           `json:"small_write"`      // operations on members for one block written anew: reads and writes
	Rebuild  time.Duration `json:"rebuild_ns"`       // of one member, as assumed
	Paced    time.Duration `json:"rebuild_paced_ns"` // the same in the part of that time that pace normal takes from busy clients
	LossYear float64       `json:"loss_in_a_year"`
	LossOnce float64       `json:"loss_in_a_rebuild"`
}

// Layout works out the map of an array of disks of the given sizes in bytes, tables taken off.
func Layout(level layout.Level, strip int64, groups int, sizes []int64) (*layout.Map, error) {
	data, err := dataOf(sizes)
	if err != nil {
		return nil, err
	}
	return layout.NewLayers(level, strip, groups, data)
}

// Arrange is the order in which create puts disks of some sizes into slots, see layout.Arrange.
func Arrange(level layout.Level, strip int64, groups int, sizes []int64) []int {
	data, err := dataOf(sizes)
	if err != nil {
		data = sizes // whatever comes next refuses them
	}
	return layout.Arrange(level, strip, groups, data)
}

// dataOf is how much data disks of some sizes have room for.
func dataOf(sizes []int64) ([]int64, error) {
	data := make([]int64, len(sizes))
	for i, size := range sizes {
		p, err := record.PlaceFor(size, 0)
		if err != nil {
			return nil, err
		}
		data[i] = p.DataSize
	}
	return data, nil
}

// For works out one level.
func For(level layout.Level, strip int64, groups int, sizes []int64, a Assumptions) (Option, error) {
	g, err := Layout(level, strip, groups, sizes)
	if err != nil {
		return Option{}, err
	}
	o := Option{Level: level, Groups: g.Shape.Groups, Members: len(sizes), Capacity: g.Capacity()}
	data, err := dataOf(sizes)
	if err != nil {
		return Option{}, err
	}
	for slot, n := range Unused(g, data) {
		o.Raw, o.Unequal = o.Raw+sizes[slot], o.Unequal+n
	}
	for _, l := range Layers(g) {
		if l.Margin > 0 {
			l.Rebuild = a.RebuildTime(l.Each)
		}
		o.Layers = append(o.Layers, l)
	}
	o.Overhead = 100 * (1 - float64(o.Capacity)/float64(o.Raw))
	o.Margin, o.Best = g.Margin(func(int) bool { return false })
	o.Read, o.Write, o.Small = float64(g.Shape.Data*g.Shape.Groups), float64(g.Shape.Data*g.Shape.Groups), 2*(1+g.Shape.Parity)+1+g.Shape.Parity
	if g.Shape.Parity == 0 {
		o.Small = 2 // the journal and the place; no parity needs to know what was there
	} else if g.Shape.Data == 1 {
		o.Read = float64(g.Shape.Width() * g.Shape.Groups) // every copy is read from
		o.Small = 2 * g.Shape.Width()                      // no old contents are needed
	}
	if level.Appends() {
		o.Read, o.Write = 1, 1
	}
	size := sizeOf(g, sizes)
	o.Rebuild = a.RebuildTime(size)
	paced := a
	paced.Share *= NormalShare
	o.Paced = paced.RebuildTime(size)
	if level.Appends() || g.Shape.Parity == 0 {
		o.LossYear, o.LossOnce = a.LossWithin(1, len(sizes), 0, size, year), 1
		o.Rebuild, o.Paced = 0, 0
	} else {
		o.LossYear = a.LossWithin(g.Shape.Groups, g.Shape.Width(), g.Shape.Parity, size, year)
		o.LossOnce = a.LossInRebuild(g.Shape.Width(), g.Shape.Parity, size)
	}
	return o, nil
}

// sizeOf is what has to be rebuilt of the member whose loss takes longest.
func sizeOf(g *layout.Map, sizes []int64) (most int64) {
	switch {
	case g.Level.Appends():
		return slices.Max(sizes)
	case !g.Mixed():
		return slices.Min(sizes)
	}
	for slot := range g.Members {
		most = max(most, g.Bytes(slot))
	}
	return most
}

// All works out every level that can be made of the disks, in the order levels are shown.
func All(strip int64, sizes []int64, a Assumptions) []Option {
	var out []Option
	for _, l := range layout.Levels() {
		if o, err := For(l, strip, 0, layout.Ordered(sizes, Arrange(l, strip, 0, sizes)), a); err == nil {
			out = append(out, o)
		}
	}
	return out
}

// Aims for Recommend.
const (
	WantCapacity = "capacity" // the most space that survives a loss
	WantSafety   = "safety"   // the least chance of losing data
	WantSpeed    = "speed"    // the fewest operations for small writes, then the fastest writes, that survive a loss
)

// mostOnce is the chance of losing data while one disk is out that a level is still recommended with.
const mostOnce = 0.05

// Recommend chooses the option for an aim, and says why. Levels that survive nothing are never recommended; with many or
// large disks neither are those whose single rebuild is a gamble.
func Recommend(options []Option, want string) (Option, string, error) {
	var survive, fit []Option
	for _, o := range options {
		if o.Margin > 0 {
			survive = append(survive, o)
			if o.LossOnce < mostOnce {
				fit = append(fit, o)
			}
		}
	}
	among := "of the levels that survive a loss"
	switch {
	case len(fit) == 0:
		fit = survive
		among += fmt.Sprintf("; every one of them loses data in more than %.0f%% of rebuilds", 100*mostOnce)
	case len(fit) < len(survive):
		among = fmt.Sprintf("of the levels that lose data in less than %.0f%% of rebuilds", 100*mostOnce)
	}
	if len(fit) == 0 {
		return Option{}, "", fmt.Errorf("no level of these disks survives the loss of one")
	}
	var why string
	switch want {
	case WantCapacity:
		slices.SortStableFunc(fit, func(x, y Option) int {
			return cmp.Or(cmp.Compare(y.Capacity, x.Capacity), cmp.Compare(x.LossYear, y.LossYear))
		})
		why = "the most space " + among
	case WantSafety:
		slices.SortStableFunc(fit, func(x, y Option) int {
			return cmp.Or(cmp.Compare(y.Margin, x.Margin), cmp.Compare(magnitude(x.LossYear), magnitude(y.LossYear)), cmp.Compare(y.Capacity, x.Capacity))
		})
		// Among equals in margin the space counts; all copies of everything is only for two or three disks.
		if len(fit) > 1 && fit[0].Margin == fit[0].Members-1 && fit[0].Members > 3 {
			fit = fit[1:]
		}
		why = "it survives the most losses for certain, " + among
	case WantSpeed:
		slices.SortStableFunc(fit, func(x, y Option) int {
			return cmp.Or(cmp.Compare(x.Small, y.Small), cmp.Compare(y.Write, x.Write))
		})
		why = "the least work for a small write, " + among
	default:
		return Option{}, "", fmt.Errorf("%q: capacity, safety or speed", want)
	}
	return fit[0], why, nil
}

// magnitude rounds a chance to its power of ten, so that recommendations do not turn on digits that are not known.
func magnitude(p float64) float64 {
	if p <= 0 {
		return -400
	}
	return math.Floor(math.Log10(p))
}

// Cell is what the nth strip of a member is.
func Cell(lay *layout.Map, slot int, nth int64) string {
	if nth >= lay.Strips(slot) {
		return ""
	}
	st, _ := lay.Strip(slot, nth)
	role := st.Role(slot)
	if role >= st.Data {
		if st.Mirrored() {
			return fmt.Sprintf("=%d", st.Ordinal())
		}
		return fmt.Sprintf("%c%d", "PQR"[role-st.Data], st.Ordinal())
	}
	if st.Fixed {
		return fmt.Sprint(nth)
	}
	return fmt.Sprint(st.Offset()/st.Strip + int64(role))
}
