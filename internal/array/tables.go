package array

import (
	"cmp"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"nidalo/core/layout"
	"nidalo/core/record"
)

// tables keeps pages of the members' checksum tables and written maps in memory, a bounded number of them. A page that
// was changed stays until a checkpoint has written it.
type tables struct {
	a      *Array
	shards [64]pageShard
	limit  int // pages in memory, all shards together
	dirty  atomic.Int64
}

type pageShard struct {
	sync.Mutex
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
	sync.Mutex
	pins    atomic.Int32
	key     pageKey
	m       *member
	buf     []byte
	loaded  bool
	dirty   bool   // differs from what is durable on the member
	version uint64 // raised by every change
	recent  atomic.Bool
	nonzero int // checksum pages: entries that are not SumNever
}

func newTables(a *Array, bytes int64) *tables {
	t := &tables{a: a, limit: int(max(bytes/Block, 256))}
	for i := range t.shards {
		t.shards[i].pages = map[pageKey]*page{}
	}
	return t
}

// get returns a page locked and loaded. put must follow.
func (t *tables) get(m *member, kind record.PageKind, number int64) (*page, error) {
	key := pageKey{m.key, kind, number}
	sh := &t.shards[(uint64(number)*31+uint64(m.key)*7+uint64(kind))%uint64(len(t.shards))]
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
	for tries := 2 * len(sh.clock); tries > 0 && dropped < 8; tries-- {
		if sh.hand >= len(sh.clock) {
			sh.hand = 0
		}
		p := sh.clock[sh.hand]
		if p.pins.Load() != 0 || p.recent.Swap(false) || p.dirtyNow() {
			sh.hand++
			continue
		}
		sh.drop(sh.hand)
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

// load reads a page; p is locked. A page that cannot be trusted does no harm but costs redundancy: the sums of a bad
// checksum page are all lost, to be healed block by block; a bad map page says "written" everywhere.
func (t *tables) load(p *page) error {
	buf := make([]byte, Block)
	number := p.key.number
	switch p.key.kind {
	case record.SumPage:
		written, err := t.bit(p.m, number)
		if err != nil {
			return err
		}
		if written {
			if err := t.read(p, buf, p.m.place.SumStart+number*Block); err != nil {
				if !p.m.live() || late(err) {
					return err
				}
				clear(buf)
				for i := 0; i < record.SumsPerPage; i++ {
					record.SetPageSum(buf, i, record.SumLost)
				}
				record.SetPageEpoch(buf, t.a.roster.epoch.Load())
				t.setDirty(p)
			}
		}
		for i := 0; i < record.SumsPerPage; i++ {
			if record.PageSum(buf, i) != record.SumNever {
				p.nonzero++
			}
		}
	case record.MapPage:
		if err := t.read(p, buf, p.m.place.MapStart+number*Block); err != nil {
			if !p.m.live() || late(err) {
				return err
			}
			clear(buf)
			for i := 0; i < record.BitsPerPage && number*record.BitsPerPage+int64(i) < p.m.place.SumPages; i++ {
				record.SetPageBit(buf, i, true)
			}
			t.setDirty(p)
		}
	}
	p.buf, p.loaded = buf, true
	return nil
}

func (t *tables) read(p *page, buf []byte, off int64) error {
	if err := p.m.disk.ReadAt(buf, off); err != nil {
		t.a.readProblem(p.m, err)
		return err
	}
	if err := record.CheckPage(buf, p.key.kind, p.m.tag, p.key.number); err != nil {
		t.a.count(p.m, &p.m.errs.checksum)
		t.a.event("table-damaged", p.m.name(), "%v; its blocks are restored from redundancy", err)
		return err
	}
	return nil
}

// setDirty notes a change of a page, which is locked. Pages of a member that left are never written.
func (t *tables) setDirty(p *page) {
	p.version++
	if !p.dirty && p.m.live() {
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

// bit tells whether a checksum page was ever written.
func (t *tables) bit(m *member, number int64) (bool, error) {
	p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
	if err != nil {
		return false, err
	}
	defer t.put(p)
	return record.PageBit(p.buf, int(number%record.BitsPerPage)), nil
}

func (t *tables) setBit(m *member, number int64, on bool) error {
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
func (t *tables) sums(m *member, block int64, out []uint32) error {
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
			for i := range out[:n] {
				out[i] = record.PageSum(p.buf, at+i)
			}
		}
		t.put(p)
		out, block = out[n:], block+int64(n)
	}
	return nil
}

// set stores the sums of n blocks from block on, which change now: sums, or the one value for all when sums is nil. The
// caller holds the barrier. When the member cannot be read the error has been dealt with: it is no longer live.
func (t *tables) set(m *member, block int64, n int, sums []uint32, value uint32) {
	t.setAs(m, nil, block, n, sums, value)
}

// epochs tells in which epoch the blocks of a checksum page were changed last; nil: in the present one.
type epochs func(page int64) uint64

// setAs is set for blocks that are copied or restored, and changed last in an earlier epoch: a member that was away since
// does not lack them.
func (t *tables) setAs(m *member, last epochs, block int64, n int, sums []uint32, value uint32) {
	now := t.a.roster.epoch.Load()
	for n > 0 {
		number, at := block/record.SumsPerPage, int(block%record.SumsPerPage)
		step, epoch := min(n, record.SumsPerPage-at), now
		if last != nil {
			epoch = last(number)
		}
		p, err := t.get(m, record.SumPage, number)
		if err != nil {
			return
		}
		before := p.nonzero
		// A change may leave a sum as it was, as when all data of a stripe changes by the same: it is a change all the same.
		again := record.PageEpoch(p.buf) < epoch && (sums != nil || value != record.SumNever)
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
				record.SetPageEpoch(p.buf, max(epoch, record.PageEpoch(p.buf)))
				t.setDirty(p)
				again = false
			}
		}
		if (before == 0) != (p.nonzero == 0) {
			err = t.setBit(m, number, p.nonzero > 0)
		}
		t.put(p)
		if err != nil {
			return
		}
		if sums != nil {
			sums = sums[step:]
		}
		block, n = block+int64(step), n-step
	}
}

// changed tells whether a checksum page was ever written, and in which epoch it was changed last.
func (t *tables) changed(m *member, number int64) (written bool, epoch uint64, err error) {
	if written, err = t.bit(m, number); err != nil || !written {
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
func (t *tables) enter(m *member, kind record.RunKind, block int64, n int, sums []uint32) {
	t.enterAs(m, nil, kind, block, n, sums)
}

// enterAs is enter for what changed last in an earlier epoch, see setAs.
func (t *tables) enterAs(m *member, last epochs, kind record.RunKind, block int64, n int, sums []uint32) {
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
func (t *tables) forget(m *member) {
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
}

// snapshot collects what a checkpoint must write: the dirty checksum pages, and copies of the dirty map pages as they
// are now. All are pinned until release. The caller holds the barrier exclusively.
func (t *tables) snapshot() (sums, maps []*dirtyPage) {
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
		if !p.m.live() {
			t.setClean(p)
		}
		d := &dirtyPage{p: p, version: p.version}
		switch {
		case !p.dirty || !p.loaded:
			p.pins.Add(-1)
		case p.key.kind == record.SumPage:
			sums = append(sums, d)
		default:
			d.buf = slices.Clone(p.buf)
			maps = append(maps, d)
		}
		p.Unlock()
	}
	for _, list := range [][]*dirtyPage{sums, maps} {
		slices.SortFunc(list, func(x, y *dirtyPage) int {
			return cmp.Or(cmp.Compare(x.p.m.slot, y.p.m.slot), cmp.Compare(x.p.m.key, y.p.m.key), cmp.Compare(x.p.key.number, y.p.key.number))
		})
	}
	return sums, maps
}

// write writes a page: a checksum page as it is now, a map page as it was at the snapshot.
func (t *tables) write(d *dirtyPage) error {
	p, m := d.p, d.p.m
	buf, start := d.buf, m.place.MapStart
	if p.key.kind == record.SumPage {
		start = m.place.SumStart
		p.Lock()
		buf, d.version = slices.Clone(p.buf), p.version
		p.Unlock()
	}
	if !m.live() {
		return nil
	}
	record.SealPage(buf, p.key.kind, m.tag, p.key.number)
	t.a.stats.TableBytes.Add(Block)
	if err := m.disk.WriteAt(buf, start+p.key.number*Block); err != nil {
		if err := t.a.writeProblem(m, err); err != nil {
			return fmt.Errorf("tables of %s: %w", m.name(), err)
		}
	}
	return nil
}

// clean notes of pages that what was written of them is durable.
func (t *tables) clean(pages []*dirtyPage) {
	for _, d := range pages {
		d.p.Lock()
		if d.p.version == d.version || !d.p.m.live() {
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

// nextWritten is the first stripe at or after number that may hold anything; the number of stripes when there is none.
func (a *Array) nextWritten(number int64) int64 {
	best := a.geo.Stripes()
	if number >= best {
		return best
	}
	here := a.geo.Locate(number)
	if a.geo.Level == layout.Concat {
		for group, row := here.Group, here.Row; group < a.geo.Groups; group, row = group+1, 0 {
			if next := a.nextWrittenRow(group, row); next < a.geo.Rows[group] {
				return a.geo.At(group, next).Number
			}
		}
		return best
	}
	// Groups take turns, so what is found in one bounds where the others need be looked at: all are looked at for a stretch
	// before any is for a longer one.
	for from, step := here.Row, int64(64); ; from, step = from+step, step*8 {
		more := false
		for group := range a.geo.Groups {
			row, end := from, min(from+step, a.geo.Rows[group])
			if group < here.Group {
				row = max(row, here.Row+1)
			}
			more = more || end < a.geo.Rows[group]
			if next := a.nextWrittenRowBefore(group, row, end); next < end {
				best = min(best, a.geo.At(group, next).Number)
			}
		}
		if best < a.geo.Stripes() || !more {
			return best
		}
	}
}

// nextWrittenRow is the first row of a group at or after row that may hold anything; the number of rows when none.
func (a *Array) nextWrittenRow(group int, row int64) int64 {
	return a.nextWrittenRowBefore(group, row, a.geo.Rows[group])
}

// nextWrittenRowBefore is nextWrittenRow among the rows below end; end when there is none.
func (a *Array) nextWrittenRowBefore(group int, row, end int64) int64 {
	per := int64(a.geo.StripBlocks())
	best := end
	for i := range a.geo.Width() {
		m := a.members[group*a.geo.Width()+i].Load()
		if row >= best {
			return best
		}
		if !m.usable(row) {
			continue
		}
		last := (best*per - 1) / record.SumsPerPage
		number, ok := a.tables.nextBit(m, row*per/record.SumsPerPage, last)
		if !ok {
			return row // the member is on its way out: be careful and look at every row
		}
		if number <= last {
			best = min(best, max(row, number*record.SumsPerPage/per))
		}
	}
	if a.rescue != nil {
		return a.nextUnsureRow(group, row, best)
	}
	return best
}

// nextBit is the first checksum page from number to last that was ever written; last+1 when there is none.
func (t *tables) nextBit(m *member, number, last int64) (int64, bool) {
	for number <= last {
		p, err := t.get(m, record.MapPage, number/record.BitsPerPage)
		if err != nil {
			return 0, false
		}
		bits := record.PageBits(p.buf)
		i := int(number % record.BitsPerPage)
		for i < record.BitsPerPage && number <= last {
			if i%8 == 0 && bits[i/8] == 0 {
				i, number = i+8, number+8
				continue
			}
			if bits[i/8]>>(i%8)&1 == 1 {
				t.put(p)
				return number, true
			}
			i, number = i+1, number+1
		}
		t.put(p)
	}
	return last + 1, true
}

// Used is how much of the usable capacity lies in regions that were ever written, in bytes: an upper bound, in steps of
// a checksum page.
func (a *Array) Used() int64 {
	var total int64
	for group := range a.geo.Groups {
		row := int64(0)
		for row < a.geo.Rows[group] {
			if row = a.nextWrittenRow(group, row); row >= a.geo.Rows[group] {
				break
			}
			per := int64(a.geo.StripBlocks())
			end := min(((row*per/record.SumsPerPage+1)*record.SumsPerPage+per-1)/per, a.geo.Rows[group])
			total += (end - row) * a.geo.StripeSize()
			row = end
		}
	}
	return total
}
