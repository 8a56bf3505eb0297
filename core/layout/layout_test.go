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

func drawGeometry(t *rapid.T) *Geometry {
	level := rapid.SampledFrom(Levels()).Draw(t, "level")
	least, _ := Needs(level)
	n := rapid.IntRange(least, 16).Draw(t, "n")
	if level == Mirrors || level == Parities1 || level == Parities2 {
		n &^= 1
	}
	sizes := make([]int64, n)
	for i := range sizes {
		sizes[i] = rapid.Int64Range(2*mib, 20*mib).Draw(t, "size")
	}
	strip := int64(MinStrip) << rapid.IntRange(0, 6).Draw(t, "strip")
	g, err := New(level, strip, 0, sizes)
	require.NoError(t, err)
	return g
}

func TestEveryStripHasItsOwnPlace(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := drawGeometry(t)
		type place struct {
			slot int
			row  int64
		}
		seen := map[place]bool{}
		for number := int64(0); number < min(g.Stripes(), 64); number++ {
			s := g.Locate(number)
			require.Equal(t, s, g.At(s.Group, s.Row))
			require.Less(t, s.Row, g.Rows[s.Group])
			for role := 0; role < g.Width(); role++ {
				slot := g.Slot(s, role)
				require.Equal(t, role, g.Role(s, slot))
				require.Equal(t, s.Group, g.GroupOf(slot))
				require.False(t, seen[place{slot, s.Row}], "two strips at one place")
				seen[place{slot, s.Row}] = true
			}
		}
		last := g.Locate(g.Stripes() - 1)
		require.Equal(t, g.Groups-1, last.Group)
		require.Equal(t, g.Rows[last.Group]-1, last.Row)
	})
}

func TestMarginIsTheLargestNumberOfLossesThatIsAlwaysSurvived(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := drawGeometry(t)
		certain, best := g.Margin(func(int) bool { return false })
		order := rapid.Permutation(slots(g.Members)).Draw(t, "order")
		lost := map[int]bool{}
		for i, slot := range order {
			alive := g.Survives(func(s int) bool { return lost[s] })
			if i <= certain {
				require.True(t, alive, "lost %v", lost)
			}
			if i > best {
				require.False(t, alive, "lost %v", lost)
			}
			lost[slot] = true
		}
	})
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
		s := g.At(0, row)
		for role := 0; role < g.Data; role++ {
			require.Equal(t, next, g.Slot(s, role), "consecutive strips lie on consecutive members")
			next = (next + 1) % 7
		}
		parity[g.Slot(s, 5)]++
		parity[g.Slot(s, 6)]++
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
