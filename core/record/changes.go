package record

import "math/bits"

// ChangeParts is into how many parts of equal length an array is cut for its change map.
const ChangeParts = 256

// Changes is the change map: which parts of an array were changed since it lost a member. A part is marked, durably on all
// members, before the first change in it counts, so that a member that left since can prove that what it holds of the other parts
// is current, whatever happens to those that stayed.
type Changes struct {
	Since uint64 // changes of later epochs are marked; 0: they are not, because no member is away or marking has not begun
	Parts Parts
}

// ChangePart is the part that a stripe of an array lies in.
func ChangePart(stripe, stripes int64) int {
	return int(min(max(stripe, 0)*ChangeParts/max(stripes, 1), ChangeParts-1))
}

// Parts is a set of parts of an array.
type Parts [ChangeParts / 64]uint64

// Has says whether a part is in it.
func (p Parts) Has(part int) bool { return p[part/64]>>(part%64)&1 == 1 }

// Mark puts a part into it.
func (p *Parts) Mark(part int) { p[part/64] |= 1 << (part % 64) }

// MarkAll puts all into it.
func (p *Parts) MarkAll() {
	for i := range p {
		p[i] = ^uint64(0)
	}
}

// Has says whether a part is marked.
func (c Changes) Has(part int) bool { return c.Parts.Has(part) }

// Mark marks a part.
func (c *Changes) Mark(part int) { c.Parts.Mark(part) }

// Marked is how many parts are.
func (c Changes) Marked() (n int) {
	for _, v := range c.Parts {
		n += bits.OnesCount64(v)
	}
	return n
}

// Unchanged says whether a part was not changed in any epoch after the given one, for certain.
func (c Changes) Unchanged(part int, epoch uint64) bool {
	return c.Since != 0 && epoch >= c.Since && !c.Has(part)
}
