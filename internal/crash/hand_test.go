//go:build machine

package crash

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// handVerbs are what an administrator does, and what befalls disks, while the array is used. What the array could not survive is
// not done.
var handVerbs = map[string]verb{
	"pause":     {[]string{"turns"}, true, (*machine).pause},
	"wait":      {[]string{"ms"}, true, (*machine).wait},
	"remember":  {nil, true, (*machine).remember},
	"rename":    {[]string{"number"}, true, (*machine).rename},
	"pace":      {[]string{"mode"}, true, (*machine).setPace},
	"hold":      {[]string{"ms"}, true, (*machine).holdTasks},
	"check":     {[]string{"repair"}, true, (*machine).startCheck},
	"cancel":    {nil, true, (*machine).cancelTasks},
	"go-on":     {nil, true, (*machine).goOn},
	"probe":     {nil, true, (*machine).probe},
	"doze":      {[]string{"slot"}, true, (*machine).doze},
	"suspect":   {[]string{"slot"}, true, (*machine).suspect},
	"pull":      {[]string{"slot", "salt"}, true, (*machine).pull},
	"pull-last": {[]string{"salt"}, true, (*machine).pullLast},
	"back":      {[]string{"nth"}, true, (*machine).back},
	"fail":      {[]string{"slot"}, true, (*machine).failSlot},
	"replace":   {[]string{"nth"}, true, (*machine).replaceLost},
	"swap":      {[]string{"slot"}, true, (*machine).swap},
	"spare":     {[]string{"ms"}, true, (*machine).spare},
	"retire":    {[]string{"slot"}, true, (*machine).retire},
	"rot":       {[]string{"slot", "permille", "salt"}, true, (*machine).rotMember},
	"stall":     {[]string{"ms"}, true, (*machine).stallAll},
	"sever":     {[]string{"slot", "ms", "writes", "salt"}, true, (*machine).sever},
	"hang":      {[]string{"slot", "ms"}, true, (*machine).hang},
	"slow":      {[]string{"slot", "ms"}, true, (*machine).slow},
	"bad-read":  {[]string{"slot", "after", "times"}, true, faulty(fails, reads)},
	"bad-write": {[]string{"slot", "after", "times"}, true, faulty(fails, writes)},
	"bad-sync":  {[]string{"slot", "after", "times"}, true, faulty(fails, syncs)},
	"bad-place": {[]string{"slot", "from", "blocks"}, true, (*machine).badPlace},
	"no-room":   {[]string{"slot", "after", "times"}, true, (*machine).noRoom},
	"sync-lies": {[]string{"slot", "after", "times"}, true, silently(lies, syncs)},
	"drop":      {[]string{"slot", "after", "times"}, true, silently(lies, writes)},
	"stray":     {[]string{"slot", "after", "shift"}, true, silently(strays, writes)},
	"enlarge":   {[]string{"mib"}, true, (*machine).enlarge},
	"grow":      {nil, true, (*machine).grow},
	"parity":    {nil, true, (*machine).moreParity},
	"take-out":  {[]string{"nth"}, true, (*machine).takeOut},
	"volume":    {[]string{"mib"}, true, (*machine).volume},
	"convert":   {[]string{"level", "disks", "strip"}, true, (*machine).convert},
	"let-go":    {[]string{"level", "members", "strip"}, true, (*machine).letGo},
	"shrink":    {[]string{"eighths"}, true, (*machine).shrink},
}

func (c *machine) pause(_ string, n []int64) error {
	for range n[0] {
		env.Yield()
	}
	return nil
}

func (c *machine) wait(_ string, n []int64) error {
	env.Wait(time.Duration(n[0]) * time.Millisecond)
	return nil
}

// remember notes what disks have now, to set one back to it later.
func (c *machine) remember(string, []int64) error {
	c.before = map[*Disk]map[int64][]byte{}
	for slot := range c.disks {
		if d := c.memberAt(slot); d != nil {
			c.before[d] = d.snapshot()
		}
	}
	return nil
}

func (c *machine) rename(_ string, n []int64) error {
	seen("renamed")
	return c.a.Rename(fmt.Sprintf("crash%d", n[0]))
}

func (c *machine) setPace(_ string, n []int64) error {
	c.a.SetPace(task.Pace{Mode: []string{task.Gentle, task.Normal, task.Full}[n[0]%3]})
	return nil
}

// holdTasks pauses what runs for a while.
func (c *machine) holdTasks(_ string, n []int64) error {
	for _, t := range c.a.TaskStates() {
		_ = c.a.Steer(t.Kind, t.Slot, state.TaskPaused)
	}
	env.Wait(time.Duration(n[0]) * time.Millisecond)
	for _, t := range c.a.TaskStates() {
		_ = c.a.Steer(t.Kind, t.Slot, state.TaskRunning)
	}
	return nil
}

// cancelTasks cancels what can be cancelled.
func (c *machine) cancelTasks(string, []int64) error {
	for _, t := range c.a.TaskStates() {
		if t.Ended.IsZero() && (t.State == state.TaskRunning || t.Kind == state.TaskConvert) && c.a.Steer(t.Kind, t.Slot, state.TaskCancelled) == nil {
			seen("a task was cancelled")
		}
	}
	return nil
}

// goOn begins tasks again that ended in an error.
func (c *machine) goOn(string, []int64) error {
	c.a.GoOn()
	return nil
}

// probe asks whether all members are there, as the service does now and then.
func (c *machine) probe(string, []int64) error {
	c.a.Probe()
	return nil
}

// doze puts a member to sleep, if nothing of it is under way.
func (c *machine) doze(_ string, n []int64) error {
	for try := 0; try < 3; try++ {
		if asleep, err := c.a.Doze(c.slot(n[0])); asleep || err != nil {
			break
		}
	}
	return nil
}

// suspect declares a working member failing, as its health may.
func (c *machine) suspect(_ string, n []int64) error {
	c.a.Foretell(c.slot(n[0]), "its health says so")
	return nil
}

func (c *machine) startCheck(_ string, n []int64) error {
	if c.a.StartCheck(n[0] != 0) == nil {
		seen("check begun")
	}
	return nil
}

// slot is the slot that a number means.
func (c *machine) slot(n int64) int {
	slots := int64(len(c.disks))
	if c.up {
		slots = min(slots, int64(len(c.a.MemberStates()))) // some may have been let go
	}
	return int((n%slots + slots) % slots)
}

// active is the disk of a member that takes part in full, and that the array can lose; nil when it is another.
func (c *machine) active(n int64) (slot int, d *Disk) {
	slot = c.slot(n)
	if !works(c.a.MemberStates()[slot].Condition) || !c.canLose(slot) {
		return slot, nil
	}
	return slot, c.memberAt(slot)
}

// isLost says whether a member is out.
func isLost(m array.MemberState) bool {
	return m.Condition == record.Failed || m.Condition == record.Missing
}

// nthLost is the slot of one of the members that are out; -1 when there are none.
func (c *machine) nthLost(n int64) int {
	var slots []int
	for slot, m := range c.a.MemberStates() {
		if isLost(m) {
			slots = append(slots, slot)
		}
	}
	if len(slots) == 0 {
		return -1
	}
	return slots[n%int64(len(slots))]
}

func (c *machine) pull(_ string, n []int64) error {
	slot, d := c.active(n[0])
	if d != nil {
		d.whole = true
	} else if c.a.MemberStates()[slot].Condition == record.Rebuilding {
		d = c.memberAt(slot) // its data does not count yet
	}
	if d != nil && !d.gone {
		d.pulled = c.session
		d.vanish(salted(n[1]))
		seen("a disk was pulled")
	}
	return nil
}

// pullLast pulls the disk that came back last, wherever it is in catching up.
func (c *machine) pullLast(by string, n []int64) error {
	if c.cameBack == nil {
		return nil
	}
	return c.pull(by, []int64{int64(*c.cameBack), n[0]})
}

func (c *machine) back(_ string, n []int64) error {
	if slot := c.nthLost(n[0]); slot >= 0 {
		return c.bringBack(slot)
	}
	return nil
}

// bringBack puts a disk back that was away. It must be known by what it carries if it was pulled since the array was started, and
// counts if it ever was whole; a crash may leave a change of the roster on it that is on no other disk.
func (c *machine) bringBack(slot int) error {
	d := c.memberAt(slot)
	if d == nil || !d.gone || d.shaky || d.latent {
		return nil
	}
	d.drain(salted(int64(d.links)))
	d.gone = false
	own, _ := disk.ReadRecord(d)
	if own == nil {
		d.gone = true
		return nil
	}
	err := c.a.Return(d, own, false)
	if err != nil && !c.halted() {
		c.note("    slot %d (%s) is refused: %v", slot, d.name, err)
		if d.gone = true; !d.touched && d.pulled == c.session &&
			(strings.Contains(err.Error(), "went on by itself") || d.whole && strings.Contains(err.Error(), "was not rebuilt")) {
			return fmt.Errorf("slot %d: %w", slot, err)
		}
		return nil
	}
	if err == nil {
		seen("returned")
		c.cameBack = &slot
	}
	return err
}

func (c *machine) failSlot(_ string, n []int64) error {
	if slot, d := c.active(n[0]); d != nil && c.a.Fail(slot, false) == nil {
		seen("declared failed")
	}
	return nil
}

func (c *machine) replaceLost(_ string, n []int64) error {
	if slot := c.nthLost(n[0]); slot >= 0 && c.layout().Redundant() {
		return c.replaceBy(slot, c.newDisk())
	}
	return nil
}

// swap replaces a member that works, which fails it first.
func (c *machine) swap(_ string, n []int64) error {
	if slot, d := c.active(n[0]); d != nil {
		return c.replaceBy(slot, c.newDisk())
	}
	return nil
}

func (c *machine) replaceBy(slot int, d *Disk) error {
	c.note("    slot %d gets %s", slot, d.name)
	err := c.a.Replace(slot, d)
	if errors.Is(err, task.ErrMargin) || errors.Is(err, task.ErrPartial) || err != nil && (c.a.Record().Turn != nil || !c.a.Layout().Redundant()) && strings.Contains(err.Error(), "no redundancy") {
		return nil
	}
	if err == nil {
		seen("replaced")
	}
	return err
}

// spare has a hot spare ready for a while, which takes the place of the first member that is lost.
func (c *machine) spare(_ string, n []int64) error {
	for end := env.Now().Add(time.Duration(n[0]) * time.Millisecond); env.Now().Before(end) && !c.halted(); {
		slot := c.nthLost(0)
		if slot < 0 || !c.layout().Redundant() {
			env.Wait(100 * time.Millisecond)
			continue
		}
		d := c.newDisk()
		c.note("    spare %s for slot %d", d.name, slot)
		err := c.a.StandIn(slot, d)
		if err == nil {
			seen("a spare took over")
		}
		if errors.Is(err, task.ErrTaken) || errors.Is(err, task.ErrPartial) {
			return nil
		}
		return err
	}
	return nil
}

func (c *machine) retire(_ string, n []int64) error {
	slot := c.slot(n[0])
	if !works(c.a.MemberStates()[slot].Condition) {
		return nil
	}
	d := c.newDisk()
	c.note("    slot %d onto %s", slot, d.name)
	if c.a.Retire(slot, d) == nil {
		seen("retirement begun")
	}
	return nil
}

func (c *machine) rotMember(_ string, n []int64) error {
	if _, d := c.active(n[0]); d != nil {
		seen("rot while it runs")
		d.shaky, c.spoilt = true, true
		d.rot(salted(n[2]), float64(n[1])/1000)
	}
	return nil
}

// stallAll stops all disks, not long enough for a write to be given up.
func (c *machine) stallAll(_ string, n []int64) error {
	seen("all disks stall")
	for _, d := range c.all {
		d.until = env.Now().Add(time.Duration(n[0]) * time.Millisecond)
	}
	return nil
}

func (c *machine) hang(_ string, n []int64) error {
	if _, d := c.active(n[0]); d != nil {
		seen("a disk hangs")
		d.shaky, c.hung = true, true // for as long as the engine may still hold it against the disk
		d.until = env.Now().Add(time.Duration(n[1]) * time.Millisecond)
	}
	return nil
}

// slow makes every operation of a disk take longer.
func (c *machine) slow(_ string, n []int64) error {
	if d := c.memberAt(c.slot(n[0])); d != nil {
		seen("a disk is slow")
		d.lag = time.Duration(n[1]) * time.Millisecond
	}
	return nil
}

// faulty has some operations of a member fail.
func faulty(what effect, on access) func(*machine, string, []int64) error {
	return func(c *machine, _ string, n []int64) error {
		if _, d := c.active(n[0]); d != nil {
			d.shaky = true
			d.faults = append(d.faults, &fault{effect: what, on: on, after: n[1], times: n[2]})
		}
		return nil
	}
}

// badPlace makes some blocks of a member neither readable nor writable.
func (c *machine) badPlace(_ string, n []int64) error {
	if _, d := c.active(n[0]); d != nil {
		d.shaky = true
		for _, on := range []access{reads, writes} {
			d.faults = append(d.faults, &fault{effect: fails, on: on, times: 1 << 40, from: n[1], to: n[1] + n[2]})
		}
	}
	return nil
}

// noRoom lets some writes of a member find no room.
func (c *machine) noRoom(_ string, n []int64) error {
	if d := c.memberAt(c.slot(n[0])); d != nil {
		c.short = true
		d.faults = append(d.faults, &fault{effect: full, on: writes, after: n[1], times: n[2]})
	}
	return nil
}

// silently has a member confirm what it does not do, or do it at another place.
func silently(what effect, on access) func(*machine, string, []int64) error {
	return func(c *machine, _ string, n []int64) error {
		slot, d := c.active(n[0])
		if d == nil || !c.proven(slot) || slices.ContainsFunc(c.all, func(o *Disk) bool { return o.latent }) {
			return nil
		}
		d.latent, d.reloaded, d.touched, c.setBack, c.spoilt = true, false, true, true, true
		f := &fault{effect: what, on: on, after: n[1], times: n[2]}
		if what == strays {
			f.times, f.shift = 1, n[2]
		}
		d.faults = append(d.faults, f)
		return nil
	}
}
