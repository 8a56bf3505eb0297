package service

import (
	"fmt"
	"time"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
)

// MayPull answers whether a disk can leave its bay now without anything being lost, redundancy included.
func (s *Service) MayPull(name string) (*control.PullReply, error) {
	src, err := s.locate(name)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	out := &control.PullReply{Disk: info, Yes: true, Reasons: []string{}, Next: []string{}}
	yes := func(format string, args ...any) { out.Reasons = append(out.Reasons, fmt.Sprintf(format, args...)) }
	no := func(format string, args ...any) { out.Yes = false; yes(format, args...) }
	if info.State == control.DiskEmpty {
		return nil, &control.Error{What: fmt.Sprintf("bay %s is empty", name)}
	}
	for _, holder := range info.Held {
		no("%s", holder)
	}
	if info.State == control.DiskBroken {
		no("it cannot be opened, so what it carries is not known: %s", join(info.Holds))
	}
	whole := spindle(info.Identity)
	for _, r := range s.running() {
		r.Probe()
		for _, m := range r.MemberStates() {
			if m.Disk.Path == "" || spindle(m.Disk) != whole {
				if id, ok := r.Onto(m.Slot); ok && spindle(id) == whole {
					no("%s of array %q is being copied onto it", m.Disk, r.Name())
					untilDone(out, r, m.Slot, s.opt.Now())
				}
				continue
			}
			switch m.Condition {
			case record.Failed, record.Missing:
				yes("array %q does without it: it is %s there", r.Name(), m.Condition)
			case record.Rebuilding:
				no("it is being rebuilt for array %q, which is %s until then", r.Name(), r.Condition())
				untilDone(out, r, m.Slot, s.opt.Now())
			default:
				s.inUse(out, r, m, no)
			}
		}
	}
	if !out.Yes {
		return out, nil
	}
	switch info.State {
	case control.DiskSpare:
		yes("it is a spare; while it is out, no member can be replaced by it")
	case control.DiskBlank, control.DiskRetired:
		yes("it is %s: no array needs it", info.State)
	case control.DiskInUse:
		if len(out.Reasons) == 0 {
			yes("no array in service needs it; it holds %s", join(info.Holds))
		}
	}
	out.Next = append(out.Next, "nidalo locate "+control.Argument(info.Identity)+"   lights its bay")
	return out, nil
}

func join(holds []string) string {
	text := ""
	for i, h := range holds {
		if i > 0 {
			text += "; "
		}
		text += h
	}
	return text
}

// inUse says no for a member that works, and what pulling it would mean.
func (s *Service) inUse(out *control.PullReply, r *running, m array.MemberState, no func(string, ...any)) {
	margin, _ := r.Margin()
	if _, copying := r.Onto(m.Slot); copying {
		no("it is a member of array %q and is being copied onto another disk", r.Name())
		untilDone(out, r, m.Slot, s.opt.Now())
		return
	}
	if r.WouldFail(m.Slot) {
		no("array %q would lose its data without it: it is %s and its margin is %d", r.Name(), r.Condition(), max(margin, 0))
	} else {
		no("it is an %s member of array %q: the data would survive, but the margin would fall from %d to %d", m.Condition, r.Name(), margin, margin-1)
	}
	for _, t := range r.TaskStates() {
		if t.Ended.IsZero() && (t.Kind == state.TaskRebuild || t.Kind == state.TaskCatchUp) {
			out.Reasons = append(out.Reasons, fmt.Sprintf("the %s of slot %d reads from it", t.Kind, t.Slot))
			untilDone(out, r, t.Slot, s.opt.Now())
		}
	}
	out.Next = append(out.Next, fmt.Sprintf("nidalo retire %s %s   copies it onto another disk first; then it may go", r.Name(), control.Argument(m.Disk)))
}

// untilDone notes when the task of a slot ends.
func untilDone(p *control.PullReply, r *running, slot int, now time.Time) {
	for _, t := range r.TaskStates() {
		if t.Slot == slot && t.Ended.IsZero() && t.Left >= 0 {
			at := now.Add(t.Left)
			if p.When == nil || p.When.Before(at) {
				p.When = &at
			}
		}
	}
}
