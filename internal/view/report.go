package view

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/health"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/history"
)

func itoa(n int) string { return strconv.Itoa(n) }

// Report is the state of everything at a moment, with what led to it. docs/report.md describes its JSON.
type Report struct {
	Time         time.Time              `json:"time"`
	Host         string                 `json:"host"`
	Version      string                 `json:"version"`
	Level        string                 `json:"level"` // fine, warning, critical
	Summary      string                 `json:"summary"`
	Arrays       []control.ArrayStatus  `json:"arrays"`
	Disks        []control.DiskInfo     `json:"disks"`
	Health       []control.DiskHealth   `json:"health"`
	Steps        []advice.Step          `json:"next"`
	Events       []event.Event          `json:"events"`
	Tasks        []history.Task         `json:"tasks"`
	Checks       []history.Task         `json:"checks"`
	Risk         map[string]ReportRisk  `json:"risk"` // by array
	Errors       map[string][]TimePoint `json:"errors_over_time"`
	Temperatures map[string][]TimePoint `json:"temperatures_over_time"`
}

// ReportRisk is what an array risks by the model of core/plan.
type ReportRisk struct {
	Year    float64 `json:"loss_in_a_year,omitempty"` // 0: the array has not its full margin
	Rebuild float64 `json:"loss_in_a_rebuild"`
}

// String says what the chances are.
func (r ReportRisk) String() string {
	switch {
	case r.Year > 0 && r.Rebuild > 0:
		return fmt.Sprintf("Chance of losing data, with what is written now: %s in a year, %s while one disk is out", Chance(r.Year), Chance(r.Rebuild))
	case r.Year > 0:
		return fmt.Sprintf("Chance of losing data: %s in a year", Chance(r.Year))
	}
	return fmt.Sprintf("Chance of losing what is written now while one disk is out: %s", Chance(r.Rebuild))
}

// TimePoint is a reading.
type TimePoint struct {
	Time  time.Time `json:"time"`
	Value float64   `json:"value"`
}

// Severities of a report, which are also those of monitoring systems.
const (
	Fine     = "fine"
	Warning  = "warning"
	Critical = "critical"
)

// Judge sets level and summary: critical when data is out of reach or the next loss loses data, warning when something is to
// be done soon.
func (r *Report) Judge() {
	r.Level = Fine
	number, failing := map[state.Condition]int{}, 0
	for _, a := range r.Arrays {
		if len(declining(a)) > 0 && a.Condition == state.Healthy {
			failing++
		}
		if !a.Out || a.Condition == state.Failed {
			number[a.Condition]++
		}
	}
	if number[state.Degraded] > 0 {
		r.Level = Warning
	}
	for _, s := range r.Steps {
		if s.Urgency == advice.Now || s.Urgency == advice.Soon {
			r.Level = Warning
		}
	}
	if number[state.Exposed]+number[state.Partial]+number[state.Failed] > 0 {
		r.Level = Critical
	}
	var parts []string
	for _, c := range []state.Condition{state.Failed, state.Partial, state.Exposed, state.Degraded, state.Healthy} {
		if n := number[c]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, c))
		}
	}
	if failing > 0 {
		parts = append(parts, fmt.Sprintf("%d with a member that will fail", failing))
	}
	if len(parts) == 0 {
		parts = []string{"not in service"}
	}
	r.Summary = say.Count(int64(len(r.Arrays)), "array", "arrays") + ": " + strings.Join(parts, ", ")
	if len(r.Arrays) == 0 {
		r.Summary = "no arrays"
	}
}

// Verdict is the report in one line for monitoring systems, with its exit status: 0 fine, 1 warning, 2 critical.
func (r *Report) Verdict() (line string, status int) {
	status = map[string]int{Fine: 0, Warning: 1, Critical: 2}[r.Level]
	line = strings.ToUpper(r.Level) + ": " + r.Summary
	for _, a := range r.Arrays {
		if a.Condition != "healthy" || len(declining(a)) > 0 {
			line += "; " + Line(a)
		}
	}
	line += " |"
	for _, a := range r.Arrays {
		line += fmt.Sprintf(" %s_margin=%d", a.Name, a.Margin)
	}
	return line, status
}

// CSV writes a line for each member, with a heading.
func (r *Report) CSV(to io.Writer) error {
	w := csv.NewWriter(to)
	_ = w.Write([]string{"array", "level", "array_condition", "margin", "slot", "group", "bay", "model", "serial", "path", "size_bytes", "condition", "health", "errors", "celsius", "hours", "volume"})
	for _, a := range r.Arrays {
		for _, m := range a.Members {
			celsius, hours := "", ""
			for _, h := range r.Health {
				if h.Array != a.Name || h.Slot != m.Slot {
					continue
				}
				if t := h.Readings.Temperature; t != nil {
					celsius = fmt.Sprintf("%.0f", *t)
				}
				if on := h.Readings.PowerOnHours; on != nil {
					hours = fmt.Sprint(*on)
				}
			}
			_ = w.Write([]string{a.Name, a.Level, string(a.Condition), itoa(a.Margin), itoa(m.Slot), itoa(m.Group), m.Bay, m.Model, m.Serial, m.Path, fmt.Sprint(m.Size),
				m.Condition, m.Health, fmt.Sprint(m.Errors), celsius, hours, roleOf(a, m.Slot)})
		}
	}
	w.Flush()
	return w.Error()
}

// Report prints it as text.
func (s *Screen) Report(r *Report) {
	s.Printf("%s   %s, %s\n", s.strong("Report of "+r.Host), r.Time.Local().Format("Mon Jan 2 2006 15:04"), r.Summary)
	for _, a := range r.Arrays {
		s.Printf("\n")
		s.array(a)
		if risk, ok := r.Risk[a.Name]; ok {
			s.Printf("%s (see nidalo help plan)\n", risk)
		}
	}
	if len(r.Health) > 0 {
		s.Printf("\n%s\n", s.strong("What the disks say of themselves"))
		t := s.table(table.Row{"disk", "array", "judged", "°C", "hours on", "life used", "replaced", "waiting", "unreadable", "why"}, 4, 5, 6, 7, 8, 9)
		for _, h := range r.Health {
			x := healthRow(h)
			t.AppendRow(table.Row{x.Disk, h.Array, s.paintAs(string(h.Verdict.Grade), grades[h.Verdict.Grade]), x.Temperature, x.Hours, x.Wear, x.Reallocated, x.Pending, x.Uncorrectable, x.Why})
		}
		t.Render()
	}
	if len(r.Tasks) > 0 {
		s.Printf("\n%s\n", s.strong("Tasks that ended lately"))
		s.History(&control.HistoryReply{Tasks: r.Tasks}, true)
	}
	s.Printf("\n%s\n", s.strong("What to do"))
	s.Steps(&control.NextReply{Steps: r.Steps, Again: r.Time.AddDate(0, 0, 35)})
}

var grades = map[health.Grade]string{health.Fine: "healthy", health.Failing: "failing", health.Failed: "failed"}

// healthText is readings in words; a dash is what the disk does not tell.
type healthText struct {
	Disk, Temperature, Hours, Wear, Reallocated, Pending, Uncorrectable, Why string
}

func healthRow(h control.DiskHealth) healthText {
	number := func(p *int64) string {
		if p == nil {
			return "-"
		}
		return strconv.FormatInt(*p, 10)
	}
	x := healthText{Disk: or(h.Bay, h.Path), Temperature: "-", Hours: number(h.Readings.PowerOnHours), Wear: "-", Reallocated: number(h.Readings.Reallocated),
		Pending: number(h.Readings.Pending), Uncorrectable: number(h.Readings.Uncorrectable)}
	if h.Serial != "" {
		x.Disk += " (" + h.Serial + ")"
	}
	if t := h.Readings.Temperature; t != nil {
		x.Temperature = fmt.Sprintf("%.0f", *t)
	}
	if w := h.Readings.Wear; w != nil {
		x.Wear = fmt.Sprintf("%.0f%%", 100**w)
	}
	x.Why = strings.Join(slices.Concat(h.Verdict.Reasons, h.Verdict.Notes), "; ")
	return x
}
