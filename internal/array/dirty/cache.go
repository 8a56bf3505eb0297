// Package dirty is the write-back cache: blocks that clients wrote and the members do not have yet. It knows stripes and no members: its
// user takes dirty blocks, writes them out, and reports whether that worked.
package dirty

import (
	"math/bits"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/layout"
	"nidalo/internal/array/buffer"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// Cache holds the dirty blocks of the array, by stripe, in buffers of a block each, or of a strip for what was written in long pieces
// (package buffer). What is clean is not kept: the operating system caches members.
//
// A stripe has two layers: cur takes writes; out is what a destage is writing to the members at the moment. Readers look
// into cur, then out, then at the members. The cache is bounded by its buffers: writers wait for a destage to free some.
type Cache struct {
	alive    func() error          // why nothing may be written any more, or nil
	stuck    atomic.Pointer[error] // why the background cannot write out at the moment; nothing is lost by that
	shards   [64]shard
	limit    int64 // bytes of buffers
	used     atomic.Int64
	answered atomic.Int64                   // layers of which something was answered
	free     [7]atomic.Pointer[buffer.List] // by size of strip, doubling
	blocks   *buffer.Blocks
	space    struct {
		env.Mutex
		*env.Cond
		waiting atomic.Int32
	}
	queue struct {
		env.Mutex
		most  int // entries of both at which they are looked through
		full  []layout.Stripe
		bytes int64    // of full
		order []queued // by age; entries whose stripe is clean by now are passed over
	}
	work chan struct{}
}

// Writer is the client that wrote a piece. Fail reports that the piece had to be given up.
type Writer interface{ Fail(err error) }

// Piece is the part of a request that lies in one strip: whole or part blocks of one role of one stripe.
type Piece struct {
	Stripe layout.Stripe
	Role   int
	From   int64 // bytes into the strip
	Buf    []byte
	By     Writer
	// Through says that the writer destages it before it answers.
	Through bool
}

// columns are the first column of a piece of whole blocks, and how many it has.
func (pc Piece) columns() (first, n int) {
	return int(pc.From / layout.Block), len(pc.Buf) / layout.Block
}

// Part is n bytes of a piece from byte off on.
func (pc Piece) Part(off, n int64) Piece {
	pc.From, pc.Buf = pc.From+off, pc.Buf[off:off+n]
	return pc
}

type queued struct {
	stripe layout.ID
	since  time.Time
}

type shard struct {
	env.Mutex
	stripes map[layout.ID]*stripe
	holds   atomic.Int32 // how many
}

type stripe struct {
	layout.Stripe
	cur, out *Layer
}

// Layer is a set of dirty blocks of one stripe, by role and column.
type Layer struct {
	By       []Writer         // that wrote any of them
	one      [1]Writer        // room for By
	commit   *Commit          // of the destage that has it, once it is out
	charge   int64            // bytes it counts for
	parts    []part           // by role
	Dirty    []layout.Columns // by role: columns that are dirty
	Zero     []layout.Columns // by role: columns of dirty that are to become never-written
	count    int
	answered bool // something of it was, or is about to be: a crash may lose it
}

// Blocks is how many blocks are dirty.
func (l *Layer) Blocks() int { return l.count }

// part is what is dirty of a strip but zeros.
type part struct {
	strip  []byte // the buffer of a strip, with all of it; nil: it is in blocks
	blocks blocks
}

// blocks are some blocks of a strip, each in a buffer of its own.
type blocks struct {
	have layout.Columns
	list []*buffer.Block // ascending
}

// at is the buffer of a column; nil: there is none.
func (b *blocks) at(col int) []byte {
	if !b.have.Has(col) {
		return nil
	}
	return b.list[b.have.Before(col)].Bytes
}

// add enters a buffer for a column that has none.
func (b *blocks) add(col int, buf *buffer.Block) {
	b.list = slices.Insert(b.list, b.have.Before(col), buf)
	b.have.Add(col)
}

// block is where a dirty block of a layer is.
func (l *Layer) block(role, col int) []byte {
	if s := l.parts[role].strip; s != nil {
		return s[col*layout.Block:][:layout.Block]
	}
	return l.parts[role].blocks.at(col)
}

// Run is the contents of n neighbouring dirty columns of a role in one piece; none of them is to become zeros. What lies in several pieces is copied
// together: room then gives a buffer of n blocks.
func (l *Layer) Run(role, col, n int, room func() []byte) []byte {
	p := &l.parts[role]
	if p.strip != nil {
		return p.strip[col*layout.Block:][:n*layout.Block]
	}
	at := p.blocks.have.Before(col)
	if n == 1 {
		return p.blocks.list[at].Bytes
	}
	out := room()
	for i, b := range p.blocks.list[at:][:n] {
		copy(out[i*layout.Block:], b.Bytes)
	}
	return out
}

const ageLimit = 2 * time.Second

// New makes a cache for limit bytes, or for a few of the largest stripes of a map.
func New(limit int64, lay *layout.Map, alive func() error) *Cache {
	for _, r := range lay.Regions() {
		limit = max(limit, 8*r.StripeSize())
	}
	c := &Cache{alive: alive, limit: limit, blocks: buffer.NewBlocks(limit), work: make(chan struct{}, 4)}
	c.space.Cond = env.NewCond(&c.space.Mutex)
	c.queue.most = leastQueue
	for i := range c.shards {
		c.shards[i].stripes = map[layout.ID]*stripe{}
	}
	return c
}

func (c *Cache) shard(id layout.ID) *shard {
	return &c.shards[(uint64(id.Number)+uint64(id.Region)*31)%uint64(len(c.shards))]
}

// layerCost is what a layer counts for besides its buffers, so that layers of nothing but zeros are bounded too.
const layerCost = 4096

// layers keeps layers that are done with for the next: most are made and done with again for a few blocks.
var layers sync.Pool

func (c *Cache) newLayer(k int) *Layer {
	c.used.Add(layerCost)
	if l, ok := layers.Get().(*Layer); ok && len(l.parts) == k {
		l.charge = layerCost
		return l
	}
	columns := make([]layout.Columns, 2*k)
	return &Layer{charge: layerCost, parts: make([]part, k), Dirty: columns[:k:k], Zero: columns[k:]}
}

// keep puts a released layer aside, to be used again when the next one is needed. Nobody may use it meanwhile.
func (l *Layer) keep() {
	for role := range l.parts {
		p := &l.parts[role]
		clear(p.blocks.list)
		*p = part{blocks: blocks{list: p.blocks.list[:0]}}
	}
	clear(l.Dirty)
	clear(l.Zero)
	*l = Layer{parts: l.parts, Dirty: l.Dirty, Zero: l.Zero}
	layers.Put(l)
}

// release gives back what a layer took.
func (c *Cache) release(l *Layer) {
	for role, p := range l.parts {
		if p.strip != nil {
			c.buffers(int64(len(p.strip))).Put(p.strip, &l.Dirty[role])
		}
		if len(p.blocks.list) > 0 {
			c.blocks.Put(p.blocks.list...)
		}
	}
	c.used.Add(-l.charge)
	if l.answered {
		c.answered.Add(-1)
	}
}

// answer notes that something of a layer is answered. Its shard is locked.
func (c *Cache) answer(l *Layer) {
	if !l.answered {
		l.answered = true
		c.answered.Add(1)
	}
}

// Answered is how many layers hold something that was answered and may not have been committed.
func (c *Cache) Answered() int64 { return c.answered.Load() }

// buffers are those of one size of strip.
func (c *Cache) buffers(strip int64) *buffer.List {
	at := &c.free[bits.TrailingZeros64(uint64(strip/layout.MinStrip))]
	if f := at.Load(); f != nil {
		return f
	}
	at.CompareAndSwap(nil, buffer.NewList(strip, c.limit))
	return at.Load()
}

// SetStuck notes why nothing can be written out at the moment; nil: it can.
func (c *Cache) SetStuck(why error) {
	if why == nil {
		c.stuck.Store(nil)
		return
	}
	c.stuck.Store(&why)
	c.Wake()
}

// Work receives a value when there are stripes to destage.
func (c *Cache) Work() <-chan struct{} { return c.work }

// Wake has all that wait for room look again.
func (c *Cache) Wake() {
	if c.space.waiting.Load() == 0 { // one that begins to wait now sees what was given back
		return
	}
	c.space.Lock()
	c.space.Broadcast()
	c.space.Unlock()
}

func (c *Cache) signal() {
	select {
	case c.work <- struct{}{}:
	default:
	}
}

// RoomNow says whether need more bytes fit at the moment.
func (c *Cache) RoomNow(need int64) bool {
	return c.used.Load()+need <= c.limit && c.alive() == nil
}

// Room waits until need more bytes are likely to fit.
func (c *Cache) Room(need int64) error {
	if c.used.Load()+need <= c.limit {
		return c.alive()
	}
	c.signal()
	c.space.Lock()
	defer c.space.Unlock()
	c.space.waiting.Add(1)
	defer c.space.waiting.Add(-1)
	for c.used.Load()+need > c.limit && c.alive() == nil {
		if stuck := c.stuck.Load(); stuck != nil {
			return *stuck
		}
		c.signal()
		c.space.Wait()
	}
	return c.alive()
}

// Put takes a piece of whole blocks.
func (c *Cache) Put(pc Piece) error {
	if err := c.Room(int64(len(pc.Buf))); err != nil {
		return err
	}
	sh := c.shard(pc.Stripe.ID())
	sh.Lock()
	c.putHeld(sh, pc)
	return nil
}

// Merge puts data into whole blocks of which old has what the members hold of the first and the last, and takes them. What
// others wrote to those two blocks meanwhile is in the cache, and is what the data goes into then. The caller holds the
// stripe exclusively, so nothing leaves the cache.
func (c *Cache) Merge(pc Piece, data []byte, at int64) {
	sh := c.shard(pc.Stripe.ID())
	sh.Lock()
	if s := sh.stripes[pc.Stripe.ID()]; s != nil && !probe.PartForgetsCache.On() {
		probe.PartOfBlockMerged.Seen()
		last := int64(len(pc.Buf)) - layout.Block
		for _, off := range []int64{0, last} {
			s.cur.read(pc.Role, int((pc.From+off)/layout.Block), pc.Buf[off:][:layout.Block])
		}
	}
	copy(pc.Buf[at:], data)
	c.putHeld(sh, pc) // unlocks
}

// putHeld enters a piece and unlocks its shard. The piece's buffer may be the very place it goes to.
func (c *Cache) putHeld(sh *shard, pc Piece) {
	cur, _ := c.current(sh, pc.Stripe)
	fresh := cur.count == 0
	cur.wrote(pc.By)
	if !pc.Through && (fresh || !probe.LateAnswerForgotten.On()) {
		c.answer(cur)
	}
	c.fill(cur, pc)
	before := cur.count
	c.used.Add(cur.mark(pc.Role, int(pc.From/layout.Block), len(pc.Buf)/layout.Block, false))
	full := before < cur.count && cur.count == pc.Stripe.Data*pc.Stripe.StripBlocks()
	sh.Unlock()
	if !pc.Through {
		c.enqueue(pc.Stripe, fresh, full)
	}
}

// longPiece is how many blocks a piece has for which a strip is kept in one piece.
const longPiece = 8

// fill copies a piece to where it belongs in a layer.
func (c *Cache) fill(l *Layer, pc Piece) {
	first, n := pc.columns()
	p := &l.parts[pc.Role]
	if p.strip == nil && n >= longPiece {
		c.join(p, c.buffers(pc.Stripe.Strip).Get(), pc)
	}
	if s := p.strip; s != nil {
		if to := s[pc.From:]; &to[0] != &pc.Buf[0] {
			copy(to, pc.Buf)
		}
		return
	}
	for i := range n {
		copy(c.blockFor(p, first+i), pc.Buf[i*layout.Block:])
	}
}

// blockFor is where a block goes of a part that has no strip.
func (c *Cache) blockFor(p *part, col int) []byte {
	if to := p.blocks.at(col); to != nil {
		return to
	}
	b := c.blocks.Get()
	p.blocks.add(col, b)
	return b.Bytes
}

// join gives a part a strip, and moves its blocks there, but for those of a piece that goes there.
func (c *Cache) join(p *part, strip []byte, but Piece) {
	p.strip = strip
	had := p.blocks
	if len(had.list) == 0 {
		return
	}
	first, n := but.columns()
	for col := range len(strip) / layout.Block {
		if from := had.at(col); from != nil && (col < first || col >= first+n) {
			copy(strip[col*layout.Block:], from)
		}
	}
	p.blocks = blocks{}
	c.blocks.Put(had.list...)
}

// wrote notes that a client wrote some of the layer.
func (l *Layer) wrote(by Writer) {
	if l.By == nil {
		l.By = l.one[:0]
	}
	if !slices.Contains(l.By, by) {
		l.By = append(l.By, by)
	}
}

// Zero marks whole blocks of a stripe to become never-written; from and length are bytes of the stripe's data.
func (c *Cache) Zero(by Writer, st layout.Stripe, from, length int64) error {
	if err := c.Room(layerCost); err != nil {
		return err
	}
	sh := c.shard(st.ID())
	sh.Lock()
	cur, fresh := c.current(sh, st)
	cur.wrote(by)
	c.answer(cur)
	before := cur.count
	for length > 0 {
		role, in := int(from/st.Strip), from%st.Strip
		n := min(length, st.Strip-in)
		cur.mark(role, int(in/layout.Block), int(n/layout.Block), true)
		from, length = from+n, length-n
	}
	full := before < cur.count && cur.count == st.Data*st.StripBlocks()
	sh.Unlock()
	c.enqueue(st, fresh, full)
	return nil
}

func (c *Cache) current(sh *shard, st layout.Stripe) (cur *Layer, fresh bool) {
	s := sh.stripes[st.ID()]
	if s == nil {
		s = &stripe{Stripe: st}
		sh.stripes[st.ID()] = s
		sh.holds.Add(1)
	}
	if s.cur == nil {
		s.cur = c.newLayer(st.Data)
		fresh = true
	}
	return s.cur, fresh
}

func (c *Cache) enqueue(st layout.Stripe, fresh, full bool) {
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
func (c *Cache) thin() {
	if len(c.queue.order)+len(c.queue.full) < c.queue.most {
		return
	}
	seen := map[layout.ID]bool{}
	stays := func(id layout.ID) bool {
		if seen[id] || !c.Holds(id) {
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
	DestageBlocks  = destageBytes / layout.Block
	destageStripes = 512
)

// Pick chooses stripes to destage, ascending: full ones, then, when memory is short, the oldest, then those that have
// waited for long, at least for some time. Nothing is reserved: a stripe may be clean by the time it is destaged.
func (c *Cache) Pick(now time.Time, wait time.Duration) (out []layout.ID) {
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
		if len(out) >= max(taken, destageStripes) || !(short || now.Sub(q.since) > max(ageLimit, wait)) {
			break
		}
		out = append(out, q.stripe)
		passed++
	}
	c.queue.order = slices.Delete(c.queue.order, 0, passed)
	slices.SortFunc(out, layout.ID.Compare)
	out = slices.Compact(out)
	return slices.DeleteFunc(out, func(id layout.ID) bool { return !c.Holds(id) })
}

// Commit is the moment from which the blocks of one destage survive a crash. It is reached or missed, once.
type Commit struct {
	mu   sync.Mutex
	over chan struct{} // nil: none waits
	gone bool          // it is reached, or missed
	held atomic.Bool
}

// NewCommit is one to come.
func NewCommit() *Commit { return &Commit{} }

// Reached says that the blocks survive now.
func (m *Commit) Reached() {
	m.held.Store(true)
	m.end()
}

// Missed says that they are dirty again.
func (m *Commit) Missed() { m.end() }

func (m *Commit) end() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.gone = true; m.over != nil {
		close(m.over)
	}
}

// Wait waits until it is reached, or missed, and says which.
func (m *Commit) Wait() (reached bool) {
	m.mu.Lock()
	wait := !m.gone
	if wait && m.over == nil {
		m.over = make(chan struct{})
	}
	m.mu.Unlock()
	if wait {
		env.Wait(env.Never, m.over)
	}
	return m.held.Load()
}

// Volatile tells what a crash would lose of some stripes: dirty are the stripes with blocks that no destage has taken yet, and underway
// the commits that must still be reached for the others to survive.
func (c *Cache) Volatile(ids []layout.ID) (dirty []layout.ID, underway []*Commit) {
	if len(ids) > 0 {
		dirty = make([]layout.ID, 0, min(len(ids), 8))
	}
	for _, id := range ids {
		sh := c.shard(id)
		sh.Lock()
		switch s := sh.stripes[id]; {
		case s == nil:
		case s.cur != nil:
			dirty = append(dirty, id)
		case !s.out.commit.held.Load() && !slices.Contains(underway, s.out.commit):
			underway = append(underway, s.out.commit)
		}
		sh.Unlock()
	}
	return dirty, underway
}

// Take moves the dirty blocks of a stripe to its out layer, for a destage that is to commit them; it is nil when there are none. The caller
// holds the stripe exclusively.
func (c *Cache) Take(id layout.ID, commit *Commit) (layout.Stripe, *Layer) {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[id]
	if s == nil || s.cur == nil {
		return layout.Stripe{}, nil
	}
	s.out, s.cur = s.cur, nil
	s.out.commit = commit
	return s.Stripe, s.out
}

// endOut takes the out layer from a stripe, and leaves its shard locked.
func (c *Cache) endOut(id layout.ID) (sh *shard, s *stripe, out *Layer) {
	sh = c.shard(id)
	sh.Lock()
	s = sh.stripes[id]
	out, s.out = s.out, nil
	return sh, s, out
}

// Done drops the out layer: its blocks are on the members.
func (c *Cache) Done(id layout.ID) {
	sh, s, out := c.endOut(id)
	if s.cur == nil {
		delete(sh.stripes, id)
		sh.holds.Add(-1)
	}
	sh.Unlock()
	c.release(out)
	out.keep()
}

// Lent is a buffer of the cache for a piece of whole blocks that is still on its way. It is given back by PutLent or by Return.
type Lent struct {
	pc   Piece
	buf  []byte
	used layout.Columns
}

// Buf is where the piece goes.
func (l *Lent) Buf() []byte { return l.pc.Buf }

// Lend lends a buffer for n bytes of a piece. There must be room.
func (c *Cache) Lend(pc Piece, n int) Lent {
	l := Lent{pc: pc, buf: c.buffers(pc.Stripe.Strip).Get()}
	l.pc.Buf = l.buf[pc.From:][:n]
	l.used.AddRun(l.pc.columns())
	return l
}

// Return takes a buffer back of which nothing is to be kept.
func (c *Cache) Return(l *Lent) { c.buffers(l.pc.Stripe.Strip).Put(l.buf, &l.used) }

// PutLent takes a piece that came in a lent buffer, without copying it where that can be.
func (c *Cache) PutLent(l *Lent) {
	sh := c.shard(l.pc.Stripe.ID())
	sh.Lock()
	cur, _ := c.current(sh, l.pc.Stripe)
	taken := cur.parts[l.pc.Role].strip == nil
	if taken {
		c.join(&cur.parts[l.pc.Role], l.buf, l.pc)
	}
	c.putHeld(sh, l.pc) // unlocks
	if !taken {
		c.Return(l)
	}
}

// PutBack returns the out layer to cur, below what was written since: its blocks did not reach the members.
func (c *Cache) PutBack(id layout.ID) {
	sh, s, out := c.endOut(id)
	if s.cur == nil {
		s.cur = out
	}
	if !probe.PutBackUncounted.On() {
		c.answer(s.cur)
	}
	if s.cur == out {
		sh.Unlock()
		c.enqueue(s.Stripe, true, false)
		return
	}
	for _, by := range out.By {
		s.cur.wrote(by)
	}
	for role := range out.Dirty {
		for col := 0; col < s.StripBlocks(); col++ {
			if !out.Dirty[role].Has(col) || s.cur.Dirty[role].Has(col) {
				continue
			}
			zero := out.Zero[role].Has(col)
			if !zero {
				to := s.cur.block(role, col)
				if to == nil {
					to = c.blockFor(&s.cur.parts[role], col)
				}
				copy(to, out.block(role, col))
			}
			c.used.Add(s.cur.mark(role, col, 1, zero))
		}
	}
	sh.Unlock()
	c.release(out)
}

// Overlay copies the dirty blocks of a piece into its buffer and returns the columns it did not have as runs.
func (c *Cache) Overlay(pc Piece, missing []Run) []Run {
	first, n := int(pc.From/layout.Block), len(pc.Buf)/layout.Block
	sh := c.shard(pc.Stripe.ID())
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[pc.Stripe.ID()]
	if s == nil {
		return append(missing, Run{first, n})
	}
	for col := first; col < first+n; col++ {
		dst := pc.Buf[(col-first)*layout.Block:][:layout.Block]
		if probe.ReadsOutFirst.On() && s.out.read(pc.Role, col, dst) {
			continue
		}
		if s.cur.read(pc.Role, col, dst) || s.out.read(pc.Role, col, dst) {
			continue
		}
		if l := len(missing); l > 0 && missing[l-1].First+missing[l-1].N == col {
			missing[l-1].N++
		} else {
			missing = append(missing, Run{col, 1})
		}
	}
	return missing
}

// Run is some columns of a strip.
type Run struct{ First, N int }

// Holds says whether a stripe has anything that is not on the members yet.
func (c *Cache) Holds(id layout.ID) bool {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	return sh.stripes[id] != nil
}

// Blocks is how many dirty blocks a stripe has.
func (c *Cache) Blocks(id layout.ID) int {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	if s := sh.stripes[id]; s != nil && s.cur != nil {
		return s.cur.count
	}
	return 0
}

// StripBlocks is how many blocks a strip of a stripe has that the cache holds; 0: it holds none of it.
func (c *Cache) StripBlocks(id layout.ID) int64 {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	if s := sh.stripes[id]; s != nil {
		return int64(s.Stripe.StripBlocks())
	}
	return 0
}

// State reports for a block whether the cache has it, and if so whether it is anything but zeros.
func (c *Cache) State(id layout.ID, role, col int) (known, written bool) {
	sh := c.shard(id)
	sh.Lock()
	defer sh.Unlock()
	s := sh.stripes[id]
	if s == nil {
		return false, false
	}
	for _, l := range []*Layer{s.cur, s.out} {
		if l != nil && l.Dirty[role].Has(col) {
			return true, !l.Zero[role].Has(col)
		}
	}
	return false, false
}

// Stripes lists all stripes the cache holds, ascending.
func (c *Cache) Stripes() (out []layout.ID) {
	for i := range c.shards {
		sh := &c.shards[i]
		if sh.holds.Load() == 0 {
			continue
		}
		if out == nil {
			out = make([]layout.ID, 0, 8)
		}
		sh.Lock()
		for id := range sh.stripes {
			out = append(out, id)
		}
		sh.Unlock()
	}
	slices.SortFunc(out, layout.ID.Compare)
	return out
}

// Ordinals is dirtyStripes by their ordinals in a map.
func (c *Cache) Ordinals(lay *layout.Map) (out []int64) {
	for _, id := range c.Stripes() {
		if st, ok := lay.Find(id); ok {
			out = append(out, st.Ordinal())
		}
	}
	slices.Sort(out)
	return out
}

func (l *Layer) read(role, col int, dst []byte) bool {
	switch {
	case l == nil || !l.Dirty[role].Has(col):
		return false
	case l.Zero[role].Has(col):
		clear(dst)
	default:
		copy(dst, l.block(role, col))
	}
	return true
}

// mark makes n columns from first dirty, and returns how many bytes more the layer counts for.
func (l *Layer) mark(role, first, n int, zero bool) int64 {
	d, z := &l.Dirty[role], &l.Zero[role]
	var added int64
	for col := first; col < first+n; {
		word, bit := col/64, col%64
		span := min(64-bit, first+n-col)
		mask := ^uint64(0) >> (64 - span) << bit
		l.count += bits.OnesCount64(mask &^ d[word])
		if zero {
			z[word] |= mask
		} else {
			added += int64(bits.OnesCount64(mask&^(d[word]&^z[word]))) * layout.Block
			z[word] &^= mask
		}
		d[word] |= mask
		col += span
	}
	l.charge += added
	return added
}
