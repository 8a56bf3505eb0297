// Package stripe is the stripes of an array as its members hold them: their locks, the places that were ever written, the contents on the
// members, and the contents that redundancy restores.
package stripe

import (
	"slices"
	"sync/atomic"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/buffer"
	"nidalo/internal/array/member"
	"nidalo/internal/array/table"
	"nidalo/internal/env"
)

// Stripes is the stripes of an array as its members hold them.
type Stripes struct {
	host  Host
	Trust Trust             // nil in service
	Fan   member.Fan        // of reads of whole strips
	locks [4096]env.RWMutex // by stripe
	rest  rest
}

// Host is what the stripes take from outside.
type Host struct {
	Slots   *member.Slots
	Tables  *table.Tables
	Scratch *buffer.Scratch
	Layout  func() *layout.Map
	Epoch   func() uint64
	Changes func() record.Changes                 // the change map
	Owed    func(slot int, st layout.Stripe) bool // the own data of a slot that is away or catches up may have changed without it
	Alive   func() error                          // why nothing may be written any more, or nil
	Counts  *Counts
}

// Counts is what is counted of stripes.
type Counts struct {
	Healed     atomic.Int64 // blocks rewritten because they were wrong or unreadable
	Unreadable atomic.Int64 // blocks that redundancy could not restore, counted at each attempt
}

// Trust decides, in a rescue, what counts of the members that left earlier.
type Trust interface {
	// Trusts says whether what a disk that left holds of a stripe is still right.
	Trusts(st layout.Stripe, role int, m *member.Member) bool
	// NextUnsure is the first row of a group from row on, below end, of which no remaining member records whether it was written; end when
	// there is none.
	NextUnsure(r *layout.Region, group int, row, end int64) int64
}

// New makes the stripes of an array.
func New(host Host) *Stripes {
	s := &Stripes{host: host}
	for i := range s.locks {
		env.Ranked(&s.locks[i], env.RankStripe)
	}
	return s
}

// Reads says whether what a member holds of a stripe counts.
func (s *Stripes) Reads(st layout.Stripe, role int, m *member.Member) bool {
	return m.Usable(st) && (!m.Stale || s.Trust.Trusts(st, role, m))
}

// few is how many stripes are locked without a set of all locks.
const few = 8

// Lock takes the locks of one stripe or more, in the order of the locks, and returns what releases them.
func (s *Stripes) Lock(ids []layout.ID, exclusive bool) func() {
	if len(ids) <= few {
		return s.lockFew(ids, exclusive)
	}
	var set [(4096 + 63) / 64]uint64
	for _, id := range ids {
		i := lockIndex(id)
		set[i/64] |= 1 << (i % 64)
	}
	each := func(f func(*env.RWMutex)) {
		for w, word := range set {
			for b := 0; word != 0; b++ {
				if word&1 == 1 {
					f(&s.locks[w*64+b])
				}
				word >>= 1
			}
		}
	}
	if exclusive {
		each((*env.RWMutex).Lock)
		s.rest.changes(ids...)
		return func() { each((*env.RWMutex).Unlock) }
	}
	each((*env.RWMutex).RLock)
	return func() { each((*env.RWMutex).RUnlock) }
}

// lockFew is Lock for a few stripes.
func (s *Stripes) lockFew(ids []layout.ID, exclusive bool) func() {
	var room [few]uint16
	at := room[:0]
	for _, id := range ids {
		at = append(at, uint16(lockIndex(id)))
	}
	slices.Sort(at)
	n := len(slices.Compact(at))
	for _, i := range room[:n] {
		if exclusive {
			s.locks[i].Lock()
		} else {
			s.locks[i].RLock()
		}
	}
	if exclusive {
		s.rest.changes(ids...)
	}
	return func() {
		for _, i := range room[:n] {
			if exclusive {
				s.locks[i].Unlock()
			} else {
				s.locks[i].RUnlock()
			}
		}
	}
}

func lockIndex(id layout.ID) uint64 { return (uint64(id.Number) + uint64(id.Region)*977) % 4096 }

// LockAll takes the locks of all stripes.
func (s *Stripes) LockAll() (unlock func()) {
	for i := range s.locks {
		s.locks[i].Lock()
	}
	s.rest.changes()
	return func() {
		for i := range s.locks {
			s.locks[i].Unlock()
		}
	}
}

// Rows names the stripes of a group in n rows from a stripe on.
func Rows(from layout.Stripe, n int64) []layout.ID {
	ids := make([]layout.ID, n)
	for i := range ids {
		ids[i] = from.At(from.Group, from.Row+int64(i)).ID()
	}
	return ids
}
