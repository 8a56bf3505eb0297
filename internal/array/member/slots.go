package member

import (
	"sync/atomic"

	"nidalo/core/layout"
	"nidalo/core/record"
)

// Slots is the members of an array, each with the disk that it is being copied onto, if it is.
type Slots struct {
	n       atomic.Int32
	members [layout.MaxMembers]atomic.Pointer[Member]
	onto    [layout.MaxMembers]atomic.Pointer[Member]
}

// NewSlots makes room for n members, which have to be put before anybody asks for them.
func NewSlots(n int) *Slots {
	s := &Slots{}
	s.n.Store(int32(n))
	return s
}

// Len is the number of slots.
func (s *Slots) Len() int { return int(s.n.Load()) }

// Add makes slots behind the last, for some members.
func (s *Slots) Add(members []*Member) {
	for _, m := range members {
		s.Put(m)
	}
	s.n.Add(int32(len(members)))
}

// Drop gives up the slots from one on. Who still looks there finds a member that is none any more.
func (s *Slots) Drop(from int) (dropped []*Member) {
	for slot := from; slot < s.Len(); slot++ {
		m := s.At(slot)
		m.Become(record.Missing)
		dropped = append(dropped, m)
	}
	s.n.Store(int32(from))
	return dropped
}

// At is the member in a slot.
func (s *Slots) At(slot int) *Member { return s.members[slot].Load() }

// Put makes a member that of its slot.
func (s *Slots) Put(m *Member) { s.members[m.Slot].Store(m) }

// Has says whether a disk is the member of its slot, and not a copy or one that was there before.
func (s *Slots) Has(m *Member) bool { return m.Slot < s.Len() && s.At(m.Slot) == m }

// Protects says whether what is lost of a stripe follows from what is there.
func (s *Slots) Protects(st layout.Stripe) bool {
	lost := 0
	for role := range st.Width() {
		if !s.At(st.Slot(role)).Usable(st) {
			lost++
		}
	}
	return lost <= st.Parity
}

// All are the members, by slot.
func (s *Slots) All() []*Member {
	out := make([]*Member, s.Len())
	for slot := range out {
		out[slot] = s.At(slot)
	}
	return out
}

// Onto is the disk that the member in a slot is being copied onto, or nil.
func (s *Slots) Onto(slot int) *Member { return s.onto[slot].Load() }

// IsCopy says whether a disk is one that the member in its slot is being copied onto.
func (s *Slots) IsCopy(m *Member) bool { return s.Onto(m.Slot) == m }

// CopyOnto begins to copy the member of the disk's slot onto it.
func (s *Slots) CopyOnto(m *Member) { s.onto[m.Slot].Store(m) }

// EndCopy says that a disk is not copied onto any more, and whether it was.
func (s *Slots) EndCopy(m *Member) bool { return s.onto[m.Slot].CompareAndSwap(m, nil) }

// Copies are the disks that members are being copied onto.
func (s *Slots) Copies() (out []*Member) {
	for slot := range s.Len() {
		if m := s.Onto(slot); m != nil {
			out = append(out, m)
		}
	}
	return out
}
