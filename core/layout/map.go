package layout

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"slices"
)

// Shape is how the stripes of a region are made.
type Shape struct {
	Data   int   // data strips of a stripe, k
	Parity int   // parity strips (or further copies) of a stripe, m
	Groups int   // among which stripes take turns
	Strip  int64 // bytes of one strip
	Fixed  bool  // roles do not turn, and each data role is a logical space of its own, see Guarded
}

// Width is the number of members of one group, k+m.
func (s Shape) Width() int { return s.Data + s.Parity }

// StripeSize is the data of one stripe in bytes.
func (s Shape) StripeSize() int64 { return int64(s.Data) * s.Strip }

// StripBlocks is the length of a strip in blocks.
func (s Shape) StripBlocks() int { return int(s.Strip / Block) }

// Mirrored says whether every member of a group holds all of its data.
func (s Shape) Mirrored() bool { return s.Data == 1 && s.Parity > 0 && !s.Fixed }

// Region is a part of the logical space that is laid out in one way.
type Region struct {
	Shape
	ID    int     // in the array; the ID of a region that is gone is not used again
	Rows  int64   // of each group
	Skip  int64   // rows before it are not in force: what they held is laid out otherwise by now
	Slots []int   // the members: k+m for each group, one group after the other
	Begin []int64 // by place in Slots: the block of that member's data at which the region begins
	place []int   // by slot: where it is in Slots; -1 when it has no part in the region
	nth   []int64 // by place: how many strips of other regions lie before it on that member
	start int64   // byte of the logical space at which its first stripe begins
	from  int64   // and from which on it is in force
	first int64   // how many stripes of the array lie before its first, less those that are not in force
}

// Stripes is the number of stripes of the region, and so the number behind its last.
func (r *Region) Stripes() int64 { return r.Rows * int64(r.Groups) }

// At finds the stripe of a group and row of the region.
func (r *Region) At(group int, row int64) Stripe {
	return Stripe{r, row*int64(r.Groups) + int64(group), group, row}
}

// Group is the group of the region that a slot belongs to.
func (r *Region) Group(slot int) int { return slices.Index(r.Slots, slot) / r.Width() }

// GroupOf is the group that a slot belongs to, in the last region of all groups in which it has a part; 0 when it has none.
func (m *Map) GroupOf(slot int) (group int) {
	for _, r := range m.regions {
		if r.place[slot] >= 0 && r.Groups == m.Shape.Groups {
			group = r.Group(slot)
		}
	}
	return group
}

// Members are the slots of a group.
func (r *Region) Members(group int) []int { return r.Slots[group*r.Width() : (group+1)*r.Width()] }

// Ordinal is how many stripes of the array lie before one of the region, which may be the one behind its last.
func (r *Region) Ordinal(number int64) int64 { return r.first + number }

func (r *Region) stripe(number int64) Stripe {
	return Stripe{r, number, int(number % int64(r.Groups)), number / int64(r.Groups)}
}

// ID names a stripe for as long as its region exists, whatever becomes of others.
type ID struct {
	Region int
	Number int64
}

// Compare orders stripes by region, then number.
func (id ID) Compare(other ID) int {
	return cmp.Or(cmp.Compare(id.Region, other.Region), cmp.Compare(id.Number, other.Number))
}

// Stripe is one stripe: the region whose shape it has, its number there, and its place: the group it is in and its row there.
type Stripe struct {
	*Region
	Number int64
	Group  int
	Row    int64
}

// ID names the stripe.
func (s Stripe) ID() ID { return ID{s.Region.ID, s.Number} }

// Ordinal is how many stripes of the array lie before it.
func (s Stripe) Ordinal() int64 { return s.first + s.Number }

// Offset is the byte of the logical space at which its data begins; of a guarded set, where data does not lie in one piece, how much data lies in the
// stripes before it. See Map.At.
func (s Stripe) Offset() int64 { return s.start + s.Number*s.StripeSize() }

// turn is by how many places the roles are turned in the stripe's row.
func (s Stripe) turn() int {
	if s.Fixed {
		return 0
	}
	return int(s.Row % int64(s.Width()) * int64(s.Data) % int64(s.Width()))
}

// Slot is the slot that has the given role in the stripe: roles below Data are data strips in logical order, the others
// parity.
func (s Stripe) Slot(role int) int {
	w := s.Width()
	return s.Slots[s.Group*w+(role+s.turn())%w]
}

// Role is the inverse of Slot; the slot must have one in the stripe, see Has.
func (s Stripe) Role(slot int) int {
	w := s.Width()
	return (s.place[slot] - s.Group*w - s.turn() + w) % w
}

// Has says whether a slot has a role in the stripe.
func (s Stripe) Has(slot int) bool {
	p := s.place[slot]
	return p >= 0 && p/s.Width() == s.Group
}

// Block is the block of a member's data at which its strip of the stripe begins. The slot must have a role in it.
func (s Stripe) Block(slot int) int64 { return s.Begin[s.place[slot]] + s.Row*int64(s.StripBlocks()) }

// Nth is how many strips lie before the stripe's on a member. The slot must have a role in it.
func (s Stripe) Nth(slot int) int64 { return s.nth[s.place[slot]] + s.Row - s.Skip }

// Map says where every logical byte of an array lives. It never changes: an array that does gets another.
type Map struct {
	Level    Level
	Members  int
	Shape    Shape // of the level, for people; every region has its own
	regions  []*Region
	on       [][]*Region // by slot, in the order of their blocks there
	groups   []group
	volumes  []Volume // of a guarded set
	stripes  int64
	capacity int64
}

// NewMap makes a map of regions, in logical order. It is an error when places overlap, or when a region is not whole.
func NewMap(level Level, members int, shape Shape, regions []Region) (*Map, error) {
	var at int64
	for i := range regions {
		r := &regions[i]
		r.start, r.from = at, at
		at += r.Stripes() * r.StripeSize()
	}
	return newMap(level, members, shape, regions, at)
}

// newMap is NewMap of regions that know where they begin.
func newMap(level Level, members int, shape Shape, regions []Region, capacity int64) (*Map, error) {
	m := &Map{Level: level, Members: members, Shape: shape, on: make([][]*Region, MaxMembers), capacity: capacity}
	for i := range regions {
		r := &regions[i]
		if r.Data < 1 || r.Parity < 0 || r.Groups < 1 || r.Rows <= r.Skip || r.Skip < 0 || r.Strip < MinStrip || len(r.Slots) != r.Groups*r.Width() || len(r.Begin) != len(r.Slots) {
			return nil, fmt.Errorf("region %d is not whole", r.ID)
		}
		if slices.ContainsFunc(m.regions, func(o *Region) bool { return o.ID == r.ID }) {
			return nil, fmt.Errorf("there are two regions %d", r.ID)
		}
		r.first = m.stripes - r.Skip*int64(r.Groups)
		r.place, r.nth = slices.Repeat([]int{-1}, MaxMembers), make([]int64, len(r.Slots))
		for at, slot := range r.Slots {
			if slot < 0 || slot >= members || r.place[slot] >= 0 {
				return nil, fmt.Errorf("region %d: slot %d is not there, or twice", r.ID, slot)
			}
			r.place[slot] = at
			m.on[slot] = append(m.on[slot], r)
		}
		m.stripes += (r.Rows - r.Skip) * int64(r.Groups)
		m.regions = append(m.regions, r)
		for g := range r.Groups {
			m.groups = append(m.groups, group{r.Members(g), r.Parity})
		}
	}
	for slot, on := range m.on {
		slices.SortFunc(on, func(x, y *Region) int {
			one, _ := x.Span(slot)
			other, _ := y.Span(slot)
			return cmp.Compare(one, other)
		})
		block, strips := int64(0), int64(0)
		for _, r := range on {
			begin, n := r.Span(slot)
			if begin < block {
				return nil, fmt.Errorf("region %d begins at block %d of slot %d, before the end of another", r.ID, begin, slot)
			}
			block = begin + n
			r.nth[r.place[slot]] = strips
			strips += r.Rows - r.Skip
		}
	}
	if level == Guarded {
		return m, m.findVolumes()
	}
	return m, nil
}

func (r *Region) begins(slot int) int64 { return r.Begin[r.place[slot]] }

// Regions are the regions in logical order; they are not to be changed.
func (m *Map) Regions() []*Region { return m.regions }

// Stripes is the number of stripes of the array.
func (m *Map) Stripes() int64 { return m.stripes }

// Capacity is the usable capacity in bytes.
func (m *Map) Capacity() int64 { return m.capacity }

// Redundant says whether the array can lose a member at all.
func (m *Map) Redundant() bool {
	return !slices.ContainsFunc(m.regions, func(r *Region) bool { return r.Parity == 0 })
}

// Locate finds the stripe in which a logical byte lives, which must be within the array, and where in its data. Left says how much follows there.
func (m *Map) Locate(off int64) (st Stripe, in int64) {
	if m.volumes != nil {
		return m.inVolume(off)
	}
	r := m.regions[0]
	if len(m.regions) > 1 {
		r = m.before(off, func(r *Region) int64 { return r.from })
	}
	off -= r.start
	size := r.StripeSize()
	return r.stripe(off / size), off % size
}

// Stripe finds a stripe by its ordinal, which must be within the array.
func (m *Map) Stripe(ordinal int64) Stripe {
	r := m.before(ordinal, func(r *Region) int64 { return r.first + r.Skip*int64(r.Groups) })
	return r.stripe(ordinal - r.first)
}

// before is the last region that begins at or before a place.
func (m *Map) before(at int64, begins func(*Region) int64) *Region {
	i, found := slices.BinarySearchFunc(m.regions, at, func(r *Region, at int64) int { return cmp.Compare(begins(r), at) })
	if !found {
		i--
	}
	return m.regions[i]
}

// Region finds a region by its identity.
func (m *Map) Region(id int) (r *Region, ok bool) {
	i := slices.IndexFunc(m.regions, func(r *Region) bool { return r.ID == id })
	if i < 0 {
		return nil, false
	}
	return m.regions[i], true
}

// Find finds a stripe by its name; ok is false when its region is not in the map.
func (m *Map) Find(id ID) (st Stripe, ok bool) {
	for _, r := range m.regions {
		if r.ID == id.Region {
			return r.stripe(id.Number), true
		}
	}
	return Stripe{}, false
}

// On finds the stripe that a block of a member's data belongs to, and which column of it that is; ok is false when the block is
// of no use to the array.
func (m *Map) On(slot int, block int64) (st Stripe, col int, ok bool) {
	for _, r := range m.on[slot] {
		per := int64(r.StripBlocks())
		if in := block - r.begins(slot); in >= r.Skip*per && in < r.Rows*per {
			return r.At(r.place[slot]/r.Width(), in/per), int(in % per), true
		}
	}
	return Stripe{}, 0, false
}

// Strips is how many strips a member has.
func (m *Map) Strips(slot int) (n int64) {
	for _, r := range m.on[slot] {
		n += r.Rows - r.Skip
	}
	return n
}

// Strip is the stripe of the nth strip on a member, in the order of its blocks, and how many strips from it on lie in the same
// region.
func (m *Map) Strip(slot int, nth int64) (st Stripe, left int64) {
	for _, r := range m.on[slot] {
		if nth += r.Skip; nth < r.Rows {
			return r.At(r.place[slot]/r.Width(), nth), r.Rows - nth
		}
		nth -= r.Rows
	}
	panic("no such strip")
}

// OnSlot are the regions of a member, in the order of their blocks there; they are not to be changed.
func (m *Map) OnSlot(slot int) []*Region { return m.on[slot] }

// Span is the block of a member's data at which what is in force of the region begins, and how many there are.
func (r *Region) Span(slot int) (begin, n int64) {
	per := int64(r.StripBlocks())
	return r.begins(slot) + r.Skip*per, (r.Rows - r.Skip) * per
}

// Bytes is how much of a member's data the array uses.
func (m *Map) Bytes(slot int) (n int64) {
	for _, r := range m.on[slot] {
		n += (r.Rows - r.Skip) * r.Strip
	}
	return n
}

// Blocks is the block behind the last that a member has for the array.
func (m *Map) Blocks(slot int) int64 {
	if on := m.on[slot]; len(on) > 0 {
		last := on[len(on)-1]
		return last.begins(slot) + last.Rows*int64(last.StripBlocks())
	}
	return 0
}

// ErrRange is returned for addresses outside the array.
var ErrRange = errors.New("beyond the end of the array")

// Check reports ErrRange unless length bytes at offset lie within the array.
func (m *Map) Check(offset, length int64) error {
	if offset < 0 || length < 0 || offset > m.capacity || length > m.capacity-offset {
		return fmt.Errorf("%d bytes at offset %d of %d: %w", length, offset, m.capacity, ErrRange)
	}
	return nil
}

// Offset is the first byte that is in force of the data of a stripe, by its ordinal, which may be the one behind the last.
func (m *Map) Offset(ordinal int64) int64 {
	if ordinal >= m.stripes {
		return m.capacity
	}
	st := m.Stripe(ordinal)
	return max(st.Offset(), st.from)
}

// Columns is a set of columns of a strip.
type Columns [MaxStrip / Block / 64]uint64

// Has says whether a column is in the set.
func (c *Columns) Has(i int) bool { return c[i/64]>>(i%64)&1 == 1 }

// Add adds a column.
func (c *Columns) Add(i int) { c[i/64] |= 1 << (i % 64) }

// AddRun adds n columns from one on.
func (c *Columns) AddRun(i, n int) {
	for ; n > 0; n-- {
		c.Add(i)
		i++
	}
}

// Count is how many columns there are.
func (c *Columns) Count() (n int) {
	for _, w := range c {
		n += bits.OnesCount64(w)
	}
	return n
}

// Before is how many columns there are before one.
func (c *Columns) Before(i int) (n int) {
	for _, w := range c[:i/64] {
		n += bits.OnesCount64(w)
	}
	return n + bits.OnesCount64(c[i/64]&(1<<(i%64)-1))
}

// Ceil is the end of the row in which the byte before a byte of the logical space lies.
func (m *Map) Ceil(at int64) int64 {
	st, _ := m.Locate(max(at-1, 0))
	return st.At(0, st.Row).Offset() + st.StripeSize()*int64(st.Groups)
}

// Cut is the map with as many whole rows as lie below a byte of the logical space.
func (m *Map) Cut(capacity int64) (*Map, error) {
	var regions []Region
	for _, r := range m.regions {
		c := r.copy()
		if c.Rows = min(r.Rows, (capacity-r.start)/(r.StripeSize()*int64(r.Groups))); c.Rows > 0 {
			regions = append(regions, c)
		}
	}
	if len(regions) == 0 {
		return nil, fmt.Errorf("less than a row of the array: %w", ErrSmaller)
	}
	return NewMap(m.Level, m.Members, m.Shape, regions)
}
