package layout

import (
	"fmt"
	"math/bits"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const mib = 1 << 20

func equal(n int, size int64) []int64 {
	out := make([]int64, n)
	for i := range out {
		out[i] = size
	}
	return out
}

// Worked by hand: capacity in units of one member, margin for certain and at best.
func TestCapacityAndMarginOfEachLevel(t *testing.T) {
	for _, c := range []struct {
		level                   Level
		members, groups         int
		capacity, certain, best int
	}{
		{Striped, 1, 0, 1, 0, 0}, {Striped, 5, 0, 5, 0, 0},
		{Mirror, 2, 0, 1, 1, 1}, {Mirror, 5, 0, 1, 4, 4},
		{Parity1, 3, 0, 2, 1, 1}, {Parity1, 9, 0, 8, 1, 1},
		{Parity2, 4, 0, 2, 2, 2}, {Parity2, 8, 0, 6, 2, 2},
		{Parity3, 5, 0, 2, 3, 3}, {Parity3, 11, 0, 8, 3, 3},
		{Mirrors, 4, 0, 2, 1, 2}, {Mirrors, 6, 0, 3, 1, 3}, {Mirrors, 6, 2, 2, 2, 4},
		{Parities1, 6, 0, 4, 1, 2}, {Parities1, 9, 0, 6, 1, 3}, {Parities1, 12, 2, 10, 1, 2},
		{Parities2, 8, 0, 4, 2, 4}, {Parities2, 12, 3, 6, 2, 6},
		{Concat, 3, 0, 3, 0, 0},
	} {
		g, err := New(c.level, DefaultStrip, c.groups, equal(c.members, 10*mib))
		require.NoError(t, err, "%+v", c)
		require.EqualValues(t, c.capacity*10*mib, g.Capacity(), "%+v", c)
		certain, best := g.Margin(func(int) bool { return false })
		require.Equal(t, []int{c.certain, c.best}, []int{certain, best}, "%+v", c)
	}
}

func TestTooFewOrOddDisksAreRefusedWithTheReason(t *testing.T) {
	for _, c := range []struct {
		level  Level
		n      int
		groups int
		says   string
	}{
		{Parity1, 2, 0, "level 5 needs at least 3 disks; 2 given"},
		{Mirrors, 5, 0, "two or more groups of equal size"},
		{Parities2, 9, 0, "each of at least 4 disks"},
		{Parity2, 8, 2, "no groups to choose"},
		{Striped, 65, 0, "at most 64 members"},
		{"7", 3, 0, "unknown level"},
	} {
		_, err := New(c.level, DefaultStrip, c.groups, equal(c.n, mib))
		require.ErrorContains(t, err, c.says)
	}
	_, err := New(Striped, 48<<10, 0, equal(2, mib))
	require.ErrorContains(t, err, "power of two")
	_, err = New(Striped, mib, 0, equal(2, mib-1))
	require.ErrorContains(t, err, "less than one strip")
}

func TestUnequalMembersUseTheSmallestExceptInConcat(t *testing.T) {
	sizes := []int64{10 * mib, 7*mib + 5, 12 * mib}
	g, err := New(Parity1, mib, 0, sizes)
	require.NoError(t, err)
	require.EqualValues(t, 14*mib, g.Capacity())
	g, err = New(Concat, mib, 0, sizes)
	require.NoError(t, err)
	require.EqualValues(t, 29*mib, g.Capacity())
}

// drawMap draws the map of a level, or one of regions of any shapes over any members, as arrays have that grew.
func drawMap(t *rapid.T) *Map {
	strip := int64(MinStrip) << rapid.IntRange(0, 6).Draw(t, "strip")
	if rapid.Bool().Draw(t, "regions") {
		return drawRegions(t)
	}
	level := rapid.SampledFrom(Levels()).Draw(t, "level")
	least, _ := Needs(level)
	n := rapid.IntRange(least, 16).Draw(t, "n")
	if level.Nested() {
		n &^= 1
	}
	sizes := make([]int64, n)
	for i := range sizes {
		sizes[i] = rapid.Int64Range(2*mib, 20*mib).Draw(t, "size")
	}
	m, err := New(level, strip, 0, sizes)
	require.NoError(t, err)
	return m
}

func drawRegions(t *rapid.T) *Map {
	members := rapid.IntRange(1, 9).Draw(t, "members")
	ends := make([]int64, members)
	var regions []Region
	for i := range rapid.IntRange(1, 4).Draw(t, "count") {
		width := rapid.IntRange(1, members).Draw(t, "width")
		r := Region{ID: 7 * i, Rows: rapid.Int64Range(1, 9).Draw(t, "rows")}
		r.Strip = int64(MinStrip) << rapid.IntRange(0, 2).Draw(t, "strip")
		r.Groups = rapid.IntRange(1, members/width).Draw(t, "groups")
		r.Parity = rapid.IntRange(0, width-1).Draw(t, "parity")
		r.Data = width - r.Parity
		r.Slots = rapid.Permutation(slots(members)).Draw(t, "slots")[:r.Groups*width]
		for _, slot := range r.Slots {
			at := ends[slot] + rapid.Int64Range(0, 5).Draw(t, "gap")
			r.Begin = append(r.Begin, at)
			ends[slot] = at + r.Rows*int64(r.StripBlocks())
		}
		regions = append(regions, r)
	}
	regions = rapid.Permutation(regions).Draw(t, "order")
	m, err := NewMap(Parity1, members, regions[0].Shape, regions)
	require.NoError(t, err)
	return m
}

func TestEveryLogicalBlockHasOnePlaceAndPlacesNeverOverlap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := drawMap(t)
		type place struct {
			slot  int
			block int64
		}
		seen := map[place]bool{}
		offset := int64(0)
		for ordinal := int64(0); ordinal < m.Stripes(); ordinal++ {
			if ordinal == 64 && m.Stripes() > 200 {
				ordinal = m.Stripes() - 64
				offset = m.Stripe(ordinal).Offset()
			}
			s := m.Stripe(ordinal)
			require.Equal(t, offset, s.Offset())
			require.Equal(t, ordinal, s.Ordinal())
			require.Equal(t, s, s.At(s.Group, s.Row))
			found, ok := m.Find(s.ID())
			require.True(t, ok)
			require.Equal(t, s, found)
			require.Less(t, s.Row, s.Rows)
			for _, in := range []int64{0, s.StripeSize() - 1} {
				at, off := m.Locate(offset + in)
				require.Equal(t, s, at)
				require.Equal(t, in, off)
			}
			offset += s.StripeSize()
			for role := range s.Width() {
				slot := s.Slot(role)
				require.True(t, s.Has(slot))
				require.Equal(t, role, s.Role(slot))
				require.Contains(t, s.Members(s.Group), slot)
				at, left := m.Strip(slot, s.Nth(slot))
				require.Equal(t, s, at)
				require.Equal(t, s.Rows-s.Row, left)
				for col := range s.StripBlocks() {
					block := s.Block(slot) + int64(col)
					require.False(t, seen[place{slot, block}], "two strips at one place")
					seen[place{slot, block}] = true
					require.Less(t, block, m.Blocks(slot))
					at, in, ok := m.On(slot, block)
					require.True(t, ok)
					require.Equal(t, s, at)
					require.Equal(t, col, in)
				}
			}
		}
		require.Equal(t, m.Capacity(), offset)
	})
}

func TestBlocksThatNoStripeHasAreOfNoUse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := drawRegions(t)
		used := map[[2]int64]bool{}
		for ordinal := range m.Stripes() {
			s := m.Stripe(ordinal)
			for role := range s.Width() {
				for col := range s.StripBlocks() {
					used[[2]int64{int64(s.Slot(role)), s.Block(s.Slot(role)) + int64(col)}] = true
				}
			}
		}
		for slot := range m.Members {
			n := int64(0)
			for block := range m.Blocks(slot) + 3 {
				_, _, ok := m.On(slot, block)
				require.Equal(t, used[[2]int64{int64(slot), block}], ok)
				if ok {
					n++
				}
			}
			blocks := int64(0)
			for nth := int64(0); nth < m.Strips(slot); nth++ {
				st, _ := m.Strip(slot, nth)
				blocks += int64(st.StripBlocks())
			}
			require.Equal(t, n, blocks)
		}
	})
}

func TestMapsWhosePlacesOverlapAreRefused(t *testing.T) {
	one := Shape{Data: 2, Parity: 1, Groups: 1, Strip: MinStrip}
	r := func(id int, begin int64) Region {
		return Region{Shape: one, ID: id, Rows: 10, Slots: []int{2, 0, 1}, Begin: []int64{begin, begin, begin}}
	}
	_, err := NewMap(Parity1, 3, one, []Region{r(0, 40), r(1, 0)})
	require.NoError(t, err)
	_, err = NewMap(Parity1, 3, one, []Region{r(0, 39), r(1, 0)})
	require.ErrorContains(t, err, "before the end of another")
	_, err = NewMap(Parity1, 3, one, []Region{r(1, 40), r(1, 0)})
	require.ErrorContains(t, err, "two regions 1")
	twice := r(0, 0)
	twice.Slots = []int{1, 1, 2}
	_, err = NewMap(Parity1, 3, one, []Region{twice})
	require.ErrorContains(t, err, "slot 1 is not there, or twice")
	twice.Slots = twice.Slots[:2]
	_, err = NewMap(Parity1, 3, one, []Region{twice})
	require.ErrorContains(t, err, "not whole")
}

func TestTheMarginIsWhatEveryChoiceOfLossesGives(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := drawMap(t)
		n := min(m.Members, 12)
		gone := rapid.IntRange(-1, m.Members-1).Draw(t, "gone")
		lost := func(slot int) bool { return slot == gone }
		certain, best := m.Margin(lost)
		least, most := m.Members+1, -1
		for choice := range 1 << n {
			if gone >= 0 && choice>>gone&1 == 1 || !used(m, choice) {
				continue
			}
			size := bits.OnesCount(uint(choice))
			if m.Survives(func(slot int) bool { return lost(slot) || choice>>slot&1 == 1 }) {
				most = max(most, size)
			} else {
				least = min(least, size-1)
			}
		}
		if n < m.Members {
			require.LessOrEqual(t, certain, least)
			require.GreaterOrEqual(t, best, most)
			return
		}
		if most < 0 {
			require.Negative(t, certain)
			return
		}
		require.Equal(t, most, best)
		if least <= n {
			require.Equal(t, least, certain)
		}
	})
}

// used says whether the map has a use for every member of a choice.
func used(m *Map, choice int) bool {
	for slot := range m.Members {
		if choice>>slot&1 == 1 && m.Strips(slot) == 0 {
			return false
		}
	}
	return true
}

func slots(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

func TestParityVisitsEveryMemberAndDataRunsAround(t *testing.T) {
	g, err := New(Parity2, DefaultStrip, 0, equal(7, 10*mib))
	require.NoError(t, err)
	parity := map[int]int{}
	next := 0
	for row := int64(0); row < 7; row++ {
		s := g.Regions()[0].At(0, row)
		for role := 0; role < s.Data; role++ {
			require.Equal(t, next, s.Slot(role), "consecutive strips lie on consecutive members")
			next = (next + 1) % 7
		}
		parity[s.Slot(5)]++
		parity[s.Slot(6)]++
	}
	for slot := 0; slot < 7; slot++ {
		require.Equal(t, 2, parity[slot])
	}
}

// The margin in disks is what trying every choice of disks gives, whatever shares a disk with what.
func TestTheMarginInDisksIsWhatEveryChoiceOfDisksGives(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for range 400 {
		n := rng.IntN(6)
		level := []Level{Striped, Mirror, Parity1, Parity2, Mirrors, Parities1}[n]
		members := []int{4, 3, 4, 5, 4, 6}[n]
		sizes := make([]int64, members)
		disks := make([]string, members)
		for i := range sizes {
			sizes[i] = 64 << 20
			disks[i] = fmt.Sprint("disk ", rng.IntN(members))
		}
		g, err := New(level, 64<<10, 0, sizes)
		require.NoError(t, err)
		gone := func(slot int) bool { return false }
		if out := rng.IntN(members + 2); out < members {
			gone = func(slot int) bool { return slot == out }
		}
		certain, best := g.MarginOfDisks(disks, gone)

		var left []string // disks with a member that is not gone yet
		for slot, name := range disks {
			if !gone(slot) && !slices.Contains(left, name) {
				left = append(left, name)
			}
		}
		least, most := -1, -1 // over all choices: the largest number that every choice survives, and that some does
		if g.Survives(gone) {
			least, most = len(left), 0
			for choice := range 1 << len(left) {
				pulled := func(slot int) bool {
					i := slices.Index(left, disks[slot])
					return gone(slot) || i >= 0 && choice>>i&1 == 1
				}
				n := bits.OnesCount(uint(choice))
				if g.Survives(pulled) {
					most = max(most, n)
				} else {
					least = min(least, n-1)
				}
			}
		}
		if least < 0 {
			require.Negative(t, certain)
			continue
		}
		require.Equal(t, least, certain, "%s %v", level, disks)
		require.LessOrEqual(t, best, most, "%s %v", level, disks)
		require.GreaterOrEqual(t, best, certain, "%s %v", level, disks)
	}
}
