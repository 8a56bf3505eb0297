//go:build machine

package crash

import (
	"encoding/binary"
	"fmt"
	"slices"
)

// model is what may be read. Each block has one client that writes it, so what it was written as is a sequence: any of those
// that a crash may leave, the durable one first. A version is a number that no other write has; 0 is zeros.
type model struct {
	blocks int64
	may    [][]uint64     // by block; the last is the newest
	left   []int          // by block: how many older ones were dropped from may
	busy   []bool         // it is being written at the moment
	torn   []bool         // a write of it failed: it reads as any of may
	loose  map[int64]bool // a part was written beside the whole since the last start
	mixed  []int64        // that were found to hold such a part
	next   uint64
}

func newModel(blocks int64) *model {
	m := &model{blocks: blocks, may: make([][]uint64, blocks), left: make([]int, blocks), busy: make([]bool, blocks), torn: make([]bool, blocks), loose: map[int64]bool{}}
	for i := range m.may {
		m.may[i] = []uint64{0}
	}
	return m
}

// now is the newest version of a block.
func (m *model) now(b int64) uint64 { return m.may[b][len(m.may[b])-1] }

// begin notes that a client begins to write some blocks, and returns the version.
func (m *model) begin(first, span int64, zero bool) (v uint64) {
	if m.next++; !zero {
		v = m.next
	}
	for b := first; b < first+span; b++ {
		m.may[b] = append(m.may[b], v)
		m.busy[b] = true
	}
	return v
}

// end notes how that ended.
func (m *model) end(first, span int64, err error) {
	for b := first; b < first+span; b++ {
		m.busy[b], m.torn[b] = false, err != nil
	}
}

// acked is, by block, how many versions there were of which the last is acknowledged.
func (m *model) acked(first, span int64) []int {
	out := make([]int, span)
	for i := range out {
		b := first + int64(i)
		if out[i] = m.left[b] + len(m.may[b]); m.busy[b] || m.torn[b] {
			out[i] = 0
		}
	}
	return out
}

// flushed notes that what was acknowledged then is durable now.
func (m *model) flushed(first int64, acked []int) {
	for i, n := range acked {
		b := first + int64(i)
		if drop := n - m.left[b] - 1; drop > 0 {
			m.may[b] = m.may[b][drop:]
			m.left[b] += drop
		}
	}
}

// settle notes that a block has one of its versions for good, if it reads as one.
func (m *model) settle(b int64, got []byte) error {
	for i := len(m.may[b]) - 1; i >= 0; i-- {
		if v := m.may[b][i]; matches(got, b, v) {
			m.may[b], m.left[b], m.torn[b], m.busy[b] = []uint64{v}, 0, false, false
			return nil
		}
	}
	if m.blend(b, got) {
		m.mixed = append(m.mixed, b)
		return nil
	}
	return fmt.Errorf("block %d reads as %s; allowed are versions %v", b, describe(got, b), m.may[b])
}

// blend says whether a block of which a part was written beside the whole has every byte from one of its versions: a crash may leave the
// part alone.
func (m *model) blend(b int64, got []byte) bool {
	if !m.loose[b] {
		return false
	}
	var want [block]byte
	ok := make([]bool, block)
	for _, v := range m.may[b] {
		fill(want[:], b, v)
		for i := range ok {
			ok[i] = ok[i] || want[i] == got[i]
		}
	}
	return !slices.Contains(ok, false)
}

// allows says whether a block may read like this after a crash.
func (m *model) allows(b int64, got []byte) error {
	for _, v := range m.may[b] {
		if matches(got, b, v) {
			return nil
		}
	}
	if m.blend(b, got) {
		return nil
	}
	return fmt.Errorf("block %d reads as %s; allowed are versions %v", b, describe(got, b), m.may[b])
}

// reads says whether a block of which the last write was acknowledged may read like this.
func (m *model) reads(b int64, got []byte) error {
	if m.torn[b] {
		return m.allows(b, got)
	}
	if !matches(got, b, m.now(b)) {
		return fmt.Errorf("block %d reads as %s; the last write was version %d", b, describe(got, b), m.now(b))
	}
	return nil
}

// contents is what some blocks hold in their newest version.
func (m *model) contents(first, span int64) []byte {
	out := make([]byte, span*block)
	for b := range span {
		fill(out[b*block:][:block], first+b, m.now(first+b))
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
