package table

import (
	"errors"
	"fmt"
	"sync/atomic"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

type pageShard struct {
	env.Mutex
	pages map[pageKey]*page
	clock []*page // every page of the shard; the hand goes round to find one to drop
	hand  int
}

type pageKey struct {
	member uint32
	kind   record.PageKind
	number int64
}

type page struct {
	env.Mutex
	pins    atomic.Int32
	key     pageKey
	m       *member.Member
	buf     []byte
	loaded  bool
	dirty   bool   // differs from what is durable on the member
	version uint64 // raised by every change
	number  uint64 // of the checkpoint that wrote what is on the member; 0: nothing that is known
	sum     uint32 // of the page as it is there
	doubted bool   // map pages: it says "written" everywhere because what is on the member is not to be believed
	recent  atomic.Bool
	nonzero int // checksum pages: entries that are not SumNever
}

// leastPages is how many pages are kept however little memory there may be.
const leastPages = 16

// shard is where a page is kept.
func (t *Tables) shard(key pageKey) *pageShard {
	return &t.shards[(uint64(key.number)*31+uint64(key.member)*7+uint64(key.kind))%uint64(len(t.shards))]
}

// get returns a page locked and loaded. put must follow.
func (t *Tables) get(m *member.Member, kind record.PageKind, number int64) (*page, error) {
	key := pageKey{m.Key, kind, number}
	sh := t.shard(key)
	sh.Lock()
	p := sh.pages[key]
	if p == nil {
		if len(sh.pages) >= t.limit/len(t.shards) {
			t.evict(sh)
		}
		p = &page{key: key, m: m}
		env.Ranked(&p.Mutex, env.RankPage)
		sh.pages[key] = p
		sh.clock = append(sh.clock, p)
	}
	p.pins.Add(1)
	sh.Unlock()
	p.recent.Store(true)
	p.Lock()
	if !p.loaded {
		if err := t.load(p); err != nil {
			t.put(p)
			return nil, err
		}
	}
	return p, nil
}

func (t *Tables) put(p *page) {
	p.Unlock()
	p.pins.Add(-1)
}

// evict drops a few clean pages that are not held, sparing once those used since the hand last passed. sh is locked.
func (t *Tables) evict(sh *pageShard) {
	dropped := 0
	for tries := 2 * len(sh.clock); tries > 0 && dropped < 8 && len(sh.clock) > 0; tries-- {
		if sh.hand >= len(sh.clock) {
			sh.hand = 0
		}
		p := sh.clock[sh.hand]
		if p.pins.Load() != 0 || p.recent.Swap(false) || p.dirtyNow() || p.key.kind == record.MapPage && p.m.Asleep() {
			sh.hand++
			continue
		}
		sh.drop(sh.hand)
		probe.PageEvicted.Seen()
		dropped++
	}
}

func (sh *pageShard) drop(i int) {
	delete(sh.pages, sh.clock[i].key)
	last := len(sh.clock) - 1
	sh.clock[i] = sh.clock[last]
	sh.clock = sh.clock[:last]
}

func (p *page) dirtyNow() bool {
	if !p.TryLock() {
		return true
	}
	defer p.Unlock()
	return p.dirty
}

// load reads a page; p is locked. A page that cannot be trusted, because it is damaged or older than its witness, does no harm
// but costs redundancy: the sums of such a checksum page are all in doubt, and its blocks are restored one by one; a map page
// says "written" everywhere.
func (t *Tables) load(p *page) error {
	if p.key.kind == record.SumPage {
		p.m.Use()
	}
	buf := make([]byte, layout.Block)
	number := p.key.number
	switch p.key.kind {
	case record.SumPage:
		written, doubted, err := t.bit(p.m, number)
		if err != nil {
			return err
		}
		if written {
			switch sound, err := t.read(p, buf, doubted); {
			case err != nil:
				return err
			case !sound:
				clear(buf)
				for i := range record.SumsPerPage {
					record.SetPageSum(buf, i, record.SumDoubt)
				}
				record.SetPageEpoch(buf, t.host.Roster.Epoch())
				t.setDirty(p)
			}
		}
		for i := range record.SumsPerPage {
			if record.PageSum(buf, i) != record.SumNever {
				p.nonzero++
			}
		}
	case record.MapPage:
		switch sound, err := t.read(p, buf, false); {
		case err != nil:
			return err
		case !sound:
			clear(buf)
			setAllBits(p.m, number, buf)
			if !probe.DoubtedStaysBlank.On() {
				t.blank.Delete(p.key) // as it was when it was sound
			}
			p.doubted = true
			t.setDirty(p)
		case record.NextPageBit(buf, 0, record.BitsPerPage) == record.BitsPerPage:
			t.blank.Store(p.key, true)
		}
	case record.WitnessPage:
		if err := readWitnesses(p, buf); err != nil {
			return err
		}
	}
	// When a member leaves, what was changed of its pages and not written yet is forgotten: what it has on the disk is old then.
	if !p.m.Live() {
		return fmt.Errorf("%s: %w", p.m.Name(), errLeft)
	}
	p.buf, p.loaded = buf, true
	return nil
}

// readWitnesses reads a page of witnesses. One that was never written, or is damaged, proves nothing, and is written anew with what it is about.
func readWitnesses(p *page, buf []byte) error {
	if err := p.m.Disk.ReadAt(buf, p.m.Place().PageAt(record.WitnessPage, p.key.number)); err != nil {
		if p.m.ReadProblem(err); !p.m.Live() || member.Late(err) {
			return err
		}
		clear(buf)
	} else if _, _, err := record.CheckPage(buf, record.WitnessPage, p.m.Tag, p.key.number); err != nil {
		clear(buf)
	}
	return nil
}

// setAllBits has a map page say "written" of all checksum pages there are.
func setAllBits(m *member.Member, number int64, buf []byte) {
	for i := range record.BitsPerPage {
		if !m.Place().Has(record.SumPage, number*record.BitsPerPage+int64(i)) {
			return
		}
		record.SetPageBit(buf, i, true)
	}
}

// errLeft is why the tables of a member cannot be read any more.
var errLeft = errors.New("it takes no part any more")

// read reads a page that a member should have, and says whether it is to be believed. An error is one of the disk as a whole.
// A page that was never written is expected where the map is in doubt.
func (t *Tables) read(p *page, buf []byte, maybe bool) (sound bool, err error) {
	if err := p.m.Disk.ReadAt(buf, p.m.Place().PageAt(p.key.kind, p.key.number)); err != nil {
		if p.m.ReadProblem(err); !p.m.Live() || member.Late(err) {
			return false, err
		}
		p.m.Count(&p.m.Errs.Read)
		return false, nil
	}
	number, oldest, err := record.CheckPage(buf, p.key.kind, p.m.Tag, p.key.number)
	if err != nil {
		if !maybe {
			p.m.Count(&p.m.Errs.Checksum)
			t.host.Say(event.TableDamaged, p.m.Name(), err.Error()+"; its blocks are restored from redundancy")
		}
		return false, nil
	}
	torn := oldest < number
	if !torn {
		p.number, p.sum = number, record.PageSumOf(buf)
	}
	if number > record.FirstCheckpoint(t.host.Roster.Starts()) {
		probe.PageReadBack.Seen()
	}
	w, err := t.witness(p, record.Witness{Checkpoint: number, Sum: record.PageSumOf(buf)})
	if err != nil {
		return false, err
	}
	if old := older(record.PageSumOf(buf), number, oldest, w); old && !probe.WitnessNotCompared.On() {
		t.setBack(p.m)
		return false, nil
	}
	switch {
	case torn:
		t.setDirty(p) // written as a whole again before anybody bears witness of it
	case w.Checkpoint < number:
		t.testify(p)
	case p.key.kind == record.SumPage && w.Checkpoint == number:
		t.setSure(p.key, true)
	}
	return true, nil
}

// setDirty notes a change of a page, which is locked. Pages of a member that left are never written.
func (t *Tables) setDirty(p *page) {
	p.version++
	if !p.dirty && p.m.Live() {
		p.dirty = true
		t.dirty.Add(1)
	}
}

// setClean ends that; the page is locked.
func (t *Tables) setClean(p *page) {
	if p.dirty {
		p.dirty = false
		t.dirty.Add(-1)
	}
}

// Forget drops all pages of a member that is no longer live. One in use is left to its user and to the next checkpoint.
func (t *Tables) Forget(m *member.Member) {
	t.forget(m)
	for number := range m.Place().Pages(record.MapPage) {
		t.blank.Delete(pageKey{m.Key, record.MapPage, number})
	}
	for i := range t.shards {
		sh := &t.shards[i]
		sh.Lock()
		for i := len(sh.clock) - 1; i >= 0; i-- {
			if p := sh.clock[i]; p.m == m && p.pins.Load() == 0 && p.TryLock() {
				t.setClean(p)
				p.Unlock()
				sh.drop(i)
			}
		}
		sh.Unlock()
	}
}
