package layout

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// Each byte of a volume lies on the volume's own disk, at a place of its own, in a stripe that has the parity disks at the same height, and the way back
// leads to it.
func TestTheVolumesOfAGuardedSetAreTheirDisks(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		parity, n := 1+r.IntN(3), 1+r.IntN(6)
		sizes, most := []int64(nil), int64(0)
		for range n {
			size := int64(1+r.IntN(20))*MinStrip + r.Int64N(MinStrip)
			sizes, most = append(sizes, size), max(most, size)
		}
		for range parity {
			sizes = append(sizes, most+r.Int64N(3)*MinStrip)
		}
		m, err := NewGuarded(MinStrip, sizes, parity)
		require.NoError(t, err)
		require.Len(t, m.Volumes(), n)
		var all int64
		for slot, v := range m.Volumes() {
			require.Equal(t, Volume{slot, all, sizes[slot] / MinStrip * MinStrip}, v)
			all += v.Size
			for at := v.Start; at < v.Start+v.Size; at += Block {
				st, in := m.Locate(at)
				role := int(in / st.Strip)
				require.Equal(t, slot, st.Slot(role))
				require.Equal(t, role, st.Role(slot))
				block := st.Block(slot) + in%st.Strip/Block
				require.Equal(t, (at-v.Start)/Block, block, "the disk has it where the volume does")
				require.Equal(t, at, m.At(st, role)+in%st.Strip)
				require.Equal(t, MinStrip-in%MinStrip, st.Left(in))
				for p := range parity {
					require.Equal(t, n+p, st.Slot(st.Data+p))
					require.Equal(t, st.Block(slot), st.Block(n+p))
				}
				require.Equal(t, slot, st.Weight(role))
				require.Equal(t, st, m.Stripe(st.Ordinal()))
				require.Equal(t, at, m.Ahead(at, st.Ordinal()), "nothing is ahead of where it is")
				if next := m.Ahead(at, st.Ordinal()+1); next < v.Start+v.Size {
					other, in := m.Locate(next)
					require.Equal(t, st.Ordinal()+1, other.Ordinal())
					require.Zero(t, in%other.Strip)
				}
			}
			require.Equal(t, v.Start+v.Size, m.Ahead(v.Start, m.Stripes()))
		}
		require.Equal(t, all, m.Capacity())
		margin, _ := m.Margin(func(int) bool { return false })
		require.Equal(t, parity, margin)
	}
}

func TestWhatAGuardedSetCannotBe(t *testing.T) {
	for _, c := range []struct {
		sizes  []int64
		parity int
		says   string
	}{
		{[]int64{4 << 20, 4 << 20}, 0, "one to three"},
		{[]int64{4 << 20, 4 << 20, 4 << 20, 4 << 20}, 4, "one to three"},
		{[]int64{4 << 20, 4 << 20}, 2, "needs a data disk"},
		{[]int64{4 << 20, 3 << 20}, 1, "slot 1"},
		{[]int64{MinStrip - 1, 3 << 20}, 1, "less than one strip"},
	} {
		_, err := NewGuarded(MinStrip, c.sizes, c.parity)
		require.ErrorContains(t, err, c.says)
	}
	_, err := NewGuarded(MinStrip, []int64{4 << 20, 2 << 20}, 1)
	require.ErrorIs(t, err, ErrParitySmall)
}
