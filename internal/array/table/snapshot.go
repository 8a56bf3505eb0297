package table

import (
	"cmp"
	"fmt"
	"slices"
	"sync"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// DirtyPage is a page that a checkpoint is to write.
type DirtyPage struct {
	p       *page
	buf     []byte // map pages: as they were at the moment of the snapshot
	version uint64 // of what was written
	// What it was written as; checkpoint is 0 when it was not.
	checkpoint uint64
	sum        uint32
}

// Member is whose page it is.
func (d *DirtyPage) Member() *member.Member { return d.p.m }

// Kind is what kind of page it is.
func (d *DirtyPage) Kind() record.PageKind { return d.p.key.kind }

// Snapshot collects what a checkpoint must write: the dirty checksum pages, copies of the dirty map pages as they are now, and
// the witness pages that changed since they were written. All are pinned until release. The caller holds the barrier
// exclusively.
func (t *Tables) Snapshot() (sums, maps, seen []*DirtyPage) {
	var all []*page
	for i := range t.shards {
		sh := &t.shards[i]
		sh.Lock()
		for _, p := range sh.clock {
			p.pins.Add(1)
			all = append(all, p)
		}
		sh.Unlock()
	}
	for _, p := range all {
		p.Lock()
		if !p.m.Live() {
			t.setClean(p)
		}
		d := &DirtyPage{p: p, version: p.version}
		switch {
		case !p.dirty || !p.loaded:
			p.pins.Add(-1)
		case p.key.kind == record.SumPage:
			sums = append(sums, d)
		case p.key.kind == record.WitnessPage:
			seen = append(seen, d)
		default:
			d.buf = slices.Clone(p.buf)
			maps = append(maps, d)
		}
		if probe.CleanBeforeWritten.On() {
			t.setClean(p)
		}
		p.Unlock()
	}
	for _, list := range [][]*DirtyPage{sums, maps, seen} {
		sortPages(list)
	}
	return sums, maps, seen
}

func sortPages(list []*DirtyPage) {
	slices.SortFunc(list, func(x, y *DirtyPage) int {
		return cmp.Or(cmp.Compare(x.p.m.Slot, y.p.m.Slot), cmp.Compare(x.p.m.Key, y.p.m.Key), cmp.Compare(x.p.key.number, y.p.key.number))
	})
}

// Testimonies enters what a checkpoint wrote into the witness pages, and returns those that it has to write for that: the
// given ones, and more, pinned like them.
func (t *Tables) Testimonies(written []*DirtyPage, seen []*DirtyPage) []*DirtyPage {
	have := map[*page]bool{}
	for _, d := range seen {
		have[d.p] = true
	}
	take := func(on *page) {
		if !have[on] {
			have[on] = true
			on.pins.Add(1)
			seen = append(seen, &DirtyPage{p: on})
		}
		t.put(on)
	}
	for _, d := range written {
		h, number, at := t.witnessAt(d.p.m, d.p.key.kind, d.p.key.number)
		if h == nil || !d.p.m.Live() || d.checkpoint == 0 {
			continue
		}
		on, err := t.get(h, record.WitnessPage, number)
		if err != nil {
			continue // it is on its way out, and proves nothing then
		}
		now := record.Witness{Checkpoint: d.checkpoint, Sum: d.sum}
		t.setWitness(on, d.p.m, at, now)
		if also := t.copyOf(on); also != nil {
			t.setWitness(also, d.p.m, at, now)
			take(also)
		}
		take(on)
	}
	sortPages(seen)
	return seen
}

// Write writes a page, as the given checkpoint: a map page as it was at the snapshot, another as it is now.
func (t *Tables) Write(d *DirtyPage, checkpoint uint64) error {
	p, m := d.p, d.p.m
	if !m.Live() {
		return nil
	}
	buf, room := d.buf, (*[layout.Block]byte)(nil)
	if buf == nil {
		room = copies.Get().(*[layout.Block]byte)
		buf = room[:]
		p.Lock()
		copy(buf, p.buf)
		d.version = p.version
		p.Unlock()
	}
	record.SealPage(buf, p.key.kind, m.Tag, p.key.number, checkpoint)
	d.checkpoint, d.sum = checkpoint, record.PageSumOf(buf)
	t.host.Wrote.Add(layout.Block)
	if err := m.Disk.WriteAt(buf, m.Place().PageAt(p.key.kind, p.key.number)); err != nil {
		if err := m.WriteProblem(err); err != nil {
			return fmt.Errorf("tables of %s: %w", m.Name(), err)
		}
		return nil // a disk that hangs may still have the copy
	}
	if room != nil { // what the snapshot copied stays with it
		copies.Put(room)
	}
	return nil
}

// copies keeps copies of pages that were written for the next.
var copies = sync.Pool{New: func() any { return new([layout.Block]byte) }}

// Clean notes of pages that what was written of them is durable.
func (t *Tables) Clean(pages []*DirtyPage) {
	for _, d := range pages {
		d.p.Lock()
		if d.checkpoint != 0 {
			d.p.number, d.p.sum = d.checkpoint, d.sum
			if d.p.key.kind == record.SumPage {
				t.setSure(d.p.key, false)
			} else if _, ok := t.later.known.Load(d.p.key); ok {
				t.later.known.Store(d.p.key, record.Witness{Checkpoint: d.checkpoint, Sum: d.sum})
			}
		}
		if d.p.version == d.version || !d.p.m.Live() || probe.ChangeInWriteForgotten.On() {
			t.setClean(d.p)
		}
		d.p.Unlock()
	}
}

// Release ends a checkpoint's hold on its pages.
func (t *Tables) Release(lists ...[]*DirtyPage) {
	for _, pages := range lists {
		for _, d := range pages {
			d.p.pins.Add(-1)
		}
	}
}
