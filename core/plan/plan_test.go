package plan

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nidalo/core/layout"
)

const tb = int64(1e12)

func sizes(n int, size int64) []int64 {
	out := make([]int64, n)
	for i := range out {
		out[i] = size
	}
	return out
}

// TestAgainstTheFormulaOfAMirror: for two disks without read errors the mean time to loss is (3λ+μ)/(2λ²), worked out by
// hand from the two equations of the chain (Patterson, Gibson, Katz 1988 give μ/(2λ²) for λ « μ).
func TestAgainstTheFormulaOfAMirror(t *testing.T) {
	c := chain{n: 2, m: 1, lambda: 1e-9, mu: 1e-5}
	want := (3*c.lambda + c.mu) / (2 * c.lambda * c.lambda)
	require.InEpsilon(t, want, c.mean(), 1e-9)
	require.InEpsilon(t, -math.Expm1(-year.Seconds()/want), c.within(year), 5e-3, "the first days, before a disk can be missing, are safer")
	// One disk is lost: the other fails before the repair with chance λ/(λ+μ).
	require.InEpsilon(t, c.lambda/(c.lambda+c.mu), c.afterOne(), 1e-12)
}

func TestAgainstTheFormulaOfParity(t *testing.T) {
	// n disks, one parity: ((2n-1)λ+μ)/(n(n-1)λ²) (Chen et al. 1994).
	c := chain{n: 8, m: 1, lambda: 2e-9, mu: 3e-5}
	require.InEpsilon(t, (15*c.lambda+c.mu)/(56*c.lambda*c.lambda), c.mean(), 1e-9)
}

func TestTheLimits(t *testing.T) {
	a := DefaultAssumptions
	a.AFR = 0
	require.Zero(t, a.LossWithin(1, 8, 2, 12*tb, year), "no failures, no loss")
	a = DefaultAssumptions
	require.InDelta(t, a.AFR, a.LossWithin(1, 1, 0, 12*tb, year), 1e-12, "one disk: its own failure rate")
	require.InDelta(t, 1-math.Pow(1-a.AFR, 5), a.LossWithin(1, 5, 0, 12*tb, year), 1e-9, "level 0: any of five")
	a.AFR = 0.9999999
	require.Greater(t, a.LossWithin(1, 8, 1, 12*tb, year), 0.999, "certain failures, certain loss")
	a = DefaultAssumptions
	a.URE = 0.5
	require.InDelta(t, 1, a.LossInRebuild(5, 1, tb), 1e-6, "nothing can be read")
}

func TestRiskIsMonotone(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		n := rapid.IntRange(4, 24).Draw(rt, "n")
		m := rapid.IntRange(1, 2).Draw(rt, "m")
		size := rapid.Int64Range(tb/10, 24*tb).Draw(rt, "size")
		a := DefaultAssumptions
		a.AFR = rapid.Float64Range(0.002, 0.1).Draw(rt, "afr")
		p := a.LossWithin(1, n, m, size, year)
		less := func(what string, x, y float64) {
			if x > y*(1+1e-7)+1e-18 {
				rt.Fatalf("%s: %g > %g", what, x, y)
			}
		}
		less("more parity is safer", a.LossWithin(1, n, m+1, size, year), p)
		less("more members are riskier", p, a.LossWithin(1, n+1, m, size, year))
		less("more groups are riskier", p, a.LossWithin(2, n, m, size, year))
		less("a longer time is riskier", p, a.LossWithin(1, n, m, size, 2*year))
		// Not with read errors: those strike when a rebuild ends, and a slow replacement only puts that off.
		without := a
		without.URE = 0
		spare := without
		spare.Replace = 0
		less("a spare is safer", spare.LossWithin(1, n, m, size, year), without.LossWithin(1, n, m, size, year))
		worse := a
		worse.AFR *= 1.5
		less("worse disks are riskier", p, worse.LossWithin(1, n, m, size, year))
		if p < 0 || p > 1 {
			rt.Fatalf("%g is no chance", p)
		}
	})
}

// TestAgainstASimulation plays failures and repairs and counts losses: the model must lie within four standard errors.
func TestAgainstASimulation(t *testing.T) {
	for _, c := range []chain{
		{n: 4, m: 1, lambda: 0.3, mu: 12, ure: 0.05},
		{n: 6, m: 2, lambda: 0.5, mu: 6, ure: 0.2},
		{n: 3, m: 2, lambda: 1, mu: 4},
	} {
		r := rand.New(rand.NewPCG(7, uint64(c.n)))
		const runs = 40000
		losses := 0
		for range runs {
			state, at := 0, 0.0
			for {
				fail, repair := float64(c.n-state)*c.lambda, float64(state)*c.mu
				at += r.ExpFloat64() / (fail + repair)
				if at > 1 {
					break
				}
				if r.Float64() < fail/(fail+repair) {
					state++
				} else if state == c.m && r.Float64() < c.ure {
					state = c.m + 1
				} else {
					state--
				}
				if state > c.m {
					losses++
					break
				}
			}
		}
		p := float64(losses) / runs
		require.InDelta(t, c.within(time.Second), p, 4*math.Sqrt(p*(1-p)/runs), "%+v", c)
	}
}

func TestCapacitiesByHand(t *testing.T) {
	for _, c := range []struct {
		level  layout.Level
		n      int
		data   int64 // disks' worth
		margin int
		best   int
	}{
		{layout.Striped, 4, 4, 0, 0}, {layout.Mirror, 2, 1, 1, 1}, {layout.Parity1, 5, 4, 1, 1}, {layout.Parity2, 8, 6, 2, 2},
		{layout.Parity3, 8, 5, 3, 3}, {layout.Mirrors, 8, 4, 1, 4}, {layout.Parities1, 6, 4, 1, 2}, {layout.Parities2, 8, 4, 2, 4},
	} {
		o, err := For(c.level, layout.DefaultStrip, 0, sizes(c.n, 12*tb), DefaultAssumptions)
		require.NoError(t, err)
		require.InEpsilon(t, float64(c.data*12*tb), float64(o.Capacity), 0.002, "%s: tables take a thousandth", c.level)
		require.LessOrEqual(t, o.Capacity, c.data*12*tb)
		require.Equal(t, []int{c.margin, c.best}, []int{o.Margin, o.Best}, "%s", c.level)
		require.InDelta(t, 100*(1-float64(c.data)/float64(c.n)), o.Overhead, 0.2)
	}
	for _, c := range []struct {
		level            layout.Level
		sizes            []int64 // terabytes
		capacity, unused int64
		layers           []int // members
	}{
		{layout.Parity1, []int64{12, 12, 8}, 20, 0, []int{3, 2}},
		{layout.Parity1, []int64{3, 3, 3, 1}, 7, 0, []int{4, 3}},
		{layout.Parity2, []int64{6, 4, 4, 2, 2}, 8, 2, []int{5, 3}},
		{layout.Parity3, []int64{9, 9, 9, 9, 3}, 12, 0, []int{5, 4}},
		{layout.Parity1, []int64{4, 4, 4, 12}, 12, 8, nil},
		{layout.Striped, []int64{2, 6}, 8, 0, []int{2, 1}},
		{layout.Mirror, []int64{2, 6}, 2, 4, nil},
		{layout.Mirrors, []int64{4, 2, 4, 2}, 4, 4, nil}, // For keeps to the order
		{layout.Mirrors, []int64{4, 4, 2, 2}, 6, 0, []int{4, 2}},
		{layout.Mirrors, []int64{4, 3, 2, 1}, 4, 2, []int{4, 2}},
		{layout.Parities1, []int64{4, 4, 4, 4, 4, 2}, 14, 0, []int{6, 3, 2}},
		{layout.Parities2, []int64{6, 6, 6, 6, 2, 2, 2, 4}, 16, 2, []int{8, 4}},
		{layout.Concat, []int64{2, 6}, 8, 0, nil},
	} {
		for i := range c.sizes {
			c.sizes[i] *= tb
		}
		o, err := For(c.level, layout.DefaultStrip, 0, c.sizes, DefaultAssumptions)
		require.NoError(t, err)
		require.InEpsilon(t, float64(c.capacity*tb), float64(o.Capacity), 0.002, "%s of %v", c.level, c.sizes)
		require.InDelta(t, float64(c.unused*tb), float64(o.Unequal), 0.01*float64(tb))
		var members []int
		for _, l := range o.Layers {
			members = append(members, len(l.Slots))
			require.Equal(t, o.Margin, l.Margin)
		}
		require.Equal(t, c.layers, members)
	}
	a := DefaultAssumptions
	a.Rate = 100e6
	require.Equal(t, 120000*time.Second, a.RebuildTime(12*tb), "12 TB at 100 MB/s")
}

func TestRecommendations(t *testing.T) {
	all := All(layout.DefaultStrip, sizes(8, 12*tb), DefaultAssumptions)
	require.Len(t, all, 9)
	o, _, err := Recommend(all, WantSpeed)
	require.NoError(t, err)
	require.NotEqual(t, layout.Mirrors, o.Level, "copying 12 TB without a second copy meets an unreadable sector one time in eleven")
	o, why, err := Recommend(all, WantCapacity)
	require.NoError(t, err)
	require.Equal(t, layout.Parity2, o.Level)
	require.Contains(t, why, "less than 5% of rebuilds", "or level 5 would have been the one")
	all = All(layout.DefaultStrip, sizes(8, 2*tb), DefaultAssumptions)
	for want, level := range map[string]layout.Level{WantCapacity: layout.Parity2, WantSafety: layout.Parity3, WantSpeed: layout.Mirrors} {
		o, why, err := Recommend(all, want)
		require.NoError(t, err)
		require.Equal(t, level, o.Level, want)
		require.NotEmpty(t, why)
	}
	_, _, err = Recommend(All(layout.DefaultStrip, sizes(1, tb), DefaultAssumptions), WantSafety)
	require.Error(t, err)
	_, _, err = Recommend(all, "luck")
	require.Error(t, err)
}

func TestCellsDrawTheLayout(t *testing.T) {
	g, err := Layout(layout.Parity1, layout.DefaultStrip, 0, sizes(3, tb))
	require.NoError(t, err)
	var rows [][]string
	for row := range int64(3) {
		var line []string
		for slot := range 3 {
			line = append(line, Cell(g, slot, row))
		}
		rows = append(rows, line)
	}
	require.Equal(t, [][]string{{"0", "1", "P0"}, {"3", "P1", "2"}, {"P2", "4", "5"}}, rows)
}

// mean is the mean time to loss from a whole group, seconds: the sum of the times spent in each state before it.
func (c chain) mean() float64 {
	// h[i] is the time from i to i+1 losses or data loss, by recursion: t_i = (1 + down·t_{i-1}) / (up + lost) with
	// what is lost straight counted as the end.
	total, before := 0.0, 0.0
	reach := 1.0
	for i := 0; i <= c.m; i++ {
		up, down, lost := c.rates(i)
		step := (1 + down*before) / (up + lost)
		total += reach * step
		reach *= up / (up + lost)
		before = step
		if lost > 0 {
			break
		}
	}
	return total
}
