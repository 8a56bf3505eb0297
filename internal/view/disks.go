package view

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Disks lists the survey: the disks of the host, then the lab and files.
func (s *Screen) Disks(disks []control.DiskInfo, next []string) {
	var real, others []control.DiskInfo
	blank, looked, what := 0, 0, "disks"
	for _, d := range disks {
		if d.Hardware == nil || d.Hardware.Part == 0 {
			looked++
		}
		if d.Bay != "" && d.Hardware == nil {
			what = "bays and disks"
		}
		if d.Hardware != nil {
			real = append(real, d)
		} else {
			others = append(others, d)
		}
		if d.State == state.DiskBlank {
			blank++
		}
	}
	if len(disks) == 0 {
		s.Printf("No disks to look at.\n")
	}
	if len(real) > 0 {
		s.hostDisks(real)
	}
	if len(others) > 0 {
		if len(real) > 0 {
			s.Printf("\n")
		}
		s.otherDisks(others)
	}
	if len(disks) > 0 {
		s.Printf("\n%d %s looked at, %d blank\n", looked, what, blank)
	}
	s.Next(next)
}

// hostDisks lists block devices: a disk, and below it its partitions.
func (s *Screen) hostDisks(disks []control.DiskInfo) {
	t := s.table(table.Row{"disk", "bay", "model", "serial", "size", "kind", "health", "state", "holds"}, 5)
	for _, d := range disks {
		hw := d.Hardware
		bay := or(d.Bay, strings.TrimSpace(hw.Bus+" "+hw.Address))
		if hw.Part > 0 {
			t.AppendRow(table.Row{"  " + d.Path, "", "", fmt.Sprintf("  part %d", hw.Part), say.Size(d.Size), "", "", s.paint(string(d.State)), diskHolds(d)})
			continue
		}
		holds := diskHolds(d)
		if len(hw.Paths) > 0 {
			holds = strings.TrimPrefix(holds+"; also reached as "+strings.Join(hw.Paths, ", "), "; ")
		}
		t.AppendRow(table.Row{d.Path, or(bay, "-"), or(d.Model, "-"), or(d.Serial, "-"), say.Size(d.Size), kindOf(hw), or(d.Health, "-"), s.paint(string(d.State)), holds})
	}
	t.Render()
}

// kindOf says what a disk is made of.
func kindOf(hw *control.Hardware) string {
	switch {
	case hw.File != "":
		return "file"
	case hw.Rotating == nil:
		return "-"
	case *hw.Rotating:
		return "rotating"
	}
	return "solid state"
}

// otherDisks lists bays of the lab, and files.
func (s *Screen) otherDisks(disks []control.DiskInfo) {
	t := s.table(table.Row{"bay", "model", "serial", "size", "health", "state", "holds"}, 4)
	for _, d := range disks {
		size := "-"
		if d.Size > 0 {
			size = say.Size(d.Size)
		}
		t.AppendRow(table.Row{or(d.Bay, d.Path), or(d.Model, "-"), or(d.Serial, "-"), size, or(d.Health, "-"), s.paint(string(d.State)), diskHolds(d)})
	}
	t.Render()
}

// diskHolds is what is on a disk, or else whether it was vetted.
func diskHolds(d control.DiskInfo) string {
	holds := strings.Join(d.Holds, "; ")
	if d.Array != "" {
		holds = fmt.Sprintf("%s slot %d, %s", d.Array, *d.Slot, d.Member)
	}
	if d.State == state.DiskBlank || d.State == state.DiskSpare {
		holds = "vet: " + or(d.Vetting, "never")
	}
	if d.Bad != "" && (d.Vetting == "" || !strings.HasSuffix(d.Bad, d.Vetting)) {
		holds = strings.TrimPrefix(holds+"; "+d.Bad, "; ")
	}
	return holds
}

// Spares lists hot spares.
func (s *Screen) Spares(all []control.SpareStatus) {
	if len(all) == 0 {
		s.Printf("There is no spare.\n")
		s.Next([]string{"nidalo spare DISK   makes a blank disk one"})
		return
	}
	t := s.table(table.Row{"spare", "size", "for", "stands ready for", "remarks"}, 2)
	for _, p := range all {
		name, size := p.Name, "-"
		if p.Disk != nil {
			name, size = p.Disk.Identity.String(), say.Size(p.Disk.Size)
		}
		t.AppendRow(table.Row{name, size, or(strings.Join(p.Arrays, ", "), "all arrays"), or(strings.Join(p.Ready, ", "), "none"), or(p.Reason, "-")})
	}
	t.Render()
}
