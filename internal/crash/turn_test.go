//go:build machine

package crash

import (
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// enlarge makes all disks larger, those that come later as well, up to a bound.
func (c *machine) enlarge(_ string, n []int64) error {
	most := int64(3 * diskSize)
	if c.parts != nil {
		most = diskSize + mostLonger*block - 2*unevenBy - 1<<20 // no volume becomes longer than the model has it
	}
	c.size = min(c.size+n[0]<<20, most)
	for _, d := range c.all {
		d.size = max(d.size, c.size)
	}
	return nil
}

// grow takes up the room of disks that were made larger.
func (c *machine) grow(string, []int64) error {
	if c.parts != nil {
		c.growing.Lock()
		defer c.growing.Unlock()
	}
	c.a.Measure()
	if g, err := c.a.Grow(); err == nil && g.Bytes > 0 {
		seen("grown")
		if c.parts != nil {
			seen("volumes made longer")
		}
		if g.Moves {
			seen("layers laid out anew")
		}
	}
	return nil
}

// volume adds a data disk to a guarded set.
func (c *machine) volume(_ string, n []int64) error {
	if c.script.Level != layout.Guarded || len(c.disks) >= mostMembers {
		return nil
	}
	c.serial++
	d := NewDisk(fmt.Sprintf("d%d", c.serial), diskSize+n[0]%3*unevenBy, c.power)
	c.all = append(c.all, d)
	return c.added(d, "a volume added", c.a.AddVolumes([]string{d.name}, []disk.Disk{d}))
}

// added notes how it went to add a disk to a guarded set.
func (c *machine) added(d *Disk, what string, err error) error {
	if err != nil {
		c.note("    not %s: %v", what, err)
	} else {
		seen(what)
	}
	if have := len(c.a.MemberStates()); have > len(c.disks) { // even when the power went in the middle
		c.disks = append(c.disks, d)
	}
	return nil
}

// takeOut takes the last parity disk out of a guarded set, or the last of the volumes that came later, which nobody writes.
func (c *machine) takeOut(_ string, n []int64) error {
	volumes := c.layout().Volumes()
	if volumes == nil {
		return nil
	}
	first := c.layout().Regions()[0]
	slot := first.Slots[len(first.Slots)-1]
	if last := volumes[len(volumes)-1]; n[0]%2 == 0 && last.Slot >= c.script.Members {
		slot = last.Slot
	}
	err := c.a.TakeOut(slot)
	if err == nil {
		seen("taken out of a guarded set")
	}
	c.note("    slot %d is taken out: %v", slot, err)
	return nil
}

// moreParity adds a parity disk to a guarded set.
func (c *machine) moreParity(string, []int64) error {
	if c.script.Level != layout.Guarded || len(c.disks) >= mostMembers {
		return nil
	}
	d := c.newDisk()
	return c.added(d, "a parity disk added", c.a.AddParity(d))
}

// most is how many members a script makes at most.
const mostMembers = 10

// convert begins to change the layout, if that can be done.
func (c *machine) convert(_ string, n []int64) error {
	to := task.Target{Level: layout.Levels()[n[0]%int64(len(layout.Levels()))], Strip: 16 << 10 << (n[2] % 2)}
	var more []disk.Disk
	var mine []*Disk
	for range min(n[1]%4, int64(mostMembers-len(c.disks))) {
		d := c.newDisk()
		more, mine = append(more, d), append(mine, d)
	}
	var sizes []int64
	for _, d := range more {
		sizes = append(sizes, d.Size())
	}
	out := 0
	for slot, m := range c.a.MemberStates() {
		if d := c.memberAt(slot); d == nil || d.gone || d.severed || d.shaky || d.latent || !works(m.Condition) {
			out++
		}
	}
	if p, err := c.a.PlanConversion(to, sizes); err == nil && p.MarginAt < out {
		return nil // what is not noticed yet would be too much
	}
	err := c.a.Convert(to, more)
	if err != nil {
		c.note("    no conversion to level %s with %d more: %v", to.Level, len(more), err)
	} else {
		seen("converted")
	}
	if have := len(c.a.MemberStates()); have > len(c.disks) { // even when the power went in the middle
		c.disks = append(c.disks, mine...)
	}
	return nil
}

// letGo begins to change the layout to one of fewer members, if that can be done with what is in use.
func (c *machine) letGo(_ string, n []int64) error {
	to := task.Target{Level: layout.Levels()[n[0]%int64(len(layout.Levels()))], Strip: 16 << 10 << (n[2] % 2), Free: int(1 + n[1]%3)}
	if n[0] >= int64(len(layout.Levels())) {
		to.Level = c.a.Layout().Level
	}
	p, err := c.a.PlanConversion(to, nil)
	keep := p.After
	if p.Cut > 0 {
		keep = p.Cut
	}
	if err != nil || keep < c.m.blocks*block {
		c.note("    no change to level %s with %d less: %v", to.Level, to.Free, err)
		return nil
	}
	for slot, m := range c.a.MemberStates() {
		if d := c.memberAt(slot); d == nil || d.gone || d.severed || d.shaky || d.latent || !works(m.Condition) {
			return nil // what is not noticed yet might be too much then
		}
	}
	if err := c.a.Convert(to, nil); err != nil {
		c.note("    no change to level %s with %d less: %v", to.Level, to.Free, err)
		return nil
	}
	seen("members to be let go")
	if turn, err := c.a.Record().Turns(); err == nil && turn.Down {
		seen("moved downwards")
	}
	return nil
}

// shrink makes the array smaller, down to what is in use.
func (c *machine) shrink(_ string, n []int64) error {
	room := c.a.Capacity() - c.m.blocks*block
	if _, err := c.a.Shrink(c.m.blocks*block + room*(n[0]%8)/8); err == nil {
		seen("made smaller")
	}
	return nil
}

// waitTasks waits for the tasks, but for a conversion that waits itself for a member that is away.
func (c *machine) waitTasks() {
	for !c.halted() {
		busy := slices.ContainsFunc(c.a.TaskStates(), func(t task.State) bool {
			return t.Ended.IsZero() && (t.Kind != state.TaskConvert && c.a.Condition() != state.Partial || t.State != state.TaskWaiting)
		})
		if !busy {
			return
		}
		env.Wait(200 * time.Millisecond)
	}
}

// windowsSoFar is how many windows were begun, committed and done by now.
func windowsSoFar() [3]int {
	return [3]int{probe.WindowHeld.Count(), probe.WindowCommitted.Count(), probe.WindowDone.Count()}
}

// powerGone notes where in a change of layout the power went.
func (c *machine) powerGone() {
	now := windowsSoFar()
	for i := range now {
		now[i] -= c.windows[i] // at the last cut
	}
	switch begun, committed, done := now[0], now[1], now[2]; {
	case begun == 0:
	case begun == done:
		seen("power cut between two windows, or after the last")
	case committed == begun:
		seen("power cut while a window went in place")
	default:
		seen("power cut before a window was committed")
	}
}

// across notes that a client reads or writes on both sides of a boundary.
func (c *machine) across(first, span int64) {
	if c.a.Record().Turn == nil {
		return
	}
	if regions := c.a.Layout().Regions(); len(regions) > 1 {
		one, _ := c.a.Layout().Locate(first * block)
		other, _ := c.a.Layout().Locate((first + span - 1) * block)
		if one.Region != other.Region {
			seen("read or written across a boundary")
		}
	}
}

// joined is the disk that carries a member of a slot behind those that were known.
func (c *machine) joined(slot int) *Disk {
	for _, d := range c.all {
		if r, _ := disk.ReadRecord(d); r != nil && r.Slot == slot {
			return d
		}
	}
	return c.newDisk()
}

// turns says whether a script is mostly about changes of layout.
func (s Script) turns() bool {
	n := 0
	for _, o := range s.Ops {
		if o.Verb == "convert" || o.Verb == "grow" {
			n++
		}
	}
	return n > 0 && len(s.Ops) < 40*n
}
