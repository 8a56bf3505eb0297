package view

import (
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/internal/array"
	"nidalo/internal/service"
)

// Rescue shows what can be read of an array.
func (s *Screen) Rescue(r *service.RescueReply) {
	for i, st := range r.States {
		if len(r.States) > 1 {
			mark := ""
			if r.State == st.Number {
				mark = ", the one judged here"
			}
			s.Printf("%sState %d%s\n", blank(i > 0), st.Number, mark)
		}
		s.Printf("%s   level %s, epoch %d\n\n", r.Array, r.Level, st.Epoch)
		t := s.table(table.Row{"slot", "bay", "model", "serial", "use"}, 1)
		for _, m := range st.Members {
			t.AppendRow(table.Row{m.Slot, or(m.Disk.Bay, m.Disk.Path), or(m.Disk.Model, "-"), or(m.Disk.Serial, "-"), m.Use})
		}
		t.Render()
		for _, u := range st.Unused {
			s.Printf("%s\n", u)
		}
	}
	if r.Doubt != "" {
		s.Printf("\n%s.\n", capital(r.Doubt))
		s.Next([]string{fmt.Sprintf("nidalo rescue -state 1 %s   judges the first", r.Array)})
		return
	}
	s.Printf("\n%s of %s were written, at most.\n", service.FormatSize(r.Written), service.FormatSize(r.Capacity))
	switch {
	case r.Lost == 0:
		s.Printf("All of it can be read, as far as the members know.\n")
	default:
		s.Printf("%s of that is lost (%.1f%%), in %d places:\n", service.FormatSize(r.Lost), 100*float64(r.Lost)/float64(max(r.Written, 1)), r.Spans)
		s.spans(r.Places, r.Spans)
	}
	if r.Old {
		s.Printf("What a member held that left earlier is taken unless it is proven to have changed: some of it may be old.\n")
	}
	for _, n := range r.Notes {
		s.Printf("Note: %s.\n", n)
	}
	s.Printf("What the members do not know to be unreadable or rotten comes on top. Nothing was written to them.\n")
	if r.Copy == nil {
		hints := []string{fmt.Sprintf("nidalo rescue -copy FILE %s   copies out what can be read; FILE needs room for %s", r.Array, service.FormatSize(r.Written))}
		if r.Lost > 0 {
			hints = append(hints, "a missing disk that can be brought back, or copied to an image (-image), adds what it holds")
		}
		s.Next(hints)
	}
}

func blank(yes bool) string {
	if yes {
		return "\n"
	}
	return ""
}

func (s *Screen) spans(spans []array.Span, all int) {
	const most = 8
	for _, l := range spans[:min(len(spans), most)] {
		s.Printf("   from byte %d, %s\n", l.Offset, service.FormatSize(l.Length))
	}
	if all > most {
		s.Printf("   and %d more: -json lists the first %d, and copying out all of them\n", all-most, 50)
	}
}

// RescueProgress is one line on how far the copying out is.
func RescueProgress(c *service.RescueCopy) string {
	left := "time left not known yet"
	if c.Rate > 0 {
		left = fmt.Sprintf("about %s left", time.Duration(float64(c.Total-c.Done)/c.Rate*float64(time.Second)).Round(time.Second))
	}
	return fmt.Sprintf("%s of at most %s copied, %s/s, %s, %s lost", service.FormatSize(c.Done), service.FormatSize(c.Total), service.FormatSize(int64(c.Rate)), left, service.FormatSize(c.Lost))
}

// RescueCopied shows how the copying out ended.
func (s *Screen) RescueCopied(r *service.RescueReply) {
	c := r.Copy
	switch c.State {
	case array.TaskDone:
		s.Printf("%s copied to %s in %s.\n", service.FormatSize(c.Done), c.Path, c.Ended.Sub(c.Started).Round(100*time.Millisecond))
	case array.TaskFailed:
		s.Printf("The copying to %s failed after %s: %s\n", c.Path, service.FormatSize(c.Done), c.Error)
	default:
		s.Printf("The copying to %s is ended; %s were copied.\n", c.Path, service.FormatSize(c.Done))
	}
	if c.Lost == 0 {
		s.Printf("Nothing of it was lost.\n")
	} else {
		s.Printf("%s could not be read and are zeros there; %s.lost lists where.\n", service.FormatSize(c.Lost), c.Path)
	}
	if c.State == array.TaskDone {
		s.Next([]string{"check the file system in " + c.Path + " on a copy of it, then use the copy",
			"the members were not touched: nidalo start " + r.Array + "   when missing disks are back"})
	}
}
