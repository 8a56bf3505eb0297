package view

import (
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/plan"
	"nidalo/core/say"
	"nidalo/internal/control"
)

// Layers prints how disks of different sizes are used: what all have, then what the larger ones have more. names are those of the disks by slot,
// if they have any; unused is how much of each stays so, in bytes.
func (s *Screen) Layers(layers []plan.Layer, names []string, unused []int64) {
	if len(layers) > 0 {
		rebuild := layers[0].Rebuild > 0
		head := table.Row{"layer", "disks", "of each", "usable", "survives"}
		if rebuild {
			head = append(head, "rebuild")
		}
		t := s.table(head, 1, 3, 4, 5, 6)
		for i, l := range layers {
			row := table.Row{i + 1, named(l.Slots, names), say.Size(l.Each), say.Size(l.Capacity), l.Margin}
			switch {
			case l.Mirror && l.Groups > 1:
				row[1] = fmt.Sprintf("%s, %d mirrors", row[1], l.Groups)
			case l.Mirror:
				row[1] = fmt.Sprint(row[1], ", a mirror")
			case l.Groups > 1:
				row[1] = fmt.Sprintf("%s, %d groups", row[1], l.Groups)
			}
			if rebuild {
				row = append(row, Duration(l.Rebuild.Seconds()))
			}
			t.AppendRow(row)
		}
		t.Render()
	}
	for slot := 0; slot < len(unused); slot++ {
		slots, n := []int{slot}, unused[slot]
		for n > 0 && slot+1 < len(unused) && unused[slot+1] == n {
			slot++
			slots = append(slots, slot)
		}
		if n > 0 {
			s.Printf("%s\n", wrap(fmt.Sprintf("%s of %s stays unused.", say.Size(n), eachOf(slots, names)), s.Width, ""))
		}
	}
}

func eachOf(slots []int, names []string) string {
	if len(slots) == 1 {
		return named(slots, names)
	}
	return "each of " + named(slots, names)
}

// named names the disks in some slots, or counts them where they have no names.
func named(slots []int, names []string) string {
	if len(names) == 0 {
		return say.Count(int64(len(slots)), "disk", "disks")
	}
	var of []string
	for _, slot := range slots {
		of = append(of, names[slot])
	}
	return say.Ranges(of)
}

// layers prints those of an array. What is unused of its disks is left to what says how it can grow.
func (s *Screen) layers(a control.ArrayStatus) {
	if len(a.Layers) > 0 {
		s.Layers(a.Layers, namesOf(a), nil)
		s.Printf("\n")
	}
}

func namesOf(a control.ArrayStatus) (names []string) {
	for _, m := range a.Members {
		names = append(names, or(or(m.Bay, m.Serial), m.Path))
	}
	return names
}

// CreateLayers prints how an array that could be created uses disks of different sizes.
func (s *Screen) CreateLayers(a control.ArrayStatus) {
	s.Layers(a.Layers, namesOf(a), a.Unused)
}
