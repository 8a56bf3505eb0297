package array

import (
	"cmp"
	"fmt"
	"slices"
	"sync"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/dirty"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
	"nidalo/internal/env"
)

// extent is a stretch of one member that a read wants.
type extent struct {
	m     *member.Member
	block int64
	sums  []uint32
	pc    dirty.Piece // whole blocks
}

// Hole is a stretch of a read that was never written, in bytes of the array.
type Hole struct{ Offset, Length int64 }

// ReadAt fills p from byte offset off. Blocks never written read as zeros.
func (a *Array) ReadAt(p []byte, off int64) error {
	_, err := a.ReadSparse(p, off)
	return err
}

// ReadSparse is ReadAt and also tells, ascending, of some of the holes it came across: those that cost nothing to find.
func (a *Array) ReadSparse(p []byte, off int64) ([]Hole, error) {
	if err := a.Layout().Check(off, int64(len(p))); err != nil {
		return nil, err
	}
	if err := a.alive(); err != nil {
		return nil, err
	}
	lay, parts, err := a.enter(off, int64(len(p)))
	if err != nil {
		return nil, err
	}
	defer a.ranges.unshare(parts)
	a.stats.BytesRead.Add(int64(len(p)))
	if off%Block != 0 || len(p)%Block != 0 {
		start := off &^ (Block - 1)
		whole := make([]byte, (off+int64(len(p))+Block-1)&^(Block-1)-start)
		if _, err := a.readBlocks(lay, whole, start); err != nil {
			return nil, err
		}
		copy(p, whole[off-start:])
		return nil, nil
	}
	return a.readBlocks(lay, p, off)
}

// readBlocks reads without a lock. That is sound because every block is checked against its sum: when a destage changes
// it at the same moment, sum and contents disagree, and the slow way looks again with the stripe held.
func (a *Array) readBlocks(lay *layout.Map, p []byte, off int64) (holes []Hole, err error) {
	if a.readShort(lay, p, off) {
		return nil, nil
	}
	var extents []extent
	var slow []dirty.Piece
	var missing []dirty.Run
	var hold [16]uint32
	_ = pieces(lay, p, off, func(pc dirty.Piece) error {
		missing = a.cache.Overlay(pc, missing[:0])
		for _, run := range missing {
			first := int(pc.From / Block)
			part := pc.Part(int64(run.First-first)*Block, int64(run.N)*Block)
			m := a.source(pc.Stripe, pc.Role)
			if m == nil {
				slow = append(slow, part)
				continue
			}
			var sums []uint32
			if run.N <= len(hold) {
				sums = hold[:run.N]
			} else {
				sums = make([]uint32, run.N)
			}
			block := pc.Stripe.Block(m.Slot) + int64(run.First)
			if err := a.tables.Sums(m, block, sums); err != nil {
				slow = append(slow, part)
				continue
			}
			switch {
			case record.AllAre(sums, record.SumNever):
				clear(part.Buf)
				at := lay.At(pc.Stripe, pc.Role) + part.From
				if n := len(holes); n > 0 && holes[n-1].Offset+holes[n-1].Length == at {
					holes[n-1].Length += int64(len(part.Buf))
				} else {
					holes = append(holes, Hole{at, int64(len(part.Buf))})
				}
			case !record.Readable(sums):
				slow = append(slow, part)
			default:
				extents = append(extents, extent{m, block, slices.Clone(sums), part})
			}
		}
		return nil
	})
	if len(slow) > 0 {
		a.reckoned.Add(1)
		extents, slow = withStripes(extents, slow)
	}
	slow = append(slow, a.readExtents(extents)...)
	return holes, a.readSlow(slow)
}

// withStripes moves what lies in the same stripe as a slow piece to the slow ones: computing that piece reads all of its columns, so nothing
// is read twice.
func withStripes(extents []extent, slow []dirty.Piece) ([]extent, []dirty.Piece) {
	type columns struct{ first, end int64 }
	wanted := map[layout.ID]columns{}
	for _, pc := range slow {
		id, first, end := pc.Stripe.ID(), pc.From, pc.From+int64(len(pc.Buf))
		if have, ok := wanted[id]; ok {
			first, end = min(first, have.first), max(end, have.end)
		}
		wanted[id] = columns{first, end}
	}
	rest := extents[:0]
	for _, e := range extents {
		if w, ok := wanted[e.pc.Stripe.ID()]; ok && w.first <= e.pc.From && e.pc.From+int64(len(e.pc.Buf)) <= w.end {
			slow = append(slow, e.pc)
		} else {
			rest = append(rest, e)
		}
	}
	return rest, slow
}

// readShort is the short way for a few blocks of one strip of which the cache has none: no lists, no memory taken. It
// reports false, having done nothing that counts, when anything is out of the ordinary.
func (a *Array) readShort(lay *layout.Map, p []byte, off int64) bool {
	var hold [16]uint32
	n := len(p) / Block
	st, in := lay.Locate(off)
	role, from := int(in/st.Strip), in%st.Strip
	if n > len(hold) || from+int64(len(p)) > st.Strip {
		return false
	}
	m := a.source(st, role)
	if m == nil || a.cache.Holds(st.ID()) {
		return false
	}
	block := st.Block(m.Slot) + from/Block
	sums := hold[:n]
	if a.tables.Sums(m, block, sums) != nil || record.AllAre(sums, record.SumNever) || !record.Readable(sums) {
		return false
	}
	if m.Patient != nil {
		m.Use()
		one := oneBuffer.Get().(*[1][]byte)
		one[0] = p
		if m.Patient.ReadSoon(one[:], m.Offset(block)) != nil {
			return false // a disk that hangs may have it for good
		}
		one[0] = nil
		oneBuffer.Put(one)
		return record.Holds(p, sums)
	}
	return m.Disk.ReadAt(p, m.Offset(block)) == nil && record.Holds(p, sums)
}

// oneBuffer is room for a list of one buffer, so that a short read takes no memory.
var oneBuffer = sync.Pool{New: func() any { return new([1][]byte) }}

// ReadWaits is how many reads so far took more than to copy from the system's memory: a disk was waited for, or something had to be computed.
func (a *Array) ReadWaits() int64 {
	n := a.reckoned.Load()
	for slot := range a.slots.Len() {
		if m := a.slots.At(slot); m.Patient != nil {
			n += m.Patient.Waits()
		}
	}
	return n
}

// source is the member to read a data role from: for mirrors any of the copies, the same one for neighbouring rows.
func (a *Array) source(st layout.Stripe, role int) *member.Member {
	if st.Mirrored() {
		copies := st.Members(st.Group)
		turn := int(st.Row * int64(st.StripBlocks()) / 512)
		for i := range copies {
			if m := a.slots.At(copies[(turn+i)%len(copies)]); m.Usable(st) && !m.Stale && m.Condition() != record.Failing {
				return m
			}
		}
	}
	if m := a.slots.At(st.Slot(role)); m.Usable(st) && !m.Stale {
		return m
	}
	return nil
}

// readExtents reads neighbours on a member in one go, and returns the pieces that could not be had that way.
func (a *Array) readExtents(extents []extent) (slow []dirty.Piece) {
	if len(extents) > 1 {
		slices.SortFunc(extents, func(x, y extent) int {
			return cmp.Or(cmp.Compare(x.m.Slot, y.m.Slot), cmp.Compare(x.block, y.block))
		})
	}
	var groups [][]extent
	for i := 0; i < len(extents); {
		n, next := 1, extents[i].block+int64(len(extents[i].pc.Buf)/Block)
		for i+n < len(extents) && extents[i+n].m == extents[i].m && extents[i+n].block == next {
			next += int64(len(extents[i+n].pc.Buf) / Block)
			n++
		}
		groups = append(groups, extents[i:i+n])
		i += n
	}
	var mu env.Mutex
	_ = a.readGroups(len(groups), extents, func(i int) error {
		g := groups[i]
		bufs := make([][]byte, len(g))
		for j, e := range g {
			bufs[j] = e.pc.Buf
		}
		bad := g[0].m.ReadData(bufs, g[0].block) != nil
		for _, e := range g {
			if bad || !record.Holds(e.pc.Buf, e.sums) {
				mu.Lock()
				slow = append(slow, e.pc)
				mu.Unlock()
			}
		}
		return nil
	})
	return slow
}

// readGroups is Parallel for reads of groups of extents. While others read as well and the members answer at the speed of memory, each reads its groups
// one after the other: to wake a goroutine for each would cost more than it saves, since the others have the processors busy.
func (a *Array) readGroups(n int, extents []extent, f func(i int) error) error {
	defer a.readers.Add(-1)
	if a.readers.Add(1) == 1 || n == 0 {
		return member.Parallel(n, f)
	}
	bytes := 0
	for _, e := range extents {
		bytes += len(e.pc.Buf)
	}
	return a.reading.Reads(n, bytes/n, f)
}

// readSlow reads pieces whose member is missing, or did not give what it should: by stripe, with the stripe held.
func (a *Array) readSlow(slow []dirty.Piece) error {
	if len(slow) == 0 {
		return nil
	}
	slices.SortFunc(slow, func(x, y dirty.Piece) int { return x.Stripe.ID().Compare(y.Stripe.ID()) })
	var stripes [][]dirty.Piece
	for i := 0; i < len(slow); {
		n := 1
		for i+n < len(slow) && slow[i+n].Stripe == slow[i].Stripe {
			n++
		}
		stripes = append(stripes, slow[i:i+n])
		i += n
	}
	return member.Parallel(len(stripes), func(i int) error { return a.readStripe(stripes[i]) })
}

func (a *Array) readStripe(pieces []dirty.Piece) error {
	id := []layout.ID{pieces[0].Stripe.ID()}
	unlock := a.stripes.Lock(id, false)
	again, err := a.readHeld(pieces, false)
	unlock()
	if err != nil || !again {
		return err
	}
	// Something is wrong on a member that is there: once more, alone, and put it right.
	defer a.stripes.Lock(id, true)()
	a.journal.Barrier.RLock()
	defer a.journal.Barrier.RUnlock()
	_, err = a.readHeld(pieces, true)
	return err
}

// readLocked reads whole blocks of one strip for a caller that holds the stripe exclusively.
func (a *Array) readLocked(pc dirty.Piece) error {
	a.journal.Barrier.RLock()
	defer a.journal.Barrier.RUnlock()
	_, err := a.readHeld([]dirty.Piece{pc}, true)
	return err
}

// readHeld reads pieces of one stripe from the cache, the members and redundancy, for a caller that holds the stripe.
// Without heal it reports instead whether something ought to be healed; with it the caller holds the stripe exclusively
// and the barrier.
func (a *Array) readHeld(pieces []dirty.Piece, heal bool) (again bool, err error) {
	first, end := pieces[0].Stripe.StripBlocks(), 0
	for _, pc := range pieces {
		first = min(first, int(pc.From/Block))
		end = max(end, int(pc.From/Block)+len(pc.Buf)/Block)
	}
	if !heal && a.rescue == nil {
		var room [8]int
		roles := room[:0]
		for _, pc := range pieces {
			roles = append(roles, pc.Role)
		}
		c, over := a.stripes.Rest(pieces[0].Stripe, first, end, roles)
		if c != nil {
			return false, a.handOut(c, pieces, true)
		}
		defer over()
	}
	return a.readAll(pieces, first, end, heal)
}

// readAll is readHeld of some columns, from the members and redundancy.
func (a *Array) readAll(pieces []dirty.Piece, first, end int, heal bool) (again bool, err error) {
	// Whole columns are read to where they are wanted; what is dirty is laid over them last.
	into := make([][]byte, pieces[0].Stripe.Data)
	for _, pc := range pieces {
		if pc.Role < len(into) && int(pc.From/Block) == first && len(pc.Buf) == (end-first)*Block {
			into[pc.Role] = pc.Buf
		}
	}
	c, err := a.stripes.LoadInto(pieces[0].Stripe, first, end-first, nil, into)
	if err != nil {
		return false, err
	}
	for role := range c.Wrong {
		if !heal && a.rescue == nil && slices.ContainsFunc(c.Wrong[role], stripe.Cause.Bad) {
			c.Free()
			return true, nil
		}
	}
	if err := c.Recover(); err != nil {
		c.Free()
		return false, err
	}
	if heal {
		a.healed(c.Heal(), c.St.Ordinal())
	}
	return false, a.handOut(c, pieces, !heal)
}

// handOut fills some pieces from columns, except what the cache has of them. Then it frees the columns, or keeps the rest of them for another read.
func (a *Array) handOut(c *stripe.Columns, pieces []dirty.Piece, keep bool) error {
	defer func() {
		if !keep {
			c.Free()
			return
		}
		a.stripes.KeepRest(c, func(role int) bool {
			return slices.ContainsFunc(pieces, func(pc dirty.Piece) bool { return pc.Role == role && len(pc.Buf) == len(c.Bufs[role]) })
		})
	}()
	first := c.First()
	for _, pc := range pieces {
		for _, run := range a.cache.Overlay(pc, nil) {
			for col := run.First; col < run.First+run.N; col++ {
				if !c.Known[pc.Role][col-first] || c.GivenUp(pc.Role, col-first) {
					a.stats.Stripes.Unreadable.Add(1)
					at := a.Layout().At(pc.Stripe, pc.Role) + int64(col)*Block
					return fmt.Errorf("block at byte %d of %s: %w", at, a.Name(), ErrUnreadable)
				}
				if to := pc.Buf[(col-int(pc.From/Block))*Block:][:Block]; &to[0] != &c.Bufs[pc.Role][(col-first)*Block] {
					copy(to, c.Bufs[pc.Role][(col-first)*Block:])
				}
			}
		}
	}
	return nil
}

// healedRest is how long what was healed is counted before it is said again.
const healedRest = 5 * time.Second

// mending is what was healed and not said yet.
type mending struct {
	mu     env.Mutex
	last   time.Time
	blocks int
	places int // stripes, or visits to them
	first  int64
}

// healed says that blocks were healed: the first at once, those of the next seconds together.
func (a *Array) healed(blocks int, stripe int64) {
	if blocks == 0 {
		return
	}
	h := &a.mending
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.blocks == 0 {
		h.first = stripe
	}
	h.blocks, h.places = h.blocks+blocks, h.places+1
	a.sayHealed(env.Now())
}

// sayHealed says what is due; mending is locked.
func (a *Array) sayHealed(now time.Time) {
	h := &a.mending
	if h.blocks == 0 || now.Sub(h.last) < healedRest {
		return
	}
	where := fmt.Sprintf("at stripe %d", h.first)
	if h.places > 1 {
		where = fmt.Sprintf("in %d places, from stripe %d on", h.places, h.first)
	}
	a.event(event.Healed, "", "%d wrong or unreadable blocks %s were restored from redundancy and rewritten", h.blocks, where)
	h.last, h.blocks, h.places = now, 0, 0
}

// writtenBlocks tells for each block of a stripe's data, in logical order, whether it may hold anything but zeros. Of a guarded set it tells that of the
// volume at a place in the stripe only, by the volume's own disk where that is there.
func (a *Array) writtenBlocks(st layout.Stripe, in int64) ([]bool, error) {
	n := st.StripBlocks()
	out := make([]bool, n*st.Data)
	unlock := a.stripes.Lock([]layout.ID{st.ID()}, false)
	defer unlock()
	any := make([]bool, n)
	sums := make([]uint32, n)
	missing, parity := make([]bool, st.Data), false
	alone := st.Fixed && a.slots.At(st.Slot(int(in/st.Strip))).Usable(st)
	for role := range st.Width() {
		m := a.slots.At(st.Slot(role))
		if alone && role != int(in/st.Strip) {
			continue
		}
		if !m.Usable(st) || a.tables.Sums(m, st.Block(m.Slot), sums) != nil {
			if role < st.Data {
				missing[role] = true
			}
			continue
		}
		parity = parity || role >= st.Data
		for col, s := range sums {
			if s != record.SumNever {
				any[col] = true
				if role < st.Data {
					out[role*n+col] = true
				}
			}
		}
	}
	for role := range st.Data {
		for col := range n {
			if missing[role] {
				out[role*n+col] = any[col] || st.Fixed && !parity // no disk tells
			}
			if known, written := a.cache.State(st.ID(), role, col); known {
				out[role*n+col] = written
			}
		}
	}
	return out, a.alive()
}
