//go:build machine

package crash

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// verb is what an operation does.
type verb struct {
	args  []string // names of its numbers, in order
	actor bool     // it is done by an actor, at the same time as what other actors do
	run   func(c *machine, by string, n []int64) error
}

var verbs map[string]verb

func init() {
	verbs = map[string]verb{}
	for name, v := range clientVerbs {
		v.run = whileStill(v.run)
		verbs[name] = v
	}
	for name, v := range handVerbs {
		verbs[name] = v
	}
	for name, v := range plainVerbs {
		verbs[name] = v
	}
	for name, v := range beyondVerbs {
		verbs[name] = v
	}
}

// plainVerbs are done one at a time.
var plainVerbs = map[string]verb{
	"power":    {args: []string{"after"}, run: (*machine).setPower},
	"then":     {run: func(*machine, string, []int64) error { return nil }}, // keeps what actors do apart
	"quiet":    {run: (*machine).quiet},
	"cut":      {args: []string{"salt"}, run: (*machine).cutPower},
	"stop":     {run: (*machine).stop},
	"start":    {args: []string{"power", "salt"}, run: (*machine).start},
	"mend":     {args: []string{"wait", "back", "swap", "again"}, run: (*machine).mend},
	"lose":     {args: []string{"slot"}, run: (*machine).lose},
	"spoil":    {args: []string{"slot", "permille", "salt"}, run: (*machine).spoil},
	"set-back": {args: []string{"slot", "how", "permille", "salt"}, run: (*machine).setMemberBack},
	"plug":     {args: []string{"slot"}, run: (*machine).plug},
	"unplug":   {args: []string{"slot"}, run: (*machine).unplug},
	"rescue":   {run: (*machine).rescue},
	"readmit":  {args: []string{"power", "salt", "swap"}, run: (*machine).readmit},
	"outside":  {run: (*machine).outside},
}

// machine is one simulated host with one array.
type machine struct {
	script  Script
	windows [3]int // at the last cut, see windowsSoFar
	power   *Power
	disks   []*Disk // by slot: what was there last
	all     []*Disk // that are in the machine or were pulled
	a       *array.Array
	up      bool  // the array runs
	stopped bool  // in order, and no disk was touched since
	size    int64 // of disks from now on
	base    int64 // blocks that the script uses from the beginning
	missed  bool  // some member was away
	m       *model
	losing  env.Mutex   // held by whoever judges what may be lost, until it is
	parts   []portion   // of the volumes of a guarded set; nil: the array has none
	growing env.RWMutex // held while volumes move in the logical space
	users   map[string]*array.Client
	log     []string
	serial  int // of disks
	session int // how often the array was started

	before     map[*Disk]map[int64][]byte // what disks had at some moment of this round
	set        *roster.Set                // what a start would make of the disks, as they are since the cut; nil: look
	lost       map[int]bool               // slots that were lost since the array ran
	accused    string                     // a member that was said to be set back
	setBack    bool                       // one was, or lost writes that it had confirmed
	spoilt     bool                       // something rotted or was set back in this run
	short      bool                       // some disk had no room: writes may fail, and the array may stop
	hung       bool                       // some disk hung: the array may stop
	current    []*Disk                    // the members when the first was taken out that the array may need
	gaveUp     map[int64]bool             // blocks that a rescue gave up; nil: none was taken out
	rescued    bool                       // a rescue read what is left
	readmitted bool                       // the power went while members were brought back
	broken     map[int]bool               // slots of a guarded set that were lost with more than it has parity, at any time; nil: none were
	breaks     int                        // how often one was lost so
	mended     bool                       // all are back since, and a check worked out what parity could not tell
	unsure     map[string]bool            // clients that may have written to volumes of those since their last flush
	over       bool                       // nothing more can be done with this array
	cameBack   *int                       // the slot of the disk that came back last
	steps      int
	wrong      error // the first thing that an actor or an oracle found wrong
}

const cacheLimit = 512 << 10

// stepLimit is more than any run takes.
const stepLimit = 2_000_000

// Run plays a script and returns what happened, and what went wrong.
func Run(s Script) (story []string, err error) {
	c := &machine{session: 1, script: s, size: diskSize, power: &Power{left: -1}, users: map[string]*array.Client{}, lost: map[int]bool{}}
	env.Ranked(&c.growing, env.RankJoin) // both are taken before all locks of the array
	env.Ranked(&c.losing, env.RankJoin)
	c.power.each, c.power.gone = c.inspectSometimes, c.powerGone
	c.windows = windowsSoFar()
	if bad := env.Run(s.Seed, stepLimit, func() { err = c.play() }); bad != nil {
		err = bad
	}
	return c.log, err
}

func (c *machine) note(format string, args ...any) {
	c.log = append(c.log, fmt.Sprintf(format, args...))
}

func (c *machine) config() array.Config {
	return array.Config{Cache: cacheLimit, Tables: 1, MovePiece: 64 << 10, Limits: member.Limits{Failing: -1, Failed: -1, Slow: member.Slow{Windows: -1}},
		Event: func(e array.Event) {
			c.note("    event %s %s %s", e.Kind, e.Disk, e.Detail)
			seen("event " + string(e.Kind))
			switch {
			case e.Kind == "member-missing" || e.Kind == "member-failed" || e.Kind == "member-returned": // the power may go before it is told that one is away
				c.missed = true
			case e.Kind == "member-set-back":
				c.accused = e.Disk
			case e.Kind == "journal-damaged" && strings.Contains(e.Detail, "claims") && !c.spoilt && !c.setBack:
				c.fail(fmt.Errorf("an honest head had to be refuted: %s %s", e.Disk, e.Detail))
			}
		}}
}

func (c *machine) fail(err error) {
	if c.wrong == nil {
		c.wrong = err
	}
}

func (c *machine) newDisk() *Disk {
	c.serial++
	size := c.size
	if c.script.Uneven || c.script.Level == layout.Guarded {
		size += 2 * unevenBy
	}
	if c.serial <= c.script.Members {
		size = c.size + c.script.more(c.serial-1)
	}
	d := NewDisk(fmt.Sprintf("d%d", c.serial), size, c.power)
	c.all = append(c.all, d)
	return d
}

// salted is what an operation draws from.
func salted(salt int64) *rand.Rand { return rand.New(rand.NewPCG(uint64(salt), 0x9e3779b97f4a7c15)) }

func (c *machine) play() error {
	var disks []disk.Disk
	for range c.script.Members {
		d := c.newDisk()
		c.disks = append(c.disks, d)
		disks = append(disks, d)
	}
	plan := array.Plan{Name: "crash", Level: c.script.Level, Strip: int64(c.script.Strip) << 10, Disks: disks}
	for slot := range c.script.Members - c.script.parity() {
		if c.script.Level == layout.Guarded {
			plan.Volumes = append(plan.Volumes, fmt.Sprint("volume", slot))
		}
	}
	a, err := array.Create(plan, c.config())
	if err != nil {
		return err
	}
	c.a, c.up = a, true
	if a.Layout().Mixed() {
		seen("disks of different sizes")
	}
	c.base = c.script.blocks(a.Layout())
	all := c.base
	if plan.Volumes != nil {
		c.parts, all = partsOf(a.Layout(), c.base)
	}
	c.m = newModel(all)
	ops := append(slices.Clone(c.script.Ops), endings...)
	for len(ops) > 0 && !c.over {
		n := 0
		for n < len(ops) && ops[n].By != "" {
			n++
		}
		if n > 0 {
			err = c.phase(ops[:n])
		} else {
			c.note("%s", ops[0])
			err = verbs[ops[0].Verb].run(c, "", ops[0].Args)
			n = 1
		}
		if err = errors.Join(c.wrong, err, c.inspect()); err != nil {
			return err
		}
		ops = ops[n:]
	}
	return nil
}

// endings is what every script ends with: the array is started if it is not up, and stopped and looked at from outside.
var endings = []Op{{Verb: "start", Args: []int64{-1, 0}}, {Verb: "quiet"}, {Verb: "stop"}, {Verb: "outside"}}

// phase lets several actors do their operations at the same time, until the power goes or something is wrong.
func (c *machine) phase(ops []Op) error {
	if !c.up {
		return nil
	}
	var names []string
	own := map[string][]Op{}
	for _, o := range ops {
		if own[o.By] == nil {
			names = append(names, o.By)
		}
		own[o.By] = append(own[o.By], o)
	}
	var busy env.Group
	for _, name := range names {
		busy.Go(func() {
			for _, o := range own[name] {
				if c.halted() || c.wrong != nil {
					return
				}
				c.note("  %s", o)
				if err := c.do(name, o); err != nil && !c.halted() && !c.excused(err) {
					c.fail(fmt.Errorf("%s: %w", o, err))
				}
				c.fail(c.inspect())
				env.Yield()
			}
		})
	}
	busy.Wait()
	switch {
	case c.power.off:
		seen("power cut in the work")
		c.down()
	case c.halted():
		seen("the array stopped itself")
		c.down()
	}
	return c.wrong
}

// do does what an actor does. An administrator judges what the array can lose, and nothing else may be lost or come back meanwhile.
func (c *machine) do(by string, o Op) error {
	if (by == "hand" && !idles[o.Verb] || by == "link" && o.Verb == "back") && c.script.severs() {
		c.losing.Lock()
		defer c.losing.Unlock()
	}
	return verbs[o.Verb].run(c, by, o.Args)
}

// halted says that the array does nothing any more: the power is gone, or it stopped because a disk has no room or hangs.
func (c *machine) halted() bool {
	return c.power.off || (c.short || c.hung) && c.a.Failure() != nil
}

// excused says of an error that what was done to the disks explains it.
func (c *machine) excused(err error) bool {
	return c.short && errors.Is(err, disk.ErrFull) || c.hung && (errors.Is(err, disk.ErrHung) || errors.Is(err, disk.ErrSlow))
}

// down notes that the array is not running.
func (c *machine) down() {
	c.note("  it is down (power: %v)", !c.power.off)
	if !c.power.off {
		c.power.gone()
	}
	c.power.off = true
	c.a.Abandon()
	c.up = false
}

func (c *machine) setPower(_ string, n []int64) error {
	if c.up {
		c.power.left = int(n[0])
	}
	return nil
}

// quiet waits for the tasks.
func (c *machine) quiet(string, []int64) error {
	if !c.up {
		return nil
	}
	c.waitTasks()
	if c.halted() {
		c.down()
	}
	return nil
}

// stop stops the array in order.
func (c *machine) stop(string, []int64) error {
	if !c.up {
		return nil
	}
	err := c.a.Close()
	if c.up = false; c.power.off {
		return nil
	}
	if err != nil && !c.excused(err) && !c.short && !c.hung && !c.unkept("", err) {
		return fmt.Errorf("stop: %w", err)
	}
	seen("stopped")
	if c.stopped = err == nil; c.stopped {
		c.doubtUnflushed("")
		c.m.flushed(0, c.m.acked(0, c.m.blocks))
	}
	return nil
}

// inspectSometimes holds the array against its invariants at every so manyth operation of a disk.
func (c *machine) inspectSometimes() {
	if c.steps++; c.steps%97 == 0 && c.up && c.wrong == nil {
		c.fail(c.inspect())
	}
}

func (c *machine) inspect() error {
	if !c.up || c.power.off {
		return nil
	}
	return c.a.CheckInvariants(false)
}

// memberAt is the disk that is in a slot now.
func (c *machine) memberAt(slot int) *Disk {
	states := c.a.MemberStates()
	if slot >= len(states) {
		return nil
	}
	name := states[slot].Disk.Path
	for _, d := range c.all {
		if d.name == name {
			return d
		}
	}
	return nil
}

// canLose says whether the array survives the loss of one more, counting those that are gone unnoticed. What is silently wrong
// with a disk can be told only with its witness, so that must stay.
func (c *machine) canLose(slot int) bool {
	states := c.a.MemberStates()
	for s := range states {
		if d := c.memberAt(s); d != nil && d.latent && c.witness(s) == slot {
			return false
		}
	}
	lost := func(s int) bool {
		d := c.memberAt(s)
		return s == slot || d == nil || d.gone || d.severed || d.shaky || d.latent || !works(states[s].Condition)
	}
	return c.layout().Survives(lost) && c.survivesChange(lost) // it will have moved before that is noticed
}

// survivesChange says whether the layout that the array changes to does without some members: a batch in the journals may have moved to it what by the record is
// where it was.
func (c *machine) survivesChange(lost func(slot int) bool) bool {
	rec := c.record()
	if rec.Turn == nil {
		return true
	}
	turn, err := rec.Turns()
	return err != nil || turn.New.Survives(lost)
}

// works says whether a member has all of its contents.
func works(c record.Condition) bool { return c == record.Active || c == record.Failing }

// proven says whether it would be noticed if a disk were silently wrong.
func (c *machine) proven(slot int) bool {
	w := c.memberAt(c.witness(slot))
	return w != nil && !w.gone && !w.shaky && !w.latent && works(c.a.MemberStates()[c.witness(slot)].Condition)
}

func (c *machine) witness(slot int) int {
	rec := c.record()
	if slot >= len(rec.Roster) {
		return 0
	}
	return max(rec.Roster[slot].Witness, 0)
}

// record is what the array says of itself, or what its disks do when it does not run.
func (c *machine) record() *record.Record {
	if c.up {
		return c.a.Record()
	}
	if set, _ := c.present(); set.Newest != nil {
		return set.Newest
	}
	return c.a.Record()
}

// layout is the map in force.
func (c *machine) layout() *layout.Map {
	if c.up {
		return c.a.Layout()
	}
	if lay, err := c.record().Layout(); err == nil {
		return lay
	}
	return c.a.Layout()
}

// judge looks at the disks as a start would.
func (c *machine) judge() roster.Set {
	var found []roster.Candidate
	for _, d := range c.all {
		if d.gone {
			continue
		}
		if r, _ := disk.ReadRecord(d); r != nil {
			found = append(found, roster.Candidate{Disk: d, Record: r})
		}
	}
	if len(found) == 0 {
		return roster.Set{}
	}
	return roster.Judge(found)
}
