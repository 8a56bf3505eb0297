package view

import (
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Rescue shows what can be read of an array, and what can be done.
func (s *Screen) Rescue(r *control.RescueReply) {
	s.judged(r)
	switch {
	case r.Doubt != "":
		s.Next([]string{fmt.Sprintf("nidalo rescue -state 1 %s   judges the first", r.Array)})
	case r.Export != "":
		at := r.Export
		if len(r.Volumes) > 0 {
			at = r.Volumes[0].Export + " and so on"
		}
		s.Printf("\nIt is served read-only as %s, to %s at the moment.\n", at, say.Count(int64(r.Clients), "client", "clients"))
		s.Next([]string{"connect any client of the block protocol to it: a file system on it can be mounted read-only; lost places are I/O errors",
			"nidalo rescue -stop " + r.Array + "   ends it"})
	case r.Copy == nil:
		s.Next(rescueHints(r))
	}
}

func (s *Screen) judged(r *control.RescueReply) {
	for i, st := range r.States {
		if len(r.States) > 1 {
			mark := ""
			if r.State == st.Number {
				mark = ", the one judged here"
			}
			s.Printf("%sState %d%s\n", blank(i > 0), st.Number, mark)
		}
		s.Printf("%s   %s, epoch %d\n\n", r.Array, LevelOf(r.Level), st.Epoch)
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
		return
	}
	s.Printf("\n%s of %s were written, at most.\n", say.Size(r.Written), say.Size(r.Capacity))
	switch {
	case r.Stage == control.RescueJudging:
		s.Printf("How much of it can be read is still being looked at.\n")
	case r.Lost == 0:
		s.Printf("All of it can be read, as far as the members know.\n")
	default:
		s.Printf("%s of that cannot be read (%.1f%%), in %s:\n", say.Size(r.Lost), 100*float64(r.Lost)/float64(max(r.Written, 1)), say.Count(int64(r.Spans), "place", "places"))
		s.spans(r.Places, r.Spans)
		s.rescueVolumes(r)
		if r.Unsure > 0 {
			s.Printf("For %s of these, no remaining member records whether anything was ever written there.\n", say.Size(r.Unsure))
		}
	}
	if r.Old {
		s.Printf("Data of a member that left earlier is taken unless it is proven to have changed, so some of it may be old.\n")
	}
	for _, n := range r.Notes {
		s.Printf("Note: %s.\n", n)
	}
	s.Printf("What the members do not know to be unreadable or rotten comes on top. Nothing was written to them.\n")
}

// rescueVolumes says what can be read of each volume of a guarded set.
func (s *Screen) rescueVolumes(r *control.RescueReply) {
	if len(r.Volumes) == 0 {
		return
	}
	t := s.table(table.Row{"volume", "from byte", "size", "cannot be read"}, 2, 3, 4)
	for _, v := range r.Volumes {
		lost := "nothing"
		if v.Lost > 0 {
			lost = say.Size(v.Lost)
		}
		t.AppendRow(table.Row{v.Name, v.Start, say.Size(v.Size), lost})
	}
	t.Render()
}

func rescueHints(r *control.RescueReply) []string {
	hints := []string{fmt.Sprintf("nidalo rescue -copy FILE %s   copies out what can be read; FILE needs room for %s at most", r.Array, say.Size(max(0, r.Written-r.Lost))),
		fmt.Sprintf("nidalo rescue -serve %s   lets clients read it", r.Array)}
	if r.Lost > 0 {
		hints = append(hints, "a missing disk that is brought back, or copied to an image (-image), adds its data")
	}
	if len(r.Back) > 0 {
		hints = append(hints, fmt.Sprintf("nidalo rescue -in-place %s   starts it with %s back in, and without what cannot be read", r.Array, names(r.Back)))
	}
	return hints
}

func names(ids []state.Identity) string {
	var out []string
	for _, id := range ids {
		out = append(out, or(or(id.Bay, id.Serial), id.Path))
	}
	return strings.Join(out, " and ")
}

// RescueMeans shows what can be read, and says what bringing members back in place will do.
func (s *Screen) RescueMeans(r *control.RescueReply) {
	s.judged(r)
	s.Printf("\n%s\n", s.strong("Bringing it back in place"))
	s.Printf("  %s, which had left, will be a member again, with the data that is proven to be current.\n", names(r.Back))
	if r.Lost > 0 {
		s.Printf("  The %s that cannot be read are given up for good: they are I/O errors until they are written again.\n", say.Size(r.Lost))
	} else {
		s.Printf("  Nothing is lost by that, as far as the members know.\n")
	}
	if r.Old {
		s.Printf("  Data that is not proven is taken as it was when the member left. Check file systems before you use them.\n")
	}
	for _, st := range r.States {
		for _, m := range st.Members {
			if st.Number == r.State && !m.There {
				s.Printf("  The disk of slot %d, %s, is out for good: when it comes back it has to be erased first.\n", m.Slot, or(or(m.Disk.Serial, m.Disk.Bay), m.Disk.Path))
			}
		}
	}
	s.Printf("  Copying out first (-copy) is the safer way, when there is room.\n\n")
}

// RescueBack says that members were brought back in place.
func (s *Screen) RescueBack(r *control.RescueReply) {
	s.Printf("%s is back in %s. ", names(r.Back), r.Array)
	if r.Lost > 0 {
		s.Printf("%s were given up, in %s.\n\n", say.Size(r.Lost), say.Count(int64(r.Spans), "place", "places"))
	} else {
		s.Printf("Nothing was given up.\n\n")
	}
}

// RescueEnded says what a rescue was at when it was ended.
func (s *Screen) RescueEnded(r *control.RescueReply) {
	switch {
	case r.Copy != nil:
		s.RescueCopied(r)
	case r.Stage == control.RescueStopped || r.Stage == control.RescueDone:
		s.Printf("The rescue of %s is ended.\n", r.Array)
	default:
		s.Printf("The rescue of %s ends as soon as its current step is done.\n", r.Array)
	}
}

func blank(yes bool) string {
	if yes {
		return "\n"
	}
	return ""
}

func (s *Screen) spans(spans []state.Span, all int) {
	const most = 8
	for _, l := range spans[:min(len(spans), most)] {
		s.Printf("   from byte %d, %s\n", l.Offset, say.Size(l.Length))
	}
	if all > most {
		s.Printf("   and %d more: -list FILE writes down all of them\n", all-most)
	}
}

// RescueProgress is one line on how far a rescue is, after some time of it.
func RescueProgress(r *control.RescueReply, after time.Duration) string {
	c := r.Copy
	if r.Stage != control.RescueCopying || c == nil {
		left := "time left not known yet"
		if r.Percent >= 1 {
			left = fmt.Sprintf("about %s left", time.Duration(float64(after)*(100-r.Percent)/r.Percent).Round(time.Second))
		}
		return fmt.Sprintf("%s: %.1f%%, %s", r.Stage, r.Percent, left)
	}
	left := "time left not known yet"
	if c.Rate > 0 {
		left = fmt.Sprintf("about %s left", time.Duration(float64(c.Total-c.Done)/c.Rate*float64(time.Second)).Round(time.Second))
	}
	return fmt.Sprintf("%s of at most %s copied, %s/s, %s, %s lost", say.Size(c.Done), say.Size(c.Total), say.Size(int64(c.Rate)), left, say.Size(c.Lost))
}

// RescueCopied shows how the copying out ended.
func (s *Screen) RescueCopied(r *control.RescueReply) {
	c := r.Copy
	switch c.State {
	case state.TaskDone:
		s.Printf("%s copied to %s in %s.\n", say.Size(c.Done), c.Path, c.Ended.Sub(c.Started).Round(100*time.Millisecond))
	case state.TaskFailed:
		s.Printf("The copying to %s failed after %s: %s\n", c.Path, say.Size(c.Done), c.Error)
	default:
		s.Printf("The copying to %s is ended; %s were copied.\n", c.Path, say.Size(c.Done))
	}
	if c.Lost == 0 {
		s.Printf("Nothing of it was lost.\n")
	} else {
		s.Printf("%s could not be read and are zeros there; %s.lost lists where.\n", say.Size(c.Lost), c.Path)
	}
	if c.State == state.TaskDone {
		s.Next([]string{"check the file system in " + c.Path + " on a copy of it, then use the copy",
			"the members were not touched: nidalo start " + r.Array + "   when missing disks are back"})
	}
}
