package task

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"sync/atomic"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// How the layout of an array changes.
//
// Two maps and a boundary: what is below it is laid out anew, what is from it on as before. Windows are moved one after the other, upwards. Nothing of
// the new map may lie where something is that is still to be moved (layout.NewTurn refuses other changes), so only what a window holds itself can be
// in its way. For each window:
//
//	1  clients are kept from it, and what the cache has of it is brought to the members
//	2  its stripes are locked, those of both maps; a checkpoint        so no batch that is needed speaks of what was there before
//	3  it is read, verified, into memory
//	4  the new stripes are written: what goes where nothing is, in place and synced; the rest to the journals, in one batch with the
//	   cells that are given up, which become never-written. The batch carries the new boundary    a crash before it is committed leaves the old map
//	5  the record says the new boundary, on all members                a crash before that: the batch is in the journals, and a start goes by its boundary
//	6  the new map is in force, and the batch is brought in place      a crash in it is repeated from the journals
//
// From 4 to 6 the barrier is held, so no checkpoint drops the batch before the record knows what it says. A window in which nothing was ever written is
// passed over with step 5 alone. Cells that neither side uses are never-written when a window is done, and again at the end, before the new room is
// opened: they hold old blocks with sums that are right.
//
// While a member is away, is rebuilt or copied, no window is moved: so the cursors of rebuilds, which count strips, never meet a map that changes,
// and no member that comes back has missed a change.

var errConverting = errors.New("the array is being converted, which has to end first")

// moveBytes is how much is moved at once, at most, unless one unit of the change is more.
const moveBytes = 8 << 20

// startTurn works on the change of layout that the record tells of.
func (w *Works) startTurn() (*Task, error) {
	rec := w.host.Roster.View()
	turn, err := rec.Turns()
	if err != nil {
		return nil, err
	}
	m := &moving{w: w, turn: turn, moved: rec.Turn.Moved}
	return w.tasks.Start(state.TaskConvert, -1, func(t *Task) { m.count(t) }, func(t *Task) error {
		t.beganAt(rec.Turn.Started)
		m.t = t
		return m.run()
	})
}

// moving is a change of layout under way.
type moving struct {
	w     *Works
	t     *Task
	turn  *layout.Turn
	moved int64
}

func (m *moving) count(t *Task) {
	all, left := m.w.host.Stripes.Used(), m.left()
	t.Count(max(all-left, 0), max(all, left))
}

// left is how much is still to be moved, in bytes of the logical space.
func (m *moving) left() int64 {
	lay := m.w.host.Layout()
	if m.moved >= lay.Capacity() {
		return 0
	}
	from, to := m.turn.Stretch(m.moved, lay.Capacity())
	first, _ := lay.Locate(from)
	left := m.w.host.Stripes.UsedFrom(first.Ordinal())
	if to < lay.Capacity() {
		behind, _ := lay.Locate(to)
		left -= m.w.host.Stripes.UsedFrom(behind.Ordinal())
	}
	return left
}

func (m *moving) run() error {
	var done int64
	if err := m.skip(); err != nil {
		return err
	}
	for m.moved < m.turn.Old.Capacity() {
		err := m.t.Point(done)
		if err != nil {
			return err
		}
		if err := m.t.await(m.waits); err != nil {
			return err
		}
		if done, err = m.step(); err != nil {
			return err
		}
		m.t.Advance(env.Now(), done)
	}
	for {
		if err := m.t.await(m.waits); err != nil {
			return err
		}
		if ended, err := m.finish(); ended || err != nil {
			return err
		}
	}
}

// waits says what the change of layout waits for; empty: nothing.
func (m *moving) waits() string {
	if why := m.w.whole(); why != "" {
		return why
	}
	if m.w.tasks.Running(state.TaskCheck) {
		return "for the consistency check"
	}
	return ""
}

// step moves the next window, or passes over what was never written, and says how many bytes of stripes that were written it moved.
func (m *moving) step() (moved int64, err error) {
	m.w.joins.Lock()
	defer m.w.joins.Unlock()
	if err := m.w.host.Alive(); err != nil {
		return 0, err
	}
	if m.waits() != "" {
		return 0, nil
	}
	to, _ := m.reach(m.window())
	if next := m.nextWritten(); next > to {
		if jumped, err := m.jump(next); jumped || err != nil {
			return 0, err
		}
	}
	return m.move(to)
}

// window is how much is moved at once: whole units, which fit into the journals several times.
func (m *moving) window() int64 {
	most := int64(moveBytes)
	if m.w.host.Piece > 0 {
		most = m.w.host.Piece
	}
	if m.t.Yields() {
		most /= 4 // so that clients wait less, and that a pace is kept
	}
	unit := m.turn.Unit(m.moved)
	units := max(most/unit, 1)
	for _, o := range m.w.host.Slots.All() {
		units = min(units, max(o.Ring.Blocks/8/(m.turn.Each(m.moved)/record.Block), 1))
	}
	return units * unit
}

// reach is how much is moved after a window in which no more than some bytes lie in stripes that were written, and how many do.
func (m *moving) reach(bytes int64) (to, written int64) {
	lay := m.w.host.Layout()
	unit := m.turn.Unit(m.moved)
	for to = m.moved; to < lay.Capacity() && to-m.moved < bytes+unit+m.empty() && m.turn.Unit(to) == unit; {
		next := m.turn.Next(to)
		more := int64(0)
		for at, end := m.turn.Stretch(to, next); at < end; {
			st, in := lay.Locate(at)
			n := min(st.StripeSize()-in, end-at)
			if !m.w.host.Stripes.Untouched(st, nil) {
				more += n
			}
			at += n
		}
		if written+more > bytes && to > m.moved {
			break
		}
		to, written = next, written+more
	}
	return to, written
}

// empty is how much that was never written a window may have in it.
func (m *moving) empty() int64 {
	if m.w.host.Piece > 0 {
		return 8 * m.w.host.Piece
	}
	return 4 * moveBytes
}

// nextWritten is how much is moved at the last boundary before anything is come to that may ever have been written.
func (m *moving) nextWritten() int64 {
	lay := m.w.host.Layout()
	if m.turn.Down {
		return m.turn.Floor(lay.Capacity() - m.lastWritten(lay.Capacity()-m.moved))
	}
	st, _ := lay.Locate(m.moved)
	next := lay.Offset(m.w.host.Stripes.NextWrittenOf(lay, st.Ordinal()))
	if next < lay.Capacity() {
		next = max(m.turn.Floor(next), m.moved)
	}
	return next
}

// lastWritten is a byte from which on, up to another, nothing was ever written.
func (m *moving) lastWritten(end int64) int64 {
	lay := m.w.host.Layout()
	last, _ := lay.Locate(end - 1)
	if m.w.host.Stripes.NextWrittenOf(lay, last.Ordinal()) == last.Ordinal() {
		return end // as mostly
	}
	// The first stripe from which on none up to the last was written: it is so for all behind one for which it is.
	first := sort.Search(int(last.Ordinal())+1, func(i int) bool {
		return m.w.host.Stripes.NextWrittenOf(lay, int64(i)) > last.Ordinal()
	})
	return min(lay.Offset(int64(first)), end)
}

// jump moves the boundary over what was never written, with all clients kept away for that moment. It says false when something is there after all, in
// the logical space or in the cells that the new map has for it.
func (m *moving) jump(to int64) (jumped bool, err error) {
	if err := m.settle(to); err != nil {
		return false, err
	}
	defer m.w.host.Hold(0, m.turn.Old.Capacity())()
	if err := m.settle(to); err != nil {
		return false, err
	}
	defer m.w.host.Stripes.LockAll()()
	if m.nextWritten() < to {
		return false, nil
	}
	lay, err := m.turn.At(to)
	if err != nil {
		return false, err
	}
	for _, r := range lay.Regions() {
		if was, _ := m.w.host.Layout().Region(r.ID); m.anythingIn(r, was) {
			return false, nil
		}
	}
	if !m.pend(lay) {
		return true, nil
	}
	defer m.w.host.Roster.Pend(nil)
	m.w.host.Journal.Barrier.RLock()
	defer m.w.host.Journal.Barrier.RUnlock()
	probe.WindowJumped.Seen()
	return true, m.advance(to, lay)
}

// skip passes over what both maps put at the same places, with all clients kept away for that moment: stripes have other names from here on.
func (m *moving) skip() error {
	to := m.turn.Alike()
	for m.moved < to {
		if err := m.t.await(m.waits); err != nil {
			return err
		}
		if err := m.skipTo(to); err != nil {
			return err
		}
	}
	return nil
}

func (m *moving) skipTo(to int64) error {
	m.w.joins.Lock()
	defer m.w.joins.Unlock()
	if err := m.w.host.Alive(); err != nil {
		return err
	}
	if err := m.settle(to); err != nil {
		return err
	}
	defer m.w.host.Hold(0, m.turn.Old.Capacity())()
	if err := m.settle(to); err != nil {
		return err
	}
	defer m.w.host.Stripes.LockAll()()
	if err := m.w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	lay, err := m.turn.At(to)
	if err != nil || !m.pend(lay) {
		return err
	}
	defer m.w.host.Roster.Pend(nil)
	m.w.host.Journal.Barrier.RLock()
	defer m.w.host.Journal.Barrier.RUnlock()
	return m.advance(to, lay)
}

// pend has the loss of a member judged by a map that is about to be in force as well, and says whether all members are still there.
func (m *moving) pend(lay *layout.Map) bool {
	m.w.host.Roster.Pend(lay)
	if m.w.whole() != "" && !probe.MarginOfOneMap.On() {
		m.w.host.Roster.Pend(nil)
		return false
	}
	if probe.MarginOfOneMap.On() {
		m.w.host.Roster.Pend(nil)
	}
	return true
}

// anythingIn says whether a member has anything in the rows of a region that were not in force before.
func (m *moving) anythingIn(r *layout.Region, was *layout.Region) bool {
	for _, slot := range r.Slots {
		begin, n := r.Span(slot)
		if was != nil { // new rows lie behind those, or before them
			first, before := was.Span(slot)
			if n -= before; first == begin {
				begin += before
			}
		}
		if n <= 0 {
			continue
		}
		last := (begin + n - 1) / record.SumsPerPage
		if next, ok := m.w.host.Tables.NextBit(m.w.host.Slots.At(slot), begin/record.SumsPerPage, last); !ok || next <= last {
			return true
		}
	}
	return false
}

// advance writes down a boundary, and puts its map in force. The barrier is held.
func (m *moving) advance(to int64, lay *layout.Map) error {
	if err := m.w.host.Roster.Update(func(r *record.Record) { r.Turn.Moved = to }); err != nil {
		return err
	}
	m.w.host.Remap(lay)
	m.moved = to
	return nil
}

// move moves what lies below a boundary and is not moved yet, or as much of it as has room in the journals, and says how much of that was ever written.
func (m *moving) move(to int64) (written int64, err error) {
	was := m.moved
	if err := m.settle(to); err != nil {
		return 0, err
	}
	if !probe.MovedUnderClients.On() {
		from, end := m.turn.Stretch(was, to)
		defer m.w.host.Hold(from, end-from)()
	}
	if err := m.settle(to); err != nil {
		return 0, err
	}
	now, written := m.reach(m.window()) // clients may have written there since it was looked at
	if err = m.moveHeld(min(to, now)); m.moved == was {
		written = 0
	}
	return written, err
}

// settle brings what the cache has of what is moved next to the members. Done once before clients are kept away, it has them wait less.
func (m *moving) settle(to int64) error {
	from, end := m.turn.Stretch(m.moved, to)
	return m.w.host.Settle(from, end-from)
}

// moveHeld is move with clients kept away, and nothing of it in the cache.
func (m *moving) moveHeld(to int64) error {
	x := &window{moving: m}
	x.from, x.to = m.turn.Stretch(m.moved, to)
	x.find()
	defer m.w.host.Stripes.Lock(x.ids(), true)()
	if err := m.w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	defer x.free()
	if err := x.read(); err != nil {
		return err
	}
	if x.healed.Load() > 0 { // the new layout may not have what it takes to heal it again
		if err := m.w.host.Journal.Checkpoint(); err != nil {
			return err
		}
	}
	lay, err := m.turn.At(to)
	if err != nil {
		return err
	}
	if !m.pend(lay) {
		return nil
	}
	defer m.w.host.Roster.Pend(nil)
	if err := x.write(); err != nil {
		return err
	}
	if _, err := m.giveUp(lay, &x.change); err != nil {
		return err
	}
	if x.change.Moved = to; probe.BoundaryNotInBatch.On() {
		x.change.Moved = 0
	}
	probe.WindowMoved.Seen()
	if x.from > 0 && x.to < m.turn.Old.Capacity() {
		probe.WindowInTheMiddle.Seen()
	}
	return m.commit(&x.change, func() error { return m.advance(to, lay) })
}

// commit makes a change, and calls then between its commit and its writes in place.
func (m *moving) commit(c *journal.Change, then func() error) error {
	j := m.w.host.Journal
	need := journal.Reservation{}
	if c.Moved > 0 {
		for _, o := range m.w.host.Slots.All() {
			need[o] = 0 // it is told as well
		}
	}
	for _, x := range c.Writes {
		need[x.M] += int64(len(x.Sums)+4)*4 + 16 // bytes of the header
	}
	for o, n := range need {
		need[o] = n/record.Block + 3
	}
	for _, x := range c.Writes {
		if x.Kind == record.RunPayload {
			need[x.M] += int64(x.N)
		}
	}
	if err := j.Reserve(need); err != nil {
		return err
	}
	defer j.Unreserve(need)
	j.Barrier.RLock()
	defer j.Barrier.RUnlock()
	if probe.BoundaryBeforeCommit.On() {
		if err := then(); err != nil {
			return err
		}
	}
	if len(c.Writes) > 0 {
		if err := j.Commit(c); err != nil {
			return err
		}
	}
	if probe.BoundaryTooLate.On() {
		j.Barrier.RUnlock()
		err := j.Checkpoint()
		j.Barrier.RLock()
		if err != nil {
			return err
		}
	}
	if err := then(); err != nil {
		return err
	}
	return j.Place(c)
}

// mostGivenUp is how many runs of cells are given up in one change.
const mostGivenUp = 4096

// giveUp adds to a change that unused cells become never-written: those that no region of a map uses. It says whether that was all of them.
func (m *moving) giveUp(lay *layout.Map, c *journal.Change) (all bool, err error) {
	begun := len(c.Writes)
	if probe.CellsNotGivenUp.On() {
		return true, nil
	}
	for _, s := range m.turn.Free(lay) {
		o := m.w.host.Slots.At(s.Slot)
		if !o.Live() {
			continue
		}
		for block, end := s.Block, s.Block+s.N; block < end; {
			page, ok := m.w.host.Tables.NextBit(o, block/record.SumsPerPage, (end-1)/record.SumsPerPage)
			if !ok {
				return false, m.w.host.Alive()
			}
			if block = max(block, page*record.SumsPerPage); block >= end {
				break
			}
			n := min(end-block, (page+1)*record.SumsPerPage-block)
			sums := make([]uint32, n)
			if err := m.w.host.Tables.Sums(o, block, sums); err != nil {
				return false, err
			}
			c.Writes = append(c.Writes, emptying(o, block, sums)...)
			if len(c.Writes)-begun > mostGivenUp {
				return false, nil
			}
			block += n
		}
	}
	return true, nil
}

// emptying are the writes by which those of some blocks that were written become never-written.
func emptying(o *member.Member, block int64, sums []uint32) (out []journal.Write) {
	for i := 0; i < len(sums); {
		n := 0
		for i+n < len(sums) && sums[i+n] != record.SumNever && n < record.MaxRun {
			n++
		}
		if n > 0 {
			out = append(out, journal.Write{M: o, Kind: record.RunNever, Block: block + int64(i), N: n})
		}
		i += max(n, 1)
	}
	return out
}

// finish makes the new layout that of the array, when all is moved. It says false when it has to be called again.
func (m *moving) finish() (ended bool, err error) {
	m.w.joins.Lock()
	defer m.w.joins.Unlock()
	if m.waits() != "" {
		return false, nil
	}
	lay, err := m.turn.At(m.turn.Old.Capacity())
	if err != nil {
		return false, err
	}
	var c journal.Change
	all, err := m.giveUp(lay, &c)
	if err == nil && len(c.Writes) > 0 {
		err = m.commit(&c, func() error { return nil })
	}
	if err == nil {
		err = m.w.host.Journal.Checkpoint()
	}
	if err != nil || !all || len(c.Writes) > 0 {
		return false, err
	}
	release := m.w.host.Hold(0, m.turn.Old.Capacity())
	defer release()
	if m.waits() != "" {
		return false, nil
	}
	if n := m.w.host.Roster.View().Turn.Members; n > 0 {
		if err := m.w.host.Settle(0, m.turn.Old.Capacity()); err != nil {
			return false, err
		}
		if err := m.w.host.Journal.Checkpoint(); err != nil {
			return false, err
		}
		if err := m.w.retireWitnesses(n); err != nil {
			return false, err
		}
	}
	freed, err := m.w.host.Roster.EndTurn(m.w.host.Remap)
	if err == nil {
		m.w.letGo(freed)
	}
	return true, err
}

// window is one window that is moved.
type window struct {
	*moving
	from, to int64
	old, new []layout.Stripe
	buf      []byte       // its data, up to the end of the last new stripe
	state    []block      // of buf, by block
	healed   atomic.Int64 // blocks
	change   journal.Change
	scratch  [][]byte
}

// block is what is known of a block that is moved.
type block uint8

const (
	never block = iota
	known
	lost
)

// find finds the stripes of both maps in which it lies.
func (x *window) find() {
	lay := x.w.host.Layout()
	for at := x.from; at < x.to; {
		st, in := lay.Locate(at)
		x.old = append(x.old, st)
		at += st.StripeSize() - in
	}
	end := x.to
	for at := x.from; at < x.to; {
		st, in := x.turn.New.Locate(at)
		for g := range st.Groups { // all of a row
			x.new = append(x.new, st.At(g, st.Row))
		}
		at += st.StripeSize()*int64(st.Groups) - in
		end = max(end, at)
	}
	x.buf, x.state = make([]byte, end-x.from), make([]block, (end-x.from)/record.Block)
}

func (x *window) ids() (out []layout.ID) {
	for _, st := range slices.Concat(x.old, x.new) {
		out = append(out, st.ID())
	}
	return out
}

// read reads what it holds.
func (x *window) read() error {
	return x.w.host.Stripes.Fan.Work(len(x.old), func(i int) error {
		st := x.old[i]
		if x.w.host.Stripes.Untouched(st, nil) {
			return x.w.host.Alive()
		}
		into := make([][]byte, st.Data)
		for role := range into {
			if at := st.Offset() + int64(role)*st.Strip; at >= x.from && at+st.Strip <= x.to {
				into[role] = x.buf[at-x.from:][:st.Strip]
			}
		}
		c, err := x.w.host.Stripes.LoadInto(st, 0, st.StripBlocks(), nil, into)
		if err != nil {
			return err
		}
		defer c.Free()
		if err := c.Recover(); err != nil {
			return err
		}
		x.heal(c)
		for role := range st.Data {
			for col := range st.StripBlocks() {
				at := st.Offset() + int64(role)*st.Strip + int64(col)*record.Block - x.from
				if at < 0 || at >= x.to-x.from {
					continue
				}
				state := known
				switch {
				case c.Unwritten(role, col):
					state = never
				case !c.Known[role][col]:
					state = lost
					x.w.host.Unreadable.Add(1)
				}
				x.state[at/record.Block] = state
				if into[role] == nil {
					copy(x.buf[at:][:record.Block], c.Bufs[role][col*record.Block:])
				}
			}
		}
		return nil
	})
}

// heal rewrites what was found wrong, where it is. It counts from the next checkpoint on.
func (x *window) heal(c *stripe.Columns) {
	x.w.host.Journal.Barrier.RLock()
	defer x.w.host.Journal.Barrier.RUnlock()
	n := c.Heal()
	x.healed.Add(int64(n))
	x.w.host.Healed(n, c.St.Ordinal())
}

// write works out what the new stripes mean for the members.
func (x *window) write() error {
	parts := make([][]journal.Write, len(x.new))
	scratch := make([][][]byte, len(x.new))
	err := x.w.host.Stripes.Fan.Work(len(x.new), func(i int) (err error) {
		parts[i], scratch[i], err = x.stripe(x.new[i])
		return err
	})
	x.scratch = slices.Concat(scratch...)
	x.change.Writes = slices.Concat(parts...)
	return err
}

func (x *window) free() { x.w.host.Scratch.Put(x.scratch...) }

// stripe works out one new stripe.
func (x *window) stripe(st layout.Stripe) (writes []journal.Write, rows [][]byte, err error) {
	n, at := st.StripBlocks(), st.Offset()-x.from
	states := make([][]block, st.Width())
	strips := make([][]byte, st.Data)
	column := make([]block, n) // what its parity is
	for role := range strips {
		begin := at + int64(role)*st.Strip
		strips[role], states[role] = x.buf[begin:][:st.Strip], x.state[begin/record.Block:][:n]
		for col, s := range states[role] {
			column[col] = max(column[col], s)
		}
	}
	for range st.Parity {
		rows = append(rows, x.w.host.Scratch.Get(n))
	}
	if slices.Contains(column, known) && st.Parity > 0 {
		parity.Encode(rows, strips)
	}
	sums := make([]uint32, n)
	for role := range states {
		buf := []byte(nil)
		if role < st.Data {
			buf = strips[role]
		} else {
			buf, states[role] = rows[role-st.Data], column
		}
		m := x.w.host.Slots.At(st.Slot(role))
		if !m.Live() {
			continue
		}
		if err := x.w.host.Tables.Sums(m, st.Block(m.Slot), sums); err != nil {
			return nil, rows, err
		}
		writes = append(writes, strip(m, st.Block(m.Slot), states[role], sums, buf)...)
	}
	return writes, rows, nil
}

// strip are the writes that bring a strip to a member, which has some sums in its place: what goes where nothing is can be written in place at once.
func strip(m *member.Member, first int64, states []block, sums []uint32, buf []byte) (out []journal.Write) {
	kind := func(col int) record.RunKind {
		empty := sums[col] == record.SumNever
		switch {
		case states[col] == never && empty:
			return 0
		case states[col] == never:
			return record.RunNever
		case states[col] == lost:
			return record.RunLost
		case empty || probe.MovedInPlace.On():
			return record.RunInPlace
		}
		return record.RunPayload
	}
	for col := 0; col < len(states); {
		k, e := kind(col), col+1
		for e < len(states) && kind(e) == k {
			e++
		}
		w := journal.Write{M: m, Kind: k, Block: first + int64(col), N: e - col}
		if k == record.RunInPlace || k == record.RunPayload {
			w.Buf = buf[col*record.Block : e*record.Block]
			w.Sums = record.SumsOf(w.Buf)
		}
		if k != 0 {
			out = append(out, w)
		}
		col = e
	}
	return out
}

// Target is the layout that an array is to have.
type Target struct {
	Level  layout.Level
	Strip  int64
	Groups int
	Free   int  // how many of the last members are to be let go
	widen  bool // the same layout over more of the disks
}

// Conversion is a change of layout that could be made.
type Conversion struct {
	Target
	Members             int
	Before, After       int64 // capacity, bytes
	Cut                 int64 // to which the array has to be made smaller first; 0: it has not
	Moves               int64 // bytes of the logical space that are written, at most
	Need                int64 // of each new disk, bytes
	MarginNow, MarginAt int   // how many members may be lost for certain: now, and then
	Shape               layout.Shape
	At                  layout.Shape // its shape then
	Map                 *layout.Map  // then; nil where nothing has to be moved
	record              *record.Turn // nil: nothing has to be moved
	regions             []layout.Region
	added               []record.Entry
}

// PlanConversion works out a change of layout onto the members there are and some more disks of given sizes.
func (w *Works) PlanConversion(to Target, sizes []int64) (Conversion, error) {
	return w.planOn(w.host.Roster.View(), to, sizes)
}

// PlanWiden works out how layers are laid out anew over the room that was gained, see Gain.
func (w *Works) PlanWiden() (Conversion, error) {
	rec, lay := w.host.Roster.View().Clone(), w.host.Layout()
	for slot, more := range w.Gain().more {
		if more > 0 {
			rec.Roster[slot].More = append(slices.Clone(rec.Roster[slot].More), more)
		}
	}
	return w.planOn(rec, Target{Level: lay.Level, Strip: lay.Shape.Strip, widen: true}, nil)
}

// planOn is PlanConversion for members as some record has them.
func (w *Works) planOn(rec *record.Record, to Target, sizes []int64) (Conversion, error) {
	lay := w.host.Layout()
	c := Conversion{Target: to, Members: len(rec.Roster) + len(sizes) - to.Free, Before: lay.Capacity(), Shape: lay.Shape}
	switch {
	case rec.Turn != nil:
		return c, errConverting
	case to.Free > 0 && len(sizes) > 0:
		return c, errors.New("disks are either added or taken out")
	}
	if c.Strip == 0 {
		c.Strip = rec.Strip
	}
	if !c.widen && c.Free == 0 && c.Level == lay.Level && c.Strip == lay.Shape.Strip && len(sizes) == 0 && (c.Groups == 0 || c.Groups == lay.Shape.Groups) {
		return c, fmt.Errorf("the array has level %s with such strips and groups already", c.Level)
	}
	shape, err := layout.ShapeOf(c.Level, c.Strip, c.Groups, c.Members)
	if err != nil {
		return c, err
	}
	if err := c.enlist(rec, sizes, max(w.strip(), c.Strip), lay.Mixed()); err != nil {
		return c, err
	}
	c.regions = record.RegionsOf(lay)
	first, strip := nextID(c.regions), c.Strip
	for _, r := range c.regions {
		strip = max(strip, r.Strip)
	}
	roster := append(slices.Clone(rec.Roster), c.added...)
	none := func(int) bool { return false }
	c.MarginNow, _ = lay.Margin(none)
	c.At = shape
	if c.Free == 0 && !c.widen && c.Level == lay.Level && c.Level.Appends() && c.Strip == lay.Shape.Strip {
		c.regions = append(c.regions, appended(shape, roster, len(rec.Roster), first)...) // behind what there is
		after, err := layout.NewMap(c.Level, c.Members, shape, slices.Clone(c.regions))
		if err == nil {
			c.After, c.MarginAt = after.Capacity(), c.MarginNow
		}
		return c, err
	}
	c.record = &record.Turn{Level: c.Level, Groups: 0, Strip: c.Strip, Regions: laidOut(c.Level, shape, roster[:c.Members], strip, first)}
	if c.Free > 0 {
		c.record.Members = c.Members
	}
	if c.Level.Nested() {
		c.record.Groups = shape.Groups
	}
	after := *rec
	after.Roster, after.Regions, after.Turn = roster, c.regions, c.record
	if len(c.record.Regions) == 0 {
		return c, errors.New("the members have no room for strips of that size")
	}
	if c.Free > 0 {
		if err := c.makeRoom(lay); err != nil {
			return c, err
		}
		after.Regions = c.regions
	}
	turn, err := after.Turns()
	if turn == nil {
		return c, err
	}
	if err == nil && turn.Down {
		err = w.fits(turn)
	}
	c.Map, c.After = turn.New, turn.New.Capacity()
	c.MarginAt, _ = turn.New.Margin(none)
	if alike := turn.Alike(); alike < lay.Capacity() {
		st, _ := lay.Locate(alike)
		c.Moves = w.host.Stripes.UsedFrom(st.Ordinal())
	}
	return c, err
}

// makeRoom has the regions of the array end where those of fewer members do.
func (c *Conversion) makeRoom(lay *layout.Map) error {
	for _, r := range c.record.Regions {
		c.After += r.Rows * int64(r.Groups) * r.StripeSize()
	}
	if c.After >= lay.Capacity() {
		return nil
	}
	cut, err := lay.Cut(c.After)
	if err != nil {
		return err
	}
	c.Cut, c.regions = cut.Capacity(), record.RegionsOf(cut)
	return nil
}

// fits says whether the journals have room for what is moved at once downwards: whole rows of both layouts.
func (w *Works) fits(turn *layout.Turn) error {
	each := max(turn.Each(0), turn.Each(turn.Next(0)))
	for _, m := range w.host.Slots.All() {
		if m.Live() && each/record.Block > m.Ring.Blocks/3 {
			return fmt.Errorf("%s would be moved at once on each member, and the journal of %s is too small for that: choose strips that are smaller", say.Size(each), m.Name())
		}
	}
	return nil
}

// enlist lays out the entries of new members: segments like the smallest of those there are, or one over the whole disk where sizes are mixed.
func (c *Conversion) enlist(rec *record.Record, sizes []int64, strip int64, mixed bool) error {
	least := slices.Clone(rec.Roster)
	e := record.Entry{Condition: record.Active, DataSize: least[0].DataSize, More: slices.Clone(least[0].More)}
	for _, o := range least {
		e.DataSize = min(e.DataSize, o.DataSize)
		e.More = e.More[:min(len(e.More), len(o.More))]
		for i := range e.More {
			e.More[i] = min(e.More[i], o.More[i])
		}
	}
	c.Need = needSize(e, strip)
	for i, size := range sizes {
		if size < c.Need {
			return fmt.Errorf("a disk of %s is too small: a member of this array needs at least %s (%d bytes)", say.Size(size), say.Size(c.Need), c.Need)
		}
		own := e
		if mixed {
			p, err := record.PlaceFor(size, 0)
			if err != nil {
				return err
			}
			own.DataSize, own.More = p.DataSize, nil
		}
		own.Size, own.Witness = size, record.WitnessOf(len(rec.Roster)+i, len(rec.Roster)+len(sizes))
		c.added = append(c.added, own)
	}
	return nil
}

// spaces are the segments of some members, by slot.
func spaces(roster []record.Entry) [][]layout.Space {
	out := make([][]layout.Space, len(roster))
	for slot, e := range roster {
		for i := 0; ; i++ {
			size, first, ok := e.Segment(i)
			if !ok {
				break
			}
			out[slot] = append(out[slot], layout.Space{First: first, Size: size})
		}
	}
	return out
}

// laidOut are the regions of a shape over the segments of some members: over those that all have, or in layers where the level mixes. They are whole
// multiples of the largest strip high.
func laidOut(level layout.Level, shape layout.Shape, roster []record.Entry, strip int64, id int) (out []layout.Region) {
	switch {
	case level.Appends():
		return appended(shape, roster, 0, id)
	case level.Mixes():
		return layout.Layers(level, shape.Strip, strip, spaces(roster), id)
	}
	for i := 0; ; i++ {
		r := layout.Region{Shape: shape, ID: id + i, Rows: 1 << 60}
		for slot, e := range roster {
			size, first, ok := e.Segment(i)
			if !ok {
				return out
			}
			r.Rows = min(r.Rows, size/strip*(strip/shape.Strip))
			r.Slots, r.Begin = append(r.Slots, slot), append(r.Begin, first)
		}
		if r.Rows > 0 {
			out = append(out, r)
		}
	}
}

// appended are regions, over the members from a slot on, for a level whose members are used one after the other.
func appended(shape layout.Shape, roster []record.Entry, from, id int) (out []layout.Region) {
	shape.Groups = 1
	for slot, e := range roster {
		if slot < from {
			continue
		}
		for i := 0; ; i++ {
			size, first, ok := e.Segment(i)
			if !ok {
				break
			}
			if rows := size / shape.Strip; rows > 0 {
				out = append(out, layout.Region{Shape: shape, ID: id + len(out), Rows: rows, Slots: []int{slot}, Begin: []int64{first}})
			}
		}
	}
	return out
}

// Convert begins to change the layout of the array, with some more disks. These belong to the array when nil is returned.
func (w *Works) Convert(to Target, disks []disk.Disk) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	return w.convert(to, disks)
}

// convert is Convert with nothing else joining meanwhile.
func (w *Works) convert(to Target, disks []disk.Disk) error {
	var sizes []int64
	for _, d := range disks {
		sizes = append(sizes, d.Size())
	}
	c, err := w.PlanConversion(to, sizes)
	if err != nil {
		return err
	}
	switch {
	case w.host.Alive() != nil:
		return w.host.Alive()
	case w.whole() != "":
		return fmt.Errorf("the layout cannot be changed at the moment: it has to wait %s", w.whole())
	}
	for _, m := range w.host.Slots.All() {
		if most := m.Place().MaxStripFor(); c.Strip > most {
			return fmt.Errorf("%s takes strips of at most %dKiB", m.Name(), most>>10)
		}
	}
	if c.Cut > 0 {
		if err := w.cut(c.Cut); err != nil {
			return err
		}
		if c, err = w.PlanConversion(to, sizes); err != nil {
			return err
		}
	}
	if err := w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	var added []*member.Member
	for i, d := range disks {
		e := &c.added[i]
		place, err := record.PlaceFor(d.Size(), e.DataSize, e.More...)
		if err != nil {
			return err
		}
		slot := w.host.Slots.Len() + i
		e.ID = env.NewID()
		m := member.New(w.host.Judge, member.Known{Slot: slot, Disk: d, Identity: e.ID, Place: place, Condition: record.Missing})
		w.host.Slots.Put(m)
		if err := w.blank(m); err != nil {
			return err
		}
		added = append(added, m)
	}
	if c.record != nil {
		c.record.Started = w.host.Now()
	}
	if err := w.beginTurn(&c, added); err != nil {
		return err
	}
	if c.record == nil {
		w.host.Say(event.ArrayGrown, "", fmt.Sprintf("%s more, %s in all", say.Size(c.After-c.Before), say.Size(c.After)))
		return nil
	}
	w.host.Say(event.ArrayConverting, "", fmt.Sprintf("to level %s of %d members", c.Level, c.Members))
	_, _ = w.startTurn() // it cannot start when the array is being stopped; the record says that it is to go on, and the disks are the array's
	return nil
}

// beginTurn writes down that a change of layout has begun. The first new disk keeps the witnesses of the last member from here on, and has what was
// known of that one before it counts.
func (w *Works) beginTurn(c *Conversion, added []*member.Member) error {
	return w.host.Journal.Between(func(checkpoint uint64) error {
		if len(added) > 0 {
			if holder := w.host.Roster.Holder(added[0].Slot - 1); holder >= 0 {
				if err := w.host.Tables.Hand(w.host.Slots.At(holder), added[0], checkpoint); err != nil {
					return err
				}
				if err := added[0].Sync(); err != nil {
					return err
				}
			}
		}
		return w.host.Roster.BeginTurn(c.record, c.regions, c.added, added, w.host.Remap)
	})
}
