package array

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/task"
	"nidalo/internal/env"
)

// StartCheck starts a consistency check of all that was ever written: every block against its checksum, and parity or
// copies against the data. With repair it puts right what it can.
func (a *Array) StartCheck(repair bool) error { return a.StartCheckBlaming(repair, -1) }

// StartCheckBlaming is StartCheck with a slot to blame where blocks contradict each other, all whole by their checksums, and
// nothing shows which of them is wrong: what the member in it holds is computed from the others. With -1 such places are
// reported and left as they are.
func (a *Array) StartCheckBlaming(repair bool, blame int) error {
	_, err := a.startCheck(checkHow{repair, blame}, false)
	return err
}

// checkHow is what a check is to do.
type checkHow struct {
	repair bool
	blame  int // slot; -1: none
}

func (a *Array) startCheck(how checkHow, resume bool) (*task.Task, error) {
	cursor := int64(0)
	if resume {
		cursor = a.roster.View().Task.Cursor
	}
	return a.tasks.Start(state.TaskCheck, -1, func(t *task.Task) { a.countCheck(t, cursor) }, func(t *task.Task) error { return a.check(t, how, resume) })
}

// CheckNow checks in the caller's goroutine.
func (a *Array) CheckNow(repair bool) (task.CheckResult, error) {
	t := task.Alone(state.TaskCheck)
	err := a.check(t, checkHow{repair, -1}, false)
	found, _ := t.Found()
	return found, err
}

func (a *Array) countCheck(t *task.Task, cursor int64) {
	used := a.Used()
	t.Count(used-a.usedFrom(cursor), used)
}

func (a *Array) check(t *task.Task, how checkHow, resume bool) error {
	cursor, repair := int64(0), how.repair
	saw := task.CheckResult{Repair: repair}
	if saved := a.roster.View().Task; resume {
		cursor = saved.Cursor
		saw.Mismatches, saw.Repaired, saw.Unrepairable = saved.Mismatches, saved.Repaired, saved.Unrepairable
		t.Resumed(saved.Started, saw)
	} else {
		t.Resumed(time.Time{}, saw)
		if err := a.Flush(); err != nil {
			return err
		}
	}
	a.countCheck(t, cursor)
	save := func(ended bool) error {
		c, started := t.Found()
		return a.roster.Update(func(r *record.Record) {
			r.Task = record.Task{Kind: record.Check, Repair: repair, Blame: how.blame + 1, Cursor: cursor, Mismatches: c.Mismatches,
				Repaired: c.Repaired, Unrepairable: c.Unrepairable, Started: started}
			if ended {
				r.Task.Ended = a.now()
			}
		})
	}
	if err := save(false); err != nil {
		return err
	}
	saved := t.Saves()
	lay := a.Layout()
	for cursor < lay.Stripes() {
		if err := a.alive(); err != nil {
			return err
		}
		here := lay.Stripe(cursor)
		n := min(max(1, min(checkBytes, t.Grain())/here.StripeSize()), here.Stripes()-here.Number)
		if err := t.Point(n * here.StripeSize()); err != nil {
			return errors.Join(err, save(errors.Is(err, task.ErrCancelled)))
		}
		next := a.nextWritten(cursor)
		if next > cursor {
			cursor = next
			continue
		}
		a.refresh(lay, cursor, n)
		err := member.Parallel(int(n), func(i int) error {
			return a.checkStripe(t, lay.Stripe(cursor+int64(i)), how)
		})
		if err != nil {
			return err
		}
		cursor += n
		t.Advance(env.Now(), n*here.StripeSize())
		if saved.Due() {
			if err := saved.Keep(func() error { return save(false) }); err != nil {
				return err
			}
		}
	}
	if repair {
		if err := a.journal.Checkpoint(); err != nil {
			return err
		}
	}
	return save(true)
}

// checkTries is how often a check asks a member that does not answer in time, and checkRest how long it leaves it alone in
// between: what it holds cannot be checked any other way.
const (
	checkTries = 5
	checkRest  = time.Second
)

// checkStripe checks one stripe, which it holds only while it looks: a member that is late is left alone with the stripe
// free for clients.
func (a *Array) checkStripe(t *task.Task, st layout.Stripe, how checkHow) error {
	for try := 1; ; try++ {
		late, err := a.checkHeld(t, st, how)
		if err != nil || late == nil {
			return err
		}
		if try == checkTries {
			return fmt.Errorf("%s did not answer in time", late.Name())
		}
		if !t.Rest(checkRest) {
			return task.ErrStopped
		}
	}
}

// checkHeld is one attempt at it; late is a member that did not answer, and nothing was decided then.
func (a *Array) checkHeld(t *task.Task, st layout.Stripe, how checkHow) (late *member.Member, err error) {
	defer a.lockStripes([]layout.ID{st.ID()}, true)()
	if a.untouched(st, nil) {
		return nil, a.alive()
	}
	c, err := a.loadColumns(st, 0, st.StripBlocks(), nil)
	if err != nil {
		return nil, err
	}
	defer c.free()
	for role, w := range c.wrong {
		if slices.Contains(w, silent) {
			return c.roles[role], nil
		}
	}
	var result task.CheckResult
	note := func(role, col int, what string) {
		result.Mismatches++
		slot := st.Slot(role)
		result.Places = append(result.Places, task.Mismatch{Stripe: st.Ordinal(), Slot: slot, Block: st.Block(slot) + int64(col), What: what})
	}
	for role := range c.wrong {
		for col, wrong := range c.wrong[role] {
			switch wrong {
			case unread:
				note(role, col, "cannot be read")
				if !how.repair { // otherwise when it is healed
					c.roles[role].Count(&c.roles[role].Errs.Read)
				}
			case mismatch:
				note(role, col, "wrong checksum")
			case lost:
				note(role, col, "contents not known")
			}
		}
	}
	if err := c.recover(); err != nil {
		return nil, err
	}
	for role := range c.wrong {
		for col, wrong := range c.wrong[role] {
			if wrong == doubted && !c.same(role, col) && !(c.known[role][col] && c.fresh(col)) {
				note(role, col, "older than it should be")
			}
		}
	}
	for role := range c.wrong {
		for col, wrong := range c.wrong[role] {
			if wrong.bad() && !c.known[role][col] {
				result.Unrepairable++
			}
		}
	}
	guilty, unsure := c.contradictions()
	for _, x := range guilty {
		note(x.role, x.col, "does not match the others")
	}
	for _, x := range unsure {
		if how.blame >= 0 && st.Has(how.blame) {
			x.role = st.Role(how.blame)
			guilty = append(guilty, x)
			note(x.role, x.col, "contradicts the others, and is to blame as was said")
			continue
		}
		note(x.role, x.col, "contradicts the others; nothing shows which of them is wrong")
		result.Unrepairable++
	}
	if how.repair {
		if err := c.repair(&result, guilty); err != nil {
			return nil, err
		}
	}
	t.Finds(result)
	return nil, a.alive()
}

// refresh makes the rows of some stripes be read from the media, not from what the system keeps in memory: a check is to
// find what the media hold.
func (a *Array) refresh(lay *layout.Map, from, n int64) {
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
			if m := a.slots.At(slot); m.Patient != nil && m.Usable(st) {
				m.Patient.Refresh(m.Offset(st.Block(slot)), (last[group]-st.Row+1)*st.Strip)
			}
		}
	}
}

// at is a block of a stripe.
type at struct{ role, col int }

// contradictions finds the columns whose blocks are all whole by their checksums and yet contradict each other. With two
// parities or three copies the code itself shows which one is wrong: without that one, and only without that one, the others
// agree. Those are guilty. Where nothing shows it the place is unsure, and named by its first parity.
func (c *columns) contradictions() (guilty, unsure []at) {
	k, m := c.st.Data, c.st.Parity
	if m == 0 {
		return nil, nil
	}
	rows := make([][]byte, m)
	for j := range rows {
		rows[j] = c.a.scratch.Get(c.n)
	}
	defer c.a.scratch.Put(rows...)
	parity.Encode(rows, c.bufs[:k])
	for col := range c.n {
		whole, agrees := true, true
		for role := range c.roles {
			whole = whole && c.roles[role] != nil && c.known[role][col] && c.wrong[role][col] == sound
		}
		for j := range rows {
			agrees = agrees && (!c.known[k+j][col] || c.wrong[k+j][col] != sound || c.roles[k+j] == nil ||
				bytes.Equal(rows[j][col*Block:][:Block], c.bufs[k+j][col*Block:][:Block]))
		}
		switch {
		case agrees || !c.allData(col):
		case whole && m > 1:
			if role := c.odd(col); role >= 0 {
				guilty = append(guilty, at{role, col})
				continue
			}
			fallthrough
		default:
			unsure = append(unsure, at{k, col})
		}
	}
	return guilty, unsure
}

// allData says whether all data of a column is known from its own members.
func (c *columns) allData(col int) bool {
	for role := range c.st.Data {
		if !c.known[role][col] {
			return false
		}
	}
	return true
}

// odd is the one role of a column without which the others agree; -1 when there is none, or more than one.
func (c *columns) odd(col int) int {
	k, m, found := c.st.Data, c.st.Parity, -1
	strips, own := make([][]byte, len(c.bufs)), make([]byte, Block)
	rows := make([][]byte, m)
	for j := range rows {
		rows[j] = make([]byte, Block)
	}
	for role := range c.bufs {
		for r := range strips {
			strips[r] = c.bufs[r][col*Block:][:Block]
		}
		strips[role] = own
		if parity.Recover(strips, k, []int{role}) != nil {
			continue
		}
		parity.Encode(rows, strips[:k])
		agree := true
		for j := range rows {
			agree = agree && bytes.Equal(rows[j], strips[k+j])
		}
		if agree {
			if found >= 0 {
				return -1
			}
			found = role
		}
	}
	return found
}

// repair heals what is wrong, and computes anew what is to blame for contradictions.
func (c *columns) repair(result *task.CheckResult, guilty []at) error {
	a, k := c.a, c.st.Data
	if len(guilty) > 0 {
		need := journal.Reservation{}
		for _, m := range c.roles {
			if m != nil {
				need[m] = int64(len(guilty)) + 2
			}
		}
		if err := a.journal.Reserve(need); err != nil {
			return err
		}
		defer a.journal.Unreserve(need)
	}
	a.journal.Barrier.RLock()
	defer a.journal.Barrier.RUnlock()
	result.Repaired += int64(c.heal())
	if len(guilty) == 0 {
		return nil
	}
	var ch journal.Change
	for _, x := range guilty {
		strips := make([][]byte, len(c.bufs))
		for role := range strips {
			strips[role] = c.bufs[role][x.col*Block:][:Block]
		}
		buf := make([]byte, Block)
		strips[x.role] = buf
		if m := c.roles[x.role]; m != nil && parity.Recover(strips, k, []int{x.role}) == nil {
			ch.Writes = append(ch.Writes, journal.Write{M: m, Kind: record.RunPayload, Block: c.block(m, x.col), N: 1, Buf: buf, Sums: sumsOf(buf)})
			m.Count(&m.Errs.Checksum)
		}
	}
	if err := a.journal.Commit(&ch); err != nil {
		return err
	}
	if err := a.journal.Place(&ch); err != nil {
		return err
	}
	result.Repaired += int64(len(ch.Writes))
	return nil
}

// LastCheck is the state of the last consistency check, as the record holds it.
func (a *Array) LastCheck() record.Task { return a.roster.View().Task }
