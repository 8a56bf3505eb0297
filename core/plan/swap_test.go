package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
)

// Golden numbers by hand: 12 TB at 150 MB/s are 80,000 s; level 6 of 8 disks of 12 TB holds six times what a disk does, less
// tables, and eight of 16 TB a third more.
func TestSwapsTakeAndGive(t *testing.T) {
	const tb = 1_000_000_000_000
	sizes := []int64{12 * tb, 12 * tb, 12 * tb, 12 * tb, 12 * tb, 12 * tb, 12 * tb, 12 * tb}
	one, err := SwapFor(layout.Parity2, 64<<10, 0, sizes, false, []int{2}, 16*tb, DefaultAssumptions)
	require.NoError(t, err)
	require.Equal(t, 80_000*time.Second, one.Each)
	require.Equal(t, one.Now, one.Then, "one larger disk gives nothing")
	require.InEpsilon(t, float64(4*tb), float64(one.Wasted), 0.002)
	require.Equal(t, []int{2, 1}, []int{one.Margin, one.During})
	require.Less(t, one.Copy, one.Loss)
	require.InEpsilon(t, DefaultAssumptions.LossInRebuild(8, 2, 12*tb), one.Loss, 1e-6)

	all, err := SwapFor(layout.Parity2, 64<<10, 0, sizes, false, []int{0, 1, 2, 3, 4, 5, 6, 7}, 16*tb, DefaultAssumptions)
	require.NoError(t, err)
	require.Equal(t, 640_000*time.Second, all.Whole)
	require.InEpsilon(t, 16.0/12, float64(all.Then)/float64(all.Now), 1e-4)
	require.Zero(t, all.Wasted)
	require.Greater(t, all.Loss, one.Loss)

	_, err = SwapFor(layout.Parity2, 64<<10, 0, sizes, false, []int{0}, 11*tb, DefaultAssumptions)
	require.ErrorContains(t, err, "too small for slot 0")
	_, err = SwapFor(layout.Striped, 64<<10, 0, sizes, false, []int{0}, 16*tb, DefaultAssumptions)
	require.ErrorContains(t, err, "no redundancy")
	same, err := SwapFor(layout.Parity2, 64<<10, 0, sizes, false, []int{0}, 12*tb, DefaultAssumptions)
	require.NoError(t, err)
	require.Equal(t, same.Now, same.Then)
	require.Zero(t, same.Wasted)
}

func TestASwapWidensLayers(t *testing.T) {
	sizes := []int64{3 * tb, 3 * tb, 3 * tb, 1 * tb}
	s, err := SwapFor(layout.Parity1, 64<<10, 0, sizes, true, []int{3}, 3*tb, DefaultAssumptions)
	require.NoError(t, err)
	require.InEpsilon(t, 7*float64(tb), float64(s.Now), 0.002)
	require.InEpsilon(t, 9*float64(tb), float64(s.Then), 0.002)
	require.Zero(t, s.Wasted)
	uniform, err := SwapFor(layout.Parity1, 64<<10, 0, sizes, false, []int{3}, 3*tb, DefaultAssumptions)
	require.NoError(t, err)
	require.InEpsilon(t, 3*float64(tb), float64(uniform.Now), 0.002)
}
