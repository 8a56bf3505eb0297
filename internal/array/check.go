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
)

// placesKept bounds the list of mismatches in a result.
const placesKept = 100

// StartCheck starts a consistency check of all that was ever written: every block against its checksum, and parity or
// copies against the data. With repair it puts right what it can.
func (a *Array) StartCheck(repair bool) error {
	_, err := a.startCheck(repair, false)
	return err
}

func (a *Array) startCheck(repair, resume bool) (*task, error) {
	cursor := int64(0)
	if resume {
		cursor = a.roster.view().Task.Cursor
	}
	return a.runTask(TaskCheck, -1, func(t *task) { a.countCheck(t, cursor) }, func(t *task) error { return a.check(t, repair, resume) })
}

// CheckNow checks in the caller's goroutine.
func (a *Array) CheckNow(repair bool) (CheckResult, error) {
	t := &task{kind: TaskCheck, slot: -1, cancel: make(chan struct{}), ended: make(chan struct{})}
	err := a.check(t, repair, false)
	return t.check, err
}

func (a *Array) countCheck(t *task, cursor int64) {
	used := a.Used()
	t.count(used-a.usedFrom(cursor), used)
}

func (a *Array) check(t *task, repair, resume bool) error {
	cursor := int64(0)
	saw := CheckResult{Repair: repair}
	if saved := a.roster.view().Task; resume {
		cursor = saved.Cursor
		saw.Mismatches, saw.Repaired, saw.Unrepairable = saved.Mismatches, saved.Repaired, saved.Unrepairable
		t.resumed(saved.Started, saw)
	} else {
		t.resumed(t.started, saw)
		if err := a.Flush(); err != nil {
			return err
		}
	}
	a.countCheck(t, cursor)
	save := func(ended bool) error {
		t.mu.Lock()
		c, started := t.check, t.started
		t.mu.Unlock()
		return a.roster.update(a, func(r *record.Record) {
			r.Task = record.Task{Kind: record.Check, Repair: repair, Cursor: cursor, Mismatches: c.Mismatches,
				Repaired: c.Repaired, Unrepairable: c.Unrepairable, Started: started}
			if ended {
				r.Task.Ended = a.now()
			}
		})
	}
	if err := save(false); err != nil {
		return err
	}
	saved := t.saves(a.now())
	total := a.geo.Stripes()
	per := max(1, min(checkBytes, t.grain())/a.geo.StripeSize())
	for cursor < total {
		if err := a.alive(); err != nil {
			return err
		}
		if err := t.point(a, min(per, total-cursor)*a.geo.StripeSize()); err != nil {
			return errors.Join(err, save(errors.Is(err, errTaskCancelled)))
		}
		next := a.nextWritten(cursor)
		if next > cursor {
			cursor = next
			continue
		}
		n := min(per, total-cursor)
		a.refresh(cursor, n)
		err := a.parallel(int(n), func(i int) error {
			return a.checkStripe(t, a.geo.Locate(cursor+int64(i)), repair)
		})
		if err != nil {
			return err
		}
		cursor += n
		t.advance(a.now(), n*a.geo.StripeSize())
		if saved.due(t, a.now()) {
			if err := saved.keep(t, a.now(), func() error { return save(false) }); err != nil {
				return err
			}
		}
	}
	if repair {
		if err := a.checkpoint(); err != nil {
			return err
		}
	}
	return save(true)
}

// usedFrom is Used for the stripes from number on.
func (a *Array) usedFrom(number int64) int64 {
	var total int64
	for number < a.geo.Stripes() {
		next := a.nextWritten(number)
		if next >= a.geo.Stripes() {
			break
		}
		per := int64(a.geo.StripBlocks())
		here := a.geo.Locate(next)
		end := min(((here.Row*per/record.SumsPerPage+1)*record.SumsPerPage+per-1)/per, a.geo.Rows[here.Group])
		upTo := max(a.geo.At(here.Group, end-1).Number+1, next+1)
		total += (upTo - next) * a.geo.StripeSize()
		number = upTo
	}
	return total
}

// checkTries is how often a check asks a member that does not answer in time, and checkRest how long it leaves it alone in
// between: what it holds cannot be checked any other way.
const (
	checkTries = 5
	checkRest  = time.Second
)

// checkStripe checks one stripe, which it holds only while it looks: a member that is late is left alone with the stripe
// free for clients.
func (a *Array) checkStripe(t *task, st layout.Stripe, repair bool) error {
	for try := 1; ; try++ {
		late, err := a.checkHeld(t, st, repair)
		if err != nil || late == nil {
			return err
		}
		if try == checkTries {
			return fmt.Errorf("%s did not answer in time", late.name())
		}
		select {
		case <-t.cancel:
			return errTaskStopped
		case <-time.After(checkRest):
		}
	}
}

// checkHeld is one attempt at it; late is a member that did not answer, and nothing was decided then.
func (a *Array) checkHeld(t *task, st layout.Stripe, repair bool) (late *member, err error) {
	defer a.lockStripes([]int64{st.Number}, true)()
	if a.untouched(st, nil) {
		return nil, a.alive()
	}
	c, err := a.loadColumns(st, 0, a.geo.StripBlocks(), nil)
	if err != nil {
		return nil, err
	}
	defer c.free()
	for role, w := range c.wrong {
		if slices.Contains(w, silent) {
			return c.roles[role], nil
		}
	}
	var result CheckResult
	note := func(role, col int, what string) {
		result.Mismatches++
		result.Places = append(result.Places, Mismatch{st.Number, a.geo.Slot(st, role), c.block(col), what})
	}
	for role := range c.wrong {
		for col, wrong := range c.wrong[role] {
			switch wrong {
			case unread:
				note(role, col, "cannot be read")
			case mismatch:
				note(role, col, "wrong checksum")
			case lost:
				note(role, col, "contents not known")
			}
		}
	}
	c.recover()
	for role := range c.wrong {
		for col, wrong := range c.wrong[role] {
			if wrong.bad() && !c.known[role][col] {
				result.Unrepairable++
			}
		}
	}
	contradictions := c.contradictions()
	for _, x := range contradictions {
		note(x[0], x[1], "does not match the data")
	}
	if repair {
		if err := c.repair(&result, contradictions); err != nil {
			return nil, err
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.check.Mismatches += result.Mismatches
	t.check.Repaired += result.Repaired
	t.check.Unrepairable += result.Unrepairable
	if room := placesKept - len(t.check.Places); room > 0 {
		t.check.Places = append(t.check.Places, result.Places[:min(room, len(result.Places))]...)
	}
	return nil, a.alive()
}

// refresh makes the rows of some stripes be read from the media, not from what the system keeps in memory: a check is to
// find what the media hold.
func (a *Array) refresh(from, n int64) {
	first := map[int]int64{} // by group
	last := map[int]int64{}
	for number := from; number < from+n; number++ {
		st := a.geo.Locate(number)
		if _, ok := first[st.Group]; !ok {
			first[st.Group] = st.Row
		}
		last[st.Group] = st.Row
	}
	for group, row := range first {
		for i := range a.geo.Width() {
			if m := a.members[group*a.geo.Width()+i].Load(); m.patient != nil && m.usable(row) {
				m.patient.Refresh(m.place.DataStart+row*a.geo.Strip, (last[group]-row+1)*a.geo.Strip)
			}
		}
	}
}

// contradictions lists the parity blocks (role, column) that are whole by their checksums and yet do not follow from
// the data.
func (c *columns) contradictions() (out [][2]int) {
	k := c.a.geo.Data
	if c.a.geo.Parity == 0 {
		return nil
	}
	rows := make([][]byte, c.a.geo.Parity)
	for j := range rows {
		rows[j] = c.a.cache.scratch(c.n)
	}
	defer c.a.cache.scratchDone(rows)
	parity.Encode(rows, c.bufs[:k])
	for col := range c.n {
		whole := true
		for role := range k {
			whole = whole && c.known[role][col]
		}
		for j := range rows {
			if !whole || c.roles[k+j] == nil || c.wrong[k+j][col] != sound || !c.known[k+j][col] {
				continue
			}
			if at := col * Block; !bytes.Equal(rows[j][at:at+Block], c.bufs[k+j][at:at+Block]) {
				out = append(out, [2]int{k + j, col})
			}
		}
	}
	return out
}

// repair heals what is wrong, and computes parity anew where it contradicts the data.
func (c *columns) repair(result *CheckResult, contradictions [][2]int) error {
	a, k := c.a, c.a.geo.Data
	if len(contradictions) > 0 {
		need := reservation{}
		for _, m := range c.roles {
			if m != nil {
				need[m] = int64(len(contradictions)) + 2
			}
		}
		if err := a.journal.reserve(need); err != nil {
			return err
		}
		defer a.journal.unreserve(need)
	}
	a.journal.barrier.RLock()
	defer a.journal.barrier.RUnlock()
	result.Repaired += int64(c.heal())
	if len(contradictions) == 0 {
		return nil
	}
	rows := make([][]byte, a.geo.Parity)
	for j := range rows {
		rows[j] = a.cache.scratch(c.n)
	}
	defer a.cache.scratchDone(rows)
	parity.Encode(rows, c.bufs[:k])
	var ch change
	for _, x := range contradictions {
		role, col := x[0], x[1]
		buf := rows[role-k][col*Block:][:Block]
		ch.writes = append(ch.writes, write{m: c.roles[role], kind: record.RunPayload, block: c.block(col), n: 1, buf: buf, sums: sumsOf(buf)})
	}
	if err := a.commit(&ch); err != nil {
		return err
	}
	if err := a.place(&ch); err != nil {
		return err
	}
	result.Repaired += int64(len(contradictions))
	return nil
}

// LastCheck is the state of the last consistency check, as the record holds it.
func (a *Array) LastCheck() record.Task { return a.roster.view().Task }
