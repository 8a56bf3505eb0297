package array

import (
	"cmp"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"sync"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/internal/array/dirty"
	"nidalo/internal/array/journal"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// A write, from top to bottom. docs/architecture.md names every step of it.
//
//	Client.WriteAt             cut into pieces of one strip each (pieces), and a piece into whole blocks (writePartBlocks)
//	dirty.Cache.Put            copied into the cache; the write is acknowledged     a crash loses it, as a disk's own cache would
//	destageLoop, or a flush    chooses stripes
//	destage                    brings what is dirty of them to the members, see there

// WriteAt writes p at byte offset off. When it returns the data is readable, but durable only after a Flush.
func (c *Client) WriteAt(p []byte, off int64) error {
	lay := c.a.Layout()
	if err := lay.Check(off, int64(len(p))); err != nil {
		return err
	}
	c.a.stats.BytesWritten.Add(int64(len(p)))
	if c.habit.wrote() && c.a.fan.Quick() && inOneStrip(lay, off, int64(len(p))) {
		return c.through(p, off)
	}
	return c.a.put(c, p, off)
}

// put writes into the cache.
func (a *Array) put(by *Client, p []byte, off int64) error {
	lay, parts, err := a.enter(off, int64(len(p)))
	if err != nil {
		return err
	}
	defer a.ranges.unshare(parts)
	return pieces(lay, p, off, func(pc dirty.Piece) error {
		pc.By = by
		if err := a.lost(pc.Stripe, pc.Role); err != nil {
			return err
		}
		if n := int64(len(pc.Buf)); pc.From%Block != 0 || n%Block != 0 {
			return a.writePartBlocks(pc)
		}
		return a.cache.Put(pc)
	})
}

// pieces cuts the range [off, off+len(p)) into strips and calls f for each in order.
func pieces(lay *layout.Map, p []byte, off int64, f func(dirty.Piece) error) error {
	for len(p) > 0 {
		st, in := lay.Locate(off)
		role, from := int(in/st.Strip), in%st.Strip
		n := min(int64(len(p)), st.Strip-from)
		if err := f(dirty.Piece{Stripe: st, Role: role, From: from, Buf: p[:n]}); err != nil {
			return err
		}
		p, off = p[n:], off+n
	}
	return nil
}

// writePartBlocks writes a piece whose ends are not on block boundaries: the blocks at the ends are read first. The
// stripe is held, so that what was read stays what the members hold until it is in the cache.
func (a *Array) writePartBlocks(pc dirty.Piece) error {
	if err := a.cache.Room(int64(len(pc.Buf)) + 2*Block); err != nil {
		return err
	}
	defer a.stripes.Lock([]layout.ID{pc.Stripe.ID()}, true)()
	start := pc.From &^ (Block - 1)
	end := (pc.From + int64(len(pc.Buf)) + Block - 1) &^ (Block - 1)
	whole := dirty.Piece{Stripe: pc.Stripe, Role: pc.Role, From: start, Buf: make([]byte, end-start), By: pc.By}
	err := a.readLocked(whole.Part(0, Block))
	if last := int64(len(whole.Buf)) - Block; err == nil && last > 0 {
		err = a.readLocked(whole.Part(last, Block))
	}
	if err != nil {
		return err
	}
	a.cache.Merge(whole, pc.Buf, pc.From-start)
	return nil
}

func (a *Array) flushRange(by *Client, off, length int64) error {
	if err := a.alive(); err != nil {
		return err
	}
	if err := a.Layout().Check(off, length); err != nil || length == 0 {
		return err
	}
	ids, err := a.heldIn(off, length)
	if err != nil {
		return err
	}
	return a.flush(by, ids, placeHere)
}

// heldIn are the stripes of a range of which the cache holds something. What a change of layout moves meanwhile it has brought to the
// members before.
func (a *Array) heldIn(off, length int64) (ids []layout.ID, err error) {
	lay, parts, err := a.enter(off, length)
	if err != nil {
		return nil, err
	}
	defer a.ranges.unshare(parts)
	return a.heldAt(lay, off, length), nil
}

// heldAt is heldIn for a caller that holds the range.
func (a *Array) heldAt(lay *layout.Map, off, length int64) (ids []layout.ID) {
	if length > 1<<30 { // others are brought to the members as well then; to look for each stripe would take longer
		return a.cache.Stripes()
	}
	for at := off; at < off+length; {
		st, in := lay.Locate(at)
		if a.cache.Holds(st.ID()) {
			ids = append(ids, st.ID())
		}
		at += st.Left(in)
	}
	return ids
}

// lostIn is lost for a stretch of the logical space.
func (a *Array) lostIn(off, length int64) error {
	lay := a.Layout()
	for end := off + length; off < end && lay.Volumes() != nil; {
		st, in := lay.Locate(off)
		if err := a.lost(st, int(in/st.Strip)); err != nil {
			return err
		}
		off += st.Left(in)
	}
	return nil
}

// lost says that a data role of a stripe of a guarded set cannot be written: its disk is lost, with more than parity makes up for.
func (a *Array) lost(st layout.Stripe, role int) error {
	if !st.Fixed || a.slots.At(st.Slot(role)).Usable(st) || a.slots.Protects(st) {
		return nil
	}
	return fmt.Errorf("the volume on slot %d: %w", st.Slot(role), ErrUnkept)
}

// destageLoop writes out full stripes as they come, and others when they are old or memory is short.
func (a *Array) destageLoop() {
	for {
		if env.Wait(500*time.Millisecond, a.stop, a.cache.Work()) == 0 {
			return
		}
		for a.alive() == nil {
			ids := a.cache.Pick(env.Now(), a.destageAge())
			if len(ids) == 0 {
				break
			}
			if err := a.destageAll(ids); err != nil && !errors.Is(err, ErrUnkept) {
				a.cache.SetStuck(err)
				break
			}
			a.cache.SetStuck(nil)
		}
	}
}

// destageAll destages stripes that no client waits for. A client learns at its next flush what was given up of its writes.
func (a *Array) destageAll(ids []layout.ID) (err error) {
	for len(ids) > 0 {
		n := a.batchLength(ids)
		switch _, now := a.destage(ids[:n], placeFirst); {
		case errors.Is(now, ErrUnkept):
			err = now
		case now != nil:
			return now
		}
		ids = ids[n:]
	}
	return err
}

// flush destages some stripes for a client that waits. Those of others are destaged as well, but what goes wrong with them
// is told to their writers, and is no error here.
func (a *Array) flush(by *Client, ids []layout.ID, when placing) error {
	err, _ := a.flushFor(by, ids, when)
	return err
}

// flushFor is flush that also says what went wrong with stripes of others.
func (a *Array) flushFor(by *Client, ids []layout.ID, when placing) (err, others error) {
	if err := a.alive(); err != nil {
		return err, nil
	}
	err, others = a.flushStripes(by, ids, when)
	if late := by.told(); late != nil && err == nil {
		err = late
	}
	return err, others
}

// flushStripes has everything committed that some stripes hold, and returns the first error that concerns a client, and the first that
// concerns only others. What another destage has taken is waited for. It does not wait for writes in place: what is committed survives.
func (a *Array) flushStripes(by *Client, ids []layout.ID, when placing) (first, others error) {
	for {
		dirty, underway := a.cache.Volatile(ids)
		err, apart := a.flushDirty(by, dirty, when)
		first, others = cmp.Or(first, err), cmp.Or(others, apart)
		again := false // what is missed is dirty again
		for _, c := range underway {
			again = !probe.FlushForgetsOut.On() && !c.Wait() && !probe.MissedIsReached.On() || again
		}
		if !again {
			return first, others
		}
		if err := a.alive(); err != nil {
			return err, others
		}
	}
}

// flushDirty destages stripes. Those that fail together are tried apart, so that one for which there is no room does not stand in the way
// of another.
func (a *Array) flushDirty(by *Client, ids []layout.ID, when placing) (first, others error) {
	for len(ids) > 0 {
		n := a.batchLength(ids)
		writers, err := a.destage(ids[:n], when)
		switch {
		case err == nil || errors.Is(err, ErrUnkept): // it was told to its writers
		case a.alive() != nil:
			return a.alive(), others
		case n > 1:
			for _, half := range [][]layout.ID{ids[:n/2], ids[n/2 : n]} {
				err, apart := a.flushDirty(by, half, when)
				first, others = cmp.Or(first, err), cmp.Or(others, apart)
			}
		case by == &a.anybody || writers.has(by):
			first = cmp.Or(first, err)
		default:
			others = cmp.Or(others, err)
		}
		ids = ids[n:]
	}
	return first, others
}

// writers are the clients that wrote what a destage was about.
type writers []dirty.Writer

func (w writers) has(c dirty.Writer) bool { return slices.Contains(w, c) }

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
	for i, id := range ids {
		blocks := int64(a.cache.Blocks(id))
		room -= min(blocks, a.cache.StripBlocks(id)) + 1
		most -= blocks
		if i > 0 && (room < 0 || most < 0) {
			return i
		}
	}
	return len(ids)
}

// placing says how far a destage goes before it returns. The commit is all that a flush needs.
type placing int

const (
	placeFirst placing = iota // until everything is in place
	placeLater                // until the commit
	placeHere                 // until the commit, or until everything is in place where that takes less than to leave it to another goroutine
)

// mostBehind is how many blocks flushes may leave to be written in place later: until then they hold memory for parity. fewBlocks are brought in place
// here, where members answer quickly.
const (
	mostBehind = 16 << 20 / Block
	fewBlocks  = 16
)

// destage brings what is dirty of the given stripes to the members. When it returns nil, what was dirty when
// it was called is durable. With an error it names the clients that wrote what is not. Destages of different stripes run at the same
// time, each step by step; only in step 4 do they go together, in one batch after the other.
//
//	1  take the stripes' locks and their dirty blocks
//	2  work out what they mean for the members: read what parity needs, compute it
//	3  write fresh blocks in place and sync         a crash here leaves them never-written
//	4  commit to the journals, one sync             a crash here leaves the old contents; after it, the new ones
//	5  write the rest in place                      a crash here is repeated from the journals
//	6  enter the checksums
func (a *Array) destage(ids []layout.ID, when placing) (writers, error) {
	held := env.Holds()
	d := &destaging{a: a, unlock: a.stripes.Lock(ids, true), commit: dirty.NewCommit()}
	d.stripes, d.layers = d.few.stripes[:0], d.few.layers[:0]
	for _, id := range ids {
		if st, l := a.cache.Take(id, d.commit); l != nil {
			if now, ok := a.Layout().Find(id); ok { // the same, by the map in force
				st = now
			}
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
		d.commit.Missed()
		d.unlock()
		return by, err
	}
	d.need = need
	a.journal.Barrier.RLock()
	c, err := d.change()
	if err == nil {
		err = a.journal.Commit(c)
	}
	if err != nil {
		by := d.writers()
		d.giveUp()
		d.commit.Missed()
		d.end()
		return by, err
	}
	err = d.unkept()
	d.commit.Reached()
	if n := c.Blocks(); a.leaves(n, when) {
		env.GoOn(held, func() {
			defer a.behind.Add(-n)
			_ = d.place(c)
		})
		return nil, err
	}
	if when != placeFirst { // it is the commit that counts
		_ = d.place(c)
		return nil, err
	}
	by := d.writers()
	if failed := d.place(c); failed != nil {
		return by, failed
	}
	return nil, err
}

// leaves says whether so many blocks are left to be written in place by another goroutine, and counts them then.
func (a *Array) leaves(blocks int64, when placing) bool {
	if when == placeFirst || when == placeHere && blocks <= fewBlocks && a.fan.Quick() {
		return false
	}
	if a.behind.Add(blocks) <= mostBehind {
		return true
	}
	a.behind.Add(-blocks)
	return false
}

// destaging is the stripes of one destage.
type destaging struct {
	a       *Array
	unlock  func()
	commit  *dirty.Commit
	need    journal.Reservation
	stripes []layout.Stripe
	layers  []*dirty.Layer
	updates []*update
	changes journal.Change
	ordered *[]journal.Write // the writes of all updates; nil: there is one, which has them
	few     struct {         // room for the slices above, so that most flushes need no more
		stripes [2]layout.Stripe
		layers  [2]*dirty.Layer
		updates [2]*update
	}
}

// place brings in place what is committed, and ends the destage.
func (d *destaging) place(c *journal.Change) error {
	defer d.end()
	if err := d.a.journal.Place(c); err != nil { // the array has stopped; a start goes on from the journals
		d.giveUp()
		return err
	}
	for _, st := range d.stripes {
		d.a.cache.Done(st.ID())
	}
	d.a.cache.Wake()
	return nil
}

func (d *destaging) end() {
	d.a.journal.Barrier.RUnlock()
	d.a.journal.Unreserve(d.need)
	for _, u := range d.updates {
		if u != nil {
			u.done()
		}
	}
	if d.ordered != nil {
		clear(*d.ordered)
		orders.Put(d.ordered)
	}
	d.unlock()
}

// giveUp returns the blocks to the cache: they did not reach the members.
func (d *destaging) giveUp() {
	probe.DestagePutBack.Seen()
	for _, st := range d.stripes {
		d.a.cache.PutBack(st.ID())
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
	for i, u := range d.updates {
		if u != nil && u.unkept == 0 {
			u.unkept = u.lostMeanwhile()
		}
		if u == nil || u.unkept == 0 {
			continue
		}
		d.a.event(event.WriteLost, "", "%d blocks written to stripe %d could not be kept: their member is away, and the parity is lost", u.unkept, u.st.Ordinal())
		err := fmt.Errorf("stripe %d: %w", u.st.Ordinal(), ErrUnkept)
		for _, by := range d.layers[i].By {
			by.Fail(err)
		}
		if first == nil {
			first = err
		}
	}
	return first
}

// change makes one change of all stripes.
func (d *destaging) change() (*journal.Change, error) {
	if d.updates = d.few.updates[:0]; len(d.stripes) > len(d.few.updates) {
		d.updates = make([]*update, 0, len(d.stripes))
	}
	d.updates = d.updates[:len(d.stripes)]
	bytes := 0
	for _, l := range d.layers {
		bytes += l.Blocks() * Block
	}
	for i := range d.stripes {
		d.updates[i] = d.a.newUpdate(d.stripes[i], d.layers[i])
	}
	d.readAhead()
	err := d.a.working.Out(len(d.stripes), bytes, func(i int) error { return d.updates[i].work() })
	c := &d.changes
	if err != nil {
		return c, err
	}
	if len(d.updates) == 1 {
		c.Writes, c.Owed = d.updates[0].writes, d.updates[0].owed
		return c, nil
	}
	d.ordered = inOrder(d.updates)
	c.Writes = *d.ordered
	for _, u := range d.updates {
		c.Owed = append(c.Owed, u.owed...)
	}
	return c, err
}

// inOrder are the writes of updates, one member after the other. The updates are in the order of their stripes, so the writes of each member are in that of
// their places, mostly.
func inOrder(updates []*update) *[]journal.Write {
	out := orders.Get().(*[]journal.Write)
	next := make([]int, 0, 32) // by slot: where its next write goes
	for _, u := range updates {
		for i := range u.writes {
			slot := u.writes[i].M.Slot
			for len(next) <= slot+1 {
				next = append(next, 0)
			}
			next[slot+1]++
		}
	}
	for slot := 1; slot < len(next); slot++ {
		next[slot] += next[slot-1]
	}
	n := 0
	if len(next) > 0 {
		n = next[len(next)-1]
	}
	*out = slices.Grow((*out)[:0], n)[:n]
	for _, u := range updates {
		for _, w := range u.writes {
			(*out)[next[w.M.Slot]] = w
			next[w.M.Slot]++
		}
	}
	return out
}

// orders keeps what inOrder made for the next.
var orders = sync.Pool{New: func() any { return new([]journal.Write) }}

// journalNeed bounds what the change will take in each ring, in blocks.
func (a *Array) journalNeed(stripes []layout.Stripe, layers []*dirty.Layer) journal.Reservation {
	need := make(journal.Reservation, 0, min(a.slots.Len(), 8))
	var few [16]int64
	bytes := few[:] // of sums, by slot
	if n := a.slots.Len(); n > len(few) {
		bytes = make([]int64, n)
	}
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
			need.Add(m, columns)
			bytes[m.Slot] += columns * (4 + 16)
		}
	}
	for i := range need {
		need[i].Blocks += 1 + (bytes[need[i].M.Slot]+64)/Block
	}
	return need
}
