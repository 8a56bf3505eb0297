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
	free   [7]atomic.Pointer[freeList] // by size of strip, doubling
	space  struct {
		env.Mutex
		*env.Cond
	}
	queue struct {
		env.Mutex
		most  int // entries of both at which they are looked through
		full  []layout.Stripe
		bytes int64    // of full
		order []queued // by age; entries whose stripe is clean by now are passed over
	}
	work  chan struct{}
	pools [9]sync.Pool // scratch buffers of 1, 2, 4 … 256 blocks
}

type queued struct {
	stripe layout.ID
	since  time.Time
}

type shard struct {
	env.Mutex
	stripes map[layout.ID]*stripe
}

type stripe struct {
	layout.Stripe
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
	least := int64(0)
	for _, r := range a.Layout().Regions() {
		least = max(least, 8*r.StripeSize())
	}
	c := &cache{a: a, limit: max(limit, least), work: make(chan struct{}, 4)}
	c.space.Cond = env.NewCond(&c.space.Mutex)
	c.queue.most = leastQueue
	for i := range c.shards {
		c.shards[i].stripes = map[layout.ID]*stripe{}
	}
	return c
}

func (c *cache) shard(id layout.ID) *shard {
	return &c.shards[(uint64(id.Number)+uint64(id.Region)*31)%uint64(len(c.shards))]
}

// layerCost is what a layer counts for besides its buffers, so that layers of nothing but zeros are bounded too.
const layerCost = 4096

func (c *cache) newLayer(k int) *layer {
	c.used.Add(layerCost)
	return &layer{charge: layerCost, bufs: make([][]byte, k), dirty: make([][4]uint64, k), zero: make([][4]uint64, k)}
}

// release gives back what a layer took.
func (c *cache) release(l *layer) {
	for _, b := range l.bufs {
		if b != nil {
			c.buffers(int64(len(b))).put(b)
		}
	}
	c.used.Add(-l.charge)
}

// buffers are those of one size of strip.
func (c *cache) buffers(strip int64) *freeList {
	at := &c.free[bits.TrailingZeros64(uint64(strip/layout.MinStrip))]
	if f := at.Load(); f != nil {
		return f
	}
	f := &freeList{}
	f.init(strip, c.limit)
	at.CompareAndSwap(nil, f)
	return at.Load()
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
	sh := c.shard(pc.stripe.ID())
	sh.Lock()
	c.putHeld(sh, pc)
	return nil
}

// merge puts data into whole blocks of which old has what the members hold of the first and the last, and takes them. What
// others wrote to those two blocks meanwhile is in the cache, and is what the data goes into then. The caller holds the
// stripe exclusively, so nothing leaves the cache.
func (c *cache) merge(pc piece, data []byte, at int64) {
	sh := c.shard(pc.stripe.ID())
	sh.Lock()
	if s := sh.stripes[pc.stripe.ID()]; s != nil && !probe.PartForgetsCache.On() {
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
	cur, _ := c.current(sh, pc.stripe)
	fresh := cur.count == 0
	if cur.bufs[pc.role] == nil {
		cur.bufs[pc.role] = c.buffers(pc.stripe.Strip).get()
	}
	cur.wrote(pc.by)
	if to := cur.bufs[pc.role][pc.from:]; &to[0] != &pc.buf[0] {
		copy(to, pc.buf)
	}
	before := cur.count
	c.used.Add(cur.mark(pc.role, int(pc.from/Block), len(pc.buf)/Block, false))
	full := before < cur.count && cur.count == pc.stripe.Data*pc.stripe.StripBlocks()
	sh.Unlock()
	c.enqueue(pc.stripe, fresh, full)
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
	sh := c.shard(st.ID())
	sh.Lock()
	cur, fresh := c.current(sh, st)
	cur.wrote(by)
	before := cur.count
	for length > 0 {
		role, in := int(from/st.Strip), from%st.Strip
		n := min(length, st.Strip-in)
		cur.mark(role, int(in/Block), int(n/Block), true)
		from, length = from+n, length-n
	}
	full := before < cur.count && cur.count == st.Data*st.StripBlocks()
	sh.Unlock()
	c.enqueue(st, fresh, full)
	return nil
}

func (c *cache) current(sh *shard, st layout.Stripe) (cur *layer, fresh bool) {
	s := sh.stripes[st.ID()]
	if s == nil {
		s = &stripe{Stripe: st}
		sh.stripes[st.ID()] = s
	}
	if s.cur == nil {
		s.cur = c.newLayer(st.Data)
		fresh = true
	}
	return s.cur, fresh
}

func (c *cache) enqueue(st layout.Stripe, fresh, full bool) {
	if !fresh && !full {
		return
	}
	c.queue.Lock()
	if fresh {
		c.queue.order = append(c.queue.order, queued{st.ID(), env.Now()})
		c.thin()
	}
	signal := false
	if full {
		c.queue.full = append(c.queue.full, st)
		c.queue.bytes += st.StripeSize()
		signal = c.queue.bytes >= destageBytes
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
	seen := map[layout.ID]bool{}
	stays := func(id layout.ID) bool {
		if seen[id] || !c.holds(id) {
			return false
		}
		seen[id] = true
		return true
	}
	c.queue.full = slices.DeleteFunc(c.queue.full, func(st layout.Stripe) bool { return !stays(st.ID()) })
	c.queue.bytes = 0
	for _, st := range c.queue.full {
		c.queue.bytes += st.StripeSize()
	}
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
func (c *cache) pick(now time.Time) (out []layout.ID) {
	c.queue.Lock()
	defer c.queue.Unlock()
	taken, bytes := 0, int64(0)
	for ; taken < len(c.queue.full) && bytes < destageBytes; taken++ {
		st := c.queue.full[taken]
		bytes += st.StripeSize()
		out = append(out, st.ID())
	}
	c.queue.full = slices.Delete(c.queue.full, 0, taken)
	c.queue.bytes -= bytes
	short := c.used.Load() > c.limit/2
	passed := 0
	for _, q := range c.queue.order {
		if len(out) >= max(taken, destageStripes) || !(short || now.Sub(q.since) > ageLimit) {
			break
		}
		out = append(out, q.stripe)
		passed++
	}
	c.queue.order = slices.Delete(c.queue.order, 0, passed)
	slices.SortFunc(out, layout.ID.Compare)
	out = slices.Compact(out)
	return slices.DeleteFunc(out, func(id layout.ID) bool { return !c.holds(id) })
}

// take moves the dirty blocks of a stripe to its out layer, which is nil when there are none. The caller holds the stripe exclusively.
func (c *cache) take(id layout.ID) (layout.Stripe, *layer) {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[id]
	if s == nil || s.cur == nil {
		return layout.Stripe{}, nil
	}
	s.out, s.cur = s.cur, nil
	return s.Stripe, s.out
}

// done drops the out layer: its blocks are on the members.
func (c *cache) done(id layout.ID) {
	sh := c.shard(id)
	sh.Lock()
	s := sh.stripes[id]
	out := s.out
	s.out = nil
	if s.cur == nil {
		delete(sh.stripes, id)
	}
	sh.Unlock()
	c.release(out)
}

// putFrom takes a piece of whole blocks from whoever fills a buffer, without copying it where that can be. There must be
// room. fill is called once, with n bytes.
func (c *cache) putFrom(pc piece, n int, fill func([]byte) error) error {
	free := c.buffers(pc.stripe.Strip)
	buf := free.get()
	pc.buf = buf[pc.from:][:n]
	if err := fill(pc.buf); err != nil {
		free.put(buf)
		return err
	}
	sh := c.shard(pc.stripe.ID())
	sh.Lock()
	cur, _ := c.current(sh, pc.stripe)
	taken := cur.bufs[pc.role] == nil
	if taken {
		cur.bufs[pc.role] = buf
	}
	c.putHeld(sh, pc) // unlocks
	if !taken {
		free.put(buf)
	}
	return nil
}

// putBack returns the out layer to cur, below what was written since: its blocks did not reach the members.
func (c *cache) putBack(id layout.ID) {
	sh := c.shard(id)
	sh.Lock()
	s := sh.stripes[id]
	out := s.out
	s.out = nil
	if s.cur == nil {
		s.cur = out
		sh.Unlock()
		c.enqueue(s.Stripe, true, false)
		return
	}
	for _, by := range out.by {
		s.cur.wrote(by)
	}
	for role := range out.dirty {
		for col := 0; col < s.StripBlocks(); col++ {
			if !has(&out.dirty[role], col) || has(&s.cur.dirty[role], col) {
				continue
			}
			zero := has(&out.zero[role], col)
			if !zero {
				if s.cur.bufs[role] == nil {
					s.cur.bufs[role] = c.buffers(s.Strip).get()
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
	sh := c.shard(pc.stripe.ID())
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[pc.stripe.ID()]
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
func (c *cache) holds(id layout.ID) bool {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	return sh.stripes[id] != nil
}

// dirtyBlocks is how many dirty blocks a stripe has.
func (c *cache) dirtyBlocks(id layout.ID) int {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	if s := sh.stripes[id]; s != nil && s.cur != nil {
		return s.cur.count
	}
	return 0
}

// dirtyState reports for a block whether the cache has it, and if so whether it is anything but zeros.
func (c *cache) dirtyState(id layout.ID, role, col int) (known, written bool) {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[id]
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
func (c *cache) dirtyStripes() (out []layout.ID) {
	for i := range c.shards {
		sh := &c.shards[i]
		sh.Lock()
		for id, s := range sh.stripes {
			if !(probe.FlushForgetsOut.On() && s.cur == nil) {
				out = append(out, id)
			}
		}
		sh.Unlock()
	}
	slices.SortFunc(out, layout.ID.Compare)
	return out
}

// dirtyOrdinals is dirtyStripes by their ordinals in a map.
func (c *cache) dirtyOrdinals(lay *layout.Map) (out []int64) {
	for _, id := range c.dirtyStripes() {
		out = append(out, lay.Find(id).Ordinal())
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
