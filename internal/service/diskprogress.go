package service

import (
	"fmt"
	"slices"
	"time"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
)

// The repairs of all arrays on a disk are shown as one task.

// diskSwap is a replacement of a whole disk under way, as it is remembered.
type diskSwap struct {
	Old     string         `json:"old"`
	New     string         `json:"new"`
	Parts   map[string]int `json:"parts"` // slots by the identity of the array
	Kind    state.TaskKind `json:"kind"`  // of its tasks
	Started time.Time      `json:"started"`
}

// noteSwap remembers what belongs to the replacement of a disk: slots by the identity of their array.
func (s *Service) noteSwap(req swap, info control.DiskInfo, out *control.DiskReply, parts map[string]int) {
	swap := diskSwap{Old: out.Old, New: say.Short(info.Identity), Parts: parts, Kind: state.TaskRebuild, Started: s.opt.Now()}
	if req.Retire {
		swap.Kind = state.TaskRetire
	}
	what := "1 array"
	if len(parts) > 1 {
		what = fmt.Sprintf("%d arrays", len(parts))
	}
	severity, who := event.Info, "it"
	if req.spare {
		severity, who = event.Warning, "it was a spare, and"
	}
	s.event(event.Event{Kind: event.DiskReplaced, Severity: severity, Disk: info.Identity.String(), Detail: fmt.Sprintf("%s takes the place of %s in %s", who, out.Old, what)})
	s.noSpare(info.Identity)
	s.note(func(m *memory) {
		m.Swaps = slices.DeleteFunc(m.Swaps, func(o diskSwap) bool { return o.New == swap.New || s.opt.Now().Sub(o.Started) > swapsKept })
		m.Swaps = append(m.Swaps, swap)
	})
}

// swapsKept is how long a replacement of a whole disk is remembered, and swapsShown how long it is told of when it has ended.
const (
	swapsKept  = 30 * 24 * time.Hour
	swapsShown = 24 * time.Hour
)

// diskTasks tells how far replacements of whole disks are, those that ended a while ago left out.
func (s *Service) diskTasks() (out []control.DiskTask) {
	s.mu.Lock()
	swaps := slices.Clone(s.mem.Swaps)
	s.mu.Unlock()
	for _, x := range swaps {
		if s.opt.Now().Sub(x.Started) > swapsKept {
			continue
		}
		t := control.DiskTask{Old: x.Old, New: x.New, Arrays: len(x.Parts), Started: x.Started, State: state.TaskRunning}
		left, known := 0.0, true
		var waiting int64
		for _, r := range s.running() {
			slot, ours := x.Parts[r.ID().String()]
			if !ours {
				continue
			}
			part := lastTask(r, slot, x.Kind)
			switch {
			case part == nil || part.State == state.TaskDone:
				if m := r.member(slot); part == nil && m.Condition == record.Rebuilding {
					known = false
					continue
				}
				t.Ready++
				if part != nil {
					t.Done, t.Total = t.Done+part.Total, t.Total+part.Total
				}
			case part.State == state.TaskFailed:
				t.State, t.Error = state.TaskFailed, fmt.Sprintf("array %q: %v", r.Name(), part.Err)
			default:
				t.Done, t.Total, t.Rate = t.Done+part.Done, t.Total+part.Total, t.Rate+part.Rate
				if part.Left >= 0 && part.State == state.TaskRunning {
					left += part.Left.Seconds()
				} else {
					waiting += part.Total - part.Done
				}
			}
		}
		switch {
		case t.State == state.TaskFailed:
		case t.Ready == t.Arrays:
			t.State, t.Percent = state.TaskDone, 100
		default:
			if t.Total > 0 {
				t.Percent = min(99.9, 100*float64(t.Done)/float64(t.Total))
			}
			if known && t.Rate > 0 {
				// They share a spindle, so they go one after the other, those that wait about as fast as those that run.
				seconds := left + float64(waiting)/t.Rate
				t.ETA = &seconds
			}
		}
		if t.State != state.TaskDone || s.opt.Now().Sub(t.Started) < swapsShown {
			out = append(out, t)
		}
	}
	return out
}

// lastTask is the newest task of a kind about a slot.
func lastTask(r *running, slot int, kind state.TaskKind) (found *task.State) {
	for _, t := range r.TaskStates() {
		if t.Slot == slot && (t.Kind == kind || kind == state.TaskRetire && t.Kind == state.TaskRebuild) {
			found = &t
		}
	}
	return found
}
