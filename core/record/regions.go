package record

import (
	"encoding/binary"
	"fmt"

	"nidalo/core/layout"
)

// Behind the roster stand, one after the other, the parts of the record that have no fixed length: the segments of the member; and when
// the regions are listed, these, and for each slot how much data its further segments have.

const (
	maxRegions = 64
	regionSize = 32 // and placeSize for each of its members
	placeSize  = 16
)

// Layout is the map of the array the record describes.
func (r *Record) Layout() (*layout.Map, error) {
	sizes := make([]int64, len(r.Roster))
	for i, e := range r.Roster {
		sizes[i] = e.DataSize
	}
	if len(r.Regions) == 0 {
		return layout.New(r.Level, r.Strip, r.Groups, sizes)
	}
	shape, err := layout.ShapeOf(r.Level, r.Strip, r.Groups, len(r.Roster))
	if err != nil {
		return nil, err
	}
	regions := make([]layout.Region, len(r.Regions))
	for i, g := range r.Regions {
		if g.Strip > layout.MaxStrip || g.Strip&(g.Strip-1) != 0 || g.Rows > MaxDisk/g.Strip {
			return nil, fmt.Errorf("region %d is out of bounds", g.ID)
		}
		for _, begin := range g.Begin {
			if begin < 0 || begin > MaxDisk/Block {
				return nil, fmt.Errorf("region %d begins out of bounds", g.ID)
			}
		}
		regions[i] = layout.Region{Shape: g.Shape, ID: g.ID, Rows: g.Rows, Slots: g.Slots, Begin: g.Begin}
	}
	return layout.NewMap(r.Level, len(r.Roster), shape, regions)
}

// ListRegions writes down the regions of a map.
func (r *Record) ListRegions(lay *layout.Map) {
	r.Regions = nil
	for _, g := range lay.Regions() {
		r.Regions = append(r.Regions, layout.Region{Shape: g.Shape, ID: g.ID, Rows: g.Rows, Slots: g.Slots, Begin: g.Begin})
	}
}

// encodeParts writes the parts without a fixed length.
func (r *Record) encodeParts() (b []byte) {
	u32 := func(v int) { b = binary.LittleEndian.AppendUint32(b, uint32(v)) }
	u64 := func(v int64) { b = binary.LittleEndian.AppendUint64(b, uint64(v)) }
	for s := range r.Place.All() {
		for _, v := range s.fields() {
			u64(*v)
		}
	}
	if len(r.Regions) == 0 {
		return b
	}
	for _, g := range r.Regions {
		for _, v := range []int{g.ID, g.Data, g.Parity, g.Groups, int(g.Strip), len(g.Slots)} {
			u32(v)
		}
		u64(g.Rows)
		for i, slot := range g.Slots {
			u32(slot)
			u32(0)
			u64(g.Begin[i])
		}
	}
	for _, e := range r.Roster {
		u64(int64(len(e.More)))
		for _, v := range e.More {
			u64(v)
		}
	}
	return b
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
	for range regions {
		g := layout.Region{ID: d.u32()}
		g.Data, g.Parity, g.Groups, g.Strip = d.u32(), d.u32(), d.u32(), int64(d.u32())
		n := d.u32()
		g.Rows = d.u64()
		if n > layout.MaxMembers || g.Data > layout.MaxMembers || g.Parity > layout.MaxMembers || g.Groups > layout.MaxMembers {
			return fmt.Errorf("member record: region %d of %d members: %w", g.ID, n, ErrFormat)
		}
		for range n {
			g.Slots = append(g.Slots, d.u32())
			d.u32()
			g.Begin = append(g.Begin, d.u64())
		}
		r.Regions = append(r.Regions, g)
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
	if d.short {
		return fmt.Errorf("member record: it ends early: %w", ErrFormat)
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

func (d *parts) u32() int   { return int(binary.LittleEndian.Uint32(d.take(4))) }
func (d *parts) u64() int64 { return int64(binary.LittleEndian.Uint64(d.take(8))) }
