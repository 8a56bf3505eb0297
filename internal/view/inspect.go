package view

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/say"
	"nidalo/internal/control"
)

// says prints what a disk says of itself.
func (s *Screen) says(h *control.DiskSays, line func(name, text string)) {
	if h == nil {
		return
	}
	text := string(h.Verdict.Grade)
	if why := slices.Concat(h.Verdict.Reasons, h.Verdict.Notes); len(why) > 0 {
		text += ": " + strings.Join(why, "; ")
	}
	indent := strings.Repeat(" ", 14)
	line("health", wrap(text, s.Width-len(indent), indent))
	if words := h.Readings.Words(); len(words) > 0 {
		line("", wrap(strings.Join(words, ", "), s.Width-len(indent), indent))
	}
	if len(h.Grew) > 0 {
		line("", wrap(strings.Join(h.Grew, ", ")+" since "+h.Since.Local().Format("Jan 2 15:04"), s.Width-len(indent), indent))
	}
}

// Inspected prints what disks carry.
func (s *Screen) Inspected(r *control.InspectReply) {
	for i, d := range r.Disks {
		if i > 0 {
			s.Printf("\n")
		}
		s.Printf("%s   %s", s.strong(d.Disk.String()), say.Size(d.Size))
		if d.InService {
			s.Printf(", in service: what follows may change while it is read")
		}
		s.Printf("\n")
		line := func(name, text string) { s.Printf("   %-10s %s\n", name, text) }
		s.says(d.Health, line)
		if d.Note != "" {
			line("note", d.Note)
		}
		switch {
		case d.Unreadable != "":
			line("record", "cannot be read: "+d.Unreadable)
			continue
		case d.Array == "" && d.Blank:
			line("holds", "nothing: it is blank")
			continue
		case d.Array == "":
			line("record", copies(d.Copies))
			line("holds", or(strings.Join(d.Holds, "; "), "nothing that is known"))
			continue
		}
		stopped := "not stopped in order, or running"
		if d.Clean {
			stopped = "stopped in order"
		}
		s.Printf("   %-10s %s, %s, strips of %s, created %s\n", "array", d.Array, LevelOf(d.Level), say.Size(d.Strip), d.Created.Local().Format("2006-01-02 15:04"))
		s.Printf("   %-10s slot %d, epoch %d, generation %d, %s\n", "record", d.Slot, d.Epoch, d.Generation, stopped)
		line("copies", copies(d.Copies))
		line("journal", d.Journal)
		line("written", "at most "+say.Size(d.Written))
		if d.Changed != "" {
			line("changed", d.Changed)
		}
		for _, x := range d.Damaged {
			line("damaged", x)
		}
		for i, x := range d.Roster {
			name := ""
			if i == 0 {
				name = "roster"
			}
			line(name, x)
		}
	}
	if len(r.Compared) > 0 {
		s.Printf("\n")
	}
	for _, c := range r.Compared {
		s.Printf("%s.\n", capital(c))
	}
}

// Healths lists what disks say of themselves.
func (s *Screen) Healths(disks []control.Inspected) {
	t := s.table(table.Row{"disk", "health", "°C", "hours", "replaced", "waiting", "unread", "link Gbit/s", "remarks"}, 3, 4, 5, 6, 7)
	number := func(n *int64) string {
		if n == nil {
			return "-"
		}
		return fmt.Sprint(*n)
	}
	for _, d := range disks {
		h := d.Health
		if h == nil {
			t.AppendRow(table.Row{d.Disk.String(), "-", "-", "-", "-", "-", "-", "-", "it says nothing of itself"})
			continue
		}
		celsius, link := "-", "-"
		if c := h.Readings.Temperature; c != nil {
			celsius = fmt.Sprintf("%.0f", *c)
		}
		if v := h.Readings.LinkSpeed; v != nil {
			link = fmt.Sprintf("%g", *v)
			if best := h.Readings.LinkBest; best != nil {
				link += fmt.Sprintf(" of %g", *best)
			}
		}
		remarks := slices.Concat(h.Verdict.Reasons, h.Verdict.Notes)
		if len(h.Grew) > 0 {
			remarks = append(remarks, strings.Join(h.Grew, ", ")+" since "+h.Since.Local().Format("Jan 2 15:04"))
		}
		t.AppendRow(table.Row{d.Disk.String(), s.paint(string(h.Verdict.Grade)), celsius, number(h.Readings.PowerOnHours), number(h.Readings.Reallocated), number(h.Readings.Pending),
			number(h.Readings.Uncorrectable), link, or(strings.Join(remarks, "; "), "-")})
	}
	t.Render()
}

// copies says how the copies of a record are.
func copies(of []string) string {
	if len(slices.Compact(slices.Clone(of))) == 1 {
		return "all " + of[0]
	}
	var out []string
	for i, how := range of {
		out = append(out, []string{"first", "second", "third"}[min(i, 2)]+" "+how)
	}
	return strings.Join(out, ", ")
}
