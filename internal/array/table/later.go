package table

import (
	"fmt"
	"sync"
	"sync/atomic"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Disks of a guarded set may sleep, and a read of one that turns should not wake the one that keeps the witnesses of its pages. So before a disk
// sleeps, the pages whose witnesses it keeps are compared with them, as they are on their own disk. A page that was compared since it was
// written last is sure: it is believed while its witness sleeps. Any other wakes it, as nothing old is ever to be returned. Pages are
// written by checkpoints, which wake the disks that they need, and are put off for that (journal/sleep.go).
//
// Rejected: what a witness that sleeps is to say waits in memory. A crash forgets it, and a member that was set back at that moment is not noticed.

// later is what is known of pages whose witnesses may sleep. It takes a bit for each checksum page, of which one is for about 4 MiB, and nothing where no
// disk is put to sleep.
type later struct {
	on    atomic.Bool // pages were compared for that
	mu    env.Mutex
	known sync.Map                         // by pageKey: record.Witness of map pages, as they were when they were compared or written last
	sure  map[chunkKey]*[chunkWords]uint64 // bits of checksum pages
}

const chunkWords = (record.BitsPerPage + 63) / 64

// chunkKey is the checksum pages of a member that one map page is about.
type chunkKey struct {
	member uint32
	chunk  int64
}

// told is what is known of a page that is read as something, while its witness sleeps. ok is false when that has to be asked.
func (t *Tables) told(key pageKey, is record.Witness) (w record.Witness, ok bool) {
	if v, ok := t.later.known.Load(key); ok {
		return v.(record.Witness), true
	}
	t.later.mu.Lock()
	defer t.later.mu.Unlock()
	if key.kind == record.SumPage && (t.isSure(key) || probe.UnsureBelieved.On()) {
		probe.SurePageRead.Seen()
		return is, true
	}
	return w, false
}

func sureBit(key pageKey) (c chunkKey, word int, mask uint64) {
	at := int(key.number % record.BitsPerPage)
	return chunkKey{key.member, key.number / record.BitsPerPage}, at / 64, 1 << (at % 64)
}

// isSure says whether a checksum page was compared since it was written; later.mu is held.
func (t *Tables) isSure(key pageKey) bool {
	c, word, mask := sureBit(key)
	bits := t.later.sure[c]
	return bits != nil && bits[word]&mask != 0
}

// setSure notes that a checksum page was compared as it is on its disk now, or is not what it was.
func (t *Tables) setSure(key pageKey, yes bool) {
	if !t.later.on.Load() {
		return
	}
	t.later.mu.Lock()
	defer t.later.mu.Unlock()
	c, word, mask := sureBit(key)
	bits := t.later.sure[c]
	switch {
	case bits == nil && !yes:
	case !yes:
		bits[word] &^= mask
	case bits == nil:
		bits = new([chunkWords]uint64)
		t.later.sure[c] = bits
		fallthrough
	default:
		bits[word] |= mask
	}
}

// setBack says, once, that a member was set back.
func (t *Tables) setBack(m *member.Member) {
	probe.WitnessAccused.Seen()
	m.Count(&m.Errs.Checksum)
	if !m.SetBack.Swap(true) {
		t.host.Say(event.MemberSetBack, m.Name(), fmt.Sprintf("its tables are older than those that %s has seen, so it was set back, or lost writes that it had confirmed. Its old blocks are restored from redundancy",
			t.host.Slots.At(t.holder(m)).Name()))
	}
}

// Acquaint compares some more pages of a member with their witnesses, and says whether all have been by now. No checkpoint may be under way. The
// member's map pages are in memory then, and stay there while it sleeps.
func (t *Tables) Acquaint(m *member.Member, some int) (all bool, err error) {
	t.later.on.Store(true)
	for number := range m.Place().Pages(record.MapPage) {
		key := pageKey{m.Key, record.MapPage, number}
		p, err := t.get(m, record.MapPage, number)
		if err != nil {
			return false, err
		}
		t.later.known.LoadOrStore(key, record.Witness{Checkpoint: p.number, Sum: p.sum})
		t.put(p)
	}
	if t.holder(m) < 0 {
		return true, nil
	}
	for number := int64(0); ; number++ {
		next, ok := t.NextBit(m, number, noPage)
		if !ok || next > noPage {
			return ok, nil
		}
		number = next
		t.later.mu.Lock()
		sure := t.isSure(pageKey{m.Key, record.SumPage, number})
		t.later.mu.Unlock()
		if sure || t.isDirty(pageKey{m.Key, record.SumPage, number}) {
			continue
		}
		if some--; some < 0 {
			return false, nil
		}
		if err := t.compare(m, number); err != nil {
			return false, err
		}
	}
}

// isDirty says whether a page is in memory and is to be written.
func (t *Tables) isDirty(key pageKey) bool {
	sh := t.shard(key)
	sh.Lock()
	defer sh.Unlock()
	p := sh.pages[key]
	return p != nil && p.dirtyNow()
}

// noPage is beyond the number of every page.
const noPage = 1 << 60

// compare holds a checksum page, as it is on its disk, against its witness. What is wrong with the page is seen to as with any that is read.
func (t *Tables) compare(m *member.Member, number int64) error {
	buf := make([]byte, layout.Block)
	if err := m.Disk.ReadAt(buf, m.Place().PageAt(record.SumPage, number)); err != nil {
		if m.ReadProblem(err); !m.Live() || member.Late(err) {
			return err
		}
		return nil // the next reader restores it
	}
	newest, oldest, err := record.CheckPage(buf, record.SumPage, m.Tag, number)
	if err != nil {
		return nil // the same
	}
	h, page, at := t.witnessAt(m, record.SumPage, number)
	w, err := t.entry(h, page, at, m.Tag)
	if err != nil {
		return err
	}
	if !older(record.PageSumOf(buf), newest, oldest, w) && oldest == newest && w.Checkpoint >= newest {
		t.setSure(pageKey{m.Key, record.SumPage, number}, true)
		return nil
	}
	// The page is older than its witness, or torn, or a crash came before the witness was written. To read it settles which.
	p, err := t.get(m, record.SumPage, number)
	if err != nil {
		return err
	}
	defer t.put(p)
	switch {
	case p.number > newest: // what is in memory is right, and the disk did not write it
		t.setBack(m)
		t.setDirty(p)
	case p.number == newest && w.Checkpoint < newest:
		t.testify(p)
		t.setSure(p.key, true)
	}
	return nil
}

// Waiting says of which members pages are to be written, and of which the witnesses of such pages, by slot.
func (t *Tables) Waiting() (slots [layout.MaxMembers]bool) {
	for i := range t.shards {
		sh := &t.shards[i]
		sh.Lock()
		for _, p := range sh.clock {
			if slots[p.m.Slot] && p.key.kind == record.WitnessPage || !p.dirtyNow() {
				continue
			}
			slots[p.m.Slot] = true
			if h := t.holder(p.m); p.key.kind != record.WitnessPage && h >= 0 {
				slots[h] = true
			}
		}
		sh.Unlock()
	}
	return slots
}

// forget drops what is known of the pages of a member that left.
func (t *Tables) forget(m *member.Member) {
	for number := range m.Place().Pages(record.MapPage) {
		t.later.known.Delete(pageKey{m.Key, record.MapPage, number})
	}
	t.later.mu.Lock()
	defer t.later.mu.Unlock()
	for c := range t.later.sure {
		if c.member == m.Key {
			delete(t.later.sure, c)
		}
	}
}
