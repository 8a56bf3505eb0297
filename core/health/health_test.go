package health_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nidalo/core/health"
)

func n(v int64) *int64     { return &v }
func f(v float64) *float64 { return &v }

func TestRulesByHand(t *testing.T) {
	for _, c := range []struct {
		now, before health.Readings
		grade       health.Grade
		says        string
	}{
		{health.Readings{}, health.Readings{}, health.Fine, ""},
		{health.Readings{Uncorrectable: n(1)}, health.Readings{}, health.Failing, "1 sectors could not be read"},
		{health.Readings{Pending: n(7)}, health.Readings{}, health.Fine, ""},
		{health.Readings{Pending: n(8)}, health.Readings{}, health.Failing, "wait to be replaced"},
		{health.Readings{Reallocated: n(99)}, health.Readings{Reallocated: n(95)}, health.Fine, ""},
		{health.Readings{Reallocated: n(100)}, health.Readings{}, health.Failing, "100 sectors were replaced"},
		{health.Readings{Reallocated: n(30)}, health.Readings{Reallocated: n(20)}, health.Failing, "10 more sectors"},
		{health.Readings{Reallocated: n(30)}, health.Readings{}, health.Fine, ""},
		{health.Readings{Wear: f(0.95)}, health.Readings{}, health.Failing, "95% of its life"},
	} {
		v := health.Judge(c.now, c.before, health.DefaultRules)
		require.Equal(t, c.grade, v.Grade, "%+v", c)
		if c.says != "" {
			require.Contains(t, v.Reasons[0], c.says)
		} else {
			require.Empty(t, v.Reasons)
		}
	}
	hot := health.Judge(health.Readings{Temperature: f(60)}, health.Readings{}, health.DefaultRules)
	require.True(t, hot.Hot)
	require.Equal(t, health.Fine, hot.Grade, "heat is a reason to look at the fans, not to replace the disk")
	link := health.Judge(health.Readings{LinkSpeed: f(3), LinkBest: f(6), LinkErrors: n(60)}, health.Readings{LinkErrors: n(5)}, health.DefaultRules)
	require.Len(t, link.Notes, 2)
}

// TestMoreIsNeverBetter: a reading that gets worse never makes the grade better.
func TestMoreIsNeverBetter(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		draw := func(name string) *int64 { return n(rapid.Int64Range(0, 300).Draw(rt, name)) }
		r := health.Readings{Reallocated: draw("r"), Pending: draw("p"), Uncorrectable: draw("u"), Wear: f(rapid.Float64Range(0, 1.2).Draw(rt, "w"))}
		worse := health.Readings{Reallocated: n(*r.Reallocated + 5), Pending: n(*r.Pending + 1), Uncorrectable: n(*r.Uncorrectable + 1), Wear: f(*r.Wear + 0.1)}
		if health.Judge(r, r, health.DefaultRules).Grade == health.Failing && health.Judge(worse, r, health.DefaultRules).Grade == health.Fine {
			rt.Fatal("better although everything is worse")
		}
	})
}
