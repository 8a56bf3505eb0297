package array_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/state"
	"nidalo/internal/array"
)

// twoRegions are the map of a level 6 array that ends in the middle of its members, and one that goes on behind with a region of another
// shape, strip and order of members: what an array would have whose members grew.
func twoRegions(t *testing.T, whole *layout.Map) (half, more *layout.Map) {
	one := whole.Regions()[0]
	first := layout.Region{Shape: one.Shape, ID: one.ID, Rows: one.Rows / 2, Slots: one.Slots, Begin: one.Begin}
	half, err := layout.NewMap(whole.Level, whole.Members, whole.Shape, []layout.Region{first})
	require.NoError(t, err)
	second := layout.Region{Shape: layout.Shape{Data: 4, Parity: 1, Groups: 1, Strip: 2 * one.Strip}, ID: one.ID + 7, Rows: one.Rows / 5, Slots: []int{3, 1, 4, 0, 2}}
	for range second.Slots {
		second.Begin = append(second.Begin, first.Rows*one.Strip/array.Block)
	}
	more, err = layout.NewMap(whole.Level, whole.Members, whole.Shape, []layout.Region{first, second})
	require.NoError(t, err)
	return half, more
}

func TestAMapIsSwappedWhileTheArrayIsUsed(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Parity2, 5, array.Config{Cache: 4 * mib})
	half, more := twoRegions(t, a.Layout())
	a.SwapMap(half)
	require.Equal(t, half.Capacity(), a.Capacity())
	load := newTenants(t, a, 4, 3*mib)
	load.after(4 * mib)
	a.SwapMap(more)
	require.Greater(t, a.Capacity(), half.Capacity())
	margin, _ := a.Margin()
	require.Equal(t, 1, margin, "that of the weaker region")

	// Others use the new room, and the seam.
	news := noise(3, 16*mib)
	seam := half.Capacity() - 4*mib
	require.NoError(t, a.WriteAt(news, seam))
	require.NoError(t, a.WriteAt(news[:mib+5000], a.Capacity()-mib-5000))
	require.NoError(t, a.Flush())
	whole := func(what string) {
		t.Helper()
		got := make([]byte, len(news))
		require.NoError(t, a.ReadAt(got, seam), what)
		require.True(t, string(got) == string(news), what)
		got = got[:mib+5000]
		require.NoError(t, a.ReadAt(got, a.Capacity()-int64(len(got))), what)
		require.True(t, string(got) == string(news[:len(got)]), what)
	}
	whole("healthy")
	load.after(2 * mib)
	gates[1].gone.Store(true)
	a.Probe()
	require.Equal(t, state.Exposed, a.Condition())
	whole("with a member lost")
	require.NoError(t, a.WriteAt(news[:3*mib], seam+2*mib))
	copy(news[2*mib:], append([]byte(nil), news[:3*mib]...))
	whole("written with a member lost")
	require.NoError(t, a.Replace(1, f.disk(48*mib)))
	load.after(2 * mib)
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	gates[4].gone.Store(true)
	a.Probe()
	whole("from the rebuilt member")
	require.NoError(t, a.Replace(4, f.disk(48*mib)))
	a.WaitTasks()
	load.leave()
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches)
	a.SwapMap(half) // what the record says; the journals are empty
	require.NoError(t, a.Close())
}
