package plan

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
)

func TestALossOfAHost(t *testing.T) {
	nothing := func(int) bool { return false }
	sizes := []int64{1 << 30, 1 << 30, 1 << 30, 1 << 30, 1 << 30, 1 << 30}
	hosts := []string{"gull", "gull", "heron", "heron", "plover", "plover"}
	survived := func(level layout.Level, order []int) (out []bool) {
		lay, err := Layout(level, layout.DefaultStrip, 0, layout.Ordered(sizes, order))
		require.NoError(t, err)
		for _, l := range layout.WithoutHosts(lay, layout.Ordered(hosts, order), nothing) {
			require.Len(t, l.Slots, 2)
			out = append(out, l.Survived)
		}
		return out
	}
	named := []int{0, 1, 2, 3, 4, 5}
	require.Equal(t, []bool{false, false, false}, survived(layout.Parity1, named))
	require.Equal(t, []bool{true, true, true}, survived(layout.Parity2, named))
	// Pairs on one host are lost with it; dealt, each pair is on two.
	require.Equal(t, []bool{false, false, false}, survived(layout.Mirrors, named))
	require.Equal(t, []bool{true, true, true}, survived(layout.Mirrors, Spread(layout.Mirrors, layout.DefaultStrip, 0, sizes, hosts)))

	// What was named is left as it is where it survives already, and where another order would take capacity.
	fine := []string{"gull", "heron", "gull", "heron", "gull", "heron"}
	require.Equal(t, named, Spread(layout.Mirrors, layout.DefaultStrip, 0, sizes, fine))
	mixed := []int64{2 << 30, 2 << 30, 2 << 30, 1 << 30, 1 << 30, 1 << 30}
	before, err := Layout(layout.Parities1, layout.DefaultStrip, 2, layout.Ordered(mixed, Arrange(layout.Parities1, layout.DefaultStrip, 2, mixed)))
	require.NoError(t, err)
	after, err := Layout(layout.Parities1, layout.DefaultStrip, 2, layout.Ordered(mixed, Spread(layout.Parities1, layout.DefaultStrip, 2, mixed, hosts)))
	require.NoError(t, err)
	require.Equal(t, before.Capacity(), after.Capacity())

	var levels []layout.Level
	for _, o := range Outlasts(layout.DefaultStrip, sizes, hosts) {
		levels = append(levels, o.Level)
	}
	require.Contains(t, levels[:2], layout.Parity2, "the most capacity: %v", levels)
	require.Contains(t, levels, layout.Mirrors)
	require.NotContains(t, levels, layout.Parity1)

	lay, err := Layout(layout.Parity2, layout.DefaultStrip, 0, sizes)
	require.NoError(t, err)
	require.Nil(t, layout.WithoutHosts(lay, []string{"gull", "gull", "gull", "gull", "gull", "gull"}, nothing))
	lost := layout.WithoutHosts(lay, hosts, func(slot int) bool { return slot == 0 })
	require.Equal(t, []bool{true, false, false}, []bool{lost[0].Survived, lost[1].Survived, lost[2].Survived}, "what is lost already counts")
}
