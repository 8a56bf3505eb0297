package view

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/advice"
	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/say"
	"nidalo/core/state"
)

// PlanTable is what is printed of the levels side by side.
type PlanTable struct {
	Options     []plan.Option
	Assumptions plan.Assumptions
	Chosen      *plan.Option // that was recommended for one aim; nil: for none
	Why         string
	Names       []string      // of the disks
	Hosts       []string      // of the disks; empty: this one
	Outlasts    []plan.Option // survive the loss of any one of them
	All         bool          // also levels that nobody would choose for these disks
}

// Plan prints the levels side by side: those that are the best for an aim first.
func (s *Screen) Plan(p PlanTable) {
	best := map[layout.Level][]string{}
	var first []layout.Level
	for _, aim := range []string{plan.WantSafety, plan.WantCapacity, plan.WantSpeed} {
		if o, _, err := plan.Recommend(p.Options, aim); err == nil {
			best[o.Level] = append(best[o.Level], aim)
			first = append(first, o.Level)
		}
	}
	rank := func(o plan.Option) int {
		switch i := slices.Index(first, o.Level); {
		case i >= 0:
			return i
		case o.Margin > 0:
			return len(first)
		}
		return len(first) + 1
	}
	options := slices.Clone(p.Options)
	slices.SortStableFunc(options, func(x, y plan.Option) int { return rank(x) - rank(y) })
	t := s.table(table.Row{"level", "usable", "survives", "read, write", "loss in a year", "best for"}, 2, 5)
	t.Style().Box.PaddingRight = "  " // 80 columns
	left, rebuild := 0, time.Duration(0)
	for _, o := range options {
		if !p.All && len(first) > 0 && len(best[o.Level]) == 0 && (o.Margin == 0 || o.Margin > mostMargin) {
			left++
			continue
		}
		rebuild = max(rebuild, o.Rebuild)
		t.AppendRow(s.planRow(o, best[o.Level], p.Chosen != nil && o.Level == p.Chosen.Level))
	}
	t.Render()
	if left > 0 {
		s.Printf("%s more with -all\n", capital(say.Count(int64(left), "level", "levels")))
	}
	s.outlasting(p)
	if rebuild > 0 {
		s.Printf("\nA rebuild takes %s of a disk's whole time.\n", Duration(rebuild.Seconds()))
	}
	if text := unequal(p.Options); text != "" {
		s.Printf("\n%s\n", wrap(text, s.Width, ""))
	}
	s.Printf("\n%s\n", wrap("Survives is the losses that are survived for certain, and with luck; speeds are in units of one disk, sequential.", s.Width, ""))
	s.assumptions(p.Assumptions)
	if p.Chosen != nil {
		s.Printf("\nRecommended: level %s: %s.\n", s.strong(string(p.Chosen.Level)), p.Why)
		if len(p.Names) > 0 {
			s.Next([]string{fmt.Sprintf("nidalo create -name NAME -level %s %s", p.Chosen.Level, say.Arguments(p.Names))})
		}
		return
	}
	s.Next([]string{"nidalo plan -want safety   recommends one; nidalo plan -level L   shows one in detail"})
}

// unequal says how much of disks of different sizes each level leaves unused; empty: they are of one size.
func unequal(options []plan.Option) string {
	by, amounts := map[int64][]string{}, []int64{}
	for _, o := range options {
		if by[o.Unequal] == nil {
			amounts = append(amounts, o.Unequal)
		}
		by[o.Unequal] = append(by[o.Unequal], string(o.Level))
	}
	if len(amounts) == 0 || slices.Max(amounts) == 0 {
		return ""
	}
	slices.Sort(amounts)
	var parts []string
	for _, n := range amounts {
		parts = append(parts, fmt.Sprintf("%s at %s %s", nothingOr(n), map[bool]string{false: "level", true: "levels"}[len(by[n]) > 1], say.List(by[n])))
	}
	return "The disks differ in size. What stays unused of them: " + strings.Join(parts, "; ") + "."
}

func nothingOr(bytes int64) string {
	if bytes == 0 {
		return "nothing"
	}
	return say.Size(bytes)
}

// mostMargin is above which margin a level is more than anybody wants, unless it is the best for some aim.
const mostMargin = 3

func (s *Screen) planRow(o plan.Option, best []string, chosen bool) table.Row {
	level := string(o.Level)
	if o.Groups > 1 && !o.Level.Appends() {
		level += fmt.Sprintf(", %d groups", o.Groups)
	}
	if chosen {
		level = s.strong(level)
	}
	remarks := strings.Join(best, ", ")
	if o.Margin == 0 {
		remarks = "(no redundancy)"
	}
	survives := fmt.Sprint(o.Margin)
	if o.Best > o.Margin {
		survives += fmt.Sprintf(" to %d", o.Best)
	}
	return table.Row{level, say.Size(o.Capacity), survives, fmt.Sprintf("%.0f×, %.0f×", o.Read, o.Write), Chance(o.LossYear), remarks}
}

// outlasting names the levels at which any one host can be lost, where the disks are on several.
func (s *Screen) outlasting(p PlanTable) {
	count := map[string]int{}
	for _, h := range p.Hosts {
		count[or(h, "this host")]++
	}
	if len(count) < 2 {
		return
	}
	var where, levels []string
	for _, h := range slices.Sorted(maps.Keys(count)) {
		where = append(where, fmt.Sprintf("%s (%d)", h, count[h]))
	}
	for _, o := range p.Outlasts {
		levels = append(levels, fmt.Sprintf("%s (%s)", o.Level, say.Size(o.Capacity)))
	}
	text := "The disks are on " + say.List(where) + ". "
	if len(levels) == 0 {
		text += "At no level can any one of these hosts be lost."
	} else {
		text += "Any one of these hosts can be lost at level " + say.List(levels) + "; create puts the disks in an order for that."
	}
	s.Printf("\n%s\n", wrap(text, s.Width, ""))
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
	text := fmt.Sprintf("The chances assume that %.2g%% of disks fail in a year (-afr), independently; one bit in %.0e cannot be read (-ure); disks are %s, are rebuilt at %s/s (%s) for %.0f%% of the time (-share), or a third of that when paced (pace normal, clients at work); %s. They compare levels better than they foretell years: disks of one batch fail together more often than that.",
		100*a.AFR, 1/a.URE, full, fmt.Sprintf("%.0fMB", a.Rate/1e6), from, 100*a.Share, spare)
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
	digits := math.Pow(10, math.Max(0, math.Floor(math.Log10(n))-1))
	return humanize.Comma(int64(math.Round(n/digits) * digits))
}

// PlanOne prints one level in detail, with its layout drawn.
func (s *Screen) PlanOne(o plan.Option, g *layout.Map, names []string, rows int, a plan.Assumptions) {
	s.Printf("%s of %d disks: %s usable of %s, overhead %.0f%%, margin %s\n", s.strong("Level "+string(o.Level)), o.Members, say.Size(o.Capacity), say.Size(o.Raw), o.Overhead, Margin(o.Margin, o.Best))
	if len(o.Layers) > 0 {
		s.Layers(o.Layers, names, nil)
	}
	if o.Unequal > 0 {
		s.Printf("%s stays unused: the disks are not of one size.\n", say.Size(o.Unequal))
	}
	text := fmt.Sprintf("Any disk lost is all data lost: the chance of that is %s in a year.", Chance(o.LossYear))
	if o.Margin > 0 {
		text = fmt.Sprintf("A rebuild takes %s, and %s paced; the chance of losing data is %s in a year, and %s while one disk is out.", Duration(o.Rebuild.Seconds()), Duration(o.Paced.Seconds()), Chance(o.LossYear), Chance(o.LossOnce))
	}
	where := ""
	if len(o.Layers) > 0 {
		where = " in the first layer"
	}
	s.Printf("%s\n%s\n", wrap(text, s.Width, ""), wrap(fmt.Sprintf("It reads as fast as %.0f disks and writes as fast as %.0f%s; a block overwritten is %d operations of members, the journal included.", o.Read, o.Write, where, o.Small), s.Width, ""))
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
		s.Next([]string{fmt.Sprintf("nidalo create -name NAME -level %s %s", o.Level, say.Arguments(names))})
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
		s.Printf("%s   %s: %s now, %s then", s.strong(r.Array), LevelOf(r.Level), s.paint(string(r.Before)), s.paint(string(r.After)))
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
		case r.After == state.Partial:
			s.Printf("%s\n", wrap("   The volumes on lost disks would be out of reach, where parity does not make up for it. The other volumes would stay in service.", s.Width, "   "))
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
