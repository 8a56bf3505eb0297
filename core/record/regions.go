package record

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
)

// Behind the roster stand, one after the other, the parts of the record that have no fixed length: the segments of the member; and when
// the regions are listed, these, and for each slot how much data its further segments have.

const (
	maxRegions = 64
)

// Turn is a change of an array to another layout that is under way.
type Turn struct {
	Level   layout.Level
	Groups  int // as chosen, like those of the record
	Strip   int64
	Moved   int64 // bytes of the logical space that are laid out anew: from its beginning, or downwards from its end
	Started time.Time
	Members int             // that stay: the slots behind are let go at the end; 0: all stay
	Had     int             // members before the change, where some came with it; 0: none came
	Way     Way             // it goes
	Regions []layout.Region // of the whole new map
}

// Way is the way that a change of layout goes.
type Way uint8

// The ways of a change of layout.
const (
	Onward   Way = iota // to the new layout
	TurnsYet            // onward up to the next boundary at which it can turn, and back from there
	Back                // to the old layout: Moved is how much is laid out as before again
)

// Layout is the map of the array the record describes.
func (r *Record) Layout() (*layout.Map, error) {
	if r.Turn != nil {
		t, err := r.Turns()
		if err != nil {
			return nil, err
		}
		return t.At(r.Turn.Moved)
	}
	return r.settled()
}

// Turns is the change of layout that is under way.
func (r *Record) Turns() (*layout.Turn, error) {
	if r.Turn == nil {
		return nil, errors.New("its layout does not change")
	}
	old, err := r.settled()
	if err != nil {
		return nil, err
	}
	new, err := mapOf(r.Turn.Level, len(r.Roster), r.Turn.Regions)
	if err != nil {
		return nil, err
	}
	t, err := layout.NewTurn(old, new)
	if err == nil && r.Turn.Way == Back {
		return t.Back()
	}
	return t, err
}

// EndTurn has the record say what it will when the change of layout that is under way is done, of the layout and of who belongs.
func (r *Record) EndTurn() {
	if n := r.Turn.Members; n > 0 {
		r.Roster = r.Roster[:n]
		r.Roster[n-1].Witness = WitnessOf(n-1, n)
	}
	if t := r.Turn; t.Way != Back {
		r.Level, r.Groups, r.Strip, r.Regions = t.Level, t.Groups, t.Strip, t.Regions
	}
	r.Turn = nil
}

// settled is the map of the array before any change of layout that is under way.
func (r *Record) settled() (*layout.Map, error) {
	if len(r.Regions) > 0 {
		return mapOf(r.Level, len(r.Roster), r.Regions)
	}
	sizes := make([]int64, len(r.Roster))
	for i, e := range r.Roster {
		sizes[i] = e.DataSize
	}
	return layout.New(r.Level, r.Strip, r.Groups, sizes)
}

// mapOf is the map that some listed regions make.
func mapOf(level layout.Level, members int, list []layout.Region) (*layout.Map, error) {
	if !layout.Known(level) || len(list) == 0 {
		return nil, fmt.Errorf("%d regions of level %q", len(list), string(level))
	}
	regions := make([]layout.Region, len(list))
	for i, g := range list {
		if g.Strip < layout.MinStrip || g.Strip > layout.MaxStrip || g.Strip&(g.Strip-1) != 0 || g.Rows < 1 || g.Rows > MaxDisk/g.Strip {
			return nil, fmt.Errorf("region %d is out of bounds", g.ID)
		}
		for _, begin := range g.Begin {
			if begin < 0 || begin > MaxDisk/Block {
				return nil, fmt.Errorf("region %d begins out of bounds", g.ID)
			}
		}
		regions[i] = layout.Region{Shape: g.Shape, ID: g.ID, Rows: g.Rows, Slots: g.Slots, Begin: g.Begin}
		regions[i].Fixed = level == layout.Guarded
	}
	return layout.NewMap(level, members, layout.ShapeFor(level, regions), regions)
}

// RegionsOf lists the regions of a map.
func RegionsOf(lay *layout.Map) (out []layout.Region) {
	for _, g := range lay.Regions() {
		out = append(out, layout.Region{Shape: g.Shape, ID: g.ID, Rows: g.Rows, Slots: g.Slots, Begin: g.Begin})
	}
	return out
}

// encodeParts writes the parts without a fixed length.
func (r *Record) encodeParts() (b []byte) {
	u64 := func(v int64) { b = binary.LittleEndian.AppendUint64(b, uint64(v)) }
	for s := range r.Place.All() {
		for _, v := range s.fields() {
			u64(*v)
		}
	}
	if len(r.Regions) == 0 {
		return b
	}
	b = appendRegions(b, r.Regions)
	for _, e := range r.Roster {
		u64(int64(len(e.More)))
		for _, v := range e.More {
			u64(v)
		}
	}
	if t := r.Turn; t != nil {
		b = append(b, make([]byte, turnSize)...)
		putAll(t, turnFields, b[len(b)-turnSize:])
		u64(int64(len(t.Regions)))
		b = appendRegions(b, t.Regions)
	}
	if r.Level == layout.Guarded {
		for _, e := range r.Roster {
			name := make([]byte, maxName)
			putText(name, e.Volume)
			b = append(b, name...)
		}
	}
	if r.Level == layout.Guarded {
		for _, e := range r.Roster {
			u64(int64(e.Void))
			for _, v := range e.Owed {
				u64(int64(v))
			}
		}
	}
	return b
}

// checkVolumes says what is wrong with the names of volumes: just those slots have one that are volumes, and no two the same.
func (r *Record) checkVolumes(lay *layout.Map) error {
	seen := map[string]bool{}
	for slot, e := range r.Roster {
		_, there := lay.Volume(slot)
		if vacant := e.Condition == Vacant; vacant && (r.Level != layout.Guarded || len(lay.OnSlot(slot)) > 0 || slot == r.Slot) {
			return fmt.Errorf("member record: slot %d is vacant: %w", slot, ErrFormat)
		}
		if there != (e.Volume != "") || seen[e.Volume] && there {
			return fmt.Errorf("member record: slot %d has the volume %q: %w", slot, e.Volume, ErrFormat)
		}
		if seen[e.Volume] = true; there {
			if err := CheckName(e.Volume); err != nil {
				return fmt.Errorf("member record: %w: %w", err, ErrFormat)
			}
		}
	}
	return nil
}

func appendRegions(b []byte, list []layout.Region) []byte {
	for _, g := range list {
		for _, v := range []int{g.ID, g.Data, g.Parity, g.Groups, int(g.Strip), len(g.Slots)} {
			b = binary.LittleEndian.AppendUint32(b, uint32(v))
		}
		b = binary.LittleEndian.AppendUint64(b, uint64(g.Rows))
		for i, slot := range g.Slots {
			b = binary.LittleEndian.AppendUint64(b, uint64(slot))
			b = binary.LittleEndian.AppendUint64(b, uint64(g.Begin[i]))
		}
	}
	return b
}

const turnSize = 48

var turnFields = []field[Turn]{
	text(0, 16, "level, as text", func(t *Turn) *levelName { return (*levelName)(&t.Level) }),
	number(16, 4, "groups as chosen for levels 10, 50, 60; else 0", func(t *Turn) *int { return &t.Groups }),
	number(20, 4, "strip, bytes", func(t *Turn) *int64 { return &t.Strip }),
	number(24, 8, "how much is laid out anew, bytes of the logical space: from its beginning, or downwards from its end", func(t *Turn) *int64 { return &t.Moved }),
	stamp(32, "started", func(t *Turn) *time.Time { return &t.Started }),
	number(40, 4, "members that stay, those behind are let go at the end; 0: all stay", func(t *Turn) *int { return &t.Members }),
	number(44, 2, "members before the change, where some came with it; else 0", func(t *Turn) *int { return &t.Had }),
	number(46, 1, "the way it goes: 0 to the new layout, 1 so until it can turn, 2 back to the old one", func(t *Turn) *Way { return &t.Way }),
}

// decodeParts reads what encodeParts wrote.
func (r *Record) decodeParts(b []byte, segments, regions int) error {
	d := parts{b: b}
	if segments < 1 || segments > MaxSegments || regions < 0 || regions > maxRegions || (regions > 0) != (r.Features&FeatureRegions != 0) || segments > 1 && regions == 0 {
		return fmt.Errorf("member record: %d segments and %d regions: %w", segments, regions, ErrFormat)
	}
	r.Place.More = nil
	for i := range segments {
		s := &Segment{}
		if i > 0 {
			s.First = r.Place.last().next()
		}
		for _, v := range s.fields() {
			*v = d.u64()
		}
		if s.DataSize < 0 || s.DataSize > MaxDisk {
			return fmt.Errorf("member record: segment %d is out of bounds: %w", i, ErrFormat)
		}
		if i == 0 {
			r.Place.Segment = *s
		} else {
			r.Place.More = append(r.Place.More, *s)
		}
	}
	if err := d.regions(&r.Regions, regions); err != nil {
		return err
	}
	for i := range r.Roster {
		if regions == 0 {
			break
		}
		n := d.u64()
		if n < 0 || n >= MaxSegments {
			return fmt.Errorf("member record: slot %d has %d segments more: %w", i, n, ErrFormat)
		}
		for range n {
			v := d.u64()
			if v <= 0 || v > MaxDisk {
				return fmt.Errorf("member record: a segment of slot %d is out of bounds: %w", i, ErrFormat)
			}
			r.Roster[i].More = append(r.Roster[i].More, v)
		}
	}
	if r.Features&FeatureTwoLayouts != 0 {
		if err := r.decodeTurn(&d, regions); err != nil {
			return err
		}
	}
	if (r.Level == layout.Guarded) != (r.Features&FeatureGuarded != 0) || r.Level == layout.Guarded && (regions == 0 || r.Turn != nil) {
		return fmt.Errorf("member record: level %q, features %#x: %w", string(r.Level), r.Features, ErrFormat)
	}
	if r.Level == layout.Guarded {
		r.decodeVolumes(&d)
	}
	if d.short {
		return fmt.Errorf("member record: it ends early: %w", ErrFormat)
	}
	return nil
}

// decodeVolumes reads what only a guarded set has.
func (r *Record) decodeVolumes(d *parts) {
	for i := range r.Roster {
		r.Roster[i].Volume = getText(d.take(maxName))
	}
	for i := range r.Roster {
		e := &r.Roster[i]
		if r.Features&FeatureOwed == 0 { // it was not noted then
			if !e.Condition.Counts() {
				e.Owed.MarkAll()
			}
			continue
		}
		e.Void = uint64(d.u64())
		for j := range e.Owed {
			e.Owed[j] = uint64(d.u64())
		}
	}
}

func (r *Record) decodeTurn(d *parts, regions int) error {
	r.Turn = &Turn{}
	getAll(r.Turn, turnFields, d.take(turnSize))
	n := d.u64()
	if regions == 0 || n < 1 || n > maxRegions {
		return fmt.Errorf("member record: a change to %d regions: %w", n, ErrFormat)
	}
	if r.Turn.Members < 0 || r.Turn.Members > len(r.Roster) || r.Turn.Had > len(r.Roster) || r.Turn.Way > Back || (r.Turn.Way == Back) != (r.Features&FeatureBack != 0) {
		return fmt.Errorf("member record: a change from %d to %d members, way %d: %w", r.Turn.Had, r.Turn.Members, r.Turn.Way, ErrFormat)
	}
	if err := d.regions(&r.Turn.Regions, int(n)); err != nil {
		return err
	}
	stay := r.Turn.Regions
	if r.Turn.Way == Back {
		stay = r.Regions
	}
	for _, g := range stay {
		if r.Turn.Members > 0 && slices.ContainsFunc(g.Slots, func(slot int) bool { return slot >= r.Turn.Members }) {
			return fmt.Errorf("member record: a change to %d members, of which region %d has more: %w", r.Turn.Members, g.ID, ErrFormat)
		}
	}
	return nil
}

// parts reads numbers one after the other; short says that there were not enough.
type parts struct {
	b     []byte
	short bool
}

func (d *parts) take(n int) []byte {
	if len(d.b) < n {
		d.b, d.short = nil, true
		return make([]byte, n)
	}
	out := d.b[:n]
	d.b = d.b[n:]
	return out
}

// regions reads some regions.
func (d *parts) regions(out *[]layout.Region, count int) error {
	for range count {
		g := layout.Region{ID: d.u32()}
		g.Data, g.Parity, g.Groups, g.Strip = d.u32(), d.u32(), d.u32(), int64(d.u32())
		n := d.u32()
		g.Rows = d.u64()
		if n > layout.MaxMembers || g.Data > layout.MaxMembers || g.Parity > layout.MaxMembers || g.Groups > layout.MaxMembers {
			return fmt.Errorf("member record: region %d of %d members: %w", g.ID, n, ErrFormat)
		}
		for range n {
			slot := d.u64()
			if slot < 0 || slot >= layout.MaxMembers {
				return fmt.Errorf("member record: region %d has slot %d: %w", g.ID, slot, ErrFormat)
			}
			g.Slots, g.Begin = append(g.Slots, int(slot)), append(g.Begin, d.u64())
		}
		*out = append(*out, g)
	}
	return nil
}

func (d *parts) u32() int   { return int(binary.LittleEndian.Uint32(d.take(4))) }
func (d *parts) u64() int64 { return int64(binary.LittleEndian.Uint64(d.take(8))) }
