package task

import (
	"errors"
	"fmt"
	"math/bits"
	"slices"
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

const (
	windowBytes = 1 << 20  // of the target, in one piece of a rebuild: small, since the first is read before any is written
	checkBytes  = 64 << 20 // of the array, in one piece of a check
	windows     = 6        // pieces at the same time: while one is read others are written
	rowsRead    = 16       // rows of all pieces that are being read at the same time, at most
	jumpStrips  = 64       // a gap of never-written strips from which it pays to stop and jump
)

func (w *Works) startRebuild(slot int) (*Task, error) {
	m := w.host.Slots.At(slot)
	kind := state.TaskRebuild
	if m.Base != 0 {
		kind = state.TaskCatchUp
	}
	return w.tasks.Start(kind, slot, func(t *Task) { w.countRebuild(t, m) }, func(t *Task) error { return w.rebuild(t, m) })
}

// rebuild fills the member strip by strip. Strips below the cursor are current and take part in everything; strips above it are
// treated as missing. The stripes of a piece are held exclusively until the cursor has passed it, and pieces finish in order.
func (w *Works) rebuild(t *Task, m *member.Member) error {
	for {
		if err := w.awaitOthers(t, m); err != nil {
			return err
		}
		if err := w.rebuildOn(t, m); !errors.Is(err, errBeyond) {
			return err
		}
	}
}

// rebuildOn is rebuild until it is done, or until more members are lost than a blank disk can be filled without.
func (w *Works) rebuildOn(t *Task, m *member.Member) error {
	w.countRebuild(t, m)
	t.beganAt(w.host.Roster.View().Roster[m.Slot].Since)
	r := &rebuilding{w: w, t: t, m: m, lay: w.host.Layout(), next: m.Cursor.Load(), begun: t.Done(), saves: t.Saves(),
		slots: make(chan struct{}, windows)}
	r.strips = r.lay.Strips(m.Slot)
	if r.piece = windowBytes; m.Base != 0 {
		r.piece = 16 * windowBytes // most of it is only looked at
	}
	if r.next < r.strips {
		st, _ := r.lay.Strip(m.Slot, r.next)
		r.rows = make(chan struct{}, min(rowsRead, max(2, windowBytes/st.Strip)))
	}
	w.enter(r)
	for r.next < r.strips && r.failed() == nil {
		r.step()
	}
	r.flight.Wait()
	w.leave(r)
	r.saving.Wait()
	if err := r.failed(); err != nil {
		if m.Condition() == record.Rebuilding && w.host.Alive() == nil {
			_ = w.saveCursors(m)
		}
		return err
	}
	if err := w.seeAgainAround(t, m.Slot, false); err != nil {
		return err
	}
	if !probe.RebuiltNotSynced.On() {
		if err := w.host.Journal.Checkpoint(); err != nil {
			return err
		}
	}
	return w.host.Roster.Activate(m)
}

// rebuilding is a rebuild under way. Some pieces of it are done at the same time.
type rebuilding struct {
	w      *Works
	t      *Task
	m      *member.Member
	lay    *layout.Map
	strips int64
	next   int64 // strip at which the next piece begins
	begun  int64 // bytes of all pieces that were begun
	moved  int64 // bytes that a catch-up had copied at the piece before
	piece  int64 // bytes, at most
	saves  *Saves
	flight env.Group     // pieces under way
	saving env.Group     // the cursor's being saved
	slots  chan struct{} // one for each piece under way
	rows   chan struct{} // one for each row that is being read
	begins chan struct{} // closed when all rows of the piece before are being read; nil: there was none
	passed chan struct{} // closed when the piece before has passed; nil: there was none
	crew   crew
	failure
}

// step begins the next piece, or jumps over strips that were never written.
func (r *rebuilding) step() {
	most, moved := r.meet()
	if moved {
		return
	}
	st, left := r.lay.Strip(r.m.Slot, r.next)
	n := max(1, min(r.piece, r.saves.Part()/windows)/st.Strip)
	n = min(1<<(bits.Len64(uint64(n))-1), left, most)
	if r.t.Yields() {
		r.flight.Wait()
	}
	if err := r.t.Point(r.paid(n * st.Strip)); err != nil {
		r.fail(err)
		return
	}
	switch {
	case r.m.Condition() != record.Rebuilding:
		r.fail(fmt.Errorf("%s is %s", r.m.Name(), r.m.Condition()))
		return
	case r.w.host.Alive() != nil:
		r.fail(r.w.host.Alive())
		return
	}
	if gap := r.gap(r.together()); gap >= jumpStrips || r.next+gap >= r.strips {
		r.jump()
		return
	}
	if r.saves.Due() {
		r.save()
	}
	counts := r.w.host.Stripes.WrittenIn(r.m.Slot, r.next, r.next+n)
	if r.begun += counts; r.saves.Ahead(r.begun) {
		r.saving.Wait()
	}
	r.next += n
	r.launch(st, n, counts)
}

// paid is how much of the next piece counts for a pace: of a catch-up what was copied since the piece before, since most of it is only
// looked at.
func (r *rebuilding) paid(bytes int64) int64 {
	if r.m.Base == 0 {
		return bytes
	}
	moved := r.t.moved.Load()
	bytes, r.moved = moved-r.moved, moved
	return bytes
}

// save saves the cursor behind the pieces that are under way: whatever it has passed when it is read is saved.
func (r *rebuilding) save() {
	r.saving.Wait()
	r.saving.Go(func() {
		if err := r.saves.Keep(func() error { return r.w.saveCursors(members(r.together())...) }); err != nil {
			r.fail(err)
		}
	})
	for _, o := range r.together() {
		o.t.Grow(o.t.Done() + r.w.host.Stripes.WrittenFrom(o.m.Slot, o.m.Cursor.Load()))
	}
}

// launch does n rows from a stripe on by itself, which count as so many bytes. Locks are taken here, in order, so that a piece never
// waits for one that comes after it.
func (r *rebuilding) launch(st layout.Stripe, n, counts int64) {
	unlock := r.w.host.Stripes.Lock(stripe.Rows(st, n), true)
	before, done := r.passed, make(chan struct{})
	r.passed = done
	all := r.take()
	reads := &inTurn{rows: r.rows, after: r.begins, begun: make(chan struct{})}
	reads.left.Store(n)
	r.begins = reads.begun
	env.Send(r.slots, struct{}{})
	r.flight.Go(func() {
		defer func() { <-r.slots }()
		defer unlock()
		defer close(done)
		since := r.w.host.Roster.Epoch()
		columns, err := r.w.recoverRows(all, st, n, reads)
		if err == nil {
			err = r.w.fill(all, columns)
		}
		freeAll(columns)
		if err == nil && r.w.beyondSince(since, all) {
			err = errBeyond
		}
		if before != nil && !probe.PassesBeforeItsTurn.On() {
			env.Recv(before)
		}
		if err == nil {
			err = r.failed()
		}
		r.pass(all, st, n, counts, err == nil)
		if err != nil {
			r.fail(err)
		}
	})
}

func members(all []*rebuilding) (out []*member.Member) {
	for _, r := range all {
		out = append(out, r.m)
	}
	return out
}

func (w *Works) countRebuild(t *Task, m *member.Member) {
	earlier := w.host.Stripes.WrittenIn(m.Slot, 0, m.Cursor.Load())
	t.Count(earlier, earlier+w.host.Stripes.WrittenFrom(m.Slot, m.Cursor.Load()))
}

// nextToRebuild is the first strip from the nth on in whose stripe there is anything, or that the target itself has marked: left
// there by a run that was cut short, and to be cleared.
func (w *Works) nextToRebuild(m *member.Member, nth int64) int64 {
	return min(w.host.Stripes.NextWrittenStrip(m.Slot, nth), w.host.Stripes.NextMarked(m, nth), w.host.Stripes.NextUnsure(m, nth))
}

// gap is how many strips from here on none of some rebuilds, all at the same place, has anything to do in.
func (r *rebuilding) gap(all []*rebuilding) int64 {
	st, _ := r.lay.Strip(r.m.Slot, r.next)
	gap := r.strips - r.next
	for _, o := range all {
		at := st.Nth(o.m.Slot)
		gap = min(gap, r.w.nextToRebuild(o.m, at)-at)
	}
	return gap
}

// jump moves the cursors over strips never written. Nobody is between planning and writing at that moment, so none can
// become written on the others behind the cursors' backs. A piece before that failed is not passed over.
func (r *rebuilding) jump() {
	r.flight.Wait()
	if r.failed() != nil {
		return
	}
	all := r.take()
	defer r.pass(all, layout.Stripe{}, 0, 0, false)
	r.w.host.Journal.Barrier.Lock()
	defer r.w.host.Journal.Barrier.Unlock()
	st, _ := r.lay.Strip(r.m.Slot, r.next)
	since := r.w.host.Roster.Epoch()
	gap := r.gap(all)
	if r.w.beyondSince(since, all) {
		r.fail(errBeyond)
		return
	}
	for _, o := range all {
		o.m.Cursor.Store(st.Nth(o.m.Slot) + gap)
	}
	r.next += gap
}

// saveCursors makes the progress so far durable: first all that was rebuilt, then the cursors.
func (w *Works) saveCursors(of ...*member.Member) error {
	cursors := make([]int64, len(of))
	for i, m := range of {
		cursors[i] = m.Cursor.Load()
	}
	if !probe.CursorBeforeData.On() {
		if err := w.host.Journal.Checkpoint(); err != nil {
			return err
		}
	}
	return w.host.Roster.Update(func(r *record.Record) {
		for i, m := range of {
			if e := &r.Roster[m.Slot]; e.Condition == record.Rebuilding && w.host.Slots.Has(m) {
				e.Cursor = cursors[i]
			}
		}
	})
}

// recoverRows reads n rows, the first of which is that of a stripe, and computes the blocks that members being rebuilt have in them. The caller holds the
// stripes, and frees the columns also when there is an error.
func (w *Works) recoverRows(all []*rebuilding, from layout.Stripe, n int64, reads *inTurn) ([]*stripe.Columns, error) {
	columns := make([]*stripe.Columns, n)
	err := w.host.Stripes.Fan.Work(len(columns), func(i int) error {
		c, err := w.readRow(all, from.At(from.Group, from.Row+int64(i)), reads)
		if columns[i] = c; c == nil {
			return err
		}
		err = c.Recover()
		for _, r := range all {
			if err == nil {
				err = c.Own(r.m)
			}
		}
		c.Keep(func(slot int) bool {
			return slices.ContainsFunc(all, func(r *rebuilding) bool { return r.m.Slot == slot })
		})
		return err
	})
	return columns, err
}

// readRow reads a row when it is its turn; nothing comes back when no member that is rebuilt lacks anything of it.
func (w *Works) readRow(all []*rebuilding, st layout.Stripe, reads *inTurn) (*stripe.Columns, error) {
	reads.begin()
	defer reads.end()
	if !slices.ContainsFunc(all, func(r *rebuilding) bool {
		return (!w.host.Stripes.Untouched(st, r.m) || w.host.Stripes.Unsure(st, r.m)) && (r.m.Base == 0 || w.host.Stripes.Lacks(st, r.m))
	}) {
		return nil, w.host.Alive()
	}
	c, err := w.host.Stripes.Load(st, 0, st.StripBlocks(), nil)
	if err != nil {
		return nil, err
	}
	return c, nil
}

// inTurn has the rows of a piece read after those of the piece before, and so many of all pieces at a time that every disk has some to read. Without it
// pieces that were begun together would be read together and then written together, while the disks that are read have nothing to do.
type inTurn struct {
	rows  chan struct{} // one for each row that is being read, of all pieces
	after chan struct{} // closed when all rows of the piece before are being read; nil: there was none
	begun chan struct{} // closed when all of this piece are
	left  atomic.Int64  // rows of this piece that are not
}

// begin waits until it is the turn of a row of the piece.
func (t *inTurn) begin() {
	if t.after != nil {
		env.Recv(t.after)
	}
	env.Send(t.rows, struct{}{})
	if t.left.Add(-1) == 0 {
		close(t.begun)
	}
}

// end notes that the row has been read.
func (t *inTurn) end() { <-t.rows }

func freeAll(columns []*stripe.Columns) {
	for _, c := range columns {
		if c != nil {
			c.Free()
		}
	}
}

// fill writes what some columns mean for the members that are rebuilt.
func (w *Works) fill(all []*rebuilding, columns []*stripe.Columns) error {
	w.host.Journal.Barrier.RLock()
	defer w.host.Journal.Barrier.RUnlock()
	type part struct {
		st layout.Stripe
		r  *rebuilding
		journal.Write
	}
	for _, c := range columns {
		if c != nil {
			w.host.Healed(c.Heal(), c.St.Ordinal())
		}
	}
	var parts []part // by member, so that neighbours are written in one go
	var writes []journal.Write
	for _, r := range all {
		for _, c := range columns {
			if c == nil {
				continue
			}
			for _, run := range c.WritesFor(r.m) {
				parts, writes = append(parts, part{c.St, r, run}), append(writes, run)
			}
		}
	}
	if _, err := w.host.Journal.WriteInPlace(writes, record.RunInPlace); err != nil {
		return err
	}
	for _, p := range parts {
		if p.Kind == record.RunInPlace {
			p.r.t.Moves(int64(p.N) * record.Block)
		}
		last := w.host.Stripes.LastChange(p.st, p.M)
		if p.st.Fixed && p.Kind == record.RunLost {
			last = nil // a member that is away and comes back may tell, so it has to look here
		}
		w.host.Tables.EnterAs(p.M, last, p.Kind, p.Block, p.N, p.Sums)
	}
	return nil
}

// seeAgain has the witness of every page of a member say what the page is on that member, after the disk that keeps them, or
// the member itself, is another. The next checkpoint makes it count.
func (w *Works) seeAgain(t *Task, m *member.Member) error {
	for number := range m.Place().Pages(record.MapPage) {
		if !m.Live() {
			return nil // the others tell of that
		}
		if err := w.host.Tables.SeeAgain(m, record.MapPage, number); err != nil {
			return err
		}
	}
	seen, last := 0, m.Place().LastSum()
	for number := int64(0); ; number++ {
		if seen%seenPages == 0 {
			if err := t.Point(seenPages * record.Block); err != nil {
				return err
			}
		}
		next, ok := w.host.Tables.NextBit(m, number, last)
		if !ok || next > last {
			return nil
		}
		number, seen = next, seen+1
		if err := w.host.Tables.SeeAgain(m, record.SumPage, number); err != nil {
			return err
		}
	}
}

// seenPages is how many pages are looked at between two points of a task.
const seenPages = 256

// seeAgainAround is seeAgain for the members whose witnesses a slot keeps, and with own for the one in it.
func (w *Works) seeAgainAround(t *Task, slot int, own bool) error {
	for s, e := range w.host.Roster.Now().Roster {
		if m := w.host.Slots.At(s); m.Live() && (e.Witness == slot || own && s == slot) {
			if err := w.seeAgain(t, m); err != nil {
				return err
			}
		}
	}
	return nil
}
