package view

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/internal/control"
)

// Map shows where the data of an array lives.
func (s *Screen) Map(r *control.MapReply) {
	s.Printf("%s   %s, %s, margin %d\n\n", s.strong(r.Array), LevelOf(r.Level), s.paint(r.Condition), r.Margin)
	r.Members = slices.DeleteFunc(slices.Clone(r.Members), func(m control.MemberMap) bool { return m.Condition == record.Vacant.String() })
	t := s.table(table.Row{"slot", "bay", "serial", "condition", "its data area, from the first byte to the last"}, 1)
	parts, bad, cursor := 0, 0, false
	for _, m := range r.Members {
		line, n := regions(m)
		bad += n
		parts = max(parts, len(m.Written))
		t.AppendRow(table.Row{m.Slot, or(m.Disk.Bay, m.Disk.Path), or(m.Disk.Serial, "-"), s.paint(m.Condition), line})
		if m.Copied >= 0 {
			cursor = true
			t.AppendRow(table.Row{"", "", "", "copied", pointer(m.Copied, len(m.Written))})
		}
		cursor = cursor || m.Cursor >= 0
	}
	if r.Check >= 0 && parts > 0 {
		cursor = true
		t.AppendRow(table.Row{"", "", "", "check", pointer(r.Check, parts)})
	}
	t.Render()
	s.Printf("\n")
	if parts > 0 {
		legend := fmt.Sprintf("A character is %s: # something in it was written, . nothing ever was", say.Size(r.Members[0].Data/int64(parts)))
		if bad > 0 {
			legend += ", x the last check found blocks wrong there"
		}
		if cursor {
			legend += ", > how far the task is"
		}
		s.Printf("%s.\n\n", wrap(legend, s.Width, ""))
	}
	header, right := table.Row{"row"}, []int{1}
	for i, m := range r.Members {
		header, right = append(header, or(m.Disk.Bay, fmt.Sprint("slot ", m.Slot))), append(right, i+2)
	}
	l := s.table(header, right...)
	for row := range r.Members[0].Strips {
		line := table.Row{row}
		for _, m := range r.Members {
			line = append(line, m.Strips[row])
		}
		l.AppendRow(line)
	}
	l.Render()
	whose := "the array's"
	if layout.Level(r.Level) == layout.Guarded {
		whose = "each volume's"
	}
	s.Printf("\n%s\n", wrap(fmt.Sprintf("The first rows: numbers are %s strips of %s in order%s.", whose, say.Size(r.Strip), meaning(r.Members)), s.Width, ""))
	for _, p := range r.Partners {
		s.Printf("%s.\n", p)
	}
	next := []string{"nidalo plan -lose DISK " + r.Array + "   what the loss of disks would mean"}
	if bad > 0 {
		next = append([]string{"nidalo check -repair " + r.Array + "   rewrites what is wrong, from redundancy"}, next...)
	}
	s.Next(next)
}

// meaning explains what is beside plain numbers in the strips.
func meaning(members []control.MemberMap) (out string) {
	all := ""
	for _, m := range members {
		all += strings.Join(m.Strips, "")
	}
	if strings.Contains(all, "=") {
		out += "; =n is a further copy of strip n"
	}
	if n := strings.Count(all, "P0") + strings.Count(all, "Q0") + strings.Count(all, "R0"); n > 0 {
		out += "; " + []string{"P is", "P and Q are", "P, Q and R are"}[min(n, 3)-1] + " the parity of the stripe with that number"
	}
	return out
}

// regions draws the parts of a member, and counts what is bad.
func regions(m control.MemberMap) (line string, bad int) {
	if len(m.Written) == 0 {
		return "cannot be asked", 0
	}
	out := []byte(strings.Repeat(".", len(m.Written)))
	for i, w := range m.Written {
		if w {
			out[i] = '#'
		}
		if m.Bad[i] > 0 {
			out[i] = 'x'
			bad += m.Bad[i]
		}
	}
	if m.Cursor >= 0 {
		out[min(len(out)-1, int(m.Cursor*float64(len(out))))] = '>'
	}
	return string(out), bad
}

func pointer(share float64, parts int) string {
	return strings.Repeat(" ", min(parts-1, int(share*float64(parts)))) + ">"
}
