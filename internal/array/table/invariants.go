//go:build machine

package table

import (
	"fmt"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/record"
)

// Peeker is a disk of the crash machine. Peek reads without an operation, what the disk would return now; it says false when
// something was done to the disk that the array has no part in.
type Peeker interface {
	Peek(p []byte, off int64) bool
}

// Invariants holds the tables against themselves and against their disks. It waits for nothing: what is locked is in the middle of a
// change.
func (t *Tables) Invariants() error {
	dirty, all := int64(0), true
	for i := range t.shards {
		sh := &t.shards[i]
		if !sh.TryLock() {
			return nil
		}
		defer sh.Unlock()
		if len(sh.clock) != len(sh.pages) {
			return fmt.Errorf("%d pages, %d on the clock", len(sh.pages), len(sh.clock))
		}
		for _, p := range sh.clock {
			if !p.TryLock() {
				all = false
				continue
			}
			defer p.Unlock()
			if p.dirty {
				dirty++
			} else if err := checkClean(p); err != nil {
				return err
			}
		}
	}
	if counted := t.dirty.Load(); all && counted != dirty {
		return fmt.Errorf("%d pages are dirty, counted are %d", dirty, counted)
	}
	return nil
}

// checkClean holds a clean page against its member.
func checkClean(p *page) error {
	if !p.loaded || p.number == 0 || !p.m.Live() || p.m.Patient == nil {
		return nil
	}
	d, ok := p.m.Patient.Disk.(Peeker)
	if !ok {
		return nil
	}
	on, ours := make([]byte, layout.Block), slices.Clone(p.buf)
	if !d.Peek(on, p.m.Place().PageAt(p.key.kind, p.key.number)) {
		return nil
	}
	number, _, err := record.CheckPage(on, p.key.kind, p.m.Tag, p.key.number)
	// One that was torn is as good as whole when what it lacked was nothing new.
	record.SealPage(ours, p.key.kind, p.m.Tag, p.key.number, p.number)
	record.SealPage(on, p.key.kind, p.m.Tag, p.key.number, p.number)
	if err != nil || number != p.number || !slices.Equal(ours, on) {
		return fmt.Errorf("page %d of kind %d of slot %d counts as clean since checkpoint %d and is not what the member holds", p.key.number, p.key.kind, p.m.Slot, p.number)
	}
	return nil
}
