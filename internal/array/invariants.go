//go:build machine

package array

import (
	"fmt"

	"nidalo/internal/array/member"
)

// CheckInvariants holds the parts of a running array against each other and against its disks, at any step of the machine. It
// waits for nothing: a part whose lock is held is in the middle of a change and is passed over. still says that no client and no task uses the array.
//
//	cache     it is charged for what it holds, and for no more when the array is idle; every dirty block has contents or is to become never-written
//	journal   rings hold no more than they can; nothing is settled that was not committed
//	tables    as many pages count as dirty as are; a clean page is what its member holds, with the number that is noted for it
//	roster    a member that takes part has the roster in force, and is in memory what that says; no cursor there is ahead of the work
//	members   no disk is in two places
//	tasks     one at most fills a slot, and none has done more than there is
func (a *Array) CheckInvariants(still bool) error {
	if a.alive() != nil {
		return nil // it holds on to nothing any more
	}
	for _, part := range []struct {
		name  string
		check func() error
	}{{"cache", func() error { return a.cache.Invariants(still) }}, {"journal", a.journal.Invariants}, {"tables", a.tables.Invariants}, {"roster", a.roster.Invariants}, {"members", a.checkMembers}, {"tasks", a.tasks.Invariants}} {
		if err := part.check(); err != nil {
			return fmt.Errorf("invariant of the %s: %w", part.name, err)
		}
	}
	return nil
}

func (a *Array) checkMembers() error {
	at := map[any]int{}
	for slot := range a.slots.Len() {
		for _, m := range []*member.Member{a.slots.At(slot), a.slots.Onto(slot)} {
			if m == nil || !m.Live() || m.Patient == nil {
				continue
			}
			if other, ok := at[m.Patient.Disk]; ok {
				return fmt.Errorf("slots %d and %d have the same disk", other, slot)
			}
			at[m.Patient.Disk] = slot
		}
	}
	return nil
}
