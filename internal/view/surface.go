package view

import (
	"fmt"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/say"
	"nidalo/internal/control"
)

// Surfaces lists surface tests, each with what it found.
func (s *Screen) Surfaces(all []control.Surface) {
	if len(all) == 0 {
		s.Printf("No surface of a disk was ever tested here.\n")
		s.Next([]string{"nidalo surface DISK   reads every sector of one"})
		return
	}
	t := s.table(table.Row{"disk", "size", "state", "done", "rate", "time left", "result"}, 2, 4, 5)
	for _, x := range all {
		left := "-"
		if x.ETA != nil {
			left = Duration(*x.ETA)
		}
		t.AppendRow(table.Row{x.Name, say.Size(x.Size), x.State, fmt.Sprintf("%.1f%%", x.Percent), say.Size(int64(x.Rate)) + "/s", left, or(x.Result, "-")})
	}
	t.Render()
	var next []string
	for _, x := range all {
		if x.Bad > 0 {
			s.badPlaces(x)
			if !x.Heal && !x.Ended.IsZero() && x.Places[0].Uses != nil {
				next = append(next, "nidalo surface -heal "+say.Quote(x.Disk)+"   restores what the array lost there from its other members")
			}
		}
	}
	s.Next(next)
}

// badPlaces lists what cannot be read, and what lies there.
func (s *Screen) badPlaces(x control.Surface) {
	s.Printf("\n%s cannot be read at:\n", x.Name)
	t := s.table(table.Row{"  from byte", "length", "what lies there"}, 1, 2)
	for _, b := range x.Places {
		if b.Mended {
			continue
		}
		if len(b.Uses) == 0 {
			t.AppendRow(table.Row{b.Offset, say.Size(b.Length), "-"})
		}
		for i, u := range b.Uses {
			what := u.What
			if u.Array >= 0 {
				what += fmt.Sprintf(" of the array from byte %d on", u.Array)
			}
			if i == 0 {
				t.AppendRow(table.Row{b.Offset, say.Size(b.Length), what})
			} else {
				t.AppendRow(table.Row{"", "", what})
			}
		}
	}
	t.Render()
}

// SurfaceLine is one line about a test under way.
func (s *Screen) SurfaceLine(x control.Surface) string {
	line := fmt.Sprintf("surface test of %s  %5.1f%%  %s of %s  %s/s", x.Name, x.Percent, say.Size(x.Cursor), say.Size(x.Size), say.Size(int64(x.Rate)))
	if x.ETA != nil {
		line += fmt.Sprintf("  %s left, until %s", Duration(*x.ETA), say.End(time.Now(), *x.ETA, 0.1))
	}
	return line
}
