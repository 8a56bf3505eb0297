//go:build machine

package crash

import (
	"fmt"
	"iter"

	"nidalo/core/layout"
)

// The volume of a guarded set becomes longer at its end, which moves those behind it in the logical space of the set. The model has numbers of its own for
// the blocks of such a set, which stay: first those that the volumes have in the beginning, then those that each of them may have in the end.

// portion is a part of a volume: its blocks from one on are those of the model from first on.
type portion struct {
	slot               int
	from, first, count int64
}

// mostLonger is by how many blocks a volume becomes longer at most.
const mostLonger = 2 << 10

// partsOf are the parts of the volumes of which a script uses the first blocks, and how many blocks the model has with what they may become longer by.
func partsOf(lay *layout.Map, blocks int64) (out []portion, all int64) {
	all = blocks
	for _, v := range lay.Volumes() {
		if first := v.Start / block; first < blocks {
			out = append(out, portion{v.Slot, 0, first, min(v.Size/block, blocks-first)})
		}
	}
	for _, p := range out {
		if v, _ := lay.Volume(p.slot); p.count == v.Size/block {
			out = append(out, portion{p.slot, p.count, all, mostLonger})
			all += mostLonger
		}
	}
	return out, all
}

// there is how much of a part a layout has.
func (p portion) there(lay *layout.Map) int64 {
	v, ok := lay.Volume(p.slot)
	if !ok {
		return 0
	}
	return max(0, min(p.count, v.Size/block-p.from))
}

// piece is blocks of the model that lie side by side in the array as well.
type piece struct {
	first, span int64
	off         int64 // bytes
}

// pieces are some blocks of the model in a layout, in order; those that it does not have are left out.
func (c *machine) pieces(lay *layout.Map, first, span int64) iter.Seq[piece] {
	return func(yield func(piece) bool) {
		if c.parts == nil {
			yield(piece{first, span, first * block})
			return
		}
		for _, p := range c.parts {
			from, to := max(first, p.first), min(first+span, p.first+p.there(lay))
			if from >= to {
				continue
			}
			v, _ := lay.Volume(p.slot)
			if !yield(piece{from, to - from, v.Start + (p.from+from-p.first)*block}) {
				return
			}
		}
	}
}

// off is where a block of the model lies in the array, in bytes, and how many lie behind it at once. A client only asks for one that is there.
func (c *machine) off(first, span int64) (off, most int64) {
	for p := range c.pieces(c.a.Layout(), first, span) {
		return p.off, p.span
	}
	return c.m.blocks * block, 0
}

// slotOf is the slot whose volume a block of the model is of; -1 when it is of none.
func (c *machine) slotOf(b int64) int {
	for _, p := range c.parts {
		if b >= p.first && b < p.first+p.count {
			return p.slot
		}
	}
	return -1
}

// longer is a block that a volume got later, instead of one at another place; -1: that one will do.
func (c *machine) longer(by string, at int64) int64 {
	if uint32(at)*2654435761>>16%3 != 0 {
		return -1
	}
	for i, p := range c.parts {
		if n := p.there(c.a.Layout()); p.from > 0 && n > 0 && c.ownsPart(by, i) && (at/3+int64(i))%2 == 0 {
			seen("a longer volume used")
			return p.first + at%n
		}
	}
	return -1
}

// ownsPart says whether an actor may write what a volume became longer by; one that only looks has all.
func (c *machine) ownsPart(by string, i int) bool {
	n, ok := c.client(by)
	return c.parts[i].from > 0 && (!ok || i%c.script.Clients == n)
}

// owned are the blocks that an actor may write, with how many each time.
func (c *machine) owned(by string) iter.Seq2[int64, int64] {
	return func(yield func(first, span int64) bool) {
		from, to := c.stretch(by)
		if !yield(from, to-from) {
			return
		}
		for i, p := range c.parts {
			if c.ownsPart(by, i) && !yield(p.first, p.count) {
				return
			}
		}
	}
}

// allThere holds that a volume has not become shorter: what was written is somewhere.
func (c *machine) allThere() error {
	for _, p := range c.parts {
		for b := p.first + p.there(c.a.Layout()); b < p.first+p.count; b++ {
			if c.m.may[b][0] != 0 {
				return fmt.Errorf("block %d, which was written, is behind the end of the volume of slot %d", b, p.slot)
			}
		}
	}
	return nil
}

// whileStill does what a client asks for while no volume moves, as the service does.
func whileStill(run func(c *machine, by string, n []int64) error) func(*machine, string, []int64) error {
	return func(c *machine, by string, n []int64) error {
		if c.parts == nil {
			return run(c, by, n)
		}
		c.growing.RLock()
		defer c.growing.RUnlock()
		return run(c, by, n)
	}
}
