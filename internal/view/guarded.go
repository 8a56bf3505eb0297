package view

import (
	"fmt"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// LevelOf is a level in words.
func LevelOf(level string) string {
	if layout.Level(level) == layout.Guarded {
		return "guarded set"
	}
	return "level " + level
}

// PlanGuarded compares the guarded sets of some disks with each other and with striped levels. names are those of the disks; empty: they have none.
func (s *Screen) PlanGuarded(sets []plan.Guarded, sizes []int64, names []string) {
	name := func(i int) string {
		if len(names) > 0 {
			return names[i]
		}
		return say.Size(sizes[i])
	}
	t := s.table(table.Row{"parity on", "volumes", "usable", "survives", "unused", "read turns", "write turns", "striped instead"}, 2, 3, 4, 5, 6, 7)
	for i, g := range sets {
		var on []string
		for _, p := range g.Parity {
			on = append(on, name(p))
		}
		striped := "needs more disks"
		if g.Striped > 0 {
			striped = fmt.Sprintf("%s at level %s", say.Size(g.Striped), []string{"5", "6", "triple"}[i])
		}
		t.AppendRow(table.Row{say.List(on), len(g.Data), say.Size(g.Capacity), g.Margin, say.Size(g.Unused), 1, 1 + len(g.Parity), striped})
	}
	t.Render()
	s.Printf("\n%s\n", wrap("Each data disk is a volume of its own, as large as the disk. The largest disks have the parity, because no data disk may be larger. "+
		"A read turns one of the "+say.Count(int64(len(sizes)), "disk", "disks")+", and a write its own and those with parity; a striped level turns all. When more disks are lost than are survived, a guarded set loses the volumes on them, and a striped level everything. Unused is what parity disks have beyond the largest volume.", s.Width, ""))
}

// volumes lists those of a guarded set.
func (s *Screen) volumes(a control.ArrayStatus) {
	if len(a.Volumes) == 0 {
		return
	}
	head := table.Row{"volume", "usable", "written", "read from"}
	attached := slices.ContainsFunc(a.Volumes, func(v control.VolumeStatus) bool { return v.Device != nil })
	if attached {
		head = append(head, "device")
	}
	t := s.table(head, 2, 3)
	for _, v := range a.Volumes {
		row := table.Row{v.Name, say.Size(v.Size), volumeWritten(a, v), v.From}
		switch {
		case v.Device != nil:
			row = append(row, DeviceLine(v.Device))
		case attached:
			row = append(row, "-")
		}
		t.AppendRow(row)
	}
	t.Render()
	s.Printf("\n")
}

// volumeWritten is how much of a volume was ever written.
func volumeWritten(a control.ArrayStatus, v control.VolumeStatus) string {
	switch {
	case a.Condition == state.Failed:
		return "-"
	case v.Used > 0 && v.AtMost:
		return "at most " + say.Size(v.Used)
	case v.Used > 0:
		return say.Size(v.Used)
	}
	return "nothing yet"
}

// roleOf is what a member of a guarded set has: the volume by its name, or parity. Empty: it is another array.
func roleOf(a control.ArrayStatus, slot int) string {
	if len(a.Volumes) == 0 {
		return ""
	}
	for _, v := range a.Volumes {
		if v.Slot == slot {
			return v.Name
		}
	}
	return "parity"
}

// CreateVolumes prints those of a guarded set that could be created, or just was.
func (s *Screen) CreateVolumes(a control.ArrayStatus) {
	if len(a.Volumes) == 0 {
		return
	}
	t := s.table(table.Row{"volume", "usable", "on"}, 2)
	for _, v := range a.Volumes {
		m := a.Members[v.Slot]
		t.AppendRow(table.Row{a.Name + "/" + v.Name, say.Size(v.Size), or(or(m.Bay, m.Serial), m.Path)})
	}
	t.Render()
	var on []string
	for _, m := range a.Members[len(a.Volumes):] {
		on = append(on, or(or(m.Bay, m.Serial), m.Path))
	}
	s.Printf("Parity is on %s.\n", say.List(on))
}

// RoleMoves shows what becomes of the disks of a set, where one takes over parity.
func (s *Screen) RoleMoves(moves []control.RoleMove) {
	t := s.table(table.Row{"bay", "model", "serial", "size", "now", "then"}, 4)
	for _, x := range moves {
		t.AppendRow(table.Row{or(x.Disk.Bay, x.Disk.Path), or(x.Disk.Model, "-"), or(x.Disk.Serial, "-"), say.Size(x.Size), x.Before, x.After})
	}
	t.Render()
	s.Printf("%s\n", wrap("Step 1 copies the parity onto the new disk; until that is done it can be taken back. Step 2 makes the old parity disk blank, and puts it in the place of the data disk. The set stays in use, and the margin is never lower than now.", s.Width, ""))
}

// Sleeps says when the disks of a guarded set sleep, and which turn.
func Sleeps(a control.ArrayStatus) string {
	if a.SpinDown == 0 {
		return "never"
	}
	var turn, asleep []string
	for _, m := range a.Members {
		switch name := or(or(m.Bay, m.Serial), m.Path); {
		case m.Sleeps:
			asleep = append(asleep, name)
		case m.Condition != "failed" && m.Condition != "missing":
			turn = append(turn, name)
		}
	}
	out := "after " + say.Span(time.Duration(a.SpinDown)*time.Second) + " without work: "
	switch {
	case len(asleep) == 0:
		return out + "all turn at the moment"
	case len(turn) == 0:
		return out + "none turns at the moment"
	}
	verb, others := "turn", fmt.Sprintf("the other %d sleep", len(asleep))
	if len(turn) == 1 {
		verb = "turns"
	}
	if len(asleep) == 1 {
		others = asleep[0] + " sleeps"
	}
	return out + fmt.Sprintf("%s %s at the moment, %s", say.Ranges(turn), verb, others)
}

// SpinDown prints when the disks of guarded sets sleep, and what keeps some from it.
func (s *Screen) SpinDown(sets []control.ArrayStatus) {
	if len(sets) == 0 {
		s.Printf("No guarded set is in service; only the disks of one sleep.\n")
	}
	for _, a := range sets {
		s.Printf("%s\n", wrap(a.Name+": disks sleep "+Sleeps(a), s.Width, "   "))
		for _, m := range a.Members {
			if m.NoSleep != "" {
				s.Printf("%s\n", wrap(fmt.Sprintf("   %s: %s", or(or(m.Bay, m.Serial), m.Path), m.NoSleep), s.Width, "   "))
			}
		}
	}
}
