package layout

import (
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// turned is the map of a level over all of some members, with the regions numbered from id on.
func turned(level Level, strip int64, members, of int, size int64, id int) (*Map, error) {
	m, err := New(level, strip, 0, equal(of, size))
	if err != nil {
		return nil, err
	}
	var regions []Region
	for i, r := range m.regions {
		c := r.copy()
		c.ID = id + i
		regions = append(regions, c)
	}
	return NewMap(level, members, m.Shape, regions)
}

// A byte is at one place in each map, and a boundary moves it from the one to the other; nothing that is still to be moved is ever at a place that the
// map in force has given to another.
func TestATurnMovesEveryByteOnceAndNothingOverAnother(t *testing.T) {
	type at struct {
		slot  int
		block int64
	}
	// where is the place of a logical block.
	where := func(m *Map, block int64) at {
		st, in := m.Locate(block * Block)
		slot := st.Slot(int(in / st.Strip))
		return at{slot, st.Block(slot) + in%st.Strip/Block}
	}
	turns, mixed, down, back := 0, 0, 0, 0
	for seed := range uint64(600) {
		r := rand.New(rand.NewPCG(seed, 5))
		levels := Levels()
		from, to := levels[r.IntN(len(levels))], levels[r.IntN(len(levels))]
		n := 1 + r.IntN(8)
		members := n + r.IntN(4)
		size := int64(1+r.IntN(40)) * 256 << 10
		strips := []int64{16 << 10 << r.IntN(4), 16 << 10 << r.IntN(4)}
		old, err := turned(from, strips[0], members, n, size, 0)
		if err != nil {
			continue
		}
		new, err := turned(to, strips[1], members, members, size, 100)
		if err == nil && seed%2 == 0 && from.Mixes() && to.Mixes() {
			old, new, err = widened(r, from, to, members, strips)
		}
		if err == nil && seed%3 == 0 {
			old, new, err = narrowed(r, from, to, members, size, strips)
		}
		if err != nil {
			continue
		}
		turn, err := NewTurn(old, new)
		if err != nil {
			continue
		}
		turns++
		if turn.Down {
			down++
		}
		if old.Mixed() && new.Mixed() {
			mixed++
		}
		for alike, at := turn.alike(), int64(0); at < alike; at += Block * int64(1+r.IntN(64)) {
			require.Equal(t, where(old, at/Block), where(new, at/Block))
		}
		goesBack := seed%4 > 0
		for moved := int64(0); ; moved = turn.Floor(max(turn.Next(moved), moved+turn.Unit(moved)*r.Int64N(3))) {
			require.LessOrEqual(t, turn.Each(moved), turn.MostEach(), "seed %d", seed)
			m, err := turn.At(moved)
			require.NoError(t, err, "seed %d: %s of %d to %s of %d at %d", seed, from, n, to, members, moved)
			require.Equal(t, turn.Old.Capacity(), m.Capacity())
			if goesBack && r.IntN(4) == 0 {
				b, err := turn.Back()
				rest := old.Capacity() - moved
				if err == nil && b.Floor(rest) == rest {
					same, err := b.At(rest)
					require.NoError(t, err)
					require.Equal(t, m.Regions(), same.Regions())
					require.NoError(t, map[bool]func() error{true: b.backwards, false: b.forwards}[b.Down]())
					turn, moved, m, old, new, goesBack = b, rest, same, new, old, false
					back++
				}
			}
			free := map[at]bool{}
			for _, s := range turn.Free(m) {
				for b := range s.N {
					free[at{s.Slot, s.Block + b}] = true
				}
			}
			seen := map[at]bool{}
			for range 60 {
				block := r.Int64N(turn.Old.Capacity() / Block)
				p := where(m, block)
				if from, to := turn.Stretch(0, moved); block*Block >= from && block*Block < to {
					require.Equal(t, where(new, block), p)
				} else {
					require.Equal(t, where(old, block), p)
				}
				require.False(t, free[p], "in use, and free")
				st, _ := m.Locate(block * Block)
				on, _, ok := m.On(p.slot, p.block)
				require.True(t, ok && on == st)
				require.Equal(t, st, m.Stripe(st.Ordinal()))
				nth, _ := m.Strip(p.slot, st.Nth(p.slot))
				require.Equal(t, st, nth)
				seen[p] = true
			}
			if moved == turn.Old.Capacity() {
				break
			}
		}
	}
	require.Greater(t, turns, 60)
	require.Greater(t, mixed, 10)
	require.Greater(t, down, 10)
	require.Greater(t, back, 60)
}

// narrowed is a change to fewer members, of an array that was cut to what these hold.
func narrowed(r *rand.Rand, from, to Level, members int, size int64, strips []int64) (old, new *Map, err error) {
	if old, err = turned(from, strips[0], members, members, size, 0); err != nil {
		return nil, nil, err
	}
	if new, err = turned(to, strips[1], members, members-r.IntN(3), size, 100); err != nil {
		return nil, nil, err
	}
	if old.Capacity() > new.Capacity() {
		old, err = old.Cut(new.Capacity())
	}
	return old, new, err
}

// widened is a change from layers to other layers, of which some members have more.
func widened(r *rand.Rand, from, to Level, members int, strips []int64) (old, new *Map, err error) {
	spaces := make([][]Space, members)
	for slot := range spaces {
		spaces[slot] = []Space{{0, int64(1+r.IntN(4)) * 2 << 20}}
	}
	more := make([][]Space, members)
	for slot, of := range spaces {
		more[slot] = slices.Clone(of)
		if r.IntN(2) == 0 {
			more[slot] = append(more[slot], Space{992 * 31744, int64(1+r.IntN(4)) * 2 << 20})
		}
	}
	make := func(level Level, strip int64, of [][]Space, id int) (*Map, error) {
		shape, err := ShapeOf(level, strip, 0, members)
		if err != nil {
			return nil, err
		}
		regions := Layers(shape, slices.Max(strips), of, id)
		if len(regions) == 0 {
			return nil, ErrSmaller
		}
		return NewMap(level, members, regions[0].Shape, regions)
	}
	if old, err = make(from, strips[0], spaces, 0); err != nil {
		return nil, nil, err
	}
	new, err = make(to, strips[1], more, 100)
	return old, new, err
}

// Where rows of the two maps never begin at common places, there would be no boundary to go down to but the last.
func TestATurnDownwardsNeedsCommonPlaces(t *testing.T) {
	region := func(id, data int, rows, begin int64) Region {
		r := Region{Shape: Shape{Data: data, Parity: 1, Groups: 1, Strip: MinStrip}, ID: id, Rows: rows}
		for slot := range data + 1 {
			r.Slots, r.Begin = append(r.Slots, slot), append(r.Begin, begin)
		}
		return r
	}
	old, err := NewMap(Parity1, 5, Shape{Data: 4, Parity: 1, Groups: 1, Strip: MinStrip}, []Region{region(0, 3, 1, 0), region(1, 4, 100, 4)})
	require.NoError(t, err)
	new, err := NewMap(Parity1, 5, Shape{Data: 2, Parity: 1, Groups: 1, Strip: MinStrip}, []Region{region(2, 2, 300, 0)})
	require.NoError(t, err)
	_, err = NewTurn(old, new)
	require.ErrorIs(t, err, ErrBackwards)
	require.ErrorContains(t, err, "common places")
}

func TestATurnThatWouldGoBackwardsIsRefused(t *testing.T) {
	for _, c := range []struct {
		from, to Level
		n, of    int
		want     error
	}{
		{Parity1, Parity1, 4, 6, nil},
		{Parity1, Parity2, 3, 4, nil},
		{Mirror, Parity1, 2, 3, nil},
		{Mirrors, Parity2, 4, 4, nil},
		{Parity2, Parity1, 4, 4, nil},
		{Striped, Parity1, 2, 3, nil},
		{Mirror, Mirrors, 2, 4, nil},
		{Parity1, Parity2, 4, 4, ErrSmaller},
		{Concat, Striped, 2, 3, ErrBackwards},
		{Striped, Concat, 2, 3, ErrBackwards},
	} {
		old, err := turned(c.from, DefaultStrip, c.of, c.n, 64<<20, 0)
		require.NoError(t, err)
		new, err := turned(c.to, DefaultStrip, c.of, c.of, 64<<20, 10)
		require.NoError(t, err)
		_, err = NewTurn(old, new)
		require.True(t, errors.Is(err, c.want), "%s of %d to %s of %d: %v", c.from, c.n, c.to, c.of, err)
	}
}

var rewrite = flag.Bool("rewrite", false, "write the tables of the documents anew")

// TestTheTableOfConversionsIsTrue holds the table of docs/change-an-array.md to what NewTurn allows.
func TestTheTableOfConversionsIsTrue(t *testing.T) {
	from := []struct {
		level Level
		n     int
	}{{Striped, 3}, {Mirror, 2}, {Parity1, 4}, {Parity2, 5}, {Parity3, 6}, {Mirrors, 4}, {Parities1, 6}, {Parities2, 8}, {Concat, 3}}
	const most = 8
	fewest := func(level Level, n int, to Level) string {
		for more := range most + 1 {
			old, err := turned(level, DefaultStrip, n+more, n, 64<<20, 0)
			require.NoError(t, err)
			new, err := turned(to, DefaultStrip, n+more, n+more, 64<<20, 100)
			if err != nil {
				continue
			}
			if level == Concat && to == Concat {
				return "1, nothing moves"
			}
			if _, err := NewTurn(old, new); err == nil && (level != to || more > 0) {
				return strconv.Itoa(more)
			}
		}
		return "–"
	}
	var out strings.Builder
	out.WriteString("| from, of so many disks |")
	for _, to := range Levels() {
		fmt.Fprintf(&out, " to %s |", to)
	}
	out.WriteString("\n|---|" + strings.Repeat("---|", len(Levels())) + "\n")
	for _, f := range from {
		fmt.Fprintf(&out, "| %s of %d |", f.level, f.n)
		for _, to := range Levels() {
			fmt.Fprintf(&out, " %s |", fewest(f.level, f.n, to))
		}
		out.WriteString("\n")
	}
	const path, begin, end = "../../docs/change-an-array.md", "<!-- conversions -->\n", "<!-- end -->"
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	before, rest, _ := strings.Cut(string(raw), begin)
	_, after, found := strings.Cut(rest, end)
	require.True(t, found)
	if *rewrite {
		require.NoError(t, os.WriteFile(path, []byte(before+begin+out.String()+end+after), 0o644))
		return
	}
	require.Equal(t, out.String(), strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(string(raw), before), begin), end+after), "go test ./core/layout -rewrite")
}
