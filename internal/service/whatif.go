package service

import (
	"fmt"

	"nidalo/core/record"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
)

// WhatIf tells what the loss of some disks would do to the arrays: to the one named, or to all that have any of them.
func (s *Service) WhatIf(req control.WhatIfRequest) ([]control.WhatIfReply, error) {
	wanted := map[string]bool{}
	for _, name := range req.Lose {
		src, err := s.locate(name)
		if err != nil {
			return nil, err
		}
		info := s.lookAt(src)
		if info.State == control.DiskEmpty {
			return nil, &control.Error{What: fmt.Sprintf("bay %s is empty", name)}
		}
		wanted[spindle(info.Identity)] = true
	}
	arrays := s.running()
	if req.Array != "" {
		r, err := s.named(req.Array)
		if err != nil {
			return nil, err
		}
		arrays = []*running{r}
	}
	out := []control.WhatIfReply{}
	for _, r := range arrays {
		reply, touched := whatIf(r, wanted)
		if touched || req.Array != "" {
			out = append(out, reply)
		}
	}
	return out, nil
}

// whatIf works out one array without the disks whose spindles are wanted.
func whatIf(r *running, wanted map[string]bool) (control.WhatIfReply, bool) {
	lay, members := r.Layout(), r.MemberStates()
	lost := make([]bool, len(members)) // gone already
	lose := make([]bool, len(members))
	out := control.WhatIfReply{Array: r.Name(), Level: string(lay.Level), Before: string(r.Condition()), Lost: []string{}, Fatal: []string{}, Survived: []string{}}
	for i, m := range members {
		lost[i] = m.Condition != record.Active && m.Condition != record.Failing
		if wanted[spindle(m.Disk)] && m.Disk.Path != "" {
			lose[i] = true
			out.Lost = append(out.Lost, fmt.Sprintf("slot %d, %s", i, m.Disk))
			if lost[i] {
				out.Notes = append(out.Notes, fmt.Sprintf("slot %d is %s already: its disk makes no difference", i, m.Condition))
			}
		}
	}
	gone := func(s int) bool { return lost[s] || lose[s] }
	disks := make([]string, len(members))
	for i, m := range members {
		disks[i] = record.SpindleOf(m.Disk.Model, m.Disk.Serial)
	}
	certain, best := lay.MarginOfDisks(disks, gone)
	out.After = string(roster.ConditionOf(lay, disks, gone))
	out.Margin, out.Best = max(certain, 0), best
	for i, m := range members {
		if gone(i) || certain < 0 {
			continue
		}
		name := fmt.Sprintf("slot %d, %s", i, m.Disk)
		if lay.Survives(func(s int) bool { return s == i || gone(s) }) {
			out.Survived = append(out.Survived, name)
		} else {
			out.Fatal = append(out.Fatal, name)
		}
	}
	if lay.Shape.Groups > 1 {
		out.Notes = append(out.Notes, partners(lay, members)...)
	}
	touched := len(out.Lost) > 0
	return out, touched
}

func join2(names []string) string {
	text := ""
	for i, n := range names {
		switch {
		case i == 0:
		case i == len(names)-1:
			text += " and "
		default:
			text += ", "
		}
		text += n
	}
	return text
}
