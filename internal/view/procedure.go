package view

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/rounds"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Steps prints what to do, in order.
func (s *Screen) Steps(n *control.NextReply) {
	if len(n.Steps) == 0 && n.Regular {
		s.Printf("Nothing to do. Look again when an alert comes; checks begin by themselves (nidalo schedule).\n")
		return
	}
	if len(n.Steps) == 0 {
		s.Printf("Nothing to do. Look again when an alert comes, or on %s for a consistency check.\n", n.Again.Local().Format("Mon Jan 2"))
		return
	}
	for i, st := range n.Steps {
		if i > 0 {
			s.Printf("\n")
		}
		s.Printf("%d  %s  %s\n", i+1, s.strong(s.urgency(st.Urgency)), st.About())
		s.Printf("   %s\n", wrap(capital(st.Do)+". "+capital(st.Why)+".", s.Width, "   "))
		if st.Command != "" {
			s.Printf("      %s\n", s.strong(st.Command))
		}
	}
}

func (s *Screen) urgency(u advice.Urgency) string {
	if s.Colour {
		switch u {
		case advice.Now:
			return conditionColours["failed"].Sprint(string(u))
		case advice.Soon:
			return conditionColours["degraded"].Sprint(string(u))
		}
	}
	return string(u)
}

func capital(t string) string {
	first, _, _ := strings.Cut(t, " ")
	if t == "" || strings.Contains(first, ":") { // heron:A1 is a name
		return t
	}
	return strings.ToUpper(t[:1]) + t[1:]
}

// wrap breaks a text at spaces so that no line is wider than width; further lines begin with indent.
func wrap(t string, width int, indent string) string {
	var b strings.Builder
	at := len(indent)
	for i, w := range strings.Fields(t) {
		n := len([]rune(w))
		switch {
		case i > 0 && at+1+n > width:
			b.WriteString("\n" + indent)
			at = len(indent)
		case i > 0:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(w)
		at += n
	}
	return b.String()
}

// MayPull prints the answer and its reasons.
func (s *Screen) MayPull(r *control.PullReply) {
	answer := s.paintAs("yes", "healthy")
	if !r.Yes {
		answer = s.paintAs("no", "failed")
	}
	var names []string
	for _, d := range r.Disks {
		names = append(names, d.Identity.String())
	}
	s.Printf("%s   %s\n", answer, wrap(say.List(names), s.Width, "     "))
	for _, why := range r.Reasons {
		s.Printf("     %s\n", wrap(capital(why)+".", s.Width, "     "))
	}
	if !r.Yes && r.When != nil {
		s.Printf("     It may leave when that copy ends, about %s.\n", clock(*r.When))
	}
	s.Next(r.Next)
}

func (s *Screen) paintAs(word, condition string) string {
	if c, ok := conditionColours[condition]; ok && s.Colour {
		return c.Sprint(word)
	}
	return word
}

func clock(t time.Time) string {
	if time.Until(t) > 20*time.Hour {
		return t.Local().Format("Mon Jan 2 15:04")
	}
	return t.Local().Format("15:04:05")
}

// Paces prints the pace of arrays, and what a change of it means for their tasks.
func (s *Screen) Paces(before, after []control.PaceReply) {
	if len(after) == 0 {
		s.Printf("No arrays in service.\n")
	}
	for i, p := range after {
		s.Printf("%s   pace %s", s.strong(p.Array), p.Pace)
		if clock, ok := strings.CutPrefix(p.Schedule, "by "); ok {
			s.Printf(" now; as fast as it must be to be done by %s", clock)
		} else if strings.Contains(p.Schedule, " ") {
			s.Printf(" now; by the hours: %s", p.Schedule)
		}
		s.Printf("\n")
		for _, t := range p.Tasks {
			s.Printf("   %s\n", s.Task(t))
			if i >= len(before) || before[i].Pace == p.Pace {
				continue
			}
			for _, old := range before[i].Tasks {
				if old.Kind == t.Kind && old.ETA != nil && t.ETA != nil && (t.Slot == nil || old.Slot != nil && *old.Slot == *t.Slot) {
					s.Printf("   at the pace before, %s, it had %s left\n", before[i].Pace, Duration(*old.ETA))
				}
			}
		}
		if len(p.Tasks) > 0 && p.Condition != "healthy" && p.Pace != "full" {
			s.Printf("   until it ends the array is %s, margin %d; nidalo pace %s full shortens that\n", p.Condition, p.Margin, p.Array)
		}
	}
}

// Rounds lists what is done regularly.
func (s *Screen) Rounds(all []control.Round, serving bool) {
	if len(all) == 0 {
		s.Printf("There is no array and no spare here.\n")
		return
	}
	t := s.table(table.Row{"what", "of", "every", "hours", "last ended", "found", "next"})
	for _, r := range all {
		every, hours, last, found, next := rounds.Days(r.Every).String(), r.Hours, "never", "-", "-"
		if len(r.Weekdays) > 0 {
			hours = strings.Join(r.Weekdays, " ") + " " + hours
		}
		if r.Every == 0 {
			hours = "-"
		}
		if r.Last != nil {
			last, found = r.Last.Local().Format("Jan 2 15:04"), or(r.Found, "-")
		}
		if r.Check != nil {
			found = CheckSummary(*r.Check)
		}
		switch {
		case r.State == state.TaskPaused && r.Next != nil:
			next = "goes on " + r.Next.Local().Format("Jan 2 15:04")
		case r.State != "":
			next = "now: " + string(r.State)
		case r.Waits != "":
			next = "waits: " + r.Waits
		case r.Next != nil:
			next = r.Next.Local().Format("Jan 2 15:04")
		}
		if r.Late {
			next += ", overdue"
		}
		t.AppendRow(table.Row{r.What, r.Of, every, hours, last, found, next})
	}
	t.Render()
	if !serving {
		s.Printf("No service answers here: when none is running, nothing begins by itself.\n")
	}
}

// History prints events, or tasks.
func (s *Screen) History(h *control.HistoryReply, tasks bool) {
	if h.Unwritten != "" {
		defer s.Printf("The newest are not written down yet: %s. nidalo next says more.\n", h.Unwritten)
	}
	if tasks {
		if len(h.Tasks) == 0 {
			s.Printf("No task that ended is known.\n")
			return
		}
		t := s.table(table.Row{"ended", "array", "task", "disk", "result", "took", "amount", "rate"}, 6, 7, 8)
		for _, x := range h.Tasks {
			t.AppendRow(table.Row{x.Ended.Local().Format("2006-01-02 15:04:05"), x.Array, x.Kind, or(x.Disk, "-"), strings.TrimSpace(s.paintState(string(x.State)) + " " + x.Result),
				Duration(x.Ended.Sub(x.Started).Seconds()), say.Size(x.Bytes), say.Size(int64(x.Rate)) + "/s"})
		}
		t.Render()
		return
	}
	if len(h.Events) == 0 {
		s.Printf("Nothing is known to have happened.\n")
		return
	}
	t := s.table(table.Row{"time", "severity", "what", "array", "disk", "detail"})
	short := s.table(table.Row{"time", "severity", "what", "array"})
	for _, e := range h.Events {
		row := table.Row{e.Time.Local().Format("2006-01-02 15:04:05"), s.severity(e.Severity), e.Kind, or(e.Array, "-")}
		short.AppendRow(row)
		t.AppendRow(append(row, or(e.Disk, "-"), e.Detail))
	}
	if natural, room := t.room(); !s.Terminal || natural <= room || room >= leastWide {
		t.Render()
		return
	}
	// The disk and the details of each get lines of their own.
	var heads strings.Builder
	short.SetOutputMirror(&heads)
	short.Render()
	for i, head := range strings.Split(strings.TrimSuffix(heads.String(), "\n"), "\n") {
		s.Printf("%s\n", head)
		if i > 0 {
			e := h.Events[i-1]
			if about := strings.Trim(e.Disk+": "+e.Detail, ": "); about != "" {
				s.Printf("   %s\n", wrap(about, s.Width, "   "))
			}
		}
	}
}

func (s *Screen) paintState(state string) string {
	if state == "done" {
		return s.paintAs(state, "healthy")
	}
	return s.paintAs(state, "degraded")
}

func (s *Screen) severity(v event.Severity) string {
	switch v {
	case event.Critical:
		return s.paintAs(string(v), "failed")
	case event.Warning:
		return s.paintAs(string(v), "degraded")
	}
	return string(v)
}

// Line is an array in one line, for screens that are no terminals.
func Line(a control.ArrayStatus) string {
	out := fmt.Sprintf("%s: %s, %s", a.Name, a.Condition, Survives(a))
	for _, m := range a.Members {
		switch {
		case m.Condition != "active":
			out += fmt.Sprintf("; slot %d (%s) %s", m.Slot, or(m.Bay, m.Path), m.Condition)
		case m.Health == "failing":
			out += fmt.Sprintf("; slot %d (%s) will fail", m.Slot, or(m.Bay, m.Path))
		}
	}
	return out
}

// declining lists members that still work and will fail, by bay or else serial or path.
func declining(a control.ArrayStatus) (names []string) {
	for _, m := range a.Members {
		if m.Condition == "failing" || m.Condition == "active" && m.Health == "failing" {
			names = append(names, or(or(m.Bay, m.Serial), m.Path))
		}
	}
	return names
}
