// Package rounds says when regular work is due: pure functions of the clock and of when it was last done. A round is the check of an
// array, or the reading of a spare from end to end, that begins by itself.
package rounds

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Window is a part of the day, or of some days of the week, which may go over midnight.
type Window struct {
	from, to int            // minutes of the day; to may be before from
	days     []time.Weekday // on which it begins; none: on all
}

// ParseHours reads hours such as 01:00-06:00 or 22:00-24:00.
func ParseHours(text string) (Window, error) {
	from, to, ok := strings.Cut(text, "-")
	f, err1 := time.Parse("15:04", from)
	t, err2 := time.Parse("15:04", to)
	if to == "24:00" {
		t, err2 = time.Time{}, nil
	}
	if !ok || err1 != nil || err2 != nil || f.Equal(t) {
		return Window{}, fmt.Errorf("%q: hours are written as 08:00-18:00", text)
	}
	return Window{from: f.Hour()*60 + f.Minute(), to: t.Hour()*60 + t.Minute()}, nil
}

// length is in minutes.
func (w Window) length() int { return (w.to - w.from + 24*60) % (24 * 60) }

// began is the start of the last window that began by a moment.
func (w Window) began(at time.Time) time.Time {
	for day := 0; ; day-- {
		start := time.Date(at.Year(), at.Month(), at.Day()+day, w.from/60, w.from%60, 0, 0, at.Location())
		if !start.After(at) && (len(w.days) == 0 || slices.Contains(w.days, start.Weekday())) {
			return start
		}
	}
}

// Open says whether a moment is in it.
func (w Window) Open(at time.Time) bool { return at.Before(w.ends(w.began(at))) }

// ends is the end of a window, by its start.
func (w Window) ends(began time.Time) time.Time {
	return time.Date(began.Year(), began.Month(), began.Day(), w.from/60, w.from%60+w.length(), 0, 0, began.Location())
}

// End is the end of the window that is open at a moment.
func (w Window) End(at time.Time) time.Time { return w.ends(w.began(at)) }

// Next is the first moment from one on that is in it.
func (w Window) Next(from time.Time) time.Time {
	if w.Open(from) {
		return from
	}
	for day := 0; ; day++ {
		start := time.Date(from.Year(), from.Month(), from.Day()+day, w.from/60, w.from%60, 0, 0, from.Location())
		if !start.Before(from) && (len(w.days) == 0 || slices.Contains(w.days, start.Weekday())) {
			return start
		}
	}
}

// The kinds of round.
const (
	Check = "check" // of an array, see `nidalo check`
	Read  = "read"  // of a spare, see `nidalo surface`
)

// Rule is what is to be done and when.
type Rule struct {
	What   string   `json:"what"`   // Check or Read
	Arrays []string `json:"arrays"` // none: all; of Read, those that the spare serves
	Every  Days     `json:"every"`
	Hours  string   `json:"hours"`
	On     []string `json:"weekdays,omitempty"` // none: all
	Pace   string   `json:"pace,omitempty"`     // while it runs; empty: that of the array
	Repair bool     `json:"repair"`             // of Check
	Window Window   `json:"-"`
}

// Days is a number of days; 0 is never.
type Days int

// String is such as "30 days".
func (d Days) String() string {
	switch d {
	case 0:
		return "never"
	case 1:
		return "day"
	}
	return fmt.Sprintf("%d days", int(d))
}

// mostDays is the longest time between two rounds.
const mostDays = 3650

// ParseDays reads "day", "week", "month" (30 days), "14d" or "never".
func ParseDays(text string) (Days, error) {
	if known, ok := map[string]Days{"never": 0, "day": 1, "week": 7, "month": 30}[text]; ok {
		return known, nil
	}
	number, ok := strings.CutSuffix(text, "d")
	n, err := strconv.Atoi(number)
	if !ok || err != nil || n < 1 || n > mostDays {
		return 0, fmt.Errorf("%q: write day, week, month, a number of days such as 14d, or never", text)
	}
	return Days(n), nil
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Settle reads the hours and weekdays of a rule into its window.
func (r *Rule) Settle() error {
	if r.What != Check && r.What != Read {
		return fmt.Errorf("what: %q: %q for arrays or %q for spares", r.What, Check, Read)
	}
	var err error
	if r.Window, err = ParseHours(r.Hours); err != nil {
		return fmt.Errorf("hours: %w", err)
	}
	for _, d := range r.On {
		day := slices.Index(weekdays, strings.ToLower(d))
		if day < 0 {
			return fmt.Errorf("weekdays: %q: write %s", d, strings.Join(weekdays, ", "))
		}
		r.Window.days = append(r.Window.days, time.Weekday(day))
	}
	if r.What == Read && r.Repair {
		return errors.New("repair: a spare holds nothing that could be repaired")
	}
	return nil
}

// Usual is what is done where nothing else is said: each month, between one and six at night, gently.
func Usual(what string) Rule {
	r := Rule{What: what, Every: 30, Hours: "01:00-06:00", Pace: "gentle", Repair: what == Check}
	_ = r.Settle()
	return r
}

// For is the rule for an array: the first that names it, or else the first that names none, or else the usual one.
func For(rules []Rule, what string, arrays ...string) Rule {
	named := func(r Rule) bool {
		return r.What == what && slices.ContainsFunc(r.Arrays, func(a string) bool { return slices.Contains(arrays, a) })
	}
	open := func(r Rule) bool { return r.What == what && len(r.Arrays) == 0 }
	for _, fits := range []func(Rule) bool{named, open} {
		if i := slices.IndexFunc(rules, fits); i >= 0 {
			return rules[i]
		}
	}
	return Usual(what)
}

const day = 24 * time.Hour

// Due is the date of the next round after one that ended at a moment; zero: never.
func (r Rule) Due(last time.Time) time.Time {
	if r.Every == 0 {
		return time.Time{}
	}
	return last.AddDate(0, 0, int(r.Every))
}

// Next is the start of the next round, from now on, after one that ended at a moment; zero: never.
func (r Rule) Next(now, last time.Time) time.Time {
	due := r.Due(last)
	if due.IsZero() {
		return due
	}
	if due.Before(now) {
		due = now
	}
	return r.Window.Next(due.In(now.Location()))
}

// Grace is how late a round may be before it counts as overdue: a sixth of the time between two, and five days at least.
func (r Rule) Grace() time.Duration { return max(5*day, time.Duration(r.Every)*day/6) }

// Late says whether a round that was last done at a moment is overdue.
func (r Rule) Late(now, last time.Time) bool {
	return r.Every > 0 && now.After(r.Due(last).Add(r.Grace()))
}
