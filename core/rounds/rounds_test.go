package rounds_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/rounds"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	out, err := time.ParseInLocation("2006-01-02 15:04", text, time.UTC)
	require.NoError(t, err)
	return out
}

func rule(t *testing.T, hours string, days ...string) rounds.Rule {
	t.Helper()
	r := rounds.Rule{What: rounds.Check, Every: 30, Hours: hours, On: days}
	require.NoError(t, r.Settle())
	return r
}

func TestWindows(t *testing.T) {
	// 2026-11-02 is a Monday.
	for _, c := range []struct {
		hours string
		days  []string
		now   string
		open  bool
		next  string
		end   string
	}{
		{"01:00-06:00", nil, "2026-11-02 00:59", false, "2026-11-02 01:00", ""},
		{"01:00-06:00", nil, "2026-11-02 01:00", true, "2026-11-02 01:00", "2026-11-02 06:00"},
		{"01:00-06:00", nil, "2026-11-02 06:00", false, "2026-11-03 01:00", ""},
		{"22:00-05:00", nil, "2026-11-02 04:59", true, "2026-11-02 04:59", "2026-11-02 05:00"},
		{"22:00-05:00", nil, "2026-11-02 23:00", true, "2026-11-02 23:00", "2026-11-03 05:00"},
		{"18:00-24:00", nil, "2026-11-02 23:59", true, "2026-11-02 23:59", "2026-11-03 00:00"},
		{"22:00-05:00", []string{"Sat"}, "2026-11-08 04:00", true, "2026-11-08 04:00", "2026-11-08 05:00"}, // Saturday's night
		{"22:00-05:00", []string{"sat"}, "2026-11-07 04:00", false, "2026-11-07 22:00", ""},
		{"01:00-06:00", []string{"sun", "wed"}, "2026-11-02 02:00", false, "2026-11-04 01:00", ""},
	} {
		w := rule(t, c.hours, c.days...).Window
		require.Equal(t, c.open, w.Open(at(t, c.now)), "%+v", c)
		require.Equal(t, at(t, c.next), w.Next(at(t, c.now)), "%+v", c)
		if c.open {
			require.Equal(t, at(t, c.end), w.End(at(t, c.now)), "%+v", c)
		}
	}
}

func TestWindowsWhereTheClockIsChanged(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	w := rule(t, "01:00-06:00").Window
	night := time.Date(2026, 10, 25, 2, 30, 0, 0, zone) // the hour from two to three is there twice
	require.True(t, w.Open(night))
	require.Equal(t, "06:00", w.End(night).Format("15:04"))
	spring := time.Date(2027, 3, 28, 0, 30, 0, 0, zone)
	require.Equal(t, "01:00", w.Next(spring).Format("15:04"))
}

func TestWhenARoundIsDue(t *testing.T) {
	r := rule(t, "01:00-06:00")
	last := at(t, "2026-10-01 02:00")
	require.Equal(t, at(t, "2026-10-31 02:00"), r.Next(at(t, "2026-10-20 12:00"), last), "in the hours of that day already")
	require.Equal(t, at(t, "2026-11-03 01:00"), r.Next(at(t, "2026-11-02 12:00"), last), "overdue work waits for the next night")
	require.False(t, r.Late(at(t, "2026-11-05 02:00"), last))
	require.True(t, r.Late(at(t, "2026-11-05 02:01"), last))
	never := rounds.Rule{What: rounds.Check, Hours: "01:00-06:00"}
	require.NoError(t, never.Settle())
	require.True(t, never.Next(last, last).IsZero())
	require.False(t, never.Late(at(t, "2030-01-01 00:00"), last))
}

func TestTheRuleForAnArray(t *testing.T) {
	some := []rounds.Rule{{What: rounds.Check, Every: 7}, {What: rounds.Check, Every: 1, Arrays: []string{"tides"}}, {What: rounds.Read, Every: 3, Arrays: []string{"charts"}}}
	require.Equal(t, rounds.Days(1), rounds.For(some, rounds.Check, "tides").Every)
	require.Equal(t, rounds.Days(7), rounds.For(some, rounds.Check, "charts").Every)
	require.Equal(t, rounds.Days(3), rounds.For(some, rounds.Read, "tides", "charts").Every)
	require.Equal(t, rounds.Days(30), rounds.For(some, rounds.Read, "tides").Every)
	require.Equal(t, rounds.Usual(rounds.Check), rounds.For(nil, rounds.Check, "tides"))
}

func TestWhatMeansNothingIsRefused(t *testing.T) {
	for _, r := range []rounds.Rule{
		{What: "scrape", Hours: "01:00-06:00"}, {What: rounds.Check, Hours: "1-6"}, {What: rounds.Check, Hours: "01:00-01:00"},
		{What: rounds.Check, Hours: "01:00-06:00", On: []string{"someday"}}, {What: rounds.Read, Hours: "01:00-06:00", Repair: true},
	} {
		require.Error(t, r.Settle(), "%+v", r)
	}
	for text, want := range map[string]rounds.Days{"day": 1, "week": 7, "month": 30, "14d": 14, "never": 0} {
		got, err := rounds.ParseDays(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, text := range []string{"", "0d", "-1d", "5000d", "14", "fortnight"} {
		_, err := rounds.ParseDays(text)
		require.Error(t, err, text)
	}
}
