package array

import (
	"crypto/subtle"
	"fmt"
	"math/bits"
	"slices"

	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/array/dirty"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/probe"
)

// bypassBlocks is how much fresh data of one run makes it worth to write it in place before the commit, with a sync of
// its own, instead of writing it twice: a fresh column reads as zeros whatever is in place, until the commit.
const bypassBlocks = 16

// batchLength is how many of the stripes one destage takes: bounded in bytes and by the journals, which must hold
// several such changes.
func (a *Array) batchLength(ids []layout.ID) int {
	room := int64(1 << 62)
	for i := range a.slots.Len() {
		if m := a.slots.At(i); m.Live() {
			room = min(room, m.Ring.Blocks/8)
		}
	}
	most := int64(dirty.DestageBlocks)
	lay := a.Layout()
	for i, id := range ids {
		blocks := int64(a.cache.Blocks(id))
		room -= min(blocks, int64(lay.Find(id).StripBlocks())) + 1
		most -= blocks
		if i > 0 && (room < 0 || most < 0) {
			return i
		}
	}
	return len(ids)
}

// destage brings what is dirty of the given stripes to the members. When it returns nil, what was dirty when
// it was called is durable. With an error it names the clients that wrote what is not.
//
//	1  take the stripes' locks and their dirty blocks
//	2  plan: read what parity needs, compute it
//	3  write fresh blocks in place and sync         a crash here leaves them never-written
//	4  commit to the journals, one sync             a crash here leaves the old contents; after it, the new ones
//	5  write the rest in place                      a crash here is repeated from the journals
//	6  enter the checksums
func (a *Array) destage(ids []layout.ID) (writers, error) {
	d := &destaging{a: a, unlock: a.stripes.Lock(ids, true)}
	for _, id := range ids {
		if st, l := a.cache.Take(id); l != nil {
			d.stripes = append(d.stripes, st)
			d.layers = append(d.layers, l)
		}
	}
	if len(d.stripes) == 0 {
		d.unlock()
		return nil, a.alive()
	}
	need := a.journalNeed(d.stripes, d.layers)
	if err := a.journal.Reserve(need); err != nil {
		by := d.writers()
		d.giveUp()
		d.unlock()
		return by, err
	}
	a.journal.Barrier.RLock()
	defer func() {
		a.journal.Barrier.RUnlock()
		a.journal.Unreserve(need)
		for _, p := range d.plans {
			if p != nil {
				a.scratch.Put(p.scratch...)
			}
		}
		d.unlock()
	}()
	c, err := d.plan()
	if err == nil {
		err = a.journal.Commit(c)
	}
	if err == nil {
		err = a.journal.Place(c)
	}
	if err != nil {
		by := d.writers()
		d.giveUp()
		return by, err
	}
	err = d.unkept()
	d.finish()
	return nil, err
}

// destaging is the stripes of one destage.
type destaging struct {
	a       *Array
	unlock  func()
	stripes []layout.Stripe
	layers  []*dirty.Layer
	plans   []*plan
}

// giveUp returns the blocks to the cache: they did not reach the members.
func (d *destaging) giveUp() {
	probe.DestagePutBack.Seen()
	for _, st := range d.stripes {
		d.a.cache.PutBack(st.ID())
	}
	d.a.cache.Wake()
}

func (d *destaging) finish() {
	for _, st := range d.stripes {
		d.a.cache.Done(st.ID())
	}
	d.a.cache.Wake()
}

// writers are the clients that wrote any of it.
func (d *destaging) writers() (out writers) {
	for _, l := range d.layers {
		for _, by := range l.By {
			if !out.has(by) {
				out = append(out, by)
			}
		}
	}
	return out
}

// unkept says whether something was destaged into nothing, and tells its writers. It is given up: kept in memory, it would
// fail every flush.
func (d *destaging) unkept() (first error) {
	for i, p := range d.plans {
		if p == nil || p.unkept == 0 {
			continue
		}
		d.a.event("write-lost", "", "%d blocks written to stripe %d could not be kept: their member is away, and the parity is lost", p.unkept, p.st.Ordinal())
		err := fmt.Errorf("stripe %d: %w", p.st.Ordinal(), ErrUnkept)
		for _, by := range d.layers[i].By {
			by.Fail(err)
		}
		if first == nil {
			first = err
		}
	}
	return first
}

// plan makes one change of all stripes.
func (d *destaging) plan() (*journal.Change, error) {
	d.plans = make([]*plan, len(d.stripes))
	err := member.Parallel(len(d.stripes), func(i int) error {
		d.plans[i] = d.a.newPlan(d.stripes[i], d.layers[i])
		return d.plans[i].make()
	})
	c := &journal.Change{}
	if err != nil {
		return c, err
	}
	for _, p := range d.plans {
		c.Writes = append(c.Writes, p.writes...)
	}
	return c, err
}

// journalNeed bounds what the change will take in each ring, in blocks.
func (a *Array) journalNeed(stripes []layout.Stripe, layers []*dirty.Layer) journal.Reservation {
	need := journal.Reservation{}
	sums := map[*member.Member]int64{}
	for i, st := range stripes {
		var columns int64
		for w := range 4 {
			var word uint64
			for role := range layers[i].Dirty {
				word |= layers[i].Dirty[role][w]
			}
			columns += int64(bits.OnesCount64(word))
		}
		for role := range st.Width() {
			m := a.slots.At(st.Slot(role))
			if !m.Live() {
				continue
			}
			need[m] += columns
			sums[m] += columns * (4 + 16)
		}
	}
	for m, n := range sums {
		need[m] += 1 + (n+64)/Block
	}
	return need
}

// plan works out what one stripe's dirty blocks mean for its members.
type plan struct {
	a       *Array
	st      layout.Stripe
	l       *dirty.Layer
	roles   []*member.Member // by role; nil when its contents at this row are not current
	writes  []journal.Write
	scratch [][]byte
	unkept  int // blocks that have no place, see ErrUnkept
}

func (a *Array) newPlan(st layout.Stripe, l *dirty.Layer) *plan {
	p := &plan{a: a, st: st, l: l, roles: make([]*member.Member, st.Width())}
	for role := range p.roles {
		if m := a.slots.At(st.Slot(role)); m.Usable(st) {
			p.roles[role] = m
		}
	}
	return p
}

// block is the block of column col on a member of the stripe.
func (p *plan) block(m *member.Member, col int) int64 { return p.st.Block(m.Slot) + int64(col) }

// make cuts the stripe into runs of columns in which the same roles are dirty, and plans each.
func (p *plan) make() error {
	columns := p.st.StripBlocks()
	for col := 0; col < columns; {
		dirty, zero := p.pattern(col)
		n := 1
		for col+n < columns {
			d, z := p.pattern(col + n)
			if d != dirty || z != zero {
				break
			}
			n++
		}
		if dirty != 0 {
			if err := p.run(col, n, dirty, zero); err != nil {
				return err
			}
		}
		col += n
	}
	return nil
}

// pattern is the set of roles dirty in a column, and of those to become never-written.
func (p *plan) pattern(col int) (dirty, zero uint64) {
	w, b := col/64, col%64
	for role := range p.l.Dirty {
		dirty |= p.l.Dirty[role][w] >> b & 1 << role
		zero |= p.l.Zero[role][w] >> b & 1 << role
	}
	return dirty, zero
}

// run plans n columns from col on, in which the roles in dirty have new contents (zeros for those in zero).
func (p *plan) run(col, n int, dirty, zero uint64) error {
	a, k := p.a, p.st.Data
	sums, err := p.oldSums(col, n)
	if err != nil {
		return err
	}
	fresh, lost := true, false
	for _, s := range sums {
		for _, v := range s {
			fresh = fresh && v == record.SumNever
			lost = lost || record.Unknown(v)
		}
	}
	parities := 0
	for role := k; role < len(p.roles); role++ {
		if p.roles[role] != nil {
			parities++
		}
	}
	if bits.OnesCount64(dirty) == k && n == p.st.StripBlocks() {
		a.stats.FullStripes.Add(1)
	} else {
		a.stats.PartialRuns.Add(1)
	}
	data := make([][]byte, k)
	for role := range data {
		if dirty>>role&1 == 1 && zero>>role&1 == 0 {
			data[role] = p.l.Bufs[role][col*Block:][:n*Block]
		}
	}
	var rows [][]byte
	var unknown []bool
	if parities > 0 {
		rows, unknown, err = p.parity(col, n, dirty, data, sums, fresh, lost)
		if err != nil {
			return err
		}
	}
	p.emit(col, n, dirty, zero, data, rows, sums, fresh, unknown)
	return nil
}

// oldSums has the sums of the run by role, nil for roles without a member.
func (p *plan) oldSums(col, n int) ([][]uint32, error) {
	sums := make([][]uint32, len(p.roles))
	all := make([]uint32, n*len(p.roles))
	for role, m := range p.roles {
		if m == nil {
			continue
		}
		sums[role], all = all[:n], all[n:]
		if err := p.a.tables.Sums(m, p.block(m, col), sums[role]); err != nil {
			if m.Live() {
				return nil, err
			}
			// The member has just failed; plan without it.
			p.roles[role], sums[role] = nil, nil
			if err := p.a.alive(); err != nil {
				return nil, err
			}
		}
	}
	return sums, nil
}

// parity computes the new parity strips of the run, by row, nil for rows without a member. unknown marks columns for
// which redundancy was not enough to do so.
func (p *plan) parity(col, n int, dirty uint64, data [][]byte, sums [][]uint32, fresh, lost bool) (rows [][]byte, unknown []bool, err error) {
	a, k := p.a, p.st.Data
	rows = make([][]byte, p.st.Parity)
	for j := range rows {
		if p.roles[k+j] != nil {
			rows[j] = p.alloc(n)
		}
	}
	// Two ways: read the other data and compute parity anew, or read what is to be overwritten and the parity and fold in
	// the difference. Blocks never written cost no read.
	again, modify := 0, 0
	againOK, modifyOK := true, true
	for role, m := range p.roles {
		isDirty := role < k && dirty>>role&1 == 1
		written := 0
		for _, v := range sums[role] {
			if v != record.SumNever {
				written++
			}
		}
		switch {
		case role < k && !isDirty:
			againOK = againOK && m != nil
			again += written
		default:
			modifyOK = modifyOK && (m != nil || role >= k)
			modify += written
		}
	}
	switch {
	case fresh:
		parity.Encode(rows, data)
		return rows, nil, nil
	case againOK && !lost && (again <= modify || !modifyOK):
		whole := slices.Clone(data)
		ok := true
		for role := 0; role < k && ok; role++ {
			if dirty>>role&1 == 0 {
				whole[role], ok = p.old(role, col, n, sums)
			}
		}
		if ok {
			parity.Encode(rows, whole)
			return rows, nil, nil
		}
	case modifyOK && !lost:
		if p.readModify(col, n, dirty, data, sums, rows) {
			return rows, nil, nil
		}
	}
	if err := a.alive(); err != nil {
		return nil, nil, err
	}
	// Something is missing or wrong: restore the whole of these columns first.
	cs, err := a.stripes.Load(p.st, col, n, nil)
	if err != nil {
		return nil, nil, err
	}
	p.scratch = append(p.scratch, cs.Bufs...) // whole may end up in the change
	if err := cs.Recover(); err != nil {
		return nil, nil, err
	}
	cs.Heal()
	whole := slices.Clone(data)
	for role := 0; role < k; role++ {
		if dirty>>role&1 == 1 {
			continue
		}
		whole[role] = cs.Bufs[role]
		for c := 0; c < n; c++ {
			if !cs.Known[role][c] {
				if unknown == nil {
					unknown = make([]bool, n)
				}
				unknown[c] = true
			}
		}
	}
	for role := range p.roles {
		if m := p.roles[role]; m != nil && !m.Usable(p.st) {
			p.roles[role] = nil
		}
	}
	for j := range rows {
		if p.roles[k+j] == nil {
			rows[j] = nil
		}
	}
	parity.Encode(rows, whole)
	return rows, unknown, nil
}

// old reads the present contents of a role in the run, verified; nil stands for zeros.
func (p *plan) old(role, col, n int, sums [][]uint32) ([]byte, bool) {
	if record.AllAre(sums[role], record.SumNever) {
		return nil, true
	}
	buf := p.alloc(n)
	return buf, p.a.stripes.ReadVerified(p.roles[role], p.block(p.roles[role], col), buf, sums[role]) == nil
}

func (p *plan) readModify(col, n int, dirty uint64, data [][]byte, sums [][]uint32, rows [][]byte) bool {
	k := p.st.Data
	for j := range rows {
		if rows[j] == nil {
			continue
		}
		if record.AllAre(sums[k+j], record.SumNever) {
			clear(rows[j])
		} else if p.a.stripes.ReadVerified(p.roles[k+j], p.block(p.roles[k+j], col), rows[j], sums[k+j]) != nil {
			return false
		}
	}
	for role := 0; role < k; role++ {
		if dirty>>role&1 == 0 {
			continue
		}
		delta, ok := p.old(role, col, n, sums)
		switch {
		case !ok:
			return false
		case delta == nil && data[role] == nil:
			continue
		case delta == nil:
			delta = data[role]
		case data[role] != nil:
			subtle.XORBytes(delta, delta, data[role])
		}
		parity.Update(rows, role, delta)
	}
	return true
}

// emit turns the run into writes.
func (p *plan) emit(col, n int, dirty, zero uint64, data, rows [][]byte, sums [][]uint32, fresh bool, unknown []bool) {
	k := p.st.Data
	kind := record.RunPayload
	if fresh && n*bits.OnesCount64(dirty&^zero) >= bypassBlocks {
		kind = record.RunInPlace
	}
	for role := 0; role < k; role++ {
		switch m := p.roles[role]; {
		case dirty>>role&1 == 0:
		case m == nil:
			for _, u := range unknown {
				if u {
					p.unkept++
				}
			}
		case zero>>role&1 == 1:
			p.writes = append(p.writes, journal.Write{M: m, Kind: record.RunNever, Block: p.block(m, col), N: n})
		default:
			p.add(m, kind, col, data[role], sums[role])
		}
	}
	if rows == nil {
		return
	}
	// A column becomes never-written as a whole when none of its data is written any more.
	for c := 0; c < n; {
		lost, empty := unknown != nil && unknown[c], p.empty(c, dirty, zero, sums)
		e := c + 1
		for e < n && (unknown != nil && unknown[e]) == lost && p.empty(e, dirty, zero, sums) == empty {
			e++
		}
		for j, row := range rows {
			m := p.roles[k+j]
			switch {
			case m == nil || row == nil:
			case lost:
				p.writes = append(p.writes, journal.Write{M: m, Kind: record.RunLost, Block: p.block(m, col+c), N: e - c})
			case empty:
				probe.ColumnEmptied.Seen()
				p.writes = append(p.writes, journal.Write{M: m, Kind: record.RunNever, Block: p.block(m, col+c), N: e - c})
			case probe.ParityNotJournalled.On():
				p.add(m, record.RunInPlace, col+c, row[c*Block:e*Block], sums[k+j][c:e])
			default:
				p.add(m, kind, col+c, row[c*Block:e*Block], sums[k+j][c:e])
			}
		}
		c = e
	}
}

// empty says whether, after this change, no data block of column c of the run is written.
func (p *plan) empty(c int, dirty, zero uint64, sums [][]uint32) bool {
	if dirty != zero {
		return false
	}
	for role := 0; role < p.st.Data; role++ {
		if dirty>>role&1 == 0 && (sums[role] == nil || sums[role][c] != record.SumNever) {
			return false
		}
	}
	return true
}

// add adds the write of a run; old is what the sums there were.
func (p *plan) add(m *member.Member, kind record.RunKind, col int, buf []byte, old []uint32) {
	n := len(buf) / Block
	p.writes = append(p.writes, journal.Write{M: m, Kind: kind, Block: p.block(m, col), N: n, Buf: buf, Sums: record.SumsOf(buf), Hole: slices.Contains(old, record.SumNever)})
}

func (p *plan) alloc(n int) []byte {
	b := p.a.scratch.Get(n)
	p.scratch = append(p.scratch, b)
	return b
}
