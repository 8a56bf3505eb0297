package task

import (
	"cmp"
	"errors"
	"fmt"
	"sync/atomic"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// A member that retires is copied onto another disk and then let go. Until the moment of the change the
// old member takes part in everything, so redundancy never drops. Blocks it cannot read come from redundancy.
//
//	1  the new disk gets the place of a member and a record that says which slot it is to take; the roster names it
//	2  everything the member has is copied, some pieces at a time, which the cursor passes in order; whatever is written to the member in
//	   strips below the cursor is written to the copy as well (tellCopies), so that those strips stay the same
//	3  all stripes are held for a moment, a checkpoint puts everything into place, and the roster names the new disk as
//	   the member
//
// A crash before 3 goes on with 2, from the cursor that was saved: what the journals hold since the last checkpoint may
// not have reached the copy, so those strips are copied again (CopyAgain). A crash after it finds the old disk with an old
// epoch.

// startRetire begins or goes on. What becomes of the copy when it cannot be finished is seen to after the task has ended,
// because the caller that gives the slot another disk waits for that.
func (w *Works) startRetire(slot int) (*Task, error) {
	old, m := w.host.Slots.At(slot), w.host.Slots.Onto(slot)
	t, err := w.tasks.Start(state.TaskRetire, slot, func(t *Task) { w.countCopy(t, old, m) }, func(t *Task) error {
		err := w.retire(t, slot, m)
		if err != nil && !t.Stopped() && w.host.Alive() == nil && !w.standsIn(old, m) {
			w.abandonCopy(slot, m, true)
		}
		return err
	})
	if err == nil {
		w.host.Go(func() {
			t.Wait()
			if !t.Stopped() {
				w.fallBack(old, m)
			}
		})
	}
	return t, err
}

func (w *Works) retire(t *Task, slot int, m *member.Member) error {
	old := w.host.Slots.At(slot)
	w.countCopy(t, old, m)
	c := &copying{w: w, t: t, old: old, m: m, lay: w.host.Layout(), next: m.Cursor.Load(), begun: t.Done(), saves: t.Saves(), slots: make(chan struct{}, copies)}
	if err := c.run(); err != nil {
		return err
	}
	if err := w.copyWitnesses(old, m); err != nil {
		return err
	}
	if err := w.handOver(old, m); err != nil {
		return err
	}
	if err := w.seeAgainAround(t, slot, true); err != nil {
		return err
	}
	return w.host.Journal.Checkpoint()
}

// copies is how many pieces of a member are copied at the same time: while one is written the next is read.
const copies = 3

// copying is a member that is being copied.
type copying struct {
	w      *Works
	t      *Task
	old, m *member.Member
	lay    *layout.Map
	next   int64 // strip at which the next piece begins
	begun  int64 // bytes of all pieces that were begun
	saves  *Saves
	flight env.Group     // pieces under way
	saving env.Group     // the cursor's being saved
	slots  chan struct{} // one for each
	passed chan struct{} // closed when the piece before has passed; nil: there was none
	failure
}

// run copies to the end. When it returns nothing of it is under way.
func (c *copying) run() error {
	strips := c.lay.Strips(c.m.Slot)
	for c.next < strips && c.failed() == nil {
		if err := c.step(strips); err != nil {
			c.fail(err)
		}
	}
	c.flight.Wait()
	c.saving.Wait()
	return c.failed()
}

// step begins the next piece, or jumps over strips in which neither disk has anything.
func (c *copying) step(strips int64) error {
	st, left := c.lay.Strip(c.m.Slot, c.next)
	n := min(max(1, min(windowBytes, c.saves.Part()/copies)/st.Strip), left)
	if c.t.Yields() {
		c.flight.Wait()
	}
	if err := c.t.Point(n * st.Strip); err != nil {
		c.flight.Wait()
		c.saving.Wait()
		return errors.Join(err, c.w.saveCopy(c.m.Slot, c.m))
	}
	if err := c.w.copyable(c.old, c.m); err != nil {
		return err
	}
	if next := min(c.w.nextToCopy(c.old, c.m, c.next), strips); next-c.next >= jumpStrips || next == strips {
		if c.flight.Wait(); c.failed() == nil {
			c.next = c.w.passNever(c.old, c.m)
		}
		return nil
	}
	if c.saves.Due() {
		c.saving.Wait()
		c.saving.Go(func() {
			if err := c.saves.Keep(func() error { return c.w.saveCopy(c.m.Slot, c.m) }); err != nil {
				c.fail(err)
			}
		})
	}
	counts := c.w.writtenOn(c.old, c.m.Slot, c.next, c.next+n)
	if c.begun += counts; c.saves.Ahead(c.begun) {
		c.saving.Wait()
	}
	c.next += n
	c.launch(st, n, counts)
	return nil
}

// launch copies n rows from a stripe on, which count as so many bytes, by itself. It holds their stripes until the cursor has passed them, so that whatever
// clients write there afterwards goes to the copy as well. Locks are taken here, in order, as in a rebuild.
func (c *copying) launch(st layout.Stripe, n, counts int64) {
	unlock := c.w.host.Stripes.Lock(stripe.Rows(st, n), true)
	before, done := c.passed, make(chan struct{})
	c.passed = done
	env.Send(c.slots, struct{}{})
	c.flight.Go(func() {
		defer func() { <-c.slots }()
		defer unlock()
		defer close(done)
		copied, err := c.w.copyRows(c.old, c.m, st, n)
		if before != nil && !probe.PassesBeforeItsTurn.On() {
			env.Recv(before) // without the barrier, for which the piece before may be waiting
		}
		if err == nil {
			err = c.failed()
		}
		if err == nil {
			err = c.w.copyable(c.old, c.m)
		}
		if c.t.Moves(copied * st.Strip); err != nil {
			c.fail(err)
			return
		}
		c.m.Cursor.Store(max(st.Nth(c.m.Slot)+n, c.m.Cursor.Load()))
		c.t.Advance(env.Now(), counts)
	})
}

// copyWitnesses lets the new disk know what the old one knows of another member's pages. What is added from then on it is told as
// well, see copyOf: a crash right after it took over finds it with all that the old one knew.
func (w *Works) copyWitnesses(old, m *member.Member) error {
	for of := range w.host.Slots.Len() {
		if w.host.Roster.Holder(of) != m.Slot {
			continue
		}
		for number, there := range old.Place().SameWitnesses(m.Place(), w.host.Slots.At(of).Place()) {
			if err := w.host.Tables.CopyWitnesses(old, number, m, there); err != nil {
				return err
			}
		}
	}
	return nil
}

// writtenOn is how many bytes of a slot, from the nth strip to that before end, lie where a disk has anything by its own tables.
func (w *Works) writtenOn(old *member.Member, slot int, nth, end int64) int64 {
	return w.host.Stripes.Written(slot, nth, end, func(nth int64) int64 { return w.host.Stripes.NextMarked(old, nth) })
}

func (w *Works) countCopy(t *Task, old, m *member.Member) {
	cursor, strips := m.Cursor.Load(), w.host.Layout().Strips(m.Slot)
	earlier := w.writtenOn(old, m.Slot, 0, cursor)
	t.Count(earlier, earlier+w.writtenOn(old, m.Slot, cursor, strips))
}

// nextToCopy is the first strip from one on in which either disk has anything.
func (w *Works) nextToCopy(old, m *member.Member, from int64) int64 {
	return min(w.host.Stripes.NextMarked(old, from), w.host.Stripes.NextMarked(m, from))
}

// passNever moves the cursor over strips in which neither disk has anything. Nobody is between planning and writing at that
// moment, so none can become written behind the cursor's back.
func (w *Works) passNever(old, m *member.Member) int64 {
	w.host.Journal.Barrier.Lock()
	defer w.host.Journal.Barrier.Unlock()
	next := w.nextToCopy(old, m, m.Cursor.Load())
	m.Cursor.Store(next)
	return next
}

func (w *Works) copyable(old, m *member.Member) error {
	switch {
	case w.host.Alive() != nil:
		return w.host.Alive()
	case !w.host.Slots.Has(old) || !old.Live():
		return fmt.Errorf("%s is %s: it cannot be copied any more; replace it", old.Name(), old.Condition())
	case !m.Live():
		return fmt.Errorf("%s is %s", m.Name(), m.Condition())
	}
	return nil
}

// copyRows copies n rows from a stripe on, while their stripes are held.
func (w *Works) copyRows(old, m *member.Member, from layout.Stripe, n int64) (copied int64, err error) {
	w.host.Journal.Barrier.RLock()
	defer w.host.Journal.Barrier.RUnlock()
	var rows atomic.Int64
	err = w.host.Stripes.Fan.Work(int(n), func(i int) error {
		did, err := w.copyRow(old, m, from.At(from.Group, from.Row+int64(i)))
		if did {
			rows.Add(1)
		}
		return err
	})
	return rows.Load(), err
}

// copyRow makes a strip of the copy what it is on the member. The caller holds its stripe and the barrier.
func (w *Works) copyRow(old, m *member.Member, st layout.Stripe) (did bool, err error) {
	n := st.StripBlocks()
	first := st.Block(m.Slot)
	sums := make([]uint32, n)
	if err := w.host.Tables.Sums(old, first, sums); err != nil {
		return false, err
	}
	if record.AllAre(sums, record.SumNever) {
		w.host.Tables.SetAs(m, w.host.Stripes.ChangesOf(old), first, n, nil, record.SumNever)
		return false, nil
	}
	buf := w.host.Scratch.Get(n)
	defer w.host.Scratch.Put(buf)
	if w.host.Stripes.Fan.Reads(1, len(buf), func(int) error { return w.host.Stripes.ReadVerified(old, first, buf, sums) }) != nil {
		if err := w.restoreRow(old, st, buf, sums); err != nil {
			return false, err
		}
	}
	if err := m.WriteData([][]byte{buf}, first); err != nil {
		return false, err
	}
	w.host.Tables.SetAs(m, w.host.Stripes.ChangesOf(old), first, n, sums, 0)
	return true, nil
}

// CopyAgain copies those of some stripes again that lie below the cursor of a copy: what the journals held may not have
// reached it before the crash. Nobody else works on the array yet.
func (w *Works) CopyAgain(stripes []layout.Stripe) error {
	for _, m := range w.host.Slots.Copies() {
		old := w.host.Slots.At(m.Slot)
		for _, st := range stripes {
			if !st.Has(m.Slot) || st.Nth(m.Slot) >= m.Cursor.Load() || !old.Live() || !m.Live() {
				continue
			}
			if _, err := w.copyRow(old, m, st); err != nil && w.host.Alive() != nil {
				return err
			}
		}
	}
	return w.host.Alive()
}

// restoreRow has a strip of a member with the help of redundancy; blocks that cannot be had get the sum of a lost one.
func (w *Works) restoreRow(old *member.Member, st layout.Stripe, buf []byte, sums []uint32) error {
	c, err := w.host.Stripes.Load(st, 0, st.StripBlocks(), nil)
	if err != nil {
		return err
	}
	defer c.Free()
	if err := c.Recover(); err != nil {
		return err
	}
	role := st.Role(old.Slot)
	copy(buf, c.Bufs[role])
	for col := range sums {
		switch {
		case c.Fresh(col):
			sums[col] = record.SumNever
		case !c.Known[role][col]:
			sums[col] = record.SumLost
			w.host.Unreadable.Add(1)
		default:
			sums[col] = record.Sum(buf[col*record.Block:][:record.Block])
		}
	}
	return nil
}

// saveCopy makes the copy so far durable, then its cursor.
func (w *Works) saveCopy(slot int, m *member.Member) error {
	cursor := m.Cursor.Load()
	if !probe.CopyNotSynced.On() {
		if err := w.host.Journal.Checkpoint(); err != nil {
			return err
		}
	}
	return w.host.Roster.Update(func(r *record.Record) {
		if e := &r.Roster[slot]; e.Onto == m.Identity {
			e.Cursor = cursor
		}
	})
}

// handOver makes the new disk the member, with all stripes held. A checkpoint before that leaves little to do for the one
// that is made while clients wait.
func (w *Works) handOver(old, m *member.Member) error {
	if err := w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	defer w.host.Stripes.LockAll()()
	// With everything in place and all tables written the new member needs nothing from any journal.
	if err := w.host.Journal.Checkpoint(); err != nil {
		return err
	}
	if err := w.copyable(old, m); err != nil {
		return err
	}
	if err := w.host.Journal.Empty(m); err != nil {
		return cmp.Or(m.WriteProblem(err), w.copyable(old, m))
	}
	// The epoch in which it becomes a member must be the next after its own, or a crash on the way would leave it behind.
	if err := w.signCopy(m); err != nil {
		return cmp.Or(m.WriteProblem(err), w.copyable(old, m))
	}
	if err := w.host.Roster.Exchange(old, m, func() error { return w.copyable(old, m) }); err != nil {
		return err
	}
	w.host.Tables.Forget(old)
	w.host.Say(event.MemberRetired, old.Name(), fmt.Sprintf("its place is taken by %s", m.Name()))
	old.Release()
	return nil
}

// TakeUp goes on with a copy that a stop or a crash cut short.
func (w *Works) TakeUp(slot int, c roster.Candidate) {
	w.host.Slots.CopyOnto(member.New(w.host.Judge, member.Known{Slot: slot, Disk: c.Disk, Identity: c.Record.Member, Place: c.Record.Place,
		Condition: record.Rebuilding, Cursor: w.host.Roster.View().Roster[slot].Cursor}))
}

// Onto is the disk a member is being copied onto, if it is.
func (w *Works) Onto(slot int) (state.Identity, bool) {
	if m := w.host.Slots.Onto(slot); m != nil {
		return m.Disk.Identity(), true
	}
	return state.Identity{}, false
}
