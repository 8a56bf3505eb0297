package advice

import (
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/say"
	"nidalo/core/state"
)

// Loss is what the loss of some disks would mean for one array.
type Loss struct {
	Array    string          `json:"array"`
	Level    string          `json:"level"`
	Before   state.Condition `json:"before"`
	After    state.Condition `json:"after"`
	Margin   int             `json:"margin"`
	Best     int             `json:"margin_best"`
	Lost     []string        `json:"lost"`
	Survived []string        `json:"then_survived"` // members of which one more could go then
	Fatal    []string        `json:"then_fatal"`    // members without which the data would be out of reach then
	Notes    []string        `json:"notes,omitempty"`
}

// Lose works out an array without the members on some physical disks. Nothing in Lost: the array has none there.
func Lose(a *Array, spindles map[string]bool) Loss {
	out := Loss{Array: a.Name, Level: string(a.Map.Level), Before: a.Condition, Lost: []string{}, Fatal: []string{}, Survived: []string{}}
	lose := func(m Member) bool { return spindles[m.Spindle] && m.Spindle != "" }
	for i, m := range a.Members {
		if lose(m) {
			out.Lost = append(out.Lost, fmt.Sprintf("slot %d, %s", i, m.Disk))
			if !m.Condition.Counts() {
				out.Notes = append(out.Notes, fmt.Sprintf("slot %d is %s already: its disk makes no difference", i, m.Condition))
			}
		}
	}
	gone := func(slot int) bool { return !a.Members[slot].Condition.Counts() || lose(a.Members[slot]) }
	certain, best := a.Map.MarginOfDisks(a.spindles(), gone)
	out.After = a.Map.Condition(a.spindles(), gone)
	out.Margin, out.Best = max(certain, 0), best
	disks := make([]state.Identity, len(a.Members))
	for i, m := range a.Members {
		disks[i] = m.Disk
		if gone(i) || certain < 0 {
			continue
		}
		name := fmt.Sprintf("slot %d, %s", i, m.Disk)
		if a.Map.Survives(func(slot int) bool { return slot == i || gone(slot) }) {
			out.Survived = append(out.Survived, name)
		} else {
			out.Fatal = append(out.Fatal, name)
		}
	}
	if a.Map.Shape.Groups > 1 {
		out.Notes = append(out.Notes, Partners(a.Map, disks)...)
	}
	return out
}

// Partners says in words which members hold the same data, or belong together, on nested and mirrored levels.
func Partners(lay *layout.Map, disks []state.Identity) (out []string) {
	if lay.Shape.Groups < 2 && lay.Shape.Data > 1 || !lay.Redundant() {
		return nil
	}
	what := "form one parity group"
	if lay.Shape.Data == 1 {
		what = "hold the same data"
	}
	for g := range lay.Shape.Groups {
		var names []string
		for _, slot := range lay.Regions()[0].Members(g) {
			names = append(names, say.Short(disks[slot]))
		}
		many := "one"
		if lay.Shape.Parity > 1 {
			many = fmt.Sprintf("any %d", lay.Shape.Parity)
		}
		out = append(out, fmt.Sprintf("%s %s, and %s of them may be lost", say.List(names), what, many))
	}
	return out
}
