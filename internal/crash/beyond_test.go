//go:build machine

package crash

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
)

// The end of some scripts about guarded sets: more disks are lost than there is parity, one after the other or with the power, and come back in any
// order. Volumes whose disk never left lose nothing, take every write and keep what is flushed. What is read of the others is what was written, or an error.

var beyondVerbs = map[string]verb{
	"break":      {[]string{"slot", "salt"}, true, (*machine).breakOne},
	"break-off":  {[]string{"slot"}, false, (*machine).breakOff},
	"all-back":   {[]string{"from", "salt"}, false, (*machine).allBack},
	"give-up":    {[]string{"nth"}, false, (*machine).giveUp},
	"back-among": {[]string{"nth"}, true, (*machine).back},
}

// mayBreak says whether one more may be lost of a set whose disks have all done what they should: as long as a volume is left.
func (c *machine) mayBreak(slot int, lost func(slot int) bool) bool {
	volumes := c.layout().Volumes()
	if volumes == nil || !c.sound() || c.short || c.hung {
		return false
	}
	for _, v := range volumes {
		if v.Slot != slot && !lost(v.Slot) {
			return true
		}
	}
	return false
}

// losesOne notes that a member is lost. From when they are more than there is parity, those that were ever away may have lost something.
func (c *machine) losesOne(slot int, lost func(slot int) bool) {
	if c.layout().Survives(func(s int) bool { return s == slot || lost(s) }) && c.broken == nil {
		return
	}
	seen("more lost than there is parity")
	broken := map[int]bool{slot: true} // to ask takes time, in which others go on
	for s := range c.disks {
		if lost(s) || c.broken[s] {
			broken[s] = true
		}
	}
	c.unsure = map[string]bool{}
	for i := range c.script.Clients {
		c.unsure[fmt.Sprintf("client %d", i)] = true
	}
	c.broken, c.mended = broken, false
	c.breaks++
}

func (c *machine) breakOne(_ string, n []int64) error {
	slot := c.slot(n[0])
	states := c.a.MemberStates()
	lost := func(s int) bool {
		d := c.memberAt(s)
		return d == nil || d.gone || d.severed || !works(states[s].Condition)
	}
	d := c.memberAt(slot)
	if lost(slot) || !c.mayBreak(slot, lost) {
		return nil
	}
	c.losesOne(slot, lost)
	d.whole, d.pulled = true, c.session
	d.vanish(salted(n[1]))
	return nil
}

// breakOff loses a member of a set that is not running.
func (c *machine) breakOff(_ string, n []int64) error {
	if c.up {
		return nil
	}
	if c.power.off {
		c.cut(n[0])
	}
	slot := c.slot(n[0])
	_, lost := c.present()
	if lost(slot) || !c.mayBreak(slot, lost) {
		return nil
	}
	c.losesOne(slot, lost)
	c.disks[slot].gone, c.set = true, nil
	return nil
}

// allBack brings every disk back that was pulled, from some slot on, and replaces the others when there is margin again. Then all is in order, but for what was
// lost of the volumes that were away.
func (c *machine) allBack(_ string, n []int64) error {
	if !c.up || c.broken == nil {
		return nil
	}
	slots := len(c.a.MemberStates())
	for i := range slots * 2 { // what waits for another comes back in the second round
		slot := (int(n[0]) + i) % slots
		if c.halted() {
			break
		}
		if isLost(c.a.MemberStates()[slot]) {
			if err := c.bringBack(slot); err != nil && !c.halted() {
				return err
			}
		}
		if n[1]>>i&1 == 1 {
			c.waitTasks()
		}
	}
	c.waitTasks()
	if c.halted() {
		c.down()
		return nil
	}
	if _, err := c.checked(true); err != nil && !c.halted() {
		return err
	}
	if c.halted() {
		c.down()
		return nil
	}
	if c.a.Condition() == state.Healthy {
		seen("all came back from beyond the margin")
		c.mended = true
	}
	err := c.readBroken(0, c.m.blocks)
	if c.halted() { // the power went meanwhile
		c.down()
		return nil
	}
	return err
}

// giveUp has a volume whose disk is lost begin anew on a blank one.
func (c *machine) giveUp(_ string, n []int64) error {
	if !c.up || c.broken == nil || c.a.Condition() != state.Partial {
		return nil
	}
	slot := c.nthLost(n[0])
	if slot < 0 || !slices.ContainsFunc(c.parts, func(p portion) bool { return p.slot == slot }) {
		return nil
	}
	d := c.newDisk()
	c.note("    slot %d gets %s, empty", slot, d.name)
	for _, p := range c.parts {
		if p.slot == slot {
			c.m.begin(p.first, p.there(c.a.Layout()), true)
		}
	}
	err := c.a.GiveUp(slot, d)
	for _, p := range c.parts {
		if n := p.there(c.a.Layout()); p.slot == slot {
			if c.m.end(p.first, n, err); err == nil {
				c.m.flushed(p.first, c.m.acked(p.first, n))
			}
		}
	}
	if c.halted() {
		c.down()
		return nil
	}
	if errors.Is(err, task.ErrRestorable) || err != nil && strings.Contains(err.Error(), "under way") {
		return nil
	}
	return err
}

// isBroken says whether a block is of a volume whose disk was away, with too many others.
func (c *machine) isBroken(b int64) bool {
	return c.broken[c.slotOf(b)]
}

// unlessLost excuses a write to a volume that is lost.
func (c *machine) unlessLost(by string, first, span int64, err error) error {
	if c.broken == nil {
		return err
	}
	lost := false
	for b := first; b < first+span; b++ {
		if c.isBroken(b) {
			lost, c.unsure[by] = true, true
		}
	}
	if lost && (errors.Is(err, array.ErrUnkept) || errors.Is(err, array.ErrUnreadable)) {
		seen("a write to a lost volume was refused")
		return nil
	}
	return err
}

// unkept says whether an error tells a client of writes to a volume that is lost.
func (c *machine) unkept(by string, err error) bool {
	return c.broken != nil && (by == "" || c.unsure[by]) && errors.Is(err, array.ErrUnkept)
}

// told is what comes of a flush that failed: what the client wrote to volumes that are lost may be there or not.
func (c *machine) told(by string, err error) error {
	if !c.unkept(by, err) {
		return err
	}
	seen("a client was told of writes that a lost volume did not keep")
	c.doubtUnflushed(by)
	return nil
}

// doubtUnflushed notes that what was written to lost volumes and not flushed, by one client or by all, may be there or not.
func (c *machine) doubtUnflushed(by string) {
	if c.broken == nil {
		return
	}
	for first, span := range c.owned(by) {
		for b := first; b < first+span; b++ {
			if c.isBroken(b) && len(c.m.may[b]) > 1 {
				c.m.torn[b] = true
			}
		}
	}
}

// verifyBroken is verify for a set of which some volumes may have lost something.
func (c *machine) verifyBroken() error {
	for b := range c.m.blocks {
		off, most := c.off(b, 1)
		if most == 0 {
			continue
		}
		got := make([]byte, block)
		err := c.a.ReadAt(got, off)
		switch {
		case errors.Is(err, array.ErrUnreadable) && c.isBroken(b):
			c.m.torn[b] = true
		case err != nil:
			return fmt.Errorf("after the start: block %d: %w", b, err)
		default:
			if err := c.m.settle(b, got); err != nil {
				return fmt.Errorf("after the start %w", err)
			}
		}
	}
	c.m.mixed = nil
	clear(c.m.loose)
	return nil
}

// readBroken is readBack for a set of which some volumes may have lost something.
func (c *machine) readBroken(first, span int64) error {
	still := c.still(first, span)
	for b := first; b < first+span; b++ {
		off, most := c.off(b, 1)
		if most == 0 {
			continue
		}
		got := make([]byte, block)
		err := c.a.ReadAt(got, off)
		broken := c.isBroken(b)
		switch {
		case errors.Is(err, array.ErrUnreadable) && broken:
			seen("a block of a lost volume could not be read")
		case err != nil:
			return err
		case broken:
			if !c.m.busy[b] && still(b) || c.m.torn[b] {
				if err := c.m.allows(b, got); err != nil {
					return err
				}
			}
		case still(b):
			if err := c.m.reads(b, got); err != nil {
				return err
			}
		}
	}
	return nil
}

// sleeps says whether members are put to sleep.
func (s Script) sleeps() bool {
	return slices.ContainsFunc(s.Ops, func(o Op) bool { return o.Verb == "doze" })
}

// breaks says whether more disks may be lost than there is parity.
func (s Script) breaks() bool {
	return slices.ContainsFunc(s.Ops, func(o Op) bool { return o.Verb == "break" })
}

// beyond is more disks lost than there is parity, while the set is used and over starts, and their return.
func (d *drawing) beyond() {
	d.add("", "start", -1, d.salt())
	d.add("", "mend", 1, 1<<20-1, 1<<20-1, 1)
	work := func(n int) {
		for i := range d.Clients {
			for range d.IntN(n) {
				d.clientOp(d.client(i))
			}
			if d.IntN(2) == 0 {
				by, _, _ := d.client(i)
				d.add(by, "flush")
			}
		}
	}
	for range 1 + d.IntN(3) {
		if d.IntN(3) > 0 {
			d.add("", "power", 1+d.upTo(9))
		}
		work(8)
		for range 2 + d.IntN(6) {
			d.add("hand", "pause", d.Int64N(60))
			switch d.IntN(10) {
			case 0:
				d.add("hand", "probe")
			case 1:
				d.add("hand", "back-among", d.Int64N(5))
			case 2:
				d.add("hand", "replace", d.Int64N(3))
			default:
				d.add("hand", "break", d.slot(), d.salt())
			}
		}
		if d.IntN(2) == 0 {
			d.add("", "then")
			work(5)
			d.add("hand", "back-among", d.Int64N(5))
		}
		if d.IntN(4) == 0 {
			d.add("", "power", 1+d.upTo(9))
			d.add("", "give-up", d.Int64N(4))
			work(4)
		}
		if d.IntN(2) == 0 {
			d.add("", "cut", d.salt())
			for range d.IntN(3) {
				d.add("", "break-off", d.slot())
			}
			for range d.IntN(3) {
				d.add("", "start", 1+d.Int64N(160), d.salt())
				if d.IntN(3) == 0 {
					d.add("", "break-off", d.slot())
				}
			}
			d.add("", "start", -1, d.salt())
		}
	}
	d.add("", "start", -1, d.salt())
	d.add("", "all-back", d.slot(), d.salt())
	work(6)
	if d.IntN(2) == 0 {
		d.add("", "cut", d.salt())
		d.add("", "start", -1, d.salt())
		d.add("", "all-back", d.slot(), d.salt())
	}
}
