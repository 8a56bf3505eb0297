package service

import (
	"fmt"
	"slices"
	"time"

	"nidalo/core/record"
	"nidalo/internal/array"
)

// The repairs of all arrays on a disk are shown as one task.

// DiskTask is how far the replacement of a whole disk is.
type DiskTask struct {
	Old     string    `json:"old"`
	New     string    `json:"new"`
	State   string    `json:"state"` // as of tasks
	Done    int64     `json:"done_bytes"`
	Total   int64     `json:"total_bytes"`
	Percent float64   `json:"percent"`
	Rate    float64   `json:"bytes_per_second"`
	ETA     *float64  `json:"eta_seconds"`
	Ready   int       `json:"arrays_done"`
	Arrays  int       `json:"arrays"`
	Started time.Time `json:"started"`
	Error   string    `json:"error,omitempty"`
}

// diskSwap is a replacement of a whole disk under way, as it is remembered.
type diskSwap struct {
	Old     string         `json:"old"`
	New     string         `json:"new"`
	Parts   map[string]int `json:"parts"` // slots by the identity of the array
	Kind    string         `json:"kind"`  // of its tasks
	Started time.Time      `json:"started"`
}

// noteSwap remembers what belongs to the replacement of a disk: slots by the identity of their array.
func (s *Service) noteSwap(req swap, info DiskInfo, out *DiskReply, parts map[string]int) error {
	swap := diskSwap{Old: out.Old, New: shortName(info.Identity), Parts: parts, Kind: array.TaskRebuild, Started: time.Now()}
	if req.Retire {
		swap.Kind = array.TaskRetire
	}
	what := "1 array"
	if len(parts) > 1 {
		what = fmt.Sprintf("%d arrays", len(parts))
	}
	severity, who := Info, "it"
	if req.spare {
		severity, who = Warning, "it was a spare, and"
	}
	s.event(Event{Kind: "disk-replaced", Severity: severity, Disk: info.Identity.String(), Detail: fmt.Sprintf("%s takes the place of %s in %s", who, out.Old, what)})
	s.noSpare(info.Identity)
	return s.change(func(m *memory) {
		m.Swaps = slices.DeleteFunc(m.Swaps, func(o diskSwap) bool { return o.New == swap.New || time.Since(o.Started) > swapsKept })
		m.Swaps = append(m.Swaps, swap)
	})
}

// swapsKept is how long a replacement of a whole disk is remembered, and swapsShown how long it is told of when it has ended.
const (
	swapsKept  = 30 * 24 * time.Hour
	swapsShown = 24 * time.Hour
)

// diskTasks tells how far replacements of whole disks are, those that ended a while ago left out.
func (s *Service) diskTasks() (out []DiskTask) {
	s.mu.Lock()
	swaps := slices.Clone(s.mem.Swaps)
	s.mu.Unlock()
	for _, x := range swaps {
		if time.Since(x.Started) > swapsKept {
			continue
		}
		t := DiskTask{Old: x.Old, New: x.New, Arrays: len(x.Parts), Started: x.Started, State: array.TaskRunning}
		left, known := 0.0, true
		var waiting int64
		for _, r := range s.running() {
			slot, ours := x.Parts[r.ID().String()]
			if !ours {
				continue
			}
			part := lastTask(r, slot, x.Kind)
			switch {
			case part == nil || part.State == array.TaskDone:
				if m := r.MemberStates()[slot]; part == nil && m.Condition == record.Rebuilding {
					known = false
					continue
				}
				t.Ready++
				if part != nil {
					t.Done, t.Total = t.Done+part.Total, t.Total+part.Total
				}
			case part.State == array.TaskFailed:
				t.State, t.Error = array.TaskFailed, fmt.Sprintf("array %q: %v", r.Name(), part.Err)
			default:
				t.Done, t.Total, t.Rate = t.Done+part.Done, t.Total+part.Total, t.Rate+part.Rate
				if part.Left >= 0 && part.State == array.TaskRunning {
					left += part.Left.Seconds()
				} else {
					waiting += part.Total - part.Done
				}
			}
		}
		switch {
		case t.State == array.TaskFailed:
		case t.Ready == t.Arrays:
			t.State, t.Percent = array.TaskDone, 100
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
		if t.State != array.TaskDone || time.Since(t.Started) < swapsShown {
			out = append(out, t)
		}
	}
	return out
}

// lastTask is the newest task of a kind about a slot.
func lastTask(r *running, slot int, kind string) (found *array.TaskState) {
	for _, t := range r.TaskStates() {
		if t.Slot == slot && (t.Kind == kind || kind == array.TaskRetire && t.Kind == array.TaskRebuild) {
			found = &t
		}
	}
	return found
}
