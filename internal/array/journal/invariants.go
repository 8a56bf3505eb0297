//go:build machine

package journal

import "fmt"

// Invariants holds the journal against itself: rings hold no more than they can; nothing is settled that was not committed. It waits for
// nothing.
func (j *Journal) Invariants() error {
	if !j.mu.TryLock() {
		return nil
	}
	defer j.mu.Unlock()
	if s := j.settled.Load(); s > j.batch {
		return fmt.Errorf("settled up to batch %d, committed up to %d", s, j.batch)
	}
	for slot := range j.host.Slots.Len() {
		m := j.host.Slots.At(slot)
		if r := &m.Ring; m.Live() && (r.Head < 0 || r.Head > r.Blocks || r.Live < 0 || r.Live > r.Blocks || r.Reserved < 0) {
			return fmt.Errorf("slot %d: ring of %d blocks, head %d, live %d, reserved %d", slot, r.Blocks, r.Head, r.Live, r.Reserved)
		}
	}
	return nil
}
