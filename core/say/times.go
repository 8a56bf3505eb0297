package say

import (
	"fmt"
	"strings"
	"time"
)

// End tells when something ends and how sure that is.
func End(now time.Time, seconds, spread float64) string {
	end := now.Add(time.Duration(seconds * float64(time.Second)))
	layout := "15:04:05"
	switch {
	case seconds > 20*3600:
		layout = "Mon Jan 2 15:04"
	case seconds > 600:
		layout = "15:04"
	}
	text := "about " + end.Local().Format(layout)
	switch {
	case spread >= 1:
		return text + ", a first guess"
	case spread > 0.02:
		return text + fmt.Sprintf(" (±%.0f%%)", 100*spread)
	}
	return text
}

// Moment says when something begins, such as "at 01:00" or "on Dec 2 at 01:00".
func Moment(now, at time.Time) string {
	at = at.In(now.Location())
	if at.YearDay() == now.YearDay() && at.Year() == now.Year() || at.After(now) && at.Sub(now) < 12*time.Hour {
		return at.Format("at 15:04")
	}
	return at.Format("on Jan 2 at 15:04")
}

// Span is a length of time as people write it: 20m, 1h30m, 90s.
func Span(d time.Duration) string {
	out := d.Round(time.Second).String()
	if strings.HasSuffix(out, "m0s") {
		out = strings.TrimSuffix(out, "0s")
	}
	if strings.HasSuffix(out, "h0m") {
		out = strings.TrimSuffix(out, "0m")
	}
	return out
}
