package service

import (
	"fmt"
	"slices"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// Locate lights bays. Whatever was lit before goes dark, so that only what was asked for last shines.
func (s *Service) Locate(req control.LocateRequest) (*control.LocateReply, error) {
	disks, err := s.Disks()
	if err != nil {
		return nil, err
	}
	wanted, missing := func(control.DiskInfo) bool { return false }, 0
	switch {
	case req.Off:
	case req.Others != "":
		r, err := s.named(req.Others)
		if err != nil {
			return nil, err
		}
		members := seated(r.MemberStates())
		for _, m := range members {
			if m.Condition == record.Failed || m.Condition == record.Missing {
				missing++
			}
		}
		wanted = func(d control.DiskInfo) bool {
			return slices.ContainsFunc(members, func(m array.MemberState) bool {
				return m.Condition != record.Failed && m.Condition != record.Missing && m.Disk.Path == d.Path && m.Disk.Serial == d.Serial
			})
		}
	default:
		src, err := s.seen.Locate(req.Disk)
		if err != nil {
			return nil, err
		}
		wanted = func(d control.DiskInfo) bool {
			return src.Bay != "" && d.Lab && d.Bay == src.Bay || src.Bay == "" && d.Path == src.Path
		}
	}
	out := &control.LocateReply{Lit: []string{}, Dark: []string{}, Out: missing}
	for _, d := range disks {
		on := wanted(d)
		err := s.light(d, on)
		name := d.Identity.String()
		if d.State == state.DiskEmpty {
			name = "bay " + d.Bay
		}
		switch {
		case on && err == nil:
			out.Lit = append(out.Lit, name)
		case on:
			out.Dark = append(out.Dark, fmt.Sprintf("%s: %v", name, err))
		}
	}
	return out, nil
}

func (s *Service) light(d control.DiskInfo, on bool) error {
	if d.Lab {
		return s.lab.Light(d.Bay, on)
	}
	return disk.Light(d.Path, on)
}
