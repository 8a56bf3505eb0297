package array

import (
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/task"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

const (
	windowBytes = 1 << 20  // of the target, in one piece of a rebuild: small, since the first is read before any is written
	checkBytes  = 16 << 20 // of the array, in one piece of a check
	windows     = 4        // pieces at the same time: while one is read another is written
	jumpStrips  = 64       // a gap of never-written strips from which it pays to stop and jump
)

func (a *Array) startRebuild(slot int) (*task.Task, error) {
	m := a.slots.At(slot)
	kind := state.TaskRebuild
	if m.Base != 0 {
		kind = state.TaskCatchUp
	}
	return a.tasks.Start(kind, slot, func(t *task.Task) { a.countRebuild(t, m) }, func(t *task.Task) error { return a.rebuild(t, m) })
}

// rebuild fills the member strip by strip. Strips below the cursor are current and take part in everything; strips above it are
// treated as missing. The stripes of a piece are held exclusively until the cursor has passed it, and pieces finish in order.
func (a *Array) rebuild(t *task.Task, m *member.Member) error {
	lay := a.Layout()
	strips := lay.Strips(m.Slot)
	a.countRebuild(t, m)
	var flight, saving env.Group
	slots := make(chan struct{}, windows)
	passed := make(chan struct{}) // closed when the piece before has passed
	close(passed)
	var lock env.Mutex
	var first error
	fail := func(err error) {
		lock.Lock()
		defer lock.Unlock()
		if first == nil {
			first = err
		}
	}
	failed := func() error { lock.Lock(); defer lock.Unlock(); return first }
	next, begun, saved := m.Cursor.Load(), t.Done(), t.Saves()
	// All that is under way is a grain at most, and what is begun beyond what was saved two, see saves.
	piece := min(int64(windowBytes), t.Grain()/windows)
	if m.Base != 0 {
		piece = min(16*windowBytes, t.Grain()/windows) // most of it is only looked at
	}
	for next < strips && failed() == nil {
		st, left := lay.Strip(m.Slot, next)
		n := min(max(1, piece/st.Strip), left)
		if t.Yields() {
			flight.Wait()
		}
		if err := t.Point(n * st.Strip); err != nil {
			fail(err)
			continue
		}
		switch {
		case m.Condition() != record.Rebuilding:
			fail(fmt.Errorf("%s is %s", m.Name(), m.Condition()))
			continue
		case a.alive() != nil:
			fail(a.alive())
			continue
		}
		if written := a.nextToRebuild(m, next); written-next >= jumpStrips || written >= strips {
			flight.Wait()
			next = a.jump(m)
			continue
		}
		if saved.Due() {
			// Behind the pieces that are under way: whatever the cursor has passed when it is read is saved.
			saving.Wait()
			saving.Go(func() {
				if err := saved.Keep(func() error { return a.saveCursor(m) }); err != nil {
					fail(err)
				}
			})
			t.Grow(t.Done() + a.stripes.WrittenFrom(m.Slot, next))
		}
		if begun += n * st.Strip; saved.Ahead(begun) {
			saving.Wait()
		}
		next += n
		to := next
		// Locks are taken here, in order, so that a piece never waits for one that comes after it.
		unlock := a.stripes.Lock(stripe.Rows(st, n), true)
		before, done := passed, make(chan struct{})
		passed = done
		env.Send(slots, struct{}{})
		flight.Go(func() {
			defer func() { <-slots }()
			defer unlock()
			defer close(done)
			err := a.rebuildRows(t, m, st, n)
			env.Recv(before)
			if err == nil {
				err = failed()
			}
			if err != nil {
				fail(err)
				return
			}
			m.Cursor.Store(to)
			t.Advance(env.Now(), n*st.Strip)
		})
	}
	flight.Wait()
	saving.Wait()
	if err := failed(); err != nil {
		if m.Condition() == record.Rebuilding && a.alive() == nil {
			_ = a.saveCursor(m)
		}
		return err
	}
	if err := a.seeAgainAround(t, m.Slot, false); err != nil {
		return err
	}
	if !probe.RebuiltNotSynced.On() {
		if err := a.journal.Checkpoint(); err != nil {
			return err
		}
	}
	return a.roster.Activate(m)
}

func (a *Array) countRebuild(t *task.Task, m *member.Member) {
	all := a.stripes.WrittenFrom(m.Slot, 0)
	t.Count(all-a.stripes.WrittenFrom(m.Slot, m.Cursor.Load()), all)
}

// nextToRebuild is the first strip from the nth on in whose stripe there is anything, or that the target itself has marked: left
// there by a run that was cut short, and to be cleared.
func (a *Array) nextToRebuild(m *member.Member, nth int64) int64 {
	return min(a.stripes.NextWrittenStrip(m.Slot, nth), a.stripes.NextMarked(m, nth))
}

// jump moves the cursor over strips never written. Nobody is between planning and writing at that moment, so none can
// become written on the others behind the cursor's back.
func (a *Array) jump(m *member.Member) int64 {
	a.journal.Barrier.Lock()
	defer a.journal.Barrier.Unlock()
	next := a.nextToRebuild(m, m.Cursor.Load())
	m.Cursor.Store(next)
	return next
}

// saveCursor makes the progress so far durable: first all that was rebuilt, then the cursor.
func (a *Array) saveCursor(m *member.Member) error {
	cursor := m.Cursor.Load()
	if !probe.CursorBeforeData.On() {
		if err := a.journal.Checkpoint(); err != nil {
			return err
		}
	}
	return a.roster.Update(func(r *record.Record) {
		if e := &r.Roster[m.Slot]; e.Condition == record.Rebuilding {
			e.Cursor = cursor
		}
	})
}

// rebuildRows computes and writes the member's part of n rows from a stripe on, which the caller holds.
func (a *Array) rebuildRows(t *task.Task, m *member.Member, from layout.Stripe, n int64) error {
	columns := make([]*stripe.Columns, n)
	defer func() {
		for _, c := range columns {
			if c != nil {
				c.Free()
			}
		}
	}()
	err := member.Parallel(len(columns), func(i int) error {
		st := from.At(from.Group, from.Row+int64(i))
		if a.stripes.Untouched(st, m) {
			return a.alive()
		}
		if m.Base != 0 && !a.stripes.Lacks(st, m) {
			return a.alive()
		}
		c, err := a.stripes.Load(st, 0, st.StripBlocks(), nil)
		if err != nil {
			return err
		}
		columns[i] = c
		return c.Recover()
	})
	if err != nil {
		return err
	}
	a.journal.Barrier.RLock()
	defer a.journal.Barrier.RUnlock()
	var writes []journal.Write
	parts := make([][]journal.Write, len(columns))
	for i, c := range columns {
		if c == nil {
			continue
		}
		a.report(c, c.Heal())
		parts[i] = c.WritesFor(m)
		writes = append(writes, parts[i]...)
	}
	if _, err := a.journal.WriteInPlace(writes, record.RunInPlace); err != nil {
		return err
	}
	for _, w := range writes {
		if w.Kind == record.RunInPlace {
			t.Moves(int64(w.N) * Block)
		}
	}
	for i, c := range columns {
		if c == nil {
			continue
		}
		for _, w := range parts[i] {
			a.tables.EnterAs(m, a.stripes.LastChange(c.St, m), w.Kind, w.Block, w.N, w.Sums)
		}
	}
	return nil
}

// seeAgain has the witness of every page of a member say what the page is on that member, after the disk that keeps them, or
// the member itself, is another. The next checkpoint makes it count.
func (a *Array) seeAgain(t *task.Task, m *member.Member) error {
	for number := range m.Place.MapPages {
		if !m.Live() {
			return nil // the others tell of that
		}
		if err := a.tables.SeeAgain(m, record.MapPage, number); err != nil {
			return err
		}
	}
	for number := int64(0); number < m.Place.SumPages; number++ {
		if number%seenPages == 0 {
			if err := t.Point(seenPages * Block); err != nil {
				return err
			}
		}
		next, ok := a.tables.NextBit(m, number, m.Place.SumPages-1)
		if !ok || next >= m.Place.SumPages {
			return nil
		}
		number = next
		if err := a.tables.SeeAgain(m, record.SumPage, number); err != nil {
			return err
		}
	}
	return nil
}

// seenPages is how many pages are looked at between two points of a task.
const seenPages = 256

// seeAgainAround is seeAgain for the members whose witnesses a slot keeps, and with own for the one in it.
func (a *Array) seeAgainAround(t *task.Task, slot int, own bool) error {
	for s, e := range a.roster.Now().Roster {
		if m := a.slots.At(s); m.Live() && (e.Witness == slot || own && s == slot) {
			if err := a.seeAgain(t, m); err != nil {
				return err
			}
		}
	}
	return nil
}
