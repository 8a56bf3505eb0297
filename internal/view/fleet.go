package view

import (
	"cmp"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/advice"
	"nidalo/core/layout"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/fleet"
)

// Fleet is what several hosts said, with what follows from it.
type Fleet struct {
	Time    time.Time   `json:"time"`
	Version string      `json:"version"`
	Level   string      `json:"level"` // fine, warning, critical
	Summary string      `json:"summary"`
	Hosts   []FleetHost `json:"hosts"` // the worst first
	Steps   []FleetStep `json:"next"`  // the most urgent first
}

// FleetHost is what one host said.
type FleetHost struct {
	fleet.Answer
	Level string `json:"level"`
}

// FleetStep is what to do on a host.
type FleetStep struct {
	Host string `json:"host"`
	Old  bool   `json:"old,omitempty"` // the host did not answer now
	advice.Step
}

// fleetArray is an array with its host.
type fleetArray struct {
	control.ArrayStatus
	Host   *FleetHost
	Others []string // hosts that stand by for it
}

var levels = []string{Critical, Warning, Fine}

// NewFleet judges what hosts said. A host that does not answer is a warning by itself.
func NewFleet(answers []fleet.Answer, version string) *Fleet {
	f := &Fleet{Time: time.Now(), Version: version, Level: Fine, Hosts: []FleetHost{}, Steps: []FleetStep{}}
	silent := 0
	for _, a := range answers {
		h := FleetHost{Answer: a, Level: Warning}
		if a.Status != nil {
			r := &Report{Arrays: a.Status.Arrays, Steps: a.Steps}
			r.Judge()
			h.Level = r.Level
		}
		if a.Old() {
			silent++
			h.Level = levels[min(slices.Index(levels, h.Level), slices.Index(levels, Warning))]
		}
		f.Level = levels[min(slices.Index(levels, h.Level), slices.Index(levels, f.Level))]
		f.Hosts = append(f.Hosts, h)
	}
	all, served := f.arrays(), map[string]bool{} // by host and name: those that stand by say nothing new
	of := map[state.Condition]int{}
	for _, a := range all {
		of[a.Condition]++
		served[a.Host.Host+" "+a.Name] = true
	}
	for _, a := range answers {
		for _, s := range a.Steps {
			if s.Array == "" || served[a.Host+" "+s.Array] {
				f.Steps = append(f.Steps, FleetStep{a.Host, a.Old(), s})
			}
		}
	}
	slices.SortStableFunc(f.Hosts, func(x, y FleetHost) int {
		return cmp.Or(cmp.Compare(slices.Index(levels, x.Level), slices.Index(levels, y.Level)), cmp.Compare(x.Host, y.Host))
	})
	slices.SortStableFunc(f.Steps, func(x, y FleetStep) int { return cmp.Compare(x.Urgency.Rank(), y.Urgency.Rank()) })
	f.Summary = say.Count(len(answers), "host", "hosts")
	switch {
	case silent == len(answers):
		f.Summary += ", out of reach"
	case silent > 0:
		f.Summary += fmt.Sprintf(", %d of them out of reach", silent)
	}
	if len(all) > 0 || silent < len(answers) {
		f.Summary += ", " + say.Count(len(all), "array", "arrays")
	}
	var parts []string
	for _, c := range conditions {
		if n := of[c]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, c))
		}
	}
	if len(parts) > 0 {
		f.Summary += ": " + strings.Join(parts, ", ")
	}
	return f
}

// conditions of arrays, the worst first.
var conditions = []state.Condition{state.Failed, state.Partial, state.Exposed, state.Degraded, state.Healthy}

// arrays are all of them, dangers first. One that several hosts know is that of the host where it is in service, as the newest answer says.
func (f *Fleet) arrays() (all []fleetArray) {
	at := map[string]int{} // by identity
	for i := range f.Hosts {
		h := &f.Hosts[i]
		if h.Status == nil {
			continue
		}
		for _, a := range h.Status.Arrays {
			one := fleetArray{ArrayStatus: a, Host: h}
			n, again := at[a.ID]
			switch {
			case !again || a.ID == "":
				at[a.ID] = len(all)
				all = append(all, one)
			case one.before(all[n]):
				one.Others = append(all[n].Others, all[n].Host.Host)
				all[n] = one
			default:
				all[n].Others = append(all[n].Others, h.Host)
			}
		}
	}
	rank := func(a fleetArray) int {
		at := 2 * slices.Index(conditions, a.Condition)
		if a.Condition == state.Healthy && len(declining(a.ArrayStatus)) > 0 {
			at--
		}
		return at
	}
	slices.SortStableFunc(all, func(x, y fleetArray) int { return cmp.Compare(rank(x), rank(y)) })
	return all
}

// before says whether what one host says of an array counts more than what another says of it.
func (a fleetArray) before(b fleetArray) bool {
	if a.Out != b.Out && a.Host.Old() == b.Host.Old() {
		return b.Out
	}
	return !a.Host.Old() && b.Host.Old()
}

// Where is the host of an array, with those that stand by.
func (a fleetArray) Where() string {
	if len(a.Others) == 0 {
		return a.Host.Host
	}
	return a.Host.Host + " (also " + say.List(a.Others) + ")"
}

// Said is when a host said it, for a table.
func (h *FleetHost) Said() string {
	switch {
	case h.Told == nil:
		return "-"
	case h.Old():
		return Ago(*h.Age) + " ago"
	}
	return "now"
}

// Ago is an age in words: 40s, 12m, 3h, 5 days.
func Ago(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%.0fs", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%.0fm", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0fh", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}

// Silent says of a host that does not answer what is known.
func (h *FleetHost) Silent() string {
	if h.Told == nil {
		return fmt.Sprintf("%s (%s) does not answer: %s. Nothing is known of it from before", h.Host, h.Asked, h.Why)
	}
	return fmt.Sprintf("%s (%s) does not answer: %s. It is shown as it was %s ago, %s", h.Host, h.Asked, h.Why, Ago(*h.Age), h.Told.Local().Format("on Jan 2 at 15:04"))
}

// Works is what is under way in an array, in a few words.
func (a fleetArray) Works() string {
	var out []string
	for _, t := range a.Tasks {
		if t.Ended != nil {
			continue
		}
		line := fmt.Sprintf("%s %.0f%%", t.Kind, t.Percent)
		switch {
		case t.State != state.TaskRunning:
			line += ", " + string(t.State)
		case t.ETA != nil:
			line += ", " + Duration(*t.ETA) + " left"
		}
		out = append(out, line)
	}
	if len(out) == 0 {
		return "-"
	}
	return strings.Join(out, "; ")
}

// Written is how much of an array is.
func (a fleetArray) Written() string {
	if a.Out || a.Capacity == 0 {
		return "-"
	}
	return fmt.Sprintf("%.0f%% of %s", 100*float64(a.Used)/float64(a.Capacity), say.Size(a.Capacity))
}

// Protects is how many further losses it survives.
func (a fleetArray) Protects() string {
	if l := layout.Level(a.Level); l == layout.Striped || l == layout.Concat {
		return "none"
	}
	return Margin(a.Margin, a.MarginBest)
}

// Note is what is wrong beside the condition.
func (a fleetArray) Note() string {
	switch names := declining(a.ArrayStatus); {
	case a.Out:
		return "not in service"
	case len(names) > 0:
		return say.Ranges(names) + " will fail"
	}
	return ""
}

// FleetStatus prints all arrays of all hosts on one screen, dangers first.
func (s *Screen) FleetStatus(f *Fleet) {
	s.Printf("%s\n", s.strong(capital(f.Summary)+"."))
	if all := f.arrays(); len(all) > 0 {
		s.Printf("\n")
		t := s.table(table.Row{"host", "array", "level", "members", "condition", "margin", "written", "under way", "said"}, 4, 7)
		for _, a := range all {
			condition := s.paint(string(a.Condition))
			if note := a.Note(); note != "" {
				condition += ", " + note
			}
			t.AppendRow(table.Row{a.Where(), a.Name, a.Level, len(a.Members), condition, a.Protects(), a.Written(), a.Works(), a.Host.Said()})
		}
		t.Render()
	}
	var lines []string
	for i := range f.Hosts {
		switch h := &f.Hosts[i]; {
		case h.Old():
			lines = append(lines, wrap(h.Silent(), s.Width, "")+".")
		case len(h.Status.Arrays) == 0:
			lines = append(lines, h.Host+" has no arrays.")
		}
	}
	if len(lines) > 0 {
		s.Printf("\n%s\n", strings.Join(lines, "\n"))
	}
	var next []string
	if len(f.Steps) > 0 {
		next = append(next, "nidalo fleet next   "+say.Count(len(f.Steps), "step", "steps")+" to take, with the commands")
	}
	if names := f.silent(); len(names) > 0 {
		next = append(next, "nidalo status   on "+say.List(names)+" tells whether only the way there is lost")
	}
	s.Next(next)
}

// silent are the hosts that do not answer.
func (f *Fleet) silent() (names []string) {
	for i := range f.Hosts {
		if f.Hosts[i].Old() {
			names = append(names, f.Hosts[i].Host)
		}
	}
	return names
}

// FleetSteps prints what to do on which host, the most urgent first.
func (s *Screen) FleetSteps(f *Fleet) {
	for i := range f.Hosts {
		if h := &f.Hosts[i]; h.Old() {
			s.Printf("%s.\n\n", wrap(h.Silent(), s.Width, ""))
		}
	}
	s.fleetSteps(f)
}

func (s *Screen) fleetSteps(f *Fleet) {
	switch silent := len(f.silent()); {
	case len(f.Steps) > 0:
	case silent > 0 && silent == len(f.Hosts):
		s.Printf("No host answers, so it is not known what is to be done.\n")
	default:
		s.Printf("Nothing to do on the hosts that answer.\n")
	}
	for i, st := range f.Steps {
		if i > 0 {
			s.Printf("\n")
		}
		on := s.strong(st.Host)
		if st.Old {
			on += " (as it was when it answered last)"
		}
		if about := st.About(); about != "" {
			on += ": " + about
		}
		s.Printf("%d  %s  %s\n", i+1, s.strong(s.urgency(st.Urgency)), on)
		s.Printf("   %s\n", wrap(capital(st.Do)+". "+capital(st.Why)+".", s.Width, "   "))
		if st.Command != "" {
			s.Printf("      %s\n", s.strong(st.Command))
		}
	}
}

// FleetVerdict is the fleet in one line for monitoring systems, with its exit status: 0 fine, 1 warning, 2 critical.
func (f *Fleet) FleetVerdict() (line string, status int) {
	line = strings.ToUpper(f.Level) + ": " + f.Summary
	for _, a := range f.arrays() {
		if a.Condition != state.Healthy || len(declining(a.ArrayStatus)) > 0 {
			line += "; " + a.Host.Host + ": " + Line(a.ArrayStatus)
		}
	}
	for _, h := range f.Hosts {
		if h.Old() {
			line += "; " + h.Host + " does not answer"
		}
	}
	return line, 2 - slices.Index(levels, f.Level)
}

// FleetReport prints the fleet as text: where it stands, then what to do.
func (s *Screen) FleetReport(f *Fleet) {
	s.Printf("%s   %s\n", s.strong("Report of the fleet"), f.Time.Local().Format("Mon Jan 2 2006 15:04"))
	s.FleetStatus(&Fleet{Summary: f.Summary, Hosts: f.Hosts})
	s.Printf("\n%s\n", s.strong("What to do"))
	s.fleetSteps(f)
}

var fleetPage = template.Must(page.Lookup("report.html").New("fleet.html").ParseFS(files, "fleet.html"))

// HTML writes the fleet as one page that needs nothing else.
func (f *Fleet) HTML(w io.Writer) error {
	return fleetPage.ExecuteTemplate(w, "fleet.html", struct {
		*Fleet
		Arrays []fleetArray
	}{f, f.arrays()})
}
