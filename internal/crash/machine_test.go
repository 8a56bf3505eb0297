//go:build machine

package crash

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// shapes are the arrays a seed chooses from.
var shapes = []struct {
	level   layout.Level
	members int
}{
	{layout.Striped, 3}, {layout.Mirror, 2}, {layout.Mirror, 3}, {layout.Parity1, 3}, {layout.Parity1, 5},
	{layout.Parity2, 4}, {layout.Parity2, 6}, {layout.Parity3, 5}, {layout.Parity3, 7},
	{layout.Mirrors, 4}, {layout.Parities1, 6}, {layout.Parities2, 8}, {layout.Concat, 2},
}

// machine is one simulated host with one array.
type machine struct {
	r       *rand.Rand
	power   *Power
	disks   []*Disk // by slot: what was there last
	all     []*Disk // that are in the machine or were pulled
	a       *array.Array
	geo     *layout.Geometry
	m       *model
	log     []string
	serial  int                        // of disks
	before  map[*Disk]map[int64][]byte // what disks had at some moment of this round
	accused string                     // a member that was said to be set back
	setBack bool                       // one was
	spoilt  bool                       // something rotted or was set back in this run
	wrong   error                      // the first thing that a client or hand found wrong
}

// model is what may be read: for each block the version known to be durable and those written since. Each client has a
// stretch of its own.
type model struct {
	blocks int64
	now    []uint64   // version of the last write
	may    [][]uint64 // versions a crash may leave, the durable one first
	next   uint64
}

const cacheLimit = 512 << 10

// stepLimit is more than any run takes.
const stepLimit = 2_000_000

// Run plays one seed and returns what went wrong, with the story of the run.
func Run(seed uint64) error {
	log, err := story(seed)
	if err != nil {
		return fmt.Errorf("seed %d: %w\n%s", seed, err, strings.Join(log, "\n"))
	}
	return nil
}

// story plays one seed and returns what happened.
func story(seed uint64) ([]string, error) {
	c := &machine{r: rand.New(rand.NewPCG(seed, seed^0x9e3779b97f4a7c15)), power: &Power{left: -1}}
	var err error
	if bad := env.Run(seed, stepLimit, func() { err = c.play() }); bad != nil {
		err = bad
	}
	return c.log, err
}

func (c *machine) note(format string, args ...any) {
	c.log = append(c.log, fmt.Sprintf(format, args...))
}

func (c *machine) config() array.Config {
	return array.Config{Cache: cacheLimit, Tables: 1, Limits: array.Limits{Failing: -1, Failed: -1, Slow: array.Slow{Windows: -1}},
		Event: func(e array.Event) {
			c.note("    event %s %s %s", e.Kind, e.Disk, e.Detail)
			seen("event " + e.Kind)
			switch {
			case e.Kind == "member-set-back":
				c.accused = e.Disk
			case e.Kind == "journal-damaged" && strings.Contains(e.Detail, "claims") && !c.spoilt && c.wrong == nil:
				c.wrong = fmt.Errorf("an honest head had to be refuted: %s %s", e.Disk, e.Detail)
			}
		}}
}

func (c *machine) newDisk() *Disk {
	c.serial++
	d := NewDisk(fmt.Sprintf("d%d", c.serial), 9<<20, c.power)
	c.all = append(c.all, d)
	return d
}

func (c *machine) play() error {
	shape := shapes[c.r.IntN(len(shapes))]
	var disks []disk.Disk
	for range shape.members {
		d := c.newDisk()
		c.disks = append(c.disks, d)
		disks = append(disks, d)
	}
	c.note("level %s of %d", shape.level, shape.members)
	a, err := array.Create(array.Plan{Name: "crash", Level: shape.level, Strip: layout.MinStrip, Disks: disks}, c.config())
	if err != nil {
		return err
	}
	c.a, c.geo = a, a.Geometry()
	// A few stripes are used over and over, so that writes meet.
	blocks := min(c.geo.Capacity(), int64(3+c.r.IntN(6))*c.geo.StripeSize()*int64(c.geo.Groups)) / block
	if shape.level == layout.Concat {
		blocks = c.geo.Capacity() / block
	}
	c.m = &model{blocks: blocks, now: make([]uint64, blocks), may: make([][]uint64, blocks)}
	for i := range c.m.may {
		c.m.may[i] = []uint64{0}
	}
	rounds := 1 + c.r.IntN(3)
	for round := range rounds {
		c.note("round %d", round)
		if err := c.work(); err != nil {
			return err
		}
		if err := c.recover(); err != nil {
			return err
		}
		if err := errors.Join(c.wrong, c.verify()); err != nil {
			return err
		}
		if err := c.aftermath(); err != nil {
			return err
		}
		switch {
		case c.accused != "" && !c.setBack:
			return fmt.Errorf("%s is said to have been set back, and was not", c.accused)
		case c.accused != "":
			seen("set back and noticed by its pages")
		}
		c.setBack, c.accused, c.before = false, "", nil
	}
	if c.geo.Redundant() && c.r.IntN(3) == 0 {
		return c.disaster()
	}
	c.a.WaitTasks()
	if err := c.a.Close(); err != nil {
		return fmt.Errorf("close: %w", err)
	}
	return c.outside()
}

// work lets clients and hands do random things until the power goes, or for a while.
func (c *machine) work() error {
	c.power.left = 1 + c.r.IntN(1<<(3+c.r.IntN(9)))
	var busy env.Group
	clients := 1 + c.r.IntN(3)
	for i := range clients {
		from, to := c.m.blocks*int64(i)/int64(clients), c.m.blocks*int64(i+1)/int64(clients)
		n, user := 8+c.r.IntN(40), c.a.NewClient()
		busy.Go(func() { c.during(func() error { return c.step(user, from, to) }, n) })
	}
	busy.Go(func() { c.during(c.hand, c.r.IntN(8)) })
	busy.Go(func() {
		env.Yield()
		c.before = map[*Disk]map[int64][]byte{}
		for _, d := range c.disks {
			c.before[d] = d.snapshot()
		}
	})
	busy.Wait()
	if c.power.off {
		seen("power cut in the work")
	}
	c.note("power goes (after the work: %v)", !c.power.off)
	c.power.off = true
	c.a.Abandon()
	return c.wrong
}

// during does something some times, until the power goes or something is wrong.
func (c *machine) during(f func() error, times int) {
	for range times {
		if c.power.off || c.wrong != nil {
			return
		}
		if err := f(); err != nil && !c.power.off && c.wrong == nil {
			c.wrong = err
		}
	}
}

// step is one thing that a client does with its stretch of the array.
func (c *machine) step(user *array.Client, from, to int64) error {
	first := from + c.r.Int64N(to-from)
	if c.geo.Level == layout.Concat && c.r.IntN(2) == 0 {
		// Near the seam between two members.
		first = max(from, min(to-1, c.geo.Rows[0]*c.geo.StripeSize()/block-8+c.r.Int64N(16)))
	}
	span := int64(1)
	switch c.r.IntN(4) {
	case 0:
		span = 1 + c.r.Int64N(4)
	case 1:
		span = 1 + c.r.Int64N(3*c.geo.StripeSize()/block)
	case 2: // a whole stripe, which takes another way
		per := c.geo.StripeSize() / block
		first = max(from, first-first%per)
		span = per
	}
	span = min(span, to-first)
	switch k := c.r.IntN(20); {
	case k < 9:
		v := c.m.write(first, span, false)
		c.note("  write %d+%d v%d", first, span, v)
		return user.WriteAt(c.m.contents(first, span), first*block)
	case k < 11:
		c.m.write(first, span, true)
		c.note("  zero %d+%d", first, span)
		if err := user.Zero(first*block, span*block); err != nil {
			return err
		}
		return c.isHole(first, span)
	case k < 14:
		return c.flush(user, from, to)
	case k < 15:
		v := c.m.write(first, span, false)
		c.note("  forced write %d+%d v%d", first, span, v)
		if err := user.WriteAt(c.m.contents(first, span), first*block); err != nil {
			return err
		}
		if err := user.FlushRange(first*block, span*block); err != nil {
			return err
		}
		c.m.flushed(first, span)
	case k < 16: // the same bytes again, in parts of blocks
		p := c.m.contents(first, 1)
		at := int64(c.r.IntN(block - 1))
		n := 1 + c.r.Int64N(block-at)
		c.note("  write %d bytes of block %d again", n, first)
		seen("part of a block written")
		return user.WriteAt(p[at:at+n], first*block+at)
	case k < 17:
		return c.isWritten(first)
	default:
		return c.readBack(first, span)
	}
	return nil
}

func (c *machine) flush(user *array.Client, from, to int64) error {
	c.note("  flush %d-%d", from, to)
	if err := user.Flush(); err != nil {
		return err
	}
	c.m.flushed(from, to-from)
	return nil
}

// isHole: what was zeroed reads as zeros at once.
func (c *machine) isHole(first, span int64) error { return c.readBack(first, span) }

// isWritten: a block that holds something is no hole.
func (c *machine) isWritten(b int64) error {
	if c.m.now[b] == 0 {
		return nil
	}
	x, err := c.a.Extents(b*block, block, 1)
	if err == nil && !x[0].Written {
		return fmt.Errorf("block %d is said to be a hole; its version is %d", b, c.m.now[b])
	}
	return err
}

// hand is one thing that an administrator does, or that befalls a disk.
func (c *machine) hand() error {
	for range c.r.IntN(6) {
		env.Yield()
	}
	if c.r.IntN(4) == 0 {
		env.Wait(time.Duration(c.r.IntN(4000)) * time.Millisecond)
	}
	states := c.a.MemberStates()
	away := func(m array.MemberState) bool { return m.Condition == record.Failed || m.Condition == record.Missing }
	slot := c.r.IntN(len(c.disks))
	if i := slices.IndexFunc(states, away); i >= 0 && c.r.IntN(2) == 0 {
		slot = i
	}
	state, lost := states[slot], away(states[slot])
	switch k := c.r.IntN(14); {
	case k == 10: // all of them, for as long as nobody gives up a write
		c.note("  all disks stall")
		seen("all disks stall")
		for _, d := range c.all {
			d.stall(env.Now().Add(time.Duration(c.r.IntN(5000)) * time.Millisecond))
		}
	case k == 11 && state.Condition == record.Active && c.canLose(slot):
		if d := c.memberAt(slot); d != nil {
			c.note("  slot %d hangs (%s)", slot, d.name)
			seen("a disk hangs")
			d.shaky = true // for as long as the engine may still hold it against the disk
			d.stall(env.Now().Add(time.Duration(c.r.IntN(60000)) * time.Millisecond))
		}
	case k == 12 && state.Condition == record.Active && c.canLose(slot):
		if d := c.memberAt(slot); d != nil {
			c.note("  the next sync of slot %d fails (%s)", slot, d.name)
			d.failing, d.shaky = true, true
		}
	case k == 13 && state.Condition == record.Active && c.canLose(slot):
		if d := c.memberAt(slot); d != nil {
			part := []float64{0.01, 0.1, 1}[c.r.IntN(3)]
			c.note("  slot %d rots (%s, %.2f)", slot, d.name, part)
			seen("rot while it runs")
			d.shaky, c.spoilt = true, true
			d.rot(c.r, part)
		}
	case k >= 10:
	case k < 3 && state.Condition == record.Active:
		if d := c.memberAt(slot); d != nil && c.canLose(slot) {
			c.note("  slot %d vanishes (%s)", slot, d.name)
			d.vanish(c.r)
		}
	case k < 4 && state.Condition == record.Active && c.canLose(slot):
		if c.a.Fail(slot, false) != nil {
			return nil
		}
		c.note("  failed slot %d", slot)
		if c.r.IntN(2) == 0 {
			env.Yield()
			return c.replace(slot)
		}
	case k < 6 && lost:
		return c.bringBack(slot)
	case k < 8 && lost && c.geo.Redundant():
		return c.replace(slot)
	case k < 9 && state.Condition == record.Active:
		d := c.newDisk()
		c.note("  retire slot %d onto %s", slot, d.name)
		if c.a.Retire(slot, d) == nil {
			seen("retirement begun")
		}
	default:
		c.note("  check")
		seen("check begun")
		_ = c.a.StartCheck(false)
	}
	return nil
}

// replace gives a lost member's slot another disk while the array is used.
func (c *machine) replace(slot int) error {
	d := c.newDisk()
	c.note("  replace slot %d by %s", slot, d.name)
	seen("replaced")
	return c.a.Replace(slot, d)
}

// memberAt is the disk that is in a slot now.
func (c *machine) memberAt(slot int) *Disk {
	name := c.a.MemberStates()[slot].Disk.Path
	for _, d := range c.all {
		if d.name == name {
			return d
		}
	}
	return nil
}

// canLose says whether the array survives the loss of one more, counting those that are gone unnoticed.
func (c *machine) canLose(slot int) bool {
	states := c.a.MemberStates()
	return c.geo.Survives(func(s int) bool {
		d := c.memberAt(s)
		return s == slot || d == nil || d.isGone() || d.shaky || states[s].Condition != record.Active
	})
}

// bringBack puts a disk back that was away. It must be taken, if it was whole when it left.
func (c *machine) bringBack(slot int) error {
	d := c.memberAt(slot)
	if d == nil || !d.isGone() || d.shaky {
		return nil
	}
	d.gone = false
	own, _ := disk.ReadRecord(d)
	if own == nil {
		d.gone = true
		return nil
	}
	c.note("  slot %d is back (%s)", slot, d.name)
	err := c.a.Return(d, own, false)
	if err != nil && !c.power.off {
		c.note("    but it is refused: %v", err)
		d.gone = true
		return nil
	}
	if err == nil {
		seen("returned")
	}
	return err
}

// recover brings the array up again after the cut, with losses up to the margin, perhaps being cut again.
func (c *machine) recover() error {
	lost := map[int]bool{}
	spoil := func() {
		// A change of the roster that was being written down when the power went may be on some disks only: what any of
		// them says is not whole counts as lost.
		set := c.judge()
		for slot, x := range set.Current {
			if x.Disk != nil {
				c.disks[slot] = x.Disk.(*Disk)
			}
		}
		gone := func(slot int) bool {
			for _, x := range set.Current {
				if x.Disk != nil && x.Record.Roster[slot].Condition != record.Active {
					return true
				}
			}
			return lost[slot] || set.Current[slot].Disk == nil || c.disks[slot].shaky
		}
		for range c.r.IntN(4) {
			slot := c.r.IntN(len(c.disks))
			if gone(slot) || !c.geo.Survives(func(s int) bool { return gone(s) || s == slot }) {
				continue
			}
			lost[slot] = true
			if was := c.before[c.disks[slot]]; was != nil && !c.setBack && len(lost) == 1 && c.setsBack(slot, set, gone, was) {
				lost[c.witness(slot)] = true // without it nothing is proven
			} else if c.r.IntN(2) == 0 {
				c.note("  member %d is lost", slot)
				c.disks[slot].gone = true
			} else {
				part := []float64{0.02, 0.3, 1}[c.r.IntN(3)]
				c.spoilt = true
				c.note("  member %d rots (%.2f)", slot, part)
				c.disks[slot].rot(c.r, part)
			}
		}
	}
	cut := func() {
		for _, d := range c.all {
			d.cut(c.r)
		}
		c.power.off, c.power.left = false, -1
	}
	cut()
	spoil()
	for tries := 0; ; tries++ {
		if tries < 3 && c.r.IntN(2) == 0 {
			c.power.left = 1 + c.r.IntN(1<<(2+c.r.IntN(8)))
		} else {
			c.power.left = -1
		}
		set := c.judge()
		a, err := array.Open(set, c.config())
		if err == nil && !c.power.off {
			c.a = a
			c.power.left = -1
			return nil
		}
		if err == nil {
			a.Abandon() // what it goes on with met the end of the power
		}
		if !c.power.off {
			return fmt.Errorf("recovery: %w", err)
		}
		c.note("  power goes during recovery")
		seen("power cut in recovery")
		cut()
		spoil()
	}
}

func (c *machine) witness(slot int) int { return record.WitnessOf(slot, len(c.disks)) }

// setsBack sets a member back to what it was at some moment of the round, in one of several ways, when its witness is there.
func (c *machine) setsBack(slot int, set array.Set, gone func(int) bool, was map[int64][]byte) bool {
	if c.r.IntN(2) == 0 || gone(c.witness(slot)) {
		return false
	}
	own := set.Current[slot].Record
	data, tail := own.Place.DataStart/block, disk.TailRecord(own.Place.Size)/block
	sums, maps := own.Place.SumStart/block, own.Place.MapStart/block
	journal := own.Place.JournalStart / block
	inside := func(b int64) bool { return b >= journal && b < tail } // a record that is older is another matter
	part := c.r.Float64()
	pick, how := inside, "as a whole"
	switch c.r.IntN(4) {
	case 0:
		how = "in its checksum pages"
		pick = func(b int64) bool { return b >= sums && b < data }
	case 1:
		how = "in its map pages"
		pick = func(b int64) bool { return b >= maps && b < own.Place.WitnessStart/block }
	case 2:
		how = "in some blocks"
		pick = func(b int64) bool { return inside(b) && c.r.Float64() < part }
	}
	n := c.disks[slot].setBack(was, pick)
	if n == 0 {
		return false
	}
	c.note("  member %d is set back %s (%d blocks)", slot, how, n)
	c.setBack, c.spoilt = true, true
	seen("set back")
	return true
}

// judge looks at the disks as a start would.
func (c *machine) judge() array.Set {
	var found []array.Candidate
	for _, d := range c.all {
		if d.gone {
			continue
		}
		if r, _ := disk.ReadRecord(d); r != nil {
			found = append(found, array.Candidate{Disk: d, Record: r})
		}
	}
	return array.Judge(found)
}

// verify reads everything and holds it against the model; then what was read is what counts.
func (c *machine) verify() error {
	buf := make([]byte, c.m.blocks*block)
	if err := c.a.ReadAt(buf, 0); err != nil {
		return fmt.Errorf("after recovery: %w", err)
	}
	for b := range c.m.blocks {
		got := buf[b*block:][:block]
		found := false
		for _, v := range c.m.may[b] {
			if matches(got, b, v) {
				c.m.may[b], c.m.now[b], found = []uint64{v}, v, true
				break
			}
		}
		if !found {
			return fmt.Errorf("after recovery block %d reads as %s; allowed are versions %v", b, describe(got, b), c.m.may[b])
		}
	}
	return nil
}

// aftermath: with all that was lost or rotten put right, a check finds nothing to complain of.
func (c *machine) aftermath() error {
	if c.r.IntN(2) == 0 {
		c.a.WaitTasks()
	}
	result, err := c.checked(true)
	if err != nil {
		return fmt.Errorf("check after recovery: %w", err)
	}
	if result.Unrepairable > 0 {
		return fmt.Errorf("check after recovery: %+v", result)
	}
	for slot, m := range c.a.MemberStates() {
		if d := c.memberAt(slot); d != nil && m.Condition == record.Active {
			d.shaky = false
		}
	}
	for slot, m := range c.a.MemberStates() {
		lost := m.Condition == record.Missing || m.Condition == record.Failed
		if lost && c.r.IntN(2) == 0 {
			if err := c.bringBack(slot); err != nil {
				return err
			}
			lost = c.a.MemberStates()[slot].Condition == m.Condition
		}
		if lost && c.geo.Redundant() && c.r.IntN(4) > 0 {
			d := c.newDisk()
			c.note("  replace slot %d by %s", slot, d.name)
			if err := c.a.Replace(slot, d); err != nil {
				return err
			}
		}
	}
	if c.r.IntN(3) > 0 {
		c.a.WaitTasks()
	}
	if result, err = c.checked(false); err != nil || result.Mismatches > 0 {
		return fmt.Errorf("second check after recovery: %+v, %w", result, errors.Join(err, errors.New("mismatches")))
	}
	for slot := range c.disks {
		if d := c.memberAt(slot); d != nil {
			c.disks[slot] = d
		}
	}
	return c.readBack(0, c.m.blocks)
}

// checked runs a check to its end, after what is under way.
func (c *machine) checked(repair bool) (array.CheckResult, error) {
	c.a.WaitTasks()
	if err := c.a.StartCheck(repair); err != nil {
		return array.CheckResult{}, err
	}
	c.a.WaitTasks()
	var last array.TaskState
	for _, t := range c.a.TaskStates() {
		if t.Kind == array.TaskCheck {
			last = t
		}
	}
	if last.Check == nil {
		return array.CheckResult{}, errors.Join(last.Err, errors.New("a check without a result"))
	}
	return *last.Check, last.Err
}

func (c *machine) readBack(first, span int64) error {
	got := make([]byte, span*block)
	if err := c.a.ReadAt(got, first*block); err != nil {
		return err
	}
	for b := range span {
		if g := got[b*block:][:block]; !matches(g, first+b, c.m.now[first+b]) {
			return fmt.Errorf("block %d reads as %s; the last write was version %d", first+b, describe(g, first+b), c.m.now[first+b])
		}
	}
	return nil
}

func (m *model) write(first, span int64, zero bool) uint64 {
	m.next++
	v := m.next
	if zero {
		v = 0
	}
	for b := first; b < first+span; b++ {
		m.now[b] = v
		if !slices.Contains(m.may[b], v) {
			m.may[b] = append(m.may[b], v)
		}
	}
	return v
}

func (m *model) flushed(first, span int64) {
	for b := first; b < first+span; b++ {
		m.may[b] = []uint64{m.now[b]}
	}
}

func (m *model) contents(first, span int64) []byte {
	out := make([]byte, span*block)
	for b := range span {
		fill(out[b*block:][:block], first+b, m.now[first+b])
	}
	return out
}

// fill writes the contents of a version of a block: every word tells block and version. Version 0 is zeros.
func fill(p []byte, b int64, version uint64) {
	if version == 0 {
		clear(p)
		return
	}
	for at := 0; at < len(p); at += 8 {
		binary.LittleEndian.PutUint64(p[at:], version<<24|uint64(b)&0xffff<<8|uint64(at/8)&0xff)
	}
}

func matches(p []byte, b int64, version uint64) bool {
	var want [block]byte
	fill(want[:], b, version)
	return [block]byte(p) == want
}

func describe(p []byte, b int64) string {
	if [block]byte(p) == zeros {
		return "zeros"
	}
	v := binary.LittleEndian.Uint64(p) >> 24
	if matches(p, b, v) {
		return fmt.Sprintf("version %d", v)
	}
	return fmt.Sprintf("a mixture that begins %x", p[:16])
}
