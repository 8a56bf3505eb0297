package task

import (
	"errors"
	"slices"
	"sort"
	"sync/atomic"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
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
const moveBytes = 16 << 20

// startTurn starts the task of the change of layout in the record.
func (w *Works) startTurn() (*Task, error) {
	rec := w.host.Roster.View()
	turn, err := rec.Turns()
	if err != nil {
		return nil, err
	}
	w.regions.Store(int64(w.nextID(rec.Turn.Regions))) // also when it goes back, and they are gone
	m := &moving{w: w, turn: turn, moved: rec.Turn.Moved}
	t, err := w.tasks.Start(state.TaskConvert, -1, func(t *Task) { m.count(t) }, func(t *Task) error {
		t.beganAt(rec.Turn.Started)
		m.t = t
		return m.run()
	})
	if err == nil {
		w.host.Go(func() {
			t.Wait()
			if m.turned {
				_, _ = w.startTurn()
			}
		})
	}
	return t, err
}

// moving is a change of layout under way.
type moving struct {
	w     *Works
	t     *Task
	turn  *layout.Turn
	moved int64
	buf   []byte // of the last window, for the next

	turned bool // it has ended, and another goes back
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
	for {
		if err := m.skip(); err != nil {
			return err
		}
		if m.moved == m.turn.Old.Capacity() {
			break
		}
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
	if why := m.w.Waits(); why != "" {
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
	if err := m.turnBack(); err != nil {
		return 0, err
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
		most /= 8 // so that clients wait less, and that a pace is kept
	}
	unit := m.turn.Unit(m.moved)
	units := max(most/unit, 1)
	for _, o := range m.w.host.Slots.All() {
		units = min(units, max(o.Ring.Blocks/4/(m.turn.Each(m.moved)/record.Block), 1))
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
	return 2 * moveBytes
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
	to := m.turn.Alike(m.moved)
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
	if m.w.Waits() != "" && !probe.MarginOfOneMap.On() {
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
	probe.WindowHeld.Seen()
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
	err = m.commit(&x.change, func() error {
		probe.WindowCommitted.Seen()
		return m.advance(to, lay)
	})
	if err == nil {
		probe.WindowDone.Seen()
	}
	if m.buf = nil; err == nil && m.w.Waits() == "" { // a disk that hangs may still have it
		m.buf = x.buf
	}
	return err
}

// commit makes a change, and calls then between its commit and its writes in place.
func (m *moving) commit(c *journal.Change, then func() error) error {
	j := m.w.host.Journal
	need := journal.Reservation{}
	if c.Moved > 0 {
		for _, o := range m.w.host.Slots.All() {
			need.Add(o, 0) // each gets an entry, which tells of the boundary
		}
	}
	for _, x := range c.Writes {
		need.Add(x.M, int64(len(x.Sums)+4)*4+16) // bytes of the header
	}
	for i := range need {
		need[i].Blocks = need[i].Blocks/record.Block + 3
	}
	for _, x := range c.Writes {
		if x.Kind == record.RunPayload {
			need.Add(x.M, int64(x.N))
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
	if err := m.turnBack(); err != nil {
		return false, err
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
	freed, ended, err := m.end()
	m.w.letGo(freed)
	return ended, err
}

// end is the end of finish, with clients kept away.
func (m *moving) end() (freed []*member.Member, ended bool, err error) {
	defer m.w.host.Hold(0, m.turn.Old.Capacity())()
	if m.waits() != "" {
		return nil, false, nil
	}
	if n := m.w.host.Roster.View().Turn.Members; n > 0 {
		if err := m.w.host.Settle(0, m.turn.Old.Capacity()); err != nil {
			return nil, false, err
		}
		if err := m.w.host.Journal.Checkpoint(); err != nil {
			return nil, false, err
		}
		if err := m.w.retireWitnesses(n); err != nil {
			return nil, false, err
		}
	}
	freed, err = m.w.host.Roster.EndTurn(m.w.host.Remap)
	if err != nil {
		freed = nil
	}
	return freed, true, err
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
	if x.buf = x.moving.buf; int64(cap(x.buf)) < end-x.from {
		x.buf = make([]byte, end-x.from)
	}
	x.buf, x.state = x.buf[:end-x.from], make([]block, (end-x.from)/record.Block)
	probe.Soil(x.buf)
	clear(x.buf[x.to-x.from:])
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
			for role := range st.Data {
				clear(x.strip(st, role))
			}
			return x.w.host.Alive()
		}
		if x.readData(st) {
			return nil
		}
		return x.readAll(st)
	})
}

// strip is where a strip of an old stripe is in the window; nil when it is not.
func (x *window) strip(st layout.Stripe, role int) []byte {
	at := st.Offset() + int64(role)*st.Strip
	if at < x.from || at+st.Strip > x.to {
		return nil
	}
	return x.buf[at-x.from:][:st.Strip]
}

// readData reads the data of a stripe of which nothing is missing or wrong, and says whether that was so.
func (x *window) readData(st layout.Stripe) bool {
	s := x.w.host.Stripes
	n := st.StripBlocks()
	sums := make([]uint32, n*st.Data)
	return s.Fan.Reads(st.Data, int(st.Strip), func(role int) error {
		buf, sums, m := x.strip(st, role), sums[role*n:][:n], x.w.host.Slots.At(st.Slot(role))
		if buf == nil {
			return nil
		}
		if !s.Reads(st, role, m) {
			return errors.ErrUnsupported
		}
		if err := x.w.host.Tables.Sums(m, st.Block(m.Slot), sums); err != nil {
			return err
		}
		if slices.ContainsFunc(sums, record.Unknown) {
			return errors.ErrUnsupported
		}
		if record.AllAre(sums, record.SumNever) {
			clear(buf)
			return nil
		}
		at := (st.Offset() + int64(role)*st.Strip - x.from) / record.Block
		for col, sum := range sums {
			if x.state[at+int64(col)] = known; sum == record.SumNever {
				x.state[at+int64(col)] = never
			}
		}
		return s.ReadVerified(m, st.Block(m.Slot), buf, sums)
	}) == nil
}

// readAll reads a stripe with its redundancy.
func (x *window) readAll(st layout.Stripe) error {
	into := make([][]byte, st.Data)
	for role := range into {
		into[role] = x.strip(st, role)
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
	for role, buf := range into {
		if buf == nil {
			continue
		}
		at := (st.Offset() + int64(role)*st.Strip - x.from) / record.Block
		for col := range int64(st.StripBlocks()) {
			switch {
			case c.Unwritten(role, int(col)):
				x.state[at+col] = never
				clear(buf[col*record.Block:][:record.Block])
			case c.Known[role][col]:
				x.state[at+col] = known
			default:
				x.state[at+col] = lost
				x.w.host.Unreadable.Add(1)
			}
		}
	}
	return nil
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
		stripe.Encode(st, rows, strips)
	}
	members, sums := make([]*member.Member, len(states)), make([][]uint32, len(states))
	changes := make([]bool, n) // columns in which a member gets anything
	for role := range states {
		if role >= st.Data {
			states[role] = column
		}
		m := x.w.host.Slots.At(st.Slot(role))
		if !m.Live() {
			continue
		}
		members[role], sums[role] = m, make([]uint32, n)
		if err := x.w.host.Tables.Sums(m, st.Block(m.Slot), sums[role]); err != nil {
			return nil, rows, err
		}
		for col, s := range states[role] {
			changes[col] = changes[col] || (s != never || sums[role][col] != record.SumNever) && !probe.ColumnOfOneMember.On()
		}
	}
	bufs := slices.Concat(strips, rows)
	for role, m := range members {
		if m != nil {
			writes = append(writes, strip(m, st.Block(m.Slot), states[role], sums[role], changes, bufs[role])...)
		}
	}
	return writes, rows, nil
}

// strip are the writes that bring a strip to a member, which has some sums in its place: what goes where nothing is can be written in place at once.
// When a column changes on one member, the entries of all its members name it. If that one entry is lost, the others still show what changed.
func strip(m *member.Member, first int64, states []block, sums []uint32, changes []bool, buf []byte) (out []journal.Write) {
	kind := func(col int) record.RunKind {
		empty := sums[col] == record.SumNever
		switch {
		case states[col] == never && empty && !changes[col]:
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
