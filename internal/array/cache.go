package array

import (
	"math/bits"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/layout"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// cache holds the dirty blocks of the array, by stripe, in buffers of a strip each, of which only the blocks that were
// written take memory (buffers.go). What is clean is not kept: the operating system caches members.
//
// A stripe has two layers: cur takes writes; out is what a destage is writing to the members at the moment. Readers look
// into cur, then out, then at the members. The cache is bounded by its buffers: writers wait for a destage to free some.
type cache struct {
	a      *Array
	shards [64]shard
	limit  int64 // bytes of buffers
	used   atomic.Int64
	free   *freeList
	space  struct {
		env.Mutex
		*env.Cond
	}
	queue struct {
		env.Mutex
		most  int // entries of both at which they are looked through
		full  []int64
		order []queued // by age; entries whose stripe is clean by now are passed over
	}
	work  chan struct{}
	pools [9]sync.Pool // scratch buffers of 1, 2, 4 … 256 blocks
}

type queued struct {
	stripe int64
	since  time.Time
}

type shard struct {
	env.Mutex
	stripes map[int64]*stripe
}

type stripe struct {
	cur, out *layer
}

// layer is a set of dirty blocks of one stripe, by role and column.
type layer struct {
	by     []*Client   // that wrote any of them
	charge int64       // bytes it counts for
	bufs   [][]byte    // strip buffer by role, nil where nothing but zeros is dirty
	dirty  [][4]uint64 // by role: columns that are dirty
	zero   [][4]uint64 // by role: columns of dirty that are to become never-written
	count  int
}

const ageLimit = 2 * time.Second

func newCache(a *Array, limit int64) *cache {
	c := &cache{a: a, limit: max(limit, 8*a.geo.StripeSize()), work: make(chan struct{}, 4)}
	c.free = &freeList{}
	c.free.init(a.geo.Strip, c.limit)
	c.space.Cond = env.NewCond(&c.space.Mutex)
	c.queue.most = leastQueue
	for i := range c.shards {
		c.shards[i].stripes = map[int64]*stripe{}
	}
	return c
}

func (c *cache) shard(n int64) *shard { return &c.shards[uint64(n)%uint64(len(c.shards))] }

// layerCost is what a layer counts for besides its buffers, so that layers of nothing but zeros are bounded too.
const layerCost = 4096

func (c *cache) newLayer() *layer {
	c.used.Add(layerCost)
	k := c.a.geo.Data
	return &layer{charge: layerCost, bufs: make([][]byte, k), dirty: make([][4]uint64, k), zero: make([][4]uint64, k)}
}

// release gives back what a layer took.
func (c *cache) release(l *layer) {
	for _, b := range l.bufs {
		if b != nil {
			c.free.put(b)
		}
	}
	c.used.Add(-l.charge)
}

func (c *cache) wake() {
	c.space.Lock()
	c.space.Broadcast()
	c.space.Unlock()
}

func (c *cache) signal() {
	select {
	case c.work <- struct{}{}:
	default:
	}
}

// roomNow says whether need more bytes fit at the moment.
func (c *cache) roomNow(need int64) bool {
	return c.used.Load()+need <= c.limit && c.a.alive() == nil
}

// room waits until need more bytes are likely to fit.
func (c *cache) room(need int64) error {
	if c.used.Load()+need <= c.limit {
		return c.a.alive()
	}
	c.signal()
	c.space.Lock()
	defer c.space.Unlock()
	for c.used.Load()+need > c.limit && c.a.alive() == nil {
		if stuck := c.a.stuck.Load(); stuck != nil {
			return *stuck
		}
		c.signal()
		c.space.Wait()
	}
	return c.a.alive()
}

// put takes a piece of whole blocks.
func (c *cache) put(pc piece) error {
	if err := c.room(int64(len(pc.buf))); err != nil {
		return err
	}
	return c.putNow(pc)
}

func (c *cache) putNow(pc piece) error {
	sh := c.shard(pc.stripe.Number)
	sh.Lock()
	c.putHeld(sh, pc)
	return nil
}

// merge puts data into whole blocks of which old has what the members hold of the first and the last, and takes them. What
// others wrote to those two blocks meanwhile is in the cache, and is what the data goes into then. The caller holds the
// stripe exclusively, so nothing leaves the cache.
func (c *cache) merge(pc piece, data []byte, at int64) {
	sh := c.shard(pc.stripe.Number)
	sh.Lock()
	if s := sh.stripes[pc.stripe.Number]; s != nil && !probe.PartForgetsCache.On() {
		probe.PartOfBlockMerged.Seen()
		last := int64(len(pc.buf)) - Block
		for _, off := range []int64{0, last} {
			s.cur.read(pc.role, int((pc.from+off)/Block), pc.buf[off:][:Block])
		}
	}
	copy(pc.buf[at:], data)
	c.putHeld(sh, pc) // unlocks
}

// putHeld enters a piece and unlocks its shard. The piece's buffer may be the very place it goes to.
func (c *cache) putHeld(sh *shard, pc piece) {
	cur, _ := c.current(sh, pc.stripe.Number)
	fresh := cur.count == 0
	if cur.bufs[pc.role] == nil {
		cur.bufs[pc.role] = c.free.get()
	}
	cur.wrote(pc.by)
	if to := cur.bufs[pc.role][pc.from:]; &to[0] != &pc.buf[0] {
		copy(to, pc.buf)
	}
	before := cur.count
	c.used.Add(cur.mark(pc.role, int(pc.from/Block), len(pc.buf)/Block, false))
	full := before < cur.count && cur.count == c.a.geo.Data*c.a.geo.StripBlocks()
	sh.Unlock()
	c.enqueue(pc.stripe.Number, fresh, full)
}

// wrote notes that a client wrote some of the layer.
func (l *layer) wrote(by *Client) {
	if !slices.Contains(l.by, by) {
		l.by = append(l.by, by)
	}
}

// zero marks whole blocks of a stripe to become never-written; from and length are bytes of the stripe's data.
func (c *cache) zero(by *Client, st layout.Stripe, from, length int64) error {
	if err := c.room(layerCost); err != nil {
		return err
	}
	sh := c.shard(st.Number)
	sh.Lock()
	cur, fresh := c.current(sh, st.Number)
	cur.wrote(by)
	before := cur.count
	for length > 0 {
		role, in := int(from/c.a.geo.Strip), from%c.a.geo.Strip
		n := min(length, c.a.geo.Strip-in)
		cur.mark(role, int(in/Block), int(n/Block), true)
		from, length = from+n, length-n
	}
	full := before < cur.count && cur.count == c.a.geo.Data*c.a.geo.StripBlocks()
	sh.Unlock()
	c.enqueue(st.Number, fresh, full)
	return nil
}

func (c *cache) current(sh *shard, number int64) (cur *layer, fresh bool) {
	s := sh.stripes[number]
	if s == nil {
		s = &stripe{}
		sh.stripes[number] = s
	}
	if s.cur == nil {
		s.cur = c.newLayer()
		fresh = true
	}
	return s.cur, fresh
}

func (c *cache) enqueue(number int64, fresh, full bool) {
	if !fresh && !full {
		return
	}
	c.queue.Lock()
	if fresh {
		c.queue.order = append(c.queue.order, queued{number, env.Now()})
		c.thin()
	}
	signal := false
	if full {
		c.queue.full = append(c.queue.full, number)
		signal = len(c.queue.full)*c.a.geo.Data*int(c.a.geo.Strip) >= destageBytes
	}
	c.queue.Unlock()
	if signal || c.used.Load() > c.limit/2 {
		c.signal()
	}
}

// thin drops entries of the queues whose stripes are clean by now, or are listed again, before they outgrow what the cache
// can hold: a client that rewrites and flushes a few stripes leaves one at every turn. queue is locked.
func (c *cache) thin() {
	if len(c.queue.order)+len(c.queue.full) < c.queue.most {
		return
	}
	seen := map[int64]bool{}
	stays := func(n int64) bool {
		if seen[n] || !c.holds(n) {
			return false
		}
		seen[n] = true
		return true
	}
	c.queue.full = slices.DeleteFunc(c.queue.full, func(n int64) bool { return !stays(n) })
	clear(seen)
	c.queue.order = slices.DeleteFunc(c.queue.order, func(q queued) bool { return !stays(q.stripe) })
	c.queue.most = max(leastQueue, 2*(len(c.queue.order)+len(c.queue.full)))
}

// leastQueue is how many entries of the queues are not worth looking through.
const leastQueue = 1024

// destageBytes is how much the background worker likes to write at a time: large enough that a sync of the journals is
// spread over many stripes.
const destageBytes = 8 << 20

// destageBlocks and destageStripes bound one batch.
const (
	destageBlocks  = destageBytes / Block
	destageStripes = 512
)

// pick chooses stripes to destage, ascending: full ones, then, when memory is short, the oldest, then those that have
// waited for long. Nothing is reserved: a stripe may be clean by the time it is destaged.
func (c *cache) pick(now time.Time) []int64 {
	c.queue.Lock()
	defer c.queue.Unlock()
	most := max(1, destageBytes/int(c.a.geo.StripeSize()))
	take := min(len(c.queue.full), most)
	out := slices.Clone(c.queue.full[:take])
	c.queue.full = slices.Delete(c.queue.full, 0, take)
	short := c.used.Load() > c.limit/2
	passed := 0
	for _, q := range c.queue.order {
		if len(out) >= max(most, destageStripes) || !(short || now.Sub(q.since) > ageLimit) {
			break
		}
		out = append(out, q.stripe)
		passed++
	}
	c.queue.order = slices.Delete(c.queue.order, 0, passed)
	slices.Sort(out)
	out = slices.Compact(out)
	return slices.DeleteFunc(out, func(n int64) bool { return !c.holds(n) })
}

// take moves the dirty blocks of a stripe to its out layer. The caller holds the stripe exclusively.
func (c *cache) take(number int64) *layer {
	sh := c.shard(number)
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[number]
	if s == nil || s.cur == nil {
		return nil
	}
	s.out, s.cur = s.cur, nil
	return s.out
}

// done drops the out layer: its blocks are on the members.
func (c *cache) done(number int64) {
	sh := c.shard(number)
	sh.Lock()
	s := sh.stripes[number]
	out := s.out
	s.out = nil
	if s.cur == nil {
		delete(sh.stripes, number)
	}
	sh.Unlock()
	c.release(out)
}

// putFrom takes a piece of whole blocks from whoever fills a buffer, without copying it where that can be. There must be
// room. fill is called once, with n bytes.
func (c *cache) putFrom(pc piece, n int, fill func([]byte) error) error {
	buf := c.free.get()
	pc.buf = buf[pc.from:][:n]
	if err := fill(pc.buf); err != nil {
		c.free.put(buf)
		return err
	}
	sh := c.shard(pc.stripe.Number)
	sh.Lock()
	cur, _ := c.current(sh, pc.stripe.Number)
	taken := cur.bufs[pc.role] == nil
	if taken {
		cur.bufs[pc.role] = buf
	}
	c.putHeld(sh, pc) // unlocks
	if !taken {
		c.free.put(buf)
	}
	return nil
}

// putBack returns the out layer to cur, below what was written since: its blocks did not reach the members.
func (c *cache) putBack(number int64) {
	sh := c.shard(number)
	sh.Lock()
	s := sh.stripes[number]
	out := s.out
	s.out = nil
	if s.cur == nil {
		s.cur = out
		sh.Unlock()
		c.enqueue(number, true, false)
		return
	}
	for _, by := range out.by {
		s.cur.wrote(by)
	}
	for role := range out.dirty {
		for col := 0; col < c.a.geo.StripBlocks(); col++ {
			if !has(&out.dirty[role], col) || has(&s.cur.dirty[role], col) {
				continue
			}
			zero := has(&out.zero[role], col)
			if !zero {
				if s.cur.bufs[role] == nil {
					s.cur.bufs[role] = c.free.get()
				}
				copy(s.cur.bufs[role][col*Block:][:Block], out.bufs[role][col*Block:])
			}
			c.used.Add(s.cur.mark(role, col, 1, zero))
		}
	}
	sh.Unlock()
	c.release(out)
}

// overlay copies the dirty blocks of a piece into its buffer and returns the columns it did not have as runs.
func (c *cache) overlay(pc piece, missing []blockRun) []blockRun {
	first, n := int(pc.from/Block), len(pc.buf)/Block
	sh := c.shard(pc.stripe.Number)
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[pc.stripe.Number]
	if s == nil {
		return append(missing, blockRun{first, n})
	}
	for col := first; col < first+n; col++ {
		dst := pc.buf[(col-first)*Block:][:Block]
		if probe.ReadsOutFirst.On() && s.out.read(pc.role, col, dst) {
			continue
		}
		if s.cur.read(pc.role, col, dst) || s.out.read(pc.role, col, dst) {
			continue
		}
		if l := len(missing); l > 0 && missing[l-1].first+missing[l-1].n == col {
			missing[l-1].n++
		} else {
			missing = append(missing, blockRun{col, 1})
		}
	}
	return missing
}

type blockRun struct{ first, n int }

// holds says whether a stripe has anything that is not on the members yet.
func (c *cache) holds(number int64) bool {
	sh := c.shard(number)
	sh.Lock()
	defer sh.Unlock()
	return sh.stripes[number] != nil
}

// dirtyBlocks is how many dirty blocks a stripe has.
func (c *cache) dirtyBlocks(number int64) int {
	sh := c.shard(number)
	sh.Lock()
	defer sh.Unlock()
	if s := sh.stripes[number]; s != nil && s.cur != nil {
		return s.cur.count
	}
	return 0
}

// dirtyState reports for a block whether the cache has it, and if so whether it is anything but zeros.
func (c *cache) dirtyState(number int64, role, col int) (known, written bool) {
	sh := c.shard(number)
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[number]
	if s == nil {
		return false, false
	}
	for _, l := range []*layer{s.cur, s.out} {
		if l != nil && has(&l.dirty[role], col) {
			return true, !has(&l.zero[role], col)
		}
	}
	return false, false
}

// dirtyStripes lists all stripes the cache holds, ascending.
func (c *cache) dirtyStripes() []int64 {
	var out []int64
	for i := range c.shards {
		sh := &c.shards[i]
		sh.Lock()
		for n, s := range sh.stripes {
			if !(probe.FlushForgetsOut.On() && s.cur == nil) {
				out = append(out, n)
			}
		}
		sh.Unlock()
	}
	slices.Sort(out)
	return out
}

func (l *layer) read(role, col int, dst []byte) bool {
	switch {
	case l == nil || !has(&l.dirty[role], col):
		return false
	case has(&l.zero[role], col):
		clear(dst)
	default:
		copy(dst, l.bufs[role][col*Block:])
	}
	return true
}

// mark makes n columns from first dirty, and returns how many bytes more the layer counts for.
func (l *layer) mark(role, first, n int, zero bool) int64 {
	d, z := &l.dirty[role], &l.zero[role]
	var added int64
	for col := first; col < first+n; {
		word, bit := col/64, col%64
		span := min(64-bit, first+n-col)
		mask := ^uint64(0) >> (64 - span) << bit
		l.count += bits.OnesCount64(mask &^ d[word])
		if zero {
			z[word] |= mask
		} else {
			added += int64(bits.OnesCount64(mask&^(d[word]&^z[word]))) * Block
			z[word] &^= mask
		}
		d[word] |= mask
		col += span
	}
	l.charge += added
	return added
}

func has(set *[4]uint64, i int) bool { return set[i/64]>>(i%64)&1 == 1 }

// scratch is a buffer of n blocks for the time of one operation; it does not count against the limit, which the number of
// operations at a time bounds. Sizes go in powers of two, so that a plan for one block takes one block.
func (c *cache) scratch(n int) []byte {
	class := bits.Len(uint(n - 1))
	if b, ok := c.pools[class].Get().(*[]byte); ok {
		probe.Soil(*b)
		return (*b)[:n*Block]
	}
	b := make([]byte, Block<<class)
	probe.Soil(b)
	return b[:n*Block]
}

func (c *cache) scratchDone(bufs [][]byte) {
	for _, b := range bufs {
		if b != nil {
			b = b[:cap(b)]
			c.pools[bits.Len(uint(cap(b)/Block-1))].Put(&b)
		}
	}
}
