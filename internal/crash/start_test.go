//go:build machine

package crash

import (
	"errors"
	"fmt"
	"time"

	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// cutPower ends all at once. What the disks have in their caches is kept or lost.
func (c *machine) cutPower(_ string, n []int64) error {
	if c.up {
		c.down()
	}
	c.cut(n[0])
	return nil
}

func (c *machine) cut(salt int64) {
	r := salted(salt)
	// Often all disks keep the same of what they have, such as the journals and not the data.
	same, alike := c.all[0].drawKeeping(r), r.IntN(2) == 0
	for _, d := range c.all {
		if !alike {
			same = d.drawKeeping(r)
		}
		d.cut(r, same)
	}
	c.power.off, c.power.left, c.set = false, -1, nil
	c.windows = windowsSoFar()
}

// present takes the disks that a start would take for the members into disks, and says which slots are lost: those that are not
// there, that are out, or that any of them says is not whole, since a change of the roster that was being written down when the power went
// may be on some disks only.
func (c *machine) present() (set roster.Set, gone func(slot int) bool) {
	if c.set == nil {
		now := c.judge()
		c.set = &now
		for slot, x := range now.Current {
			if slot >= len(c.disks) {
				c.disks = append(c.disks, c.joined(slot))
			}
			if x.Disk != nil {
				c.disks[slot] = x.Disk.(*Disk)
			}
		}
	}
	set = *c.set
	return set, func(slot int) bool {
		for _, x := range set.Current {
			if x.Disk != nil && slot < len(x.Record.Roster) && !works(x.Record.Roster[slot].Condition) {
				return true
			}
		}
		d := c.disks[slot]
		return c.lost[slot] || slot >= len(set.Current) || set.Current[slot].Disk == nil || d.shaky || d.latent
	}
}

// mayLose says whether a member may be lost while the array is down, and looks at its disk.
func (c *machine) mayLose(n int64) (slot int, set roster.Set, gone func(int) bool, ok bool) {
	slot = c.slot(n)
	if c.up || c.power.off || c.broken != nil {
		return slot, set, gone, false
	}
	set, gone = c.present()
	lost := func(s int) bool { return gone(s) || s == slot }
	if gone(slot) || !c.layout().Survives(lost) || !c.survivesChange(lost) {
		return slot, set, gone, false
	}
	for s, d := range c.disks {
		if d.latent && c.witness(s) == slot {
			return slot, set, gone, false // without it nothing is proven
		}
	}
	return slot, set, gone, true
}

func (c *machine) lose(_ string, n []int64) error {
	if slot, _, _, ok := c.mayLose(n[0]); ok {
		c.lost[slot] = true
		c.disks[slot].gone = true
	}
	return nil
}

func (c *machine) spoil(_ string, n []int64) error {
	if slot, _, _, ok := c.mayLose(n[0]); ok {
		c.lost[slot], c.spoilt, c.disks[slot].shaky = true, true, true
		c.disks[slot].rot(salted(n[2]), float64(n[1])/1000)
	}
	return nil
}

// setMemberBack sets a member back to what it was at some moment of the round, in one of several ways, when its witness is there.
func (c *machine) setMemberBack(_ string, n []int64) error {
	slot, set, gone, ok := c.mayLose(n[0])
	if !ok || c.setBack || c.before[c.disks[slot]] == nil || gone(c.witness(slot)) {
		return nil
	}
	r, own := salted(n[3]), set.Current[slot].Record
	tail := disk.TailRecord(own.Place.Size) / block
	within := func(b, start, n int64) bool { return b >= start/block && b < start/block+n }
	journal := own.Place.JournalStart / block
	inside := func(b int64) bool { return b >= journal && b < tail } // a record that is older is another matter
	pick, how := inside, "as a whole"
	switch n[1] % 4 {
	case 0:
		how = "in its checksum pages"
		pick = func(b int64) bool {
			for s := range own.Place.All() {
				if within(b, s.SumStart, s.SumPages) {
					return true
				}
			}
			return false
		}
	case 1:
		how = "in its map pages"
		pick = func(b int64) bool {
			for s := range own.Place.All() {
				if within(b, s.MapStart, s.MapPages) {
					return true
				}
			}
			return false
		}
	case 2:
		how = "in some blocks"
		pick = func(b int64) bool { return inside(b) && r.Int64N(1000) < n[2] }
	}
	changed := c.disks[slot].setBack(c.before[c.disks[slot]], pick)
	if changed == 0 {
		return nil
	}
	c.note("  slot %d is set back %s (%d blocks)", slot, how, changed)
	c.lost[slot], c.setBack, c.spoilt = true, true, true
	c.disks[slot].latent, c.disks[slot].reloaded = true, false
	seen("set back")
	return nil
}

// start starts the array from the disks that are there, or is cut short by the power.
func (c *machine) start(_ string, n []int64) error {
	if c.up || c.gaveUp != nil {
		return nil
	}
	if c.power.off {
		c.cut(n[1])
	}
	for _, d := range c.all {
		d.until, d.lag, d.faults = time.Time{}, 0, nil
	}
	c.stopped = false
	if c.power.left = -1; n[0] >= 0 {
		c.power.left = int(n[0])
	}
	c.set = nil // some of them are lost since
	set, _ := c.present()
	c.set = nil
	if c.broken != nil && !set.Serves() {
		seen("a start beyond the margin was asked for")
		set.Surviving = true
	}
	a, err := array.Open(set, c.config())
	switch {
	case c.power.off:
		if err == nil {
			a.Abandon() // what it goes on with met the end of the power
		}
		c.note("  power goes during the start")
		seen("power cut in recovery")
		c.cut(n[1] + 1)
		return nil
	case errors.Is(err, roster.ErrDoubt) && c.silent():
		// A disk that lost the roster's changes, which it had confirmed, may stand against the others.
		seen("a start was refused in doubt")
		c.over = true
		return nil
	case err != nil:
		return fmt.Errorf("start: %w", err)
	}
	c.a, c.up, c.power.left = a, true, -1
	c.disks = c.disks[:min(len(c.disks), len(a.MemberStates()))] // a change that was cut short may never have happened
	c.session++
	clear(c.lost)
	clear(c.users)
	c.short, c.hung = false, false
	for _, d := range c.all {
		d.reloaded, d.touched = true, false
	}
	return c.verify()
}

// sound says whether all disks did what they should, or a check has put right what they did not.
func (c *machine) sound() bool {
	for _, d := range c.all {
		if !d.gone && (d.shaky || d.latent) {
			return false
		}
	}
	return true
}

// silent says whether some disk confirmed what it had not done.
func (c *machine) silent() bool {
	for _, d := range c.all {
		if d.latent {
			return true
		}
	}
	return false
}

// verify reads everything and holds it against the model; then what was read is what counts.
func (c *machine) verify() error {
	if err := c.allThere(); err != nil {
		return fmt.Errorf("after the start %w", err)
	}
	if c.broken != nil {
		return c.verifyBroken()
	}
	for p := range c.pieces(c.a.Layout(), 0, c.m.blocks) {
		if err := c.settlePiece(p); err != nil {
			return err
		}
	}
	mixed := c.m.mixed
	clear(c.m.loose)
	c.m.mixed = nil
	for _, b := range mixed { // written anew, to know again what it holds: until that is durable a crash may leave what there was
		c.m.loose[b] = true
		seen("a part written beside the whole was left alone")
		c.m.begin(b, 1, false)
		off, _ := c.off(b, 1)
		err := c.a.WriteAt(c.m.contents(b, 1), off)
		if c.m.end(b, 1, err); err != nil {
			return err
		}
	}
	return nil
}

func (c *machine) settlePiece(at piece) error {
	buf, done := room(at.span * block)
	defer done()
	if err := c.a.ReadAt(buf, at.off); err != nil {
		return fmt.Errorf("after the start: %w", err)
	}
	for i := range at.span {
		if err := c.m.settle(at.first+i, buf[i*block:][:block]); err != nil {
			return fmt.Errorf("after the start %w", err)
		}
	}
	return nil
}

// mend: with all that was lost or rotten put right, a check finds nothing to complain of. back and swap say which lost slots get
// their own disk back or another one, a bit for each.
func (c *machine) mend(_ string, n []int64) error {
	if !c.up || c.broken != nil {
		return nil
	}
	if n[0] != 0 {
		c.waitTasks()
	}
	honest := c.sound() && !c.spoilt && !c.setBack
	result, err := c.checked(true)
	if c.halted() {
		c.down()
		return nil
	}
	if honest && result.Mismatches > 0 {
		return fmt.Errorf("check: %+v, although all disks did what they should", result)
	}
	if err != nil || result.Unrepairable > 0 {
		return fmt.Errorf("check: %+v, %w", result, errors.Join(err, errors.New("not all could be repaired")))
	}
	for slot, m := range c.a.MemberStates() {
		if d := c.memberAt(slot); d != nil && works(m.Condition) {
			d.shaky, d.latent = false, d.latent && !d.reloaded
		}
	}
	for slot, m := range c.a.MemberStates() {
		if isLost(m) && n[1]>>slot&1 == 1 {
			if err := c.bringBack(slot); err != nil && !c.halted() {
				return err
			}
		}
		if isLost(c.a.MemberStates()[slot]) && c.layout().Redundant() && n[2]>>slot&1 == 1 {
			if err := c.replaceBy(slot, c.newDisk()); err != nil && !c.halted() {
				return err
			}
		}
	}
	if n[3] != 0 {
		c.waitTasks()
	}
	if result, err = c.checked(false); !c.halted() && (err != nil || result.Mismatches > 0) {
		return fmt.Errorf("second check: %+v, %w", result, errors.Join(err, errors.New("mismatches")))
	}
	if c.halted() {
		c.down()
		return nil
	}
	for slot := range c.disks {
		if d := c.memberAt(slot); d != nil {
			c.disks[slot] = d
		}
	}
	switch {
	case c.accused != "" && !c.setBack:
		return fmt.Errorf("%s is said to have been set back, and was not", c.accused)
	case c.accused != "":
		seen("set back and noticed by its pages")
	}
	c.accused, c.before = "", nil
	if !c.silent() {
		c.setBack = false
	}
	if err := c.readBack(0, c.m.blocks); err != nil {
		return err
	}
	return c.a.CheckInvariants(true)
}

// checked runs a check to its end, after what is under way.
func (c *machine) checked(repair bool) (task.CheckResult, error) {
	c.waitTasks()
	if err := c.a.StartCheck(repair); err != nil {
		return task.CheckResult{}, err
	}
	c.waitTasks()
	var last task.State
	for _, t := range c.a.TaskStates() {
		if t.Kind == state.TaskCheck {
			last = t
		}
	}
	if last.Check == nil {
		return task.CheckResult{}, errors.Join(last.Err, errors.New("a check without a result"))
	}
	return *last.Check, last.Err
}
