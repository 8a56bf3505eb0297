package task

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
	"nidalo/internal/env"
)

// StartCheck starts a consistency check of all that was ever written: every block against its checksum, and parity or
// copies against the data. With repair it puts right what it can.
func (w *Works) StartCheck(repair bool) error { return w.StartCheckBlaming(repair, -1) }

// StartCheckBlaming is StartCheck with a slot to blame where blocks contradict each other, all whole by their checksums, and
// nothing shows which of them is wrong: what the member in it holds is computed from the others. With -1 such places are
// reported and left as they are.
func (w *Works) StartCheckBlaming(repair bool, blame int) error {
	_, err := w.startCheck(How{repair, blame}, false)
	return err
}

// How is what a check is to do.
type How struct {
	Repair bool
	Blame  int // slot; -1: none
}

func (w *Works) startCheck(how How, resume bool) (*Task, error) {
	cursor := int64(0)
	if resume {
		cursor = w.host.Roster.View().Task.Cursor
	}
	return w.tasks.Start(state.TaskCheck, -1, func(t *Task) { w.countCheck(t, cursor) }, func(t *Task) error { return w.check(t, how, resume) })
}

// CheckNow checks in the caller's goroutine.
func (w *Works) CheckNow(repair bool) (CheckResult, error) {
	t := Alone(state.TaskCheck)
	err := w.check(t, How{repair, -1}, false)
	found, _ := t.Found()
	return found, err
}

func (w *Works) countCheck(t *Task, cursor int64) {
	used := w.host.Stripes.Used()
	t.Count(used-w.host.Stripes.UsedFrom(cursor), used)
}

func (w *Works) check(t *Task, how How, resume bool) error {
	c := &checking{w: w, t: t, how: how}
	_ = w.Still(func() error { // from here on a change of layout waits for it
		c.lay = w.host.Layout()
		return nil
	})
	if err := c.begin(resume); err != nil {
		return err
	}
	if err := c.run(); err != nil {
		return err
	}
	if how.Repair {
		if err := w.host.Journal.Checkpoint(); err != nil {
			return err
		}
	}
	return c.save(true)
}

// checking is a check under way.
type checking struct {
	w      *Works
	t      *Task
	how    How
	lay    *layout.Map
	cursor int64 // ordinal of the next stripe

	saving env.Group // of how far it is, while it goes on
	failed error     // of that
}

// run goes on from step to step.
func (c *checking) run() error {
	defer c.saving.Wait()
	saves := c.t.Saves()
	for c.cursor < c.lay.Stripes() {
		if err := c.w.host.Alive(); err != nil {
			return err
		}
		if err := c.step(); err != nil {
			return err
		}
		if saves.Ahead(c.t.Done()) {
			c.saving.Wait()
		}
		if !saves.Due() {
			continue
		}
		if c.saving.Wait(); c.failed != nil {
			return c.failed
		}
		task := c.now()
		c.saving.Go(func() { c.failed = saves.Keep(func() error { return c.note(task) }) })
	}
	c.saving.Wait()
	return c.failed
}

// begin notes in the record that there is a check, or goes on with the one that is noted there.
func (c *checking) begin(resume bool) error {
	saw := CheckResult{Repair: c.how.Repair}
	if saved := c.w.host.Roster.View().Task; resume {
		c.cursor = saved.Cursor
		saw.Mismatches, saw.Repaired, saw.Unrepairable = saved.Mismatches, saved.Repaired, saved.Unrepairable
		c.t.Resumed(saved.Started, saw)
	} else {
		c.t.Resumed(time.Time{}, saw)
		if err := c.w.host.Flush(); err != nil {
			return err
		}
	}
	c.w.countCheck(c.t, c.cursor)
	return c.save(false)
}

// save makes durable how far it is.
func (c *checking) save(ended bool) error {
	c.saving.Wait()
	task := c.now()
	if ended {
		task.Ended = c.w.host.Now()
		if c.cursor >= c.lay.Stripes() {
			task.Cursor = record.WholeCheck // whatever becomes of the layout
		}
	}
	return c.note(task)
}

// now is how far it is, and what it has found up to there.
func (c *checking) now() record.Task {
	found, started := c.t.Found()
	return record.Task{Kind: record.Check, Repair: c.how.Repair, Blame: c.how.Blame + 1, Cursor: c.cursor, Mismatches: found.Mismatches,
		Repaired: found.Repaired, Unrepairable: found.Unrepairable, Started: started}
}

func (c *checking) note(task record.Task) error {
	return c.w.host.Roster.Update(func(r *record.Record) { r.Task = task })
}

// step checks some stripes, or jumps over those that were never written.
func (c *checking) step() error {
	here := c.lay.Stripe(c.cursor)
	n := max(1, min(checkBytes, c.t.Grain())/here.StripeSize())
	if each := int64(env.Processors()); n > 1 {
		n = (n + each - 1) / each * each // so that they end together
	}
	n = min(n, here.Stripes()-here.Number)
	if err := c.t.Point(n * here.StripeSize()); err != nil {
		return errors.Join(err, c.save(errors.Is(err, ErrCancelled)))
	}
	if next := c.w.host.Stripes.NextWritten(c.cursor); next > c.cursor {
		c.cursor = next
		return nil
	}
	c.w.refresh(c.lay, c.cursor, n)
	err := c.w.host.Stripes.Fan.Work(int(n), func(i int) error {
		return c.w.CheckStripe(c.t, c.lay.Stripe(c.cursor+int64(i)), c.how)
	})
	if err != nil {
		return err
	}
	c.cursor += n
	c.t.Advance(env.Now(), n*here.StripeSize())
	return nil
}

// checkTries is how often a check asks a member that does not answer in time, and checkRest how long it leaves it alone in
// between: what it holds cannot be checked any other way.
const (
	checkTries = 5
	checkRest  = time.Second
)

// CheckStripe checks one stripe, which it holds only while it looks: a member that is late is left alone with the stripe
// free for clients.
func (w *Works) CheckStripe(t *Task, st layout.Stripe, how How) error {
	for try := 1; ; try++ {
		late, err := w.checkHeld(t, st, how)
		if err != nil || late == nil {
			return err
		}
		if try == checkTries {
			return fmt.Errorf("%s did not answer in time", late.Name())
		}
		if !t.Rest(checkRest) {
			return ErrStopped
		}
	}
}

// checkHeld is one attempt at it; late is a member that did not answer, and nothing was decided then.
func (w *Works) checkHeld(t *Task, st layout.Stripe, how How) (late *member.Member, err error) {
	defer w.host.Stripes.Lock([]layout.ID{st.ID()}, true)()
	if w.host.Stripes.Untouched(st, nil) {
		return nil, w.host.Alive()
	}
	c, err := w.host.Stripes.Load(st, 0, st.StripBlocks(), nil)
	if err != nil {
		return nil, err
	}
	defer c.Free()
	f := &findings{c: c}
	if c.Sound() && c.Agrees() {
		if st.Fixed {
			f.forGood() // what was given up is sound
			t.Finds(f.result)
		}
		return nil, w.host.Alive()
	}
	if late, err = f.wrong(how); late != nil || err != nil {
		return late, err
	}
	var old []stripe.Place
	if how.Repair {
		var given int
		given, old = c.GiveUp()
		f.result.Repaired -= int64(given + len(old)) // they are written, which is no repair
	}
	f.forGood()
	guilty := f.contradictions(how.Blame)
	if how.Repair {
		if err := w.repair(c, &f.result, old, guilty); err != nil {
			return nil, err
		}
	}
	t.Finds(f.result)
	return nil, w.host.Alive()
}

// findings is what a check finds in the columns of a stripe.
type findings struct {
	c      *stripe.Columns
	result CheckResult
}

// wrong notes what members do not have as they should, and works out what that should be. late is a member that did not answer.
func (f *findings) wrong(how How) (late *member.Member, err error) {
	c := f.c
	for role, wrong := range c.Wrong {
		if slices.Contains(wrong, stripe.Silent) {
			return c.Roles[role], nil
		}
	}
	f.each(func(role, col int, wrong stripe.Cause) {
		switch wrong {
		case stripe.Unread:
			f.note(role, col, "cannot be read")
			if !how.Repair { // otherwise when it is healed
				c.Roles[role].Count(&c.Roles[role].Errs.Read)
			}
		case stripe.Mismatch:
			f.note(role, col, "wrong checksum")
		case stripe.Lost:
			f.note(role, col, "contents not known")
		}
	})
	if err := c.Recover(); err != nil {
		return nil, err
	}
	f.each(func(role, col int, wrong stripe.Cause) {
		if wrong == stripe.Doubted && !c.Same(role, col) && !(c.Known[role][col] && c.Fresh(col)) {
			f.note(role, col, "older than it should be")
		}
	})
	return nil, nil
}

func (f *findings) note(role, col int, what string) {
	f.result.Mismatches++
	slot := f.c.St.Slot(role)
	f.result.Count(slot, 1)
	f.result.Places = append(f.result.Places, Mismatch{Stripe: f.c.St.Ordinal(), Slot: slot, Block: f.c.St.Block(slot) + int64(col), What: what})
}

// forGood counts what nothing can restore.
func (f *findings) forGood() {
	f.each(func(role, col int, wrong stripe.Cause) {
		switch {
		case wrong.Bad() && !f.c.Known[role][col]:
			f.result.Unrepairable++
		case f.c.Known[role][col] && f.c.GivenUp(role, col):
			if wrong != stripe.Lost { // otherwise it is noted already
				f.note(role, col, "contents given up")
			}
			f.result.Unrepairable++
		}
	})
}

func (f *findings) each(of func(role, col int, wrong stripe.Cause)) {
	for role := range f.c.Wrong {
		for col, wrong := range f.c.Wrong[role] {
			of(role, col, wrong)
		}
	}
}

// contradictions notes blocks that are whole and contradict each other, and returns those that are to be computed anew. blame is the
// slot that is at fault where nothing shows which block is wrong; -1: none.
func (f *findings) contradictions(blame int) (guilty []stripe.Place) {
	guilty, unsure := f.c.Contradictions()
	for _, x := range guilty {
		f.note(x.Role, x.Col, "does not match the others")
	}
	for _, x := range unsure {
		if blame >= 0 && f.c.St.Has(blame) {
			x.Role = f.c.St.Role(blame)
			guilty = append(guilty, x)
			f.note(x.Role, x.Col, "contradicts the others, and is to blame as was said")
			continue
		}
		f.note(x.Role, x.Col, "contradicts the others; nothing shows which of them is wrong")
		f.result.Unrepairable++
	}
	return guilty
}

// refresh makes the rows of some stripes be read from the media, not from what the system keeps in memory: a check is to
// find what the media hold.
func (w *Works) refresh(lay *layout.Map, from, n int64) {
	first := map[int]layout.Stripe{} // by group
	last := map[int]int64{}
	for number := from; number < from+n; number++ {
		st := lay.Stripe(number)
		if _, ok := first[st.Group]; !ok {
			first[st.Group] = st
		}
		last[st.Group] = st.Row
	}
	for group, st := range first {
		for _, slot := range st.Members(group) {
			if m := w.host.Slots.At(slot); m.Patient != nil && m.Usable(st) {
				m.Patient.Refresh(m.Offset(st.Block(slot)), (last[group]-st.Row+1)*st.Strip)
			}
		}
	}
}

// repair marks parity of what was given up as lost, heals what is wrong, and computes anew what is to blame for contradictions.
func (w *Works) repair(c *stripe.Columns, result *CheckResult, old, guilty []stripe.Place) error {
	if n := len(old) + len(guilty); n > 0 {
		need := journal.Reservation{}
		for _, m := range c.Roles {
			if m != nil {
				need.Add(m, int64(n)+4)
			}
		}
		if err := w.host.Journal.Reserve(need); err != nil {
			return err
		}
		defer w.host.Journal.Unreserve(need)
	}
	w.host.Journal.Barrier.RLock()
	defer w.host.Journal.Barrier.RUnlock()
	if len(old) > 0 {
		var ch journal.Change
		for _, x := range old {
			m := c.Roles[x.Role]
			ch.Writes = append(ch.Writes, journal.Write{M: m, Kind: record.RunLost, Block: c.Block(m, x.Col), N: 1})
		}
		if err := w.bring(&ch); err != nil {
			return err
		}
	}
	result.Repaired += int64(c.Heal())
	if len(guilty) == 0 {
		return nil
	}
	var ch journal.Change
	for _, x := range guilty {
		strips := make([][]byte, len(c.Bufs))
		for role := range strips {
			strips[role] = c.Bufs[role][x.Col*record.Block:][:record.Block]
		}
		buf := make([]byte, record.Block)
		strips[x.Role] = buf
		if m := c.Roles[x.Role]; m != nil && stripe.Recover(c.St, strips, []int{x.Role}) == nil {
			ch.Writes = append(ch.Writes, journal.Write{M: m, Kind: record.RunPayload, Block: c.Block(m, x.Col), N: 1, Buf: buf, Sums: record.SumsOf(buf)})
			m.Count(&m.Errs.Checksum)
		}
	}
	if err := w.bring(&ch); err != nil {
		return err
	}
	result.Repaired += int64(len(ch.Writes))
	return nil
}

// bring commits a change and brings it in place.
func (w *Works) bring(ch *journal.Change) error {
	if err := w.host.Journal.Commit(ch); err != nil {
		return err
	}
	return w.host.Journal.Place(ch)
}

// LastCheck is the state of the last consistency check, as the record holds it.
func (w *Works) LastCheck() record.Task { return w.host.Roster.View().Task }
