//go:build machine

package roster

import (
	"fmt"

	"nidalo/core/record"
)

// Invariants holds the roster against the members: a member that takes part has the roster in force, and is in memory what it says; no cursor
// in it is ahead of the work. It waits for nothing.
func (r *Roster) Invariants() error {
	if !r.mu.TryLock() {
		return nil
	}
	defer r.mu.Unlock()
	if r.unsettled.Load() {
		return nil
	}
	keeps := map[int]bool{}
	for slot, e := range r.rec.Roster {
		if e.Witness >= 0 && keeps[e.Witness] {
			return fmt.Errorf("slot %d is to keep the witnesses of slot %d, and has room for one member's, which it keeps already", e.Witness, slot)
		}
		keeps[e.Witness] = true
	}
	for slot := range r.host.Slots.Len() {
		m, e := r.host.Slots.At(slot), r.rec.Roster[slot]
		switch {
		case m.Identity != e.ID:
			return fmt.Errorf("slot %d has another identity than the roster says", slot)
		case !m.Live() || m.Condition() == record.Failing:
		case m.Has != r.rec.State():
			return fmt.Errorf("slot %d takes part with a roster of epoch %d; in force is %d", slot, m.Has.Epoch, r.rec.Epoch)
		case m.Condition() != e.Condition:
			return fmt.Errorf("slot %d is %s, the roster says %s", slot, m.Condition(), e.Condition)
		case m.Condition() == record.Rebuilding && e.Cursor > m.Cursor.Load():
			return fmt.Errorf("slot %d is rebuilt up to row %d, the roster says %d", slot, m.Cursor.Load(), e.Cursor)
		}
		if onto := r.host.Slots.Onto(slot); onto != nil && onto.Live() && e.Onto == onto.Identity && e.Cursor > onto.Cursor.Load() {
			return fmt.Errorf("slot %d is copied up to row %d, the roster says %d", slot, onto.Cursor.Load(), e.Cursor)
		}
	}
	return nil
}
