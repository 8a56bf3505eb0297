package view

import (
	"fmt"
	"time"

	"nidalo/core/say"
	"nidalo/internal/control"
)

// WholeDisk says what the replacement of a whole disk is going to do.
func (s *Screen) WholeDisk(r *control.DiskReply, retire bool) {
	if r.Like != "" {
		s.Printf("%s gets a partition table like that of %s.\n", r.New.Identity, r.Like)
	}
	verb := "is rebuilt onto"
	if retire {
		verb = "is copied onto"
	}
	for _, p := range r.Parts {
		where := "the whole disk"
		if p.Part > 0 {
			where = fmt.Sprintf("partition %d", p.Part)
		}
		s.Printf("  array %s, slot %d, %s %s\n", p.Array, p.Slot, verb, where)
	}
	for _, o := range r.Others {
		s.Printf("  %s\n", o)
	}
	for _, n := range r.Notes {
		s.Printf("%s.\n", capital(n))
	}
}

// DiskTaskLine is one line about the replacement of a whole disk.
func DiskTaskLine(t control.DiskTask) string {
	line := fmt.Sprintf("%s by %s: %s", t.Old, t.New, t.State)
	if t.State != "running" {
		if t.Error != "" {
			line += ": " + t.Error
		}
		return line
	}
	line = fmt.Sprintf("%s by %s  %5.1f%%  %d of %d arrays done  %s/s", t.Old, t.New, t.Percent, t.Ready, t.Arrays, say.Size(int64(t.Rate)))
	if t.ETA == nil {
		return line + "  time left not known yet"
	}
	return line + fmt.Sprintf("  %s left, until %s", Duration(*t.ETA), say.End(time.Now(), *t.ETA, 0.2))
}
