package array

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"

	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/array/task"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// tables keeps pages of the members' checksum tables and written maps in memory, a bounded number of them. A page that
// was changed stays until a checkpoint has written it.
type tables struct {
	a      *Array
	shards []pageShard
	limit  int // pages in memory, all shards together
	dirty  atomic.Int64
}

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

func newTables(a *Array, bytes int64) *tables {
	t := &tables{a: a, limit: int(max(bytes/Block, leastPages))}
	t.shards = make([]pageShard, min(64, t.limit/4))
	for i := range t.shards {
		t.shards[i].pages = map[pageKey]*page{}
	}
	return t
}

// get returns a page locked and loaded. put must follow.
func (t *tables) get(m *member.Member, kind record.PageKind, number int64) (*page, error) {
	key := pageKey{m.Key, kind, number}
	sh := &t.shards[(uint64(number)*31+uint64(m.Key)*7+uint64(kind))%uint64(len(t.shards))]
	sh.Lock()
	p := sh.pages[key]
	if p == nil {
		if len(sh.pages) >= t.limit/len(t.shards) {
			t.evict(sh)
		}
		p = &page{key: key, m: m}
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

func (t *tables) put(p *page) {
	p.Unlock()
	p.pins.Add(-1)
}

// evict drops a few clean pages nobody holds, sparing once those used since the hand last passed. sh is locked.
func (t *tables) evict(sh *pageShard) {
	dropped := 0
	for tries := 2 * len(sh.clock); tries > 0 && dropped < 8 && len(sh.clock) > 0; tries-- {
		if sh.hand >= len(sh.clock) {
			sh.hand = 0
		}
		p := sh.clock[sh.hand]
		if p.pins.Load() != 0 || p.recent.Swap(false) || p.dirtyNow() {
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
func (t *tables) load(p *page) error {
	buf := make([]byte, Block)
	number := p.key.number
	switch p.key.kind {
	case record.SumPage:
		written, doubted, err := t.bit(p.m, number)
		if err != nil {
			return err
		}
		if written {
			switch sound, err := t.read(p, buf, p.m.Place.SumStart, doubted); {
			case err != nil:
				return err
			case !sound:
				clear(buf)
				for i := range record.SumsPerPage {
					record.SetPageSum(buf, i, record.SumDoubt)
				}
				record.SetPageEpoch(buf, t.a.roster.epoch.Load())
				t.setDirty(p)
			}
		}
		for i := range record.SumsPerPage {
			if record.PageSum(buf, i) != record.SumNever {
				p.nonzero++
			}
		}
	case record.MapPage:
		switch sound, err := t.read(p, buf, p.m.Place.MapStart, false); {
		case err != nil:
			return err
		case !sound:
			clear(buf)
			for i := 0; i < record.BitsPerPage && number*record.BitsPerPage+int64(i) < p.m.Place.SumPages; i++ {
				record.SetPageBit(buf, i, true)
			}
			p.doubted = true
			t.setDirty(p)
		}
	case record.WitnessPage:
		if err := p.m.Disk.ReadAt(buf, p.m.Place.WitnessStart+number*Block); err != nil {
			if p.m.ReadProblem(err); !p.m.Live() || member.Late(err) {
				return err
			}
			clear(buf)
		} else if _, _, err := record.CheckPage(buf, record.WitnessPage, p.m.Tag, number); err != nil {
			clear(buf) // never written, or damaged: it proves nothing, and is written anew with what it is about
		}
	}
	// When a member leaves, what was changed of its pages and not written yet is forgotten: what it has on the disk is old then.
	if !p.m.Live() && !probe.LeaverReadBack.On() {
		return fmt.Errorf("%s: %w", p.m.Name(), errLeft)
	}
	p.buf, p.loaded = buf, true
	return nil
}

// errLeft is why the tables of a member cannot be read any more.
var errLeft = errors.New("it takes no part any more")

// read reads a page that a member should have, and says whether it is to be believed. An error is one of the disk as a whole.
// A page that was never written is expected where the map is in doubt.
func (t *tables) read(p *page, buf []byte, start int64, maybe bool) (sound bool, err error) {
	if err := p.m.Disk.ReadAt(buf, start+p.key.number*Block); err != nil {
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
			t.a.event("table-damaged", p.m.Name(), "%v; its blocks are restored from redundancy", err)
		}
		return false, nil
	}
	torn := oldest < number
	if !torn {
		p.number, p.sum = number, record.PageSumOf(buf)
	}
	if number > record.FirstCheckpoint(t.a.roster.shown.Load().Starts) {
		probe.PageReadBack.Seen()
	}
	w, err := t.witness(p)
	if err != nil {
		return false, err
	}
	if old := older(buf, number, oldest, w); old && !probe.WitnessNotCompared.On() {
		probe.WitnessAccused.Seen()
		p.m.Count(&p.m.Errs.Checksum)
		if !p.m.SetBack.Swap(true) {
			t.a.event("member-set-back", p.m.Name(), "its tables are older than %s has seen them: it was set back, or lost writes that it had confirmed. What it holds is restored from redundancy where that is so",
				t.a.slotName(t.holder(p.m)))
		}
		return false, nil
	}
	switch {
	case torn:
		t.setDirty(p) // written as a whole again before anybody bears witness of it
	case w.Checkpoint < number:
		t.testify(p)
	}
	return true, nil
}

// older says whether a page is older than its witness. The power may have gone while a page that had been set back was written:
// then its newest sector is newer than the witness, and the others are what was set back.
func older(buf []byte, newest, oldest uint64, w record.Witness) bool {
	if probe.TornCountsAsNew.On() {
		oldest = newest
	}
	return oldest < w.Checkpoint || newest == w.Checkpoint && record.PageSumOf(buf) != w.Sum
}

// holder is the slot that keeps the witnesses of a member's pages; -1 when none does.
func (t *tables) holder(m *member.Member) int { return t.a.roster.shown.Load().Roster[m.Slot].Witness }

// witnessAt is where the witness of a page is: on which member, in which of its pages, at which place. It is nil when there is
// none, or when it is away and proves nothing.
func (t *tables) witnessAt(m *member.Member, kind record.PageKind, number int64) (h *member.Member, page int64, at int) {
	if t.a.members[m.Slot].Load() != m {
		return nil, 0, 0 // a copy, which has none yet
	}
	return t.seenAt(m, kind, number)
}

// seenAt is witnessAt for a disk whether or not it is the member of its slot.
func (t *tables) seenAt(m *member.Member, kind record.PageKind, number int64) (h *member.Member, page int64, at int) {
	slot := t.holder(m)
	if slot < 0 {
		return nil, 0, 0
	}
	if kind == record.SumPage {
		number += m.Place.MapPages
	}
	h, page = t.a.members[slot].Load(), number/record.WitnessesPerPage
	if h == nil || !h.Live() || page >= h.Place.WitnessPages {
		return nil, 0, 0
	}
	return h, page, int(number % record.WitnessesPerPage)
}

// witness is what another member has seen of a page; zero when it proves nothing. That a witness which is there does not answer is
// an error: it might know better.
func (t *tables) witness(p *page) (record.Witness, error) {
	h, page, at := t.witnessAt(p.m, p.key.kind, p.key.number)
	return t.entry(h, page, at, p.m.Tag)
}

// seenOf is what is known of a page of a disk, whether or not it is the member of its slot.
func (t *tables) seenOf(m *member.Member, kind record.PageKind, number int64) (record.Witness, error) {
	h, page, at := t.seenAt(m, kind, number)
	return t.entry(h, page, at, m.Tag)
}

func (t *tables) entry(h *member.Member, page int64, at int, tag uint64) (record.Witness, error) {
	if h == nil {
		return record.Witness{}, nil
	}
	on, err := t.get(h, record.WitnessPage, page)
	if err != nil {
		if !h.Live() {
			err = nil
		}
		return record.Witness{}, err
	}
	defer t.put(on)
	return record.PageWitness(on.buf, tag, at), nil
}

// testify has a page's witness say what the page is on its member. It counts when the next checkpoint has written it.
func (t *tables) testify(p *page) {
	h, page, at := t.witnessAt(p.m, p.key.kind, p.key.number)
	if h == nil {
		return
	}
	on, err := t.get(h, record.WitnessPage, page)
	if err != nil {
		return
	}
	defer t.put(on)
	if now := (record.Witness{Checkpoint: p.number, Sum: p.sum}); now.Checkpoint > record.PageWitness(on.buf, p.m.Tag, at).Checkpoint {
		t.setWitness(on, p.m, at, now)
		if also := t.copyOf(on); also != nil {
			t.setWitness(also, p.m, at, now)
			t.put(also)
		}
	}
}

func (t *tables) setWitness(on *page, of *member.Member, at int, w record.Witness) {
	record.SetPageWitness(on.buf, of.Tag, at, w)
	t.setDirty(on)
}

// copyOf is the same witness page on the disk that the holder of one is being copied onto; nil when there is none. put must follow.
// What a copy is not told it does not know when it takes the place of its original, however shortly before.
func (t *tables) copyOf(on *page) *page {
	c := t.a.onto[on.m.Slot].Load()
	if c == nil || !c.Live() || on.m == c || on.key.number >= c.Place.WitnessPages || probe.CopyNotTold.On() {
		return nil
	}
	also, err := t.get(c, record.WitnessPage, on.key.number)
	if err != nil {
		return nil // it is on its way out
	}
	return also
}

// setDirty notes a change of a page, which is locked. Pages of a member that left are never written.
func (t *tables) setDirty(p *page) {
	p.version++
	if !p.dirty && p.m.Live() {
		p.dirty = true
		t.dirty.Add(1)
	}
}

// setClean ends that; the page is locked.
func (t *tables) setClean(p *page) {
	if p.dirty {
		p.dirty = false
		t.dirty.Add(-1)
	}
}

// bit tells whether a checksum page was ever written, and whether that is only assumed.
func (t *tables) bit(m *member.Member, number int64) (written, doubted bool, err error) {
	p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
	if err != nil {
		return false, false, err
	}
	defer t.put(p)
	return record.PageBit(p.buf, int(number%record.BitsPerPage)), p.doubted, nil
}

func (t *tables) setBit(m *member.Member, number int64, on bool) error {
	p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
	if err != nil {
		return err
	}
	defer t.put(p)
	if i := int(number % record.BitsPerPage); record.PageBit(p.buf, i) != on {
		record.SetPageBit(p.buf, i, on)
		t.setDirty(p)
	}
	return nil
}

// sums fills out with the sums of the member's blocks from block on.
func (t *tables) sums(m *member.Member, block int64, out []uint32) error {
	for len(out) > 0 {
		number, at := block/record.SumsPerPage, int(block%record.SumsPerPage)
		n := min(len(out), record.SumsPerPage-at)
		p, err := t.get(m, record.SumPage, number)
		if err != nil {
			return err
		}
		if p.nonzero == 0 {
			clear(out[:n])
		} else {
			record.PageSums(p.buf, at, out[:n])
		}
		t.put(p)
		out, block = out[n:], block+int64(n)
	}
	return nil
}

// set stores the sums of n blocks from block on, which change now: sums, or the one value for all when sums is nil. The
// caller holds the barrier. What cannot be entered is seen to, see unentered.
func (t *tables) set(m *member.Member, block int64, n int, sums []uint32, value uint32) {
	t.setAs(m, nil, block, n, sums, value)
}

// epochs tells in which epoch the blocks of a checksum page were changed last; nil: in the present one.
type epochs func(page int64) uint64

// setAs is set for blocks that are copied or restored, and changed last in an earlier epoch: a member that was away since
// does not lack them.
func (t *tables) setAs(m *member.Member, last epochs, block int64, n int, sums []uint32, value uint32) {
	now := t.a.roster.epoch.Load()
	for n > 0 {
		number, at := block/record.SumsPerPage, int(block%record.SumsPerPage)
		step, epoch := min(n, record.SumsPerPage-at), now
		if last != nil {
			epoch = last(number)
		}
		p, err := t.get(m, record.SumPage, number)
		if err != nil {
			t.unentered(m, err)
			return
		}
		before := p.nonzero
		// A change may leave a sum as it was, as when all data of a stripe changes by the same: it is a change all the same.
		again := record.PageEpoch(p.buf) < epoch && (sums != nil || value != record.SumNever) && !probe.SameSumUnstamped.On()
		for i := 0; i < step; i++ {
			v := value
			if sums != nil {
				v = sums[i]
			}
			if old := record.PageSum(p.buf, at+i); old != v || again {
				switch {
				case old == v:
				case old == record.SumNever:
					p.nonzero++
				case v == record.SumNever:
					p.nonzero--
				}
				record.SetPageSum(p.buf, at+i, v)
				if !probe.ChangeUnstamped.On() {
					record.SetPageEpoch(p.buf, max(epoch, record.PageEpoch(p.buf)))
				}
				t.setDirty(p)
				again = false
			}
		}
		if (before == 0) != (p.nonzero == 0) {
			err = t.setBit(m, number, p.nonzero > 0)
		}
		t.put(p)
		if err != nil {
			t.unentered(m, err)
			return
		}
		if sums != nil {
			sums = sums[step:]
		}
		block, n = block+int64(step), n-step
	}
}

// unentered sees to a change that could not be entered since a table cannot be read. A member that is out lacks it like everything
// else from now on. One that the array cannot do without, because it only hangs, would be taken for what it held before once
// the journals are emptied: so nothing more is written, and the next start enters it from them.
func (t *tables) unentered(m *member.Member, err error) {
	switch {
	case !m.Live():
	case t.a.onto[m.Slot].Load() == m:
		t.a.failMember(m, record.Failed, err)
	default:
		t.a.freeze(fmt.Errorf("%w: the checksum table of %w; start the array again when the disk answers", ErrFailed, err))
	}
}

// changed tells whether a checksum page was ever written, and in which epoch it was changed last.
func (t *tables) changed(m *member.Member, number int64) (written bool, epoch uint64, err error) {
	if written, _, err = t.bit(m, number); err != nil || !written {
		return written, 0, err
	}
	p, err := t.get(m, record.SumPage, number)
	if err != nil {
		return false, 0, err
	}
	defer t.put(p)
	return true, record.PageEpoch(p.buf), nil
}

// enter stores what a run of a change or of the journal means for the sums. The caller holds the barrier.
func (t *tables) enter(m *member.Member, kind record.RunKind, block int64, n int, sums []uint32) {
	t.enterAs(m, nil, kind, block, n, sums)
}

// enterAs is enter for what changed last in an earlier epoch, see setAs.
func (t *tables) enterAs(m *member.Member, last epochs, kind record.RunKind, block int64, n int, sums []uint32) {
	switch kind {
	case record.RunNever:
		t.setAs(m, last, block, n, nil, record.SumNever)
	case record.RunLost:
		t.setAs(m, last, block, n, nil, record.SumLost)
	default:
		t.setAs(m, last, block, n, sums, 0)
	}
}

// forget drops all pages of a member that is no longer live. One in use is left to its user and to the next checkpoint.
func (t *tables) forget(m *member.Member) {
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

// dirtyPage is a page that a checkpoint is to write.
type dirtyPage struct {
	p       *page
	buf     []byte // map pages: as they were at the moment of the snapshot
	version uint64 // of what was written
	// What it was written as; checkpoint is 0 when it was not.
	checkpoint uint64
	sum        uint32
}

// snapshot collects what a checkpoint must write: the dirty checksum pages, copies of the dirty map pages as they are now, and
// the witness pages that changed since they were written. All are pinned until release. The caller holds the barrier
// exclusively.
func (t *tables) snapshot() (sums, maps, seen []*dirtyPage) {
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
		d := &dirtyPage{p: p, version: p.version}
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
	for _, list := range [][]*dirtyPage{sums, maps, seen} {
		sortPages(list)
	}
	return sums, maps, seen
}

func sortPages(list []*dirtyPage) {
	slices.SortFunc(list, func(x, y *dirtyPage) int {
		return cmp.Or(cmp.Compare(x.p.m.Slot, y.p.m.Slot), cmp.Compare(x.p.m.Key, y.p.m.Key), cmp.Compare(x.p.key.number, y.p.key.number))
	})
}

// seeAgain has the witness of every page of a member say what the page is on that member, after the disk that keeps them, or
// the member itself, is another. The next checkpoint makes it count.
func (a *Array) seeAgain(t *task.Task, m *member.Member) error {
	look := func(kind record.PageKind, number int64) error {
		p, err := a.tables.get(m, kind, number)
		if err != nil {
			return err
		}
		if p.number != 0 {
			a.tables.testify(p)
		}
		a.tables.put(p)
		return nil
	}
	for number := range m.Place.MapPages {
		if !m.Live() {
			return nil // the others tell of that
		}
		if err := look(record.MapPage, number); err != nil && m.Live() {
			return err
		}
	}
	for number := int64(0); number < m.Place.SumPages; number++ {
		if number%seenPages == 0 {
			if err := t.Point(seenPages * Block); err != nil {
				return err
			}
		}
		next, ok := a.tables.nextBit(m, number, m.Place.SumPages-1)
		if !ok || next >= m.Place.SumPages {
			return nil
		}
		number = next
		if err := look(record.SumPage, number); err != nil && m.Live() {
			return err
		}
	}
	return nil
}

// seenPages is how many pages are looked at between two points of a task.
const seenPages = 256

// seeAgainAround is seeAgain for the members whose witnesses a slot keeps, and with own for the one in it.
func (a *Array) seeAgainAround(t *task.Task, slot int, own bool) error {
	for s, e := range a.roster.shown.Load().Roster {
		if m := a.members[s].Load(); m.Live() && (e.Witness == slot || own && s == slot) {
			if err := a.seeAgain(t, m); err != nil {
				return err
			}
		}
	}
	return nil
}

// testimonies enters what a checkpoint wrote into the witness pages, and returns those that it has to write for that: the
// given ones, and more, pinned like them.
func (t *tables) testimonies(written []*dirtyPage, seen []*dirtyPage) []*dirtyPage {
	have := map[*page]bool{}
	for _, d := range seen {
		have[d.p] = true
	}
	take := func(on *page) {
		if !have[on] {
			have[on] = true
			on.pins.Add(1)
			seen = append(seen, &dirtyPage{p: on})
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

// write writes a page, as the given checkpoint: a map page as it was at the snapshot, another as it is now.
func (t *tables) write(d *dirtyPage, checkpoint uint64) error {
	p, m := d.p, d.p.m
	buf, start := d.buf, m.Place.MapStart
	if buf == nil {
		if start = m.Place.SumStart; p.key.kind == record.WitnessPage {
			start = m.Place.WitnessStart
		}
		p.Lock()
		buf, d.version = slices.Clone(p.buf), p.version
		p.Unlock()
	}
	if !m.Live() {
		return nil
	}
	record.SealPage(buf, p.key.kind, m.Tag, p.key.number, checkpoint)
	d.checkpoint, d.sum = checkpoint, record.PageSumOf(buf)
	t.a.stats.TableBytes.Add(Block)
	if err := m.Disk.WriteAt(buf, start+p.key.number*Block); err != nil {
		if err := m.WriteProblem(err); err != nil {
			return fmt.Errorf("tables of %s: %w", m.Name(), err)
		}
	}
	return nil
}

// clean notes of pages that what was written of them is durable.
func (t *tables) clean(pages []*dirtyPage) {
	for _, d := range pages {
		d.p.Lock()
		if d.checkpoint != 0 {
			d.p.number, d.p.sum = d.checkpoint, d.sum
		}
		if d.p.version == d.version || !d.p.m.Live() || probe.ChangeInWriteForgotten.On() {
			t.setClean(d.p)
		}
		d.p.Unlock()
	}
}

// release ends a checkpoint's hold on its pages.
func (t *tables) release(lists ...[]*dirtyPage) {
	for _, pages := range lists {
		for _, d := range pages {
			d.p.pins.Add(-1)
		}
	}
}

// nextBit is the first checksum page from number to last that was ever written; last+1 when there is none.
func (t *tables) nextBit(m *member.Member, number, last int64) (int64, bool) {
	for number <= last {
		p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
		if err != nil {
			return 0, false
		}
		i := int(number % record.BitsPerPage)
		end := int(min(record.BitsPerPage, int64(i)+last-number+1))
		at := record.NextPageBit(p.buf, i, end)
		t.put(p)
		if number += int64(at - i); at < end {
			return number, true
		}
	}
	return last + 1, true
}
