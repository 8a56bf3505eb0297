//go:build machine

package crash

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"

	"nidalo/core/layout"
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

// drawing makes a script from a seed.
type drawing struct {
	*rand.Rand
	Script
	lay    *layout.Map
	blocks int64
}

// Draw makes the script of a seed: rounds of work that end with the power, losses, starts that may be cut short, and a check;
// and for some arrays a disaster at the end.
func Draw(seed uint64) Script {
	d := &drawing{Rand: rand.New(rand.NewPCG(seed, seed^0x9e3779b97f4a7c15))}
	shape := shapes[d.IntN(len(shapes))]
	if seed%16 == 9 {
		shape.level, shape.members = layout.Guarded, 3+int(seed/16%5)
	}
	d.Script = Script{Level: shape.level, Members: shape.members, Strip: 16 << (d.IntN(3) / 2), Stripes: 3 + d.IntN(6), Clients: 1 + d.IntN(3), Seed: seed,
		Uneven: seed%16 >= 10 && seed%16 <= 11}
	d.lay, _ = d.layout()
	d.blocks = d.Script.blocks(d.lay)
	switch kind := d.IntN(24); {
	case kind >= 20 || d.lessens() || d.turnsBack():
		d.turns()
	case kind < 6:
		d.storm()
	case kind < 8:
		d.flood()
	default:
		for range 1 + d.IntN(3) {
			d.round()
		}
	}
	if d.lay.Redundant() && d.Level != layout.Guarded && d.IntN(5) < 2 {
		d.disaster()
	}
	if d.Level == layout.Guarded && d.IntN(3) > 0 {
		d.beyond()
	}
	if d.Level == layout.Guarded && d.IntN(2) == 0 {
		d.sleeps()
	}
	if d.Level == layout.Guarded && d.Seed/16%8 >= 6 {
		d.lengthens()
	}
	if k := seed % 16; k == 5 || k == 13 {
		d.insists()
	}
	if k := seed % 16; k == 6 || k == 14 {
		d.readsOn()
	}
	if k := seed % 16; k == 3 || k == 8 || d.Level == layout.Guarded && seed/16%8 >= 4 && seed/16%8 <= 5 {
		d.severs()
	}
	return d.Script
}

// lengthens has volumes become longer again and again in what was drawn.
func (d *drawing) lengthens() {
	often := 4 + d.IntN(20)
	var ops []Op
	for _, o := range d.Ops {
		if ops = append(ops, o); o.By != "" && d.IntN(often) == 0 {
			ops = append(ops, Op{By: "hand", Verb: "pause", Args: []int64{d.Int64N(60)}},
				Op{By: "hand", Verb: "enlarge", Args: []int64{d.Int64N(3)}}, Op{By: "hand", Verb: "grow", Args: []int64{}})
		}
	}
	d.Ops = ops
}

// insists has clients flush after most writes, so that these go through. They write at the edges of their parts, where two clients share a stripe.
func (d *drawing) insists() {
	per := d.lay.Shape.StripeSize() / block
	var ops []Op
	for _, o := range d.Ops {
		i, err := strconv.Atoi(strings.TrimPrefix(o.By, "client "))
		if err != nil || o.Verb != "write" {
			ops = append(ops, o)
			continue
		}
		_, from, to := d.client(i)
		for range 1 + d.IntN(3) {
			at := from + d.Int64N(min(per, to-from))
			if d.IntN(2) == 0 {
				at = to - 1 - d.Int64N(min(per, to-from))
			}
			ops = append(ops, Op{By: o.By, Verb: "write", Args: []int64{at, 1 + d.Int64N(2)}})
			if d.IntN(8) > 0 {
				ops = append(ops, Op{By: o.By, Verb: "flush"})
			}
		}
	}
	d.Ops = ops
}

// readsOn has a reader go through several strips in a row, again and again, beside the clients.
func (d *drawing) readsOn() {
	strip := d.lay.Shape.Strip / block
	var ops []Op
	for _, o := range d.Ops {
		if ops = append(ops, o); !strings.HasPrefix(o.By, "client ") {
			continue
		}
		at := d.Int64N(d.blocks) / strip * strip
		for range d.IntN(4) {
			ops = append(ops, Op{By: "watch", Verb: "read", Args: []int64{at, strip}})
			at += strip
		}
	}
	d.Ops = ops
}

// sleeps has members put to sleep again and again in what was drawn.
func (d *drawing) sleeps() {
	often := 1 + d.IntN(6)
	var ops []Op
	for _, o := range d.Ops {
		if ops = append(ops, o); o.By != "" && d.IntN(often) == 0 {
			if d.IntN(3) == 0 {
				ops = append(ops, Op{By: "hand", Verb: "pause", Args: []int64{d.Int64N(60)}})
			}
			for range 1 + d.IntN(3) {
				ops = append(ops, Op{By: "hand", Verb: "doze", Args: []int64{d.slot()}})
			}
		}
	}
	d.Ops = ops
}

// add adds an operation; numbers that the verb does not take are left out.
func (d *drawing) add(by, verb string, n ...int64) {
	d.Ops = append(d.Ops, Op{By: by, Verb: verb, Args: n})
}

// upTo is a number from 0 to n-1; mostly small ones.
func (d *drawing) upTo(doublings int) int64 { return d.Int64N(1 << (3 + d.IntN(doublings))) }

func (d *drawing) slot() int64 { return d.Int64N(int64(d.Members)) }
func (d *drawing) salt() int64 { return d.Int64N(1 << 20) }
func (d *drawing) bits() int64 { return d.Int64N(1 << d.Members) }

// mostBits has three of four set.
func (d *drawing) mostBits() int64 { a := d.bits(); return a | d.bits() }

// power is after how many operations of disks the power goes in a start; -1 for not at all.
func (d *drawing) power() int64 {
	if d.IntN(2) == 0 {
		return -1
	}
	return d.upTo(8)
}

// storm is little work and many cuts: most in the middle of a flush, and then again while the array is being started.
func (d *drawing) storm() {
	for range 3 + d.IntN(6) {
		if d.IntN(6) == 0 {
			d.change()
			continue
		}
		for range d.IntN(5) {
			d.clientOp(d.client(d.IntN(d.Clients)))
		}
		if d.IntN(4) == 0 {
			d.handOp()
		}
		d.add("client 0", "flush")
		d.add("", "power", 1+d.upTo(4))
		for i := range d.Clients {
			for range 1 + d.IntN(3) {
				d.clientOp(d.client(i))
			}
			by, _, _ := d.client(i)
			d.add(by, "flush")
		}
		d.add("", "cut", d.salt())
		for range 1 + d.IntN(3) {
			if d.IntN(2) == 0 {
				d.loss()
			}
			d.add("", "start", 1+d.Int64N(160), d.salt())
		}
		if d.IntN(2) == 0 {
			d.loss()
		}
		d.add("", "start", -1, d.salt())
		if d.IntN(6) > 0 {
			d.add("", "mend", d.Int64N(2), d.bits(), d.mostBits(), 1)
		}
	}
}

// change is a member that is retired, with the power going about when its place is taken, and the member whose pages it has seen set
// back.
func (d *drawing) change() {
	some := func() {
		for range 1 + d.IntN(5) {
			d.clientOp(d.client(d.IntN(d.Clients)))
		}
		d.add("client 0", "flush")
		d.add("", "then")
	}
	some()
	d.add("memory", "remember")
	d.add("", "then")
	some()
	slot := d.slot()
	d.add("", "power", 40+d.Int64N(400))
	d.add("hand", "retire", slot)
	d.add("hand", "wait", 10_000)
	d.add("", "cut", d.salt())
	d.add("", "set-back", (slot+int64(d.Members)-1)%int64(d.Members), d.Int64N(4), d.Int64N(1000), d.salt())
	d.add("", "start", -1, d.salt())
	d.add("", "mend", 1, d.bits(), d.mostBits(), 1)
}

// flood is more writes than the journals hold.
func (d *drawing) flood() {
	per := d.lay.Shape.StripeSize() / block
	for range 1 + d.IntN(2) {
		d.add("", "power", 100+d.Int64N(4000))
		for range 20 + d.IntN(20) {
			i := d.IntN(d.Clients)
			by, from, to := d.client(i)
			first := from + d.Int64N(to-from)
			d.add(by, "write", first, min(to-first, 1+d.Int64N(4*per)))
			d.add(by, "flush")
		}
		for range d.IntN(3) {
			d.handOp()
		}
		d.add("", "cut", d.salt())
		d.losses()
		d.add("", "start", -1, d.salt())
		d.add("", "mend", d.Int64N(2), d.bits(), d.mostBits(), 1)
	}
}

func (d *drawing) round() {
	for d.IntN(4) == 0 { // some work without a power cut first
		d.work()
		if d.IntN(2) == 0 {
			d.add("", "stop")
			d.add("", "outside")
			d.add("", "start", -1, d.salt())
		} else {
			d.add("", "then")
		}
	}
	d.add("", "power", 1+d.upTo(9))
	d.work()
	d.add("", "cut", d.salt())
	d.losses()
	for range 3 {
		if power := d.power(); power >= 0 {
			d.add("", "start", power, d.salt())
			d.losses()
		}
	}
	d.add("", "start", -1, d.salt())
	d.add("", "mend", d.Int64N(2), d.bits(), d.mostBits(), d.Int64N(2))
}

// work is several clients, an administrator, and another user that only looks.
func (d *drawing) work() {
	for i := range d.Clients {
		for range 3 + d.IntN(22) {
			d.clientOp(d.client(i))
		}
	}
	for range d.IntN(9) {
		d.handOp()
	}
	if d.IntN(2) == 0 {
		for range 1 + d.IntN(8) {
			d.add("watch", "pause", d.Int64N(40))
			d.add("watch", []string{"status", "read"}[d.IntN(2)], 0, d.blocks)
		}
	}
	d.add("memory", "pause", d.Int64N(60))
	d.add("memory", "remember")
}

// client is a client's name and stretch.
func (d *drawing) client(i int) (by string, from, to int64) {
	n := int64(d.Clients)
	return fmt.Sprintf("client %d", i), d.blocks * int64(i) / n, d.blocks * int64(i+1) / n
}

// clientOp is one thing that a client does.
func (d *drawing) clientOp(by string, from, to int64) {
	first, span := from+d.Int64N(to-from), int64(1)
	per := d.lay.Shape.StripeSize() / block
	if d.Level == layout.Concat && d.IntN(2) == 0 {
		// Near the seam between two members.
		first = max(from, min(to-1, d.lay.Regions()[0].Rows*per-8+d.Int64N(16)))
	}
	switch d.IntN(4) {
	case 0:
		span = 1 + d.Int64N(4)
	case 1:
		span = 1 + d.Int64N(3*per)
	case 2: // a whole stripe, which takes another way
		first = max(from, first-first%per)
		span = per
	}
	span = min(span, to-first)
	switch k := d.IntN(20); {
	case k < 7:
		d.add(by, "write", first, span)
	case k < 9:
		d.add(by, "take", first, span)
	case k < 11:
		d.add(by, "zero", first, span)
		d.add(by, "read", first, span)
	case k < 14:
		d.add(by, "flush")
	case k < 15:
		d.add(by, "force", first, span)
	case k < 16:
		if d.IntN(2) == 0 {
			d.add(by, "part", first, d.Int64N(block), d.Int64N(block))
		} else {
			for range 3 {
				d.add(by, "beside", first, d.Int64N(block), d.Int64N(block))
				d.add(by, "read", first, 1)
			}
		}
	case k < 17:
		d.add(by, "status", from, to-from)
	case k < 18: // a whole stripe that is never-written before, which takes yet another way
		if first = max(from, first-first%per); first+per <= to {
			d.add(by, "zero", first, per)
			d.add(by, "flush")
			d.add(by, "write", first, per)
			d.add(by, "flush")
		}
	default:
		d.add(by, "read", first, span)
	}
}

// handOp is one thing that an administrator does, or that befalls a disk.
func (d *drawing) handOp() {
	if d.IntN(2) == 0 {
		d.add("hand", "pause", d.Int64N(30))
	}
	if d.IntN(4) == 0 {
		d.add("hand", "wait", d.Int64N(4000))
	}
	switch k := d.IntN(49); {
	case k == 48:
		d.turn()
	case k > 45:
		d.add("hand", "enlarge", 1+d.Int64N(8))
		d.add("hand", "grow")
	case k == 45:
		d.add("hand", "cancel")
	case k == 44:
		d.add("hand", "go-on")
	case k == 43:
		d.add("hand", "probe")
	case k > 40:
		d.add("hand", "suspect", d.slot())
	case k < 7:
		d.add("hand", "pull", d.slot(), d.salt())
	case k < 11:
		d.add("hand", "back", d.Int64N(3))
		if d.IntN(3) == 0 {
			d.add("hand", "pause", d.Int64N(40))
			d.add("hand", "pull-last", d.salt())
			d.add("hand", "back", d.Int64N(3))
		}
	case k < 14:
		d.add("hand", "replace", d.Int64N(3))
	case k < 16:
		slot := d.slot()
		d.add("hand", "fail", slot)
		if d.IntN(2) == 0 {
			if slot%2 == 0 { // two at once, which are rebuilt together where the level allows it
				d.add("hand", "fail", slot+1)
				d.add("hand", "replace", 0)
			}
			d.add("hand", "replace", 0)
		}
	case k < 17:
		d.add("hand", "swap", d.slot())
	case k < 18:
		d.add("spare", "spare", d.Int64N(8000))
	case k < 22:
		d.add("hand", "retire", d.slot())
	case k < 24:
		d.add("hand", "check", d.Int64N(2))
	case k < 25:
		d.add("hand", "stall", d.Int64N(5000))
	case k < 26:
		d.add("hand", "hang", d.slot(), d.Int64N(60000))
	case k < 27:
		d.add("hand", "slow", d.slot(), d.Int64N(200))
	case k < 28:
		d.add("hand", "rot", d.slot(), []int64{10, 100, 1000}[d.IntN(3)], d.salt())
	case k < 29:
		d.add("hand", "bad-read", d.slot(), d.upTo(6), 1+d.Int64N(3))
	case k < 30:
		d.add("hand", "bad-write", d.slot(), d.upTo(6), 1+d.Int64N(3))
	case k < 31:
		d.add("hand", "bad-sync", d.slot(), d.Int64N(4), 1)
	case k < 32:
		d.add("hand", "bad-place", d.slot(), d.Int64N(diskSize/block), 1+d.upTo(8))
	case k < 33:
		d.add("hand", "no-room", d.slot(), d.upTo(6), 1+d.Int64N(3))
	case k < 34:
		d.add("hand", "sync-lies", d.slot(), d.Int64N(4), 1+d.upTo(4))
	case k < 35:
		d.add("hand", "drop", d.slot(), d.upTo(6), 1)
	case k < 36:
		d.add("hand", "stray", d.slot(), d.upTo(6), 1+d.upTo(8))
	case k < 37:
		d.add("hand", "hold", d.Int64N(3000))
	case k < 38:
		d.add("hand", "pace", d.Int64N(3))
	case k < 39:
		d.add("hand", "rename", d.Int64N(100))
	default:
		d.add("hand", "wait", d.Int64N(70000)) // long enough for the journals to be emptied
	}
}

// lessens says whether a script is about smaller arrays and fewer members too.
func (d *drawing) lessens() bool { return d.Seed%16 >= 11 && d.Seed%16 <= 12 }

// turnsBack says whether changes of layout are cancelled now and then.
func (d *drawing) turnsBack() bool { return d.Seed%16 == 11 || d.Seed%16 == 15 }

// turn is a change of layout. Some scripts are about smaller ones too.
func (d *drawing) turn() {
	if d.Level == layout.Guarded {
		if d.IntN(3) == 0 {
			d.add("hand", "parity")
		} else {
			d.add("hand", "volume", d.Int64N(3))
		}
		if d.Seed/16%4 == 3 {
			d.add("hand", "pause", 20)
			d.add("hand", "take-out", int64(len(d.Ops)))
		}
		return
	}
	if d.lessens() {
		switch d.IntN(6) {
		case 0:
			d.add("hand", "shrink", d.Int64N(8))
		case 1, 2:
			d.add("hand", "let-go", d.Int64N(18), d.Int64N(3), d.Int64N(2))
			return
		}
	}
	d.add("hand", "convert", d.Int64N(9), d.Int64N(4), d.Int64N(2))
}

// turns is an array whose layout changes again and again, while it is used, with the power going at any moment.
func (d *drawing) turns() {
	for range 1 + d.IntN(3) {
		for i := range d.Clients {
			for range 1 + d.IntN(6) {
				d.clientOp(d.client(i))
			}
			by, _, _ := d.client(i)
			d.add(by, "flush")
		}
		d.add("", "then")
		if d.IntN(4) == 0 {
			d.add("hand", "enlarge", 1+d.Int64N(8))
			d.add("hand", "grow")
		}
		if d.IntN(3) == 0 {
			d.add("", "power", 1+d.upTo(9))
		}
		d.turn()
		d.add("", "then")
		for range 1 + d.IntN(6) { // while it is under way
			d.add("", "power", 1+d.upTo(7))
			for i := range d.Clients {
				for range d.IntN(4) {
					d.clientOp(d.client(i))
				}
			}
			if d.IntN(4) == 0 {
				d.handOp()
			}
			if d.turnsBack() && d.IntN(3) > 0 {
				d.add("hand", "wait", d.upTo(5))
				d.add("hand", "cancel")
			}
			d.add("hand", "wait", d.Int64N(400))
			d.add("", "cut", d.salt())
			if d.IntN(3) == 0 {
				d.loss()
			}
			for range d.IntN(3) {
				d.add("", "start", 1+d.upTo(6), d.salt())
			}
			d.add("", "start", -1, d.salt())
		}
		if d.IntN(4) == 0 {
			d.add("", "stop")
			d.add("", "outside")
			d.add("", "start", -1, d.salt())
		}
		if d.IntN(3) > 0 {
			d.add("", "mend", d.Int64N(2), d.bits(), d.mostBits(), 1)
		}
	}
}

// losses are what is wrong with the disks after a cut.
func (d *drawing) losses() {
	for range d.IntN(4) {
		d.loss()
	}
}

func (d *drawing) loss() {
	switch d.IntN(4) {
	case 0:
		d.add("", "set-back", d.slot(), d.Int64N(4), d.Int64N(1000), d.salt())
	case 1:
		d.add("", "spoil", d.slot(), []int64{20, 300, 1000}[d.IntN(3)], d.salt())
	default:
		d.add("", "lose", d.slot())
	}
}

// disaster is members that leave, more of them lost than the array survives, a rescue, and the attempt to bring them back.
func (d *drawing) disaster() {
	if d.IntN(2) == 0 {
		d.add("", "power", 1+d.upTo(9))
	}
	some := func(n int) {
		for range n {
			i := d.IntN(d.Clients)
			d.clientOp(d.client(i))
		}
		d.add("", "then")
	}
	for range 1 + d.IntN(2) {
		some(d.IntN(6))
		d.add("", "quiet")
		if d.IntN(2) == 0 { // while clients write
			for range 1 + d.IntN(8) {
				d.clientOp(d.client(d.IntN(d.Clients)))
			}
			d.add("hand", "pause", d.Int64N(40))
		}
		switch d.IntN(5) {
		case 0, 1:
			d.add("hand", "pull", d.slot(), d.salt())
		case 2:
			d.add("hand", "bad-write", d.slot(), d.upTo(3), 3)
		default:
			d.add("hand", "fail", d.slot())
		}
		d.add("", "then")
		some(d.IntN(8))
	}
	d.add("", "cut", d.salt())
	for slot := range int64(d.Members) {
		if d.IntN(4) > 0 {
			d.add("", "plug", slot)
		}
	}
	for range d.IntN(3) {
		d.add("", "unplug", d.slot())
	}
	d.add("", "rescue")
	for range 3 {
		if power := d.power(); power >= 0 {
			d.add("", "readmit", power, d.salt(), 0)
		}
	}
	d.add("", "readmit", -1, d.salt(), d.mostBits())
}
