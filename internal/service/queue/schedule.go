package queue

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"nidalo/core/rounds"
	"nidalo/core/say"
	"nidalo/internal/array/task"
)

// Schedule is a pace by the hours of the day. Its text is "normal", "80MiB/s", "08:00-18:00 gentle, else full", or "by 07:00": as fast as it
// must be to be done by then.
type Schedule struct {
	by    *rounds.Window // ends when the work is to be done; nil: there is no such time
	rules []hours
	other task.Pace
	text  string
}

type hours struct {
	rounds.Window
	pace task.Pace
}

// ParsePace reads gentle, normal, full or a rate such as 80MiB/s.
func ParsePace(text string) (task.Pace, error) {
	switch text {
	case task.Gentle, task.Normal, task.Full, task.Rest:
		return task.Pace{Mode: text}, nil
	}
	size, ok := strings.CutSuffix(text, "/s")
	rate, err := say.ParseSize(size)
	if !ok || err != nil {
		return task.Pace{}, fmt.Errorf("%q is no pace: gentle, normal, full, rest, or a rate such as 80MiB/s", text)
	}
	if rate < 64<<10 {
		return task.Pace{}, fmt.Errorf("%q is too slow: a task must not starve; at least 64KiB/s", text)
	}
	return task.Pace{Rate: rate}, nil
}

// ParseSchedule reads a pace, or paces by hours.
func ParseSchedule(text string) (Schedule, error) {
	s := Schedule{other: task.Pace{Mode: task.Normal}, text: strings.TrimSpace(text)}
	if clock, ok := strings.CutPrefix(s.text, "by "); ok {
		w, err := rounds.ParseHours("00:00-" + clock)
		if err != nil || clock == "00:00" {
			return s, fmt.Errorf("%q: a time of day is written as by 07:00", s.text)
		}
		s.by = &w
		return s, nil
	}
	parts := strings.Split(s.text, ",")
	for i, part := range parts {
		words := strings.Fields(part)
		if len(words) == 1 && len(parts) == 1 {
			p, err := ParsePace(words[0])
			s.other = p
			return s, err
		}
		if len(words) != 2 {
			return s, fmt.Errorf("%q: write for example 08:00-18:00 gentle, else full", strings.TrimSpace(part))
		}
		p, err := ParsePace(words[1])
		if err != nil {
			return s, err
		}
		if words[0] == "else" {
			if i != len(parts)-1 {
				return s, fmt.Errorf("%q: what is after else is never reached", s.text)
			}
			s.other = p
			continue
		}
		w, err := rounds.ParseHours(words[0])
		if err != nil {
			return s, err
		}
		s.rules = append(s.rules, hours{w, p})
	}
	return s, nil
}

func (s Schedule) String() string { return cmp.Or(s.text, task.Normal) }

// By is when work is to be done that is wanted by a time of day; ok is false where there is no such time.
func (s Schedule) By(now time.Time) (at time.Time, ok bool) {
	if s.by == nil {
		return at, false
	}
	if end := s.by.End(now); end.After(now) {
		return end, true
	}
	return s.by.End(now.AddDate(0, 0, 1)), true
}

// At is the pace at a time of day.
func (s Schedule) At(t time.Time) task.Pace {
	for _, h := range s.rules {
		if h.Open(t) {
			return h.pace
		}
	}
	if s.other == (task.Pace{}) {
		return task.Pace{Mode: task.Normal}
	}
	return s.other
}
