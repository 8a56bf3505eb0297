package crash

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
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
	disks   []*Disk       // by slot
	copies  map[int]*Disk // by slot: what the member is being copied onto
	a       *array.Array
	geo     *layout.Geometry
	m       *model
	clock   time.Time
	log     []string
	serial  int                        // of disks
	before  map[*Disk]map[int64][]byte // what disks had at some moment of this round
	accused string                     // a member that was said to be set back
	setBack bool                       // one was
	// Story is told when the seed fails.
}

// model is what may be read: for each block the version known to be durable and those written since.
type model struct {
	blocks int64
	now    []uint64   // version of the last write
	may    [][]uint64 // versions a crash may leave, the durable one first
	next   uint64
}

const cacheLimit = 512 << 10

// Run plays one seed and returns what went wrong, with the story of the run.
func Run(seed uint64) error {
	c := &machine{r: rand.New(rand.NewPCG(seed, seed^0x9e3779b97f4a7c15)), copies: map[int]*Disk{}, power: &Power{left: -1}, clock: time.Unix(1_000_000_000, 0)}
	if err := c.play(); err != nil {
		return fmt.Errorf("seed %d: %w\n%s", seed, err, strings.Join(c.log, "\n"))
	}
	return nil
}

func (c *machine) note(format string, args ...any) {
	c.log = append(c.log, fmt.Sprintf(format, args...))
}

func (c *machine) config() array.Config {
	return array.Config{Serial: true, Cache: cacheLimit, Tables: 1, Now: func() time.Time {
		c.clock = c.clock.Add(time.Millisecond)
		return c.clock
	}, Event: func(e array.Event) {
		c.note("    event %s %s %s", e.Kind, e.Disk, e.Detail)
		if e.Kind == "member-set-back" {
			c.accused = e.Disk
		}
	}}
}

func (c *machine) newDisk() *Disk {
	c.serial++
	return NewDisk(fmt.Sprintf("d%d", c.serial), 9<<20, c.power)
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
		if err := c.verify(); err != nil {
			return err
		}
		if err := c.aftermath(); err != nil {
			return err
		}
		switch {
		case c.accused != "" && !c.setBack:
			return fmt.Errorf("%s is said to have been set back, and was not", c.accused)
		case c.accused != "":
			accusations.Add(1)
		}
		c.setBack, c.accused, c.before = false, "", nil
	}
	if c.geo.Redundant() && c.r.IntN(3) == 0 {
		return c.disaster()
	}
	return nil
}

// work does random things until the power goes, or for a while.
func (c *machine) work() error {
	c.power.left = 1 + c.r.IntN(1<<(3+c.r.IntN(9)))
	steps := 10 + c.r.IntN(60)
	remember := c.r.IntN(steps)
	for step := range steps {
		if c.power.off {
			break
		}
		if step == remember {
			c.before = map[*Disk]map[int64][]byte{}
			for _, d := range c.disks {
				c.before[d] = d.snapshot()
			}
		}
		if err := c.step(); err != nil {
			if c.power.off {
				break
			}
			return err
		}
	}
	c.note("power goes (after the work: %v)", !c.power.off)
	c.power.off = true
	c.a.Abandon()
	return nil
}

func (c *machine) step() error {
	first := c.r.Int64N(c.m.blocks)
	if c.geo.Level == layout.Concat && c.r.IntN(2) == 0 {
		// Near the seam between two members.
		first = max(0, min(c.m.blocks-1, c.geo.Rows[0]*c.geo.StripeSize()/block-8+c.r.Int64N(16)))
	}
	span := int64(1)
	switch c.r.IntN(4) {
	case 0:
		span = 1 + c.r.Int64N(4)
	case 1:
		span = 1 + c.r.Int64N(3*c.geo.StripeSize()/block)
	case 2: // a whole stripe, which takes another way
		per := c.geo.StripeSize() / block
		first -= first % per
		span = per
	}
	span = min(span, c.m.blocks-first)
	switch k := c.r.IntN(20); {
	case k < 10:
		v := c.m.write(first, span, false)
		c.note("  write %d+%d v%d", first, span, v)
		return c.a.WriteAt(c.m.contents(first, span), first*block)
	case k < 12:
		c.m.write(first, span, true)
		c.note("  zero %d+%d", first, span)
		return c.a.Zero(first*block, span*block)
	case k < 15:
		c.note("  flush")
		if err := c.a.Flush(); err != nil {
			return err
		}
		c.m.flushed(0, c.m.blocks)
	case k < 16:
		v := c.m.write(first, span, false)
		c.note("  forced write %d+%d v%d", first, span, v)
		if err := c.a.WriteAt(c.m.contents(first, span), first*block); err != nil {
			return err
		}
		if err := c.a.FlushRange(first*block, span*block); err != nil {
			return err
		}
		c.m.flushed(first, span)
	case k < 18:
		return c.readBack(first, span)
	case k < 19:
		switch c.r.IntN(3) {
		case 0:
			return c.vanishAndReturn()
		case 1:
			return c.retire()
		}
		return c.loseAndReplace()
	default:
		c.note("  check")
		result, err := c.a.CheckNow(false)
		if err == nil && result.Mismatches > 0 {
			return fmt.Errorf("a check found %+v", result)
		}
		if err == nil {
			c.m.flushed(0, c.m.blocks)
		}
		return err
	}
	return nil
}

// loseAndReplace fails a member while all goes on, and perhaps replaces it or rebuilds its replacement.
func (c *machine) loseAndReplace() error {
	slot := c.r.IntN(len(c.disks))
	if m := c.a.MemberStates()[slot]; m.Condition == record.Active {
		if !c.canLose(slot) {
			return nil
		}
		if err := c.a.Fail(slot, false); err != nil {
			return nil // would be fatal
		}
		c.note("  failed slot %d", slot)
		return nil
	} else if m.Condition == record.Rebuilding {
		c.note("  rebuild slot %d", slot)
		return c.a.RebuildNow(slot)
	}
	d := c.newDisk()
	c.note("  replace slot %d by %s", slot, d.name)
	if err := c.a.Replace(slot, d); err != nil {
		return err
	}
	c.disks[slot] = d
	if c.r.IntN(2) == 0 {
		c.note("  rebuild slot %d", slot)
		return c.a.RebuildNow(slot)
	}
	return nil
}

// retire copies a member onto a new disk, or goes on with it.
func (c *machine) retire() error {
	slot := c.r.IntN(len(c.disks))
	for s := range c.disks {
		if _, copying := c.a.Onto(s); copying {
			slot = s
		}
	}
	if _, copying := c.a.Onto(slot); !copying {
		if m := c.a.MemberStates()[slot]; m.Condition != record.Active || c.disks[slot].gone {
			return nil
		}
		d := c.newDisk()
		c.copies[slot] = d
		c.note("  retire slot %d onto %s", slot, d.name)
		if err := c.a.Retire(slot, d); err != nil {
			return err
		}
		// Mostly a piece only, so that writes and crashes find it half done.
		switch c.r.IntN(6) {
		case 0:
			return nil
		case 1, 2, 3:
			c.note("  copy a piece of slot %d", slot)
			return c.a.RetirePiece(slot)
		}
	}
	if c.disks[slot].gone || c.a.MemberStates()[slot].Condition != record.Active {
		return nil
	}
	c.note("  copy slot %d", slot)
	if err := c.a.RetireNow(slot); err != nil {
		return err
	}
	c.disks[slot] = c.copies[slot]
	delete(c.copies, slot)
	retired.Add(1)
	return nil
}

// retired counts, over all seeds, how often a member was retired to the end.
var retired atomic.Int64

// canLose says whether the array survives the loss of one more, counting those that are gone unnoticed.
func (c *machine) canLose(slot int) bool {
	states := c.a.MemberStates()
	return c.geo.Survives(func(s int) bool { return s == slot || c.disks[s].gone || states[s].Condition != record.Active })
}

// vanishAndReturn pulls a disk while all goes on, or puts one back that is away.
func (c *machine) vanishAndReturn() error {
	slot := c.r.IntN(len(c.disks))
	switch m := c.a.MemberStates()[slot]; m.Condition {
	case record.Active:
		if !c.canLose(slot) {
			return nil
		}
		c.note("  slot %d vanishes", slot)
		c.disks[slot].vanish(c.r)
	case record.Rebuilding:
		c.note("  rebuild slot %d", slot)
		return c.a.RebuildNow(slot)
	case record.Missing:
		return c.bringBack(slot)
	}
	return nil
}

// bringBack puts a disk back that was away. It must be taken, if it was whole when it left.
func (c *machine) bringBack(slot int) error {
	d := c.disks[slot]
	if !d.gone {
		return nil
	}
	d.gone = false
	own, _ := disk.ReadRecord(d)
	if own == nil {
		d.gone = true
		return nil
	}
	c.note("  slot %d is back", slot)
	err := c.a.Return(d, own, false)
	if errors.Is(err, array.ErrStale) {
		c.note("    but stale: %v", err)
		d.gone = true
		return nil
	}
	if err == nil && c.r.IntN(2) == 0 {
		c.note("  rebuild slot %d", slot)
		err = c.a.RebuildNow(slot)
		caughtUp.Add(1)
	}
	return err
}

// caughtUp counts, over all seeds, how often a disk that came back caught up to the end.
var caughtUp atomic.Int64

// recover brings the array up again after the cut, with losses up to the margin, perhaps being cut again.
func (c *machine) recover() error {
	lost := map[int]bool{}
	spoil := func() {
		// A change of the roster that was being written down when the power went may be on some disks only: what any of
		// them says is not whole counts as lost.
		set := c.judge()
		gone := func(slot int) bool {
			for _, x := range set.Current {
				if x.Disk != nil && x.Record.Roster[slot].Condition != record.Active {
					return true
				}
			}
			return lost[slot] || set.Current[slot].Disk == nil
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
				c.note("  member %d rots (%.2f)", slot, part)
				c.disks[slot].rot(c.r, part)
			}
		}
	}
	cut := func() {
		for _, d := range c.all() {
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
		if err == nil {
			c.a = a
			c.power.left = -1
			c.settleCopies(set)
			return nil
		}
		if !c.power.off {
			return fmt.Errorf("recovery: %w", err)
		}
		c.note("  power goes during recovery")
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
	c.setBack = true
	setBacks.Add(1)
	return true
}

// setBacks counts, over all seeds, how often a member was set back, and accusations how often that was noticed by its pages.
var setBacks, accusations atomic.Int64

// all is every disk that is in the machine.
func (c *machine) all() []*Disk {
	out := slices.Clone(c.disks)
	for slot := range c.disks {
		if d := c.copies[slot]; d != nil {
			out = append(out, d)
		}
	}
	return out
}

// settleCopies notes what became of copies: the power may have gone just before or after one took its member's place.
func (c *machine) settleCopies(set array.Set) {
	for slot, d := range c.copies {
		if set.Current[slot].Disk == disk.Disk(d) {
			c.disks[slot] = d
		} else if _, copying := c.a.Onto(slot); copying {
			continue
		}
		delete(c.copies, slot)
	}
}

// judge looks at the disks as a start would.
func (c *machine) judge() array.Set {
	var found []array.Candidate
	for _, d := range c.all() {
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
	result, err := c.a.CheckNow(true)
	if err != nil {
		return fmt.Errorf("check after recovery: %w", err)
	}
	if result.Unrepairable > 0 {
		return fmt.Errorf("check after recovery: %+v", result)
	}
	for slot, m := range c.a.MemberStates() {
		if m.Condition == record.Missing && c.r.IntN(2) == 0 {
			if err := c.bringBack(slot); err != nil {
				return err
			}
			m = c.a.MemberStates()[slot]
		}
		if c.geo.Redundant() && (m.Condition == record.Failed || m.Condition == record.Missing) && c.r.IntN(4) > 0 {
			d := c.newDisk()
			c.note("  replace slot %d by %s", slot, d.name)
			if err := c.a.Replace(slot, d); err != nil {
				return err
			}
			c.disks[slot] = d
		}
		if c.a.MemberStates()[slot].Condition == record.Rebuilding && c.r.IntN(3) > 0 {
			c.note("  rebuild slot %d", slot)
			if err := c.a.RebuildNow(slot); err != nil {
				return err
			}
		}
	}
	for slot := range c.disks {
		_, copying := c.a.Onto(slot)
		if !copying || c.disks[slot].gone || c.a.MemberStates()[slot].Condition != record.Active || c.r.IntN(2) == 0 {
			continue
		}
		c.note("  copy slot %d to the end", slot)
		if err := c.a.RetireNow(slot); err != nil {
			return err
		}
		c.disks[slot] = c.copies[slot]
		delete(c.copies, slot)
		retired.Add(1)
	}
	if result, err = c.a.CheckNow(false); err != nil || result.Mismatches > 0 {
		return fmt.Errorf("second check after recovery: %+v, %w", result, errors.Join(err, errors.New("mismatches")))
	}
	return c.readBack(0, c.m.blocks)
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
