package view

import (
	"fmt"
	"strings"
	"time"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Change shows what a change of layout means.
func (s *Screen) Change(c control.ChangeReply) {
	s.Printf("Array %s\n", s.strong(c.Array))
	now, then := c.Before, c.Then
	line := func(what, before, after string) {
		if before == after {
			s.Printf("  %-9s %s, as now\n", what, before)
			return
		}
		s.Printf("  %-9s %s now, %s then\n", what, before, after)
	}
	level := func(l control.LayoutStatus) string {
		out := LevelOf(l.Level)
		if l.Groups > 1 && l.Level != "concat" {
			out += fmt.Sprintf(" in %d groups", l.Groups)
		}
		return out
	}
	line("capacity", say.Size(now.Capacity), say.Size(then.Capacity))
	line("layout", level(now), level(then))
	line("strips", say.Size(now.Strip), say.Size(then.Strip))
	line("members", fmt.Sprint(now.Members), fmt.Sprint(then.Members))
	line("margin", fmt.Sprint(now.Margin), fmt.Sprint(then.Margin))
	if w := c.Written; w != nil {
		s.Printf("  %-9s %s on each member now, about %s then\n", "written", span(w.Now), span(w.Then))
	}
	if len(c.Disks) > 0 {
		s.Printf("  %-9s %s\n", "new disks", shortNames(c.Disks))
	}
	for _, v := range c.Volumes {
		s.Printf("  %-9s %s, %s\n", "volume", v.Name, say.Size(v.Size))
	}
	if c.Gone != "" {
		s.Printf("  %-9s %s, gone then\n", "volume", c.Gone)
	}
	if len(c.Free) > 0 {
		then := "blank at the end"
		switch {
		case c.Spares && len(c.Free) == 1:
			then = "a hot spare at the end"
		case c.Spares:
			then = "hot spares at the end"
		}
		s.Printf("  %-9s %s, %s\n", "freed", shortNames(c.Free), then)
	}
	if len(c.Layers) > 0 {
		s.Printf("  the layers then:\n")
		s.Layers(c.Layers, nil, nil)
	}
	s.Printf("%s\n", wrap(strings.Join(changeWords(c), " "), s.Width, ""))
}

// span is a size, or two with what is between them.
func span(of [2]int64) string {
	if least, most := say.Size(of[0]), say.Size(of[1]); least != most {
		return least + " to " + most
	} else {
		return most
	}
}

func shortNames(of []state.Identity) string {
	var names []string
	for _, d := range of {
		names = append(names, say.Short(d))
	}
	return say.List(names)
}

// changeWords says what a change costs, and what of it cannot be undone.
func changeWords(c control.ChangeReply) (text []string) {
	now, then := c.Before, c.Then
	if c.Waits != "" {
		text = append(text, fmt.Sprintf("It begins by itself %s; \"now\" is what the array has then.", c.Waits))
	}
	switch {
	case c.Beyond > 0 && c.Gone != "":
		text = append(text, fmt.Sprintf("What is written in the volume %s is lost: %s.", c.Gone, c.BeyondWords()))
	case c.Beyond > 0:
		text = append(text, fmt.Sprintf("What is written beyond the new end is lost: %s.", c.BeyondWords()))
	}
	for _, x := range c.Copies {
		text = append(text, fmt.Sprintf("%s has nothing of the array at the end; then %s is copied onto it.", say.Short(x.Onto), say.Short(x.From)))
	}
	switch {
	case c.Parity:
		text = append(text, "Nothing has to be moved. The parity disk is filled by a rebuild, and counts for the margin when that is done.")
	case c.Gone != "" && c.Beyond > 0:
		text = append(text, "A task empties the volume first, with progress and an end time, since parity has to be worked out anew wherever other volumes have something; then its disk is taken out.")
	case c.Moves == 0:
		text = append(text, "Nothing has to be moved: it takes seconds.")
	default:
		text = append(text,
			fmt.Sprintf("At most %s of data are laid out anew. That takes about %s if each disk does %.0fMB/s and clients are quiet, and up to three times as long with busy ones.", say.Size(c.Moves), Duration(c.Seconds), c.Rate/1e6),
			fmt.Sprintf("Meanwhile the array stays in use, with a margin of %d. Reads and writes wait for a moment where it is at work. It can be paused and paced.", min(now.Margin, then.Margin)))
	}
	if c.Moves == 0 && then.Capacity < now.Capacity && len(c.Free) == 0 {
		text = append(text, fmt.Sprintf("nidalo grow %s takes the room up again. Have a fresh backup.", c.Array))
	} else if c.Back && c.Moves > 0 {
		text = append(text, fmt.Sprintf("Until it is done, nidalo cancel %s conversion has it go back. Have a fresh backup.", c.Array))
	} else {
		text = append(text, "It cannot be taken back. Have a fresh backup.")
	}
	if then.Margin < now.Margin {
		text = append(text, fmt.Sprintf("The margin falls from %d to %d.", now.Margin, then.Margin))
	}
	return text
}

func turnWords(c *control.TurnStatus) string {
	part := fmt.Sprintf("the %s %s of it", map[bool]string{false: "first", true: "last"}[c.Down], say.Size(c.Moved))
	if c.Back {
		return fmt.Sprintf("Its conversion was cancelled: it goes back to level %s of %d members; %s are laid out as before so far.", c.Level, c.Members, part)
	}
	text := fmt.Sprintf("It is being converted to level %s of %d members, %s usable then; %s are laid out anew so far.", c.Level, c.Members, say.Size(c.Capacity), part)
	if c.Turns {
		text += " It was cancelled, and goes back from the next boundary that both layouts have."
	}
	return text
}

func waitingWords(w *control.WaitingChange, name string) string {
	with := ""
	if len(w.Disks) > 0 {
		with = " with " + say.List(w.Disks)
	}
	if len(w.Free) > 0 {
		with = " without " + say.List(w.Free)
	}
	return fmt.Sprintf("Another change waits for that: to level %s of %d members%s, %s usable then. It begins by itself; nidalo cancel %s conversion drops it.",
		w.To.Level, w.To.Members, with, say.Size(w.To.Capacity), name)
}

// handingWords says how far it is that a disk takes over parity.
func handingWords(h *control.Handing, name string) string {
	out := fmt.Sprintf("%s takes over the parity from %s, which then takes the place of %s with the volume %s: %.1f%%", h.New, h.Old, h.Member, h.Volume, h.Percent)
	if h.ETA != nil {
		out += ", ends " + say.End(time.Now(), *h.ETA, h.Unsure)
	}
	out += fmt.Sprintf(". Step %d of 2 is at %.1f%%, %s/s", h.Step, h.StepPercent, say.Size(int64(h.Rate)))
	if h.Waits != "" {
		out += ", and waits: " + h.Waits
	}
	if h.Step == 1 {
		return out + fmt.Sprintf("; nidalo cancel %s retire takes it back until it is done.", name)
	}
	return out + "; it cannot be taken back any more."
}

// change says how far a conversion is, and what it leads to.
func (s *Screen) change(a control.ArrayStatus) {
	if c := a.Change; c != nil {
		s.Printf("%s\n", wrap(turnWords(c), s.Width, ""))
	}
	if h := a.Handing; h != nil {
		s.Printf("%s\n", wrap(handingWords(h, a.Name), s.Width, ""))
	}
	if w := a.Waiting; w != nil {
		s.Printf("%s\n", wrap(waitingWords(w, a.Name), s.Width, ""))
	}
	g := a.Growth
	switch {
	case g == nil:
	case g.Cut:
		s.Printf("%s\n", wrap(fmt.Sprintf("Room for %s was given up: nidalo grow %s takes it up again.", say.Size(g.Gain), a.Name), s.Width, ""))
	case g.Gain > 0:
		s.Printf("%s\n", wrap(fmt.Sprintf("Its disks have room for %s more: nidalo grow %s %s.", say.Size(g.Gain), a.Name, map[bool]string{false: "takes it up", true: "lays the layers out anew over it"}[g.Moves]), s.Width, ""))
	case len(g.Short) > 0 && len(g.Short) < len(a.Members):
		s.Printf("%s\n", wrap(fmt.Sprintf("%s larger than the others; %s is unused. With larger ones for %s as well, the array can grow by %s.", say.Of(g.Larger, len(a.Members), "disk"), say.Size(g.Unused), say.List(g.Short), say.Size(g.Then)), s.Width, ""))
	}
}
