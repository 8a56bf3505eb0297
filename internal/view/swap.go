package view

import (
	"fmt"
	"strings"

	"nidalo/core/plan"
	"nidalo/core/say"
	"nidalo/internal/control"
)

// Swap prints what new disks in the place of members would take and give.
func (s *Screen) Swap(r control.ArrayStatus, slots []int, w plan.Swap, a plan.Assumptions) {
	var names []string
	for _, slot := range slots {
		m := r.Members[slot]
		names = append(names, fmt.Sprintf("%s (%s %s, %s)", or(m.Bay, m.Path), m.Model, m.Serial, say.Size(m.Size)))
	}
	what := "a disk of " + say.Size(w.Size)
	if len(slots) > 1 {
		what = fmt.Sprintf("%d disks of %s, one after the other,", len(slots), say.Size(w.Size))
	}
	s.Printf("%s\n\n", wrap(fmt.Sprintf("%s: %s in the place of %s", s.strong(r.Name), what, strings.Join(names, ", ")), s.Width, ""))
	of := ""
	if len(slots) > 1 {
		of = fmt.Sprintf(", %s altogether", Duration(w.Whole.Seconds()))
	}
	s.Printf("takes    %s of rebuilding or copying a disk%s\n", Duration(w.Each.Seconds()), of)
	s.Printf("replace  margin %d instead of %d meanwhile; the chance of losing data is %s\n", max(w.During, 0), w.Margin, Chance(w.Loss))
	s.Printf("retire   margin %d throughout; the chance of losing data is %s\n", w.Margin, Chance(w.Copy))
	switch {
	case w.Then > w.Now:
		s.Printf("gives    %s more: %s instead of %s usable, once the array is grown\n", say.Size(w.Then-w.Now), say.Size(w.Then), say.Size(w.Now))
	case w.Wasted > 0:
		s.Printf("gives    no more space: other members are smaller; %s of disks lie unused\n", say.Size(w.Wasted))
	default:
		s.Printf("gives    a new disk, and no more space\n")
	}
	s.assumptions(a)
	s.Next([]string{fmt.Sprintf("nidalo retire %s %s   copies it while it still works, onto the smallest blank disk that fits", r.Name, or(r.Members[slots[0]].Bay, r.Members[slots[0]].Serial))})
}
