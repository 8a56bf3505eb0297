package replay

import (
	"cmp"
	"fmt"
	"slices"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
)

// vet drops entries that take a change of layout further and cannot be right. The batch that does so is on all members and says the same on each: what
// one member alone says moves nothing.
func (h *Host) vet(scans []*journal.Scan, first uint64) {
	if h.Turn == nil {
		return
	}
	for _, n := range journal.BatchNumbers(scans, first) {
		votes := map[int64][]*journal.Scan{} // by how far the batch leads; 0: no further than the record
		for _, s := range scans {
			e := s.Entries[n]
			if e == nil {
				continue
			}
			further, err := h.Turn.Further(e.Moved)
			switch {
			case err != nil, further && !h.onAll(e.Involved):
				h.disbelieve(s, n)
			case further:
				votes[e.Moved] = append(votes[e.Moved], s)
			default:
				votes[0] = append(votes[0], s)
			}
		}
		best := int64(0)
		for to, by := range votes {
			if cmp.Or(cmp.Compare(len(by), len(votes[best])), cmp.Compare(to, best)) > 0 {
				best = to
			}
		}
		for _, s := range scans {
			if s.Entries[n] != nil && !slices.Contains(votes[best], s) {
				h.disbelieve(s, n)
			}
		}
	}
}

// onAll says whether a batch with entries on some slots is on all members that are here and whole.
func (h *Host) onAll(involved uint64) bool {
	return !slices.ContainsFunc(h.Slots.All(), func(m *member.Member) bool {
		return m.Live() && !m.Stale && m.Condition() != record.Rebuilding && involved>>m.Slot&1 == 0
	})
}

func (h *Host) disbelieve(s *journal.Scan, batch uint64) {
	h.Say(event.JournalDamaged, s.M.Name(), fmt.Sprintf("its part of batch %d says that the layout is changed up to byte %d, which the other members contradict; it is not believed", batch, s.Entries[batch].Moved))
	delete(s.Entries, batch)
}
