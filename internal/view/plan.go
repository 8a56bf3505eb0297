package view

import (
	"fmt"
	"math"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/advice"
	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/say"
)

// Plan prints the levels side by side.
func (s *Screen) Plan(options []plan.Option, a plan.Assumptions, chosen *plan.Option, why string, names []string) {
	t := s.table(table.Row{"level", "usable", "overhead", "margin", "read", "write", "small write", "rebuild", "paced", "loss in a year", "loss in a rebuild"}, 2, 3, 5, 6, 7, 8, 9, 10, 11)
	for _, o := range options {
		level := string(o.Level)
		if o.Groups > 1 && !o.Level.Appends() {
			level += fmt.Sprintf(" (%d groups)", o.Groups)
		}
		if chosen != nil && o.Level == chosen.Level {
			level = s.strong(level)
		}
		rebuild, paced, once := "-", "-", "-"
		if o.Margin > 0 {
			rebuild, paced, once = Duration(o.Rebuild.Seconds()), Duration(o.Paced.Seconds()), Chance(o.LossOnce)
		}
		t.AppendRow(table.Row{level, say.Size(o.Capacity), fmt.Sprintf("%.0f%%", o.Overhead), Margin(o.Margin, o.Best),
			fmt.Sprintf("%.0f×", o.Read), fmt.Sprintf("%.0f×", o.Write), fmt.Sprintf("%d ops", o.Small), rebuild, paced, Chance(o.LossYear), once})
	}
	t.Render()
	if u := options[0].Unequal; u > 0 {
		s.Printf("\n%s are lost to unequal sizes at every level but concat.\n", say.Size(u))
	}
	s.assumptions(a)
	if chosen != nil {
		s.Printf("\nRecommended: level %s: %s.\n", s.strong(string(chosen.Level)), why)
		if len(names) > 0 {
			s.Next([]string{fmt.Sprintf("nidalo create -name NAME -level %s %s", chosen.Level, strings.Join(names, " "))})
		}
		return
	}
	s.Next([]string{"nidalo plan -want safety   recommends one; nidalo plan -level L   shows one in detail"})
}

func (s *Screen) assumptions(a plan.Assumptions) {
	spare := fmt.Sprintf("a failed disk is replaced after %s (-swap-in)", Duration(a.Replace.Seconds()))
	if a.Replace == 0 {
		spare = "a spare takes over at once (-swap-in)"
	}
	full, from := "full", "-rate"
	if a.Measured > 0 {
		from = "measured: the median of " + say.Count(int64(a.Measured), "rebuild", "rebuilds") + " here"
	}
	if a.Used < 1 {
		full = fmt.Sprintf("%.0f%% full", 100*a.Used)
	}
	text := fmt.Sprintf("Speeds are in units of one disk, sequential; a small write is what members do for one block overwritten, the journal included. The chances assume that %.2g%% of disks fail in a year (-afr), independently; one bit in %.0e cannot be read (-ure); disks are %s, are rebuilt at %s/s (%s) for %.0f%% of the time (-share), or a third of that when paced (pace normal, clients at work); %s. They compare levels better than they foretell years: disks of one batch fail together more often than that.",
		100*a.AFR, 1/a.URE, full, say.Size(int64(a.Rate)), from, 100*a.Share, spare)
	s.Printf("\n%s\n", wrap(text, s.Width, ""))
}

// Chance writes a probability for people.
func Chance(p float64) string {
	switch {
	case p >= 0.0995:
		return fmt.Sprintf("%.0f%%", 100*p)
	case p >= 0.0005:
		return fmt.Sprintf("%.2g%%", 100*p)
	case p <= 0:
		return "0"
	}
	return fmt.Sprintf("1 in %s", inWords(1/p))
}

func inWords(n float64) string {
	for _, u := range []struct {
		from float64
		name string
	}{{1e15, ""}, {1e12, " trillion"}, {1e9, " billion"}, {1e6, " million"}} {
		if n >= u.from {
			if u.name == "" {
				return fmt.Sprintf("10^%.0f", math.Floor(math.Log10(n)))
			}
			if n/u.from >= 10 {
				return fmt.Sprintf("%.0f%s", n/u.from, u.name)
			}
			return fmt.Sprintf("%.1f%s", n/u.from, u.name)
		}
	}
	return fmt.Sprintf("%.0f", n)
}

// PlanOne prints one level in detail, with its layout drawn.
func (s *Screen) PlanOne(o plan.Option, g *layout.Map, names []string, rows int, a plan.Assumptions) {
	s.Printf("%s of %d disks: %s usable of %s, overhead %.0f%%, margin %s\n", s.strong("Level "+string(o.Level)), o.Members, say.Size(o.Capacity), say.Size(o.Raw), o.Overhead, Margin(o.Margin, o.Best))
	if o.Unequal > 0 {
		s.Printf("%s are lost to unequal sizes.\n", say.Size(o.Unequal))
	}
	if o.Margin > 0 {
		s.Printf("A rebuild takes %s, and %s paced; the chance of losing data is %s in a year, and %s while one disk is out.\n", Duration(o.Rebuild.Seconds()), Duration(o.Paced.Seconds()), Chance(o.LossYear), Chance(o.LossOnce))
	} else {
		s.Printf("Any disk lost is all data lost: the chance of that is %s in a year.\n", Chance(o.LossYear))
	}
	s.Printf("\n")
	header := table.Row{"row"}
	right := []int{1}
	for slot := range g.Members {
		name := fmt.Sprint("slot ", slot)
		if slot < len(names) {
			name = names[slot]
		}
		header = append(header, name)
		right = append(right, slot+2)
	}
	t := s.table(header, right...)
	for row := range int64(max(1, rows)) {
		line := table.Row{row}
		for slot := range g.Members {
			line = append(line, plan.Cell(g, slot, row))
		}
		t.AppendRow(line)
	}
	t.Render()
	legend := fmt.Sprintf("Numbers are the array's strips of %s in order", say.Size(g.Shape.Strip))
	switch {
	case g.Shape.Data == 1 && g.Shape.Parity > 0:
		legend += "; =n is a further copy of strip n"
	case g.Shape.Parity > 0:
		legend += "; " + []string{"P is", "P and Q are", "P, Q and R are"}[g.Shape.Parity-1] + " the parity of the stripe with that number"
	}
	s.Printf("\n%s\n", wrap(legend+".", s.Width, ""))
	s.assumptions(a)
	if len(names) > 0 {
		s.Next([]string{fmt.Sprintf("nidalo create -name NAME -level %s %s", o.Level, strings.Join(names, " "))})
	}
}

// WhatIf prints what the loss of some disks would mean.
func (s *Screen) WhatIf(replies []advice.Loss) {
	if len(replies) == 0 {
		s.Printf("No array in service has any of these disks: nothing would be lost.\n")
	}
	for i, r := range replies {
		if i > 0 {
			s.Printf("\n")
		}
		s.Printf("%s   level %s: %s now, %s then", s.strong(r.Array), r.Level, s.paint(string(r.Before)), s.paint(string(r.After)))
		if r.After != "failed" {
			s.Printf(", margin %s", Margin(r.Margin, r.Best))
		}
		s.Printf("\n")
		for _, l := range r.Lost {
			s.Printf("   without  %s\n", l)
		}
		switch {
		case r.After == "failed":
			s.Printf("   Its data would be out of reach.\n")
		case len(r.Fatal) == 0:
			s.Printf("   Any one of the others could go as well.\n")
		default:
			for _, f := range r.Fatal {
				s.Printf("   must not go then  %s\n", f)
			}
			if len(r.Survived) > 0 {
				s.Printf("   %d others could go as well, one of them.\n", len(r.Survived))
			}
		}
		for _, n := range r.Notes {
			s.Printf("   %s\n", capital(n))
		}
	}
}
