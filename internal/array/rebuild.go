package array

import (
	"errors"
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

const (
	windowBytes = 1 << 20  // of the target, in one piece of a rebuild: small, since the first is read before any is written
	checkBytes  = 16 << 20 // of the array, in one piece of a check
	windows     = 4        // pieces at the same time: while one is read another is written
	jumpStrips  = 64       // a gap of never-written strips from which it pays to stop and jump
)

// NeedSize is the smallest disk that can take the place of the member in slot, in bytes.
func (a *Array) NeedSize(slot int) int64 {
	rec := a.roster.View()
	data := rec.Roster[slot].DataSize
	lo, hi := int64(1<<20), data*2+(1<<30)
	for lo < hi {
		mid := (lo + hi) / 2
		if p, err := record.PlaceFor(mid, data); err == nil && p.DataSize >= data {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	return (lo + Block - 1) &^ (Block - 1)
}

// Replace puts a disk in the place of the member in slot, whatever the disk holds, and starts to rebuild onto it. A
// member that still works is failed first. The disk belongs to the array when nil is returned.
func (a *Array) Replace(slot int, d disk.Disk) error {
	a.joins.Lock()
	defer a.joins.Unlock()
	return a.replace(slot, d)
}

// ErrTaken is wrapped by StandIn when there is a member that works.
var ErrTaken = errors.New("its place is taken")

// StandIn is Replace for a member that is lost: it does nothing to one that works, or is being rebuilt.
func (a *Array) StandIn(slot int, d disk.Disk) error {
	a.joins.Lock()
	defer a.joins.Unlock()
	if slot < 0 || slot >= a.slots.Len() || a.slots.At(slot).Live() {
		return fmt.Errorf("slot %d: %w", slot, ErrTaken)
	}
	return a.replace(slot, d)
}

// replace is Replace for a caller that holds joins. Everything that can be refused is refused before the disk is a member:
// from there on only the disk itself can still fail.
func (a *Array) replace(slot int, d disk.Disk) error {
	if slot < 0 || slot >= a.slots.Len() {
		return fmt.Errorf("slot %d: the array has slots 0 to %d", slot, a.slots.Len()-1)
	}
	if !a.Layout().Redundant() {
		return fmt.Errorf("level %s has no redundancy to rebuild a member from", a.Layout().Level)
	}
	place, err := a.placeFor(slot, d)
	if err != nil {
		return err
	}
	old := a.slots.At(slot)
	if a.WouldFail(slot) {
		return ErrMargin
	}
	a.clearSlot(slot)
	if old.Live() {
		if err := a.Fail(slot, false); err != nil {
			return err
		}
	}
	// The journals may still hold batches of the member that was here; with everything in place nobody will miss them.
	if err := a.journal.Checkpoint(); err != nil {
		return err
	}
	id := env.NewID()
	m := member.New(a.judge, member.Known{Slot: slot, Disk: d, Identity: id, Place: place, Condition: record.Missing})
	if err := disk.Wipe(d); err != nil {
		return err
	}
	if err := a.prepare(m); err != nil {
		return err
	}
	if err := a.roster.Join(m); err != nil {
		return err
	}
	old.Release()
	a.resumeRebuild(slot)
	return nil
}

// placeFor lays out a disk that is to take the place of the member in slot.
func (a *Array) placeFor(slot int, d disk.Disk) (record.Place, error) {
	data := a.roster.View().Roster[slot].DataSize
	place, err := record.PlaceFor(d.Size(), data)
	if err != nil || place.DataSize < data {
		return place, fmt.Errorf("%s has %d bytes; the place of slot %d needs at least %d", d.Identity(), d.Size(), slot, a.NeedSize(slot))
	}
	return place, nil
}

// clearSlot ends the tasks and the copying that are under way for a slot which is about to get another disk.
func (a *Array) clearSlot(slot int) {
	if !probe.TaskNotSuperseded.On() {
		a.tasks.Supersede(slot)
	}
	if m := a.slots.Onto(slot); m != nil {
		a.abandonCopy(slot, m, true)
	}
}

// resumeRebuild starts to rebuild onto the member in slot. That it cannot be started, because the array is being stopped, is
// no error: the record says that it is to go on.
func (a *Array) resumeRebuild(slot int) {
	_, _ = a.startRebuild(slot)
}

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
