package view

import (
	"strings"

	"nidalo/core/say"
	"nidalo/internal/control"
)

// Fit shows whether a host is fit, the worst first.
func (s *Screen) Fit(r *control.FitReply) {
	count := map[string]int{}
	wide := 0
	for _, i := range r.Items {
		count[i.Verdict]++
		wide = max(wide, len(i.About))
	}
	wide = min(wide, 34)
	words := map[string]string{control.FitBad: "failed", control.FitConcern: "degraded", control.FitFine: "healthy"} // for their colours
	for _, i := range r.Items {
		verdict := strings.Replace(s.paint(words[i.Verdict]), words[i.Verdict], i.Verdict, 1) + strings.Repeat(" ", 9-len(i.Verdict))
		indent := strings.Repeat(" ", 9+wide+2)
		about := i.About
		if len(about) <= wide {
			about += strings.Repeat(" ", wide-len(about)+2)
		} else {
			about += "\n" + indent
		}
		s.Printf("%s%s%s\n", verdict, about, wrap(capital(i.Found)+".", max(s.Width, len(indent)+40), indent))
		if i.Mend != "" {
			s.Printf("%s%s\n", indent, wrap("→ "+i.Mend, max(s.Width, len(indent)+40), indent+"  "))
		}
	}
	s.Printf("\n")
	switch {
	case count[control.FitBad] > 0:
		s.Printf("Something that is needed does not work.\n")
	case count[control.FitConcern] > 0:
		s.Printf("This host is fit for arrays; %s could be better.\n", countThings(count[control.FitConcern]))
	default:
		s.Printf("This host is fit for arrays.\n")
	}
	if !r.Service {
		s.Printf("No service answers here: rights and limits are those of this command.\n")
	}
}

func countThings(n int) string { return say.Count(int64(n), "thing", "things") }
