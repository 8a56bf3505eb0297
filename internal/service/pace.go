package service

import (
	"cmp"

	"nidalo/core/say"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/service/queue"
)

// schedule is what is in force for an array: its own, that for all, or the configuration's.
func (s *Service) schedule(name string) queue.Schedule {
	s.mu.Lock()
	text := cmp.Or(s.mem.Paces[name], s.mem.Paces[""], s.config().Pace, task.Normal)
	s.mu.Unlock()
	out, err := queue.ParseSchedule(text)
	if err != nil {
		out, _ = queue.ParseSchedule(task.Normal)
	}
	return out
}

// applyPaces puts in force what the hour asks for.
func (s *Service) applyPaces() {
	for _, r := range s.running() {
		if p := s.schedule(r.Name()).At(s.opt.Now()); p != r.Pace() {
			r.SetPace(p)
		}
	}
}

// SetPace sets the pace of one array or of all, or only tells it.
func (s *Service) SetPace(req control.PaceRequest) ([]control.PaceReply, error) {
	if req.Array != "" {
		if _, err := s.named(req.Array); err != nil {
			return nil, err
		}
	}
	if req.Pace != "" {
		if _, err := queue.ParseSchedule(req.Pace); err != nil {
			return nil, &control.Error{What: err.Error()}
		}
		err := s.change(func(m *memory) {
			if req.Array == "" {
				clear(m.Paces) // for all means all
			}
			m.Paces[req.Array] = req.Pace
		})
		if err != nil {
			return nil, err
		}
		s.applyPaces()
	}
	out := []control.PaceReply{}
	for _, r := range s.running() {
		if req.Array != "" && r.Name() != req.Array {
			continue
		}
		reply := control.PaceReply{Array: r.Name(), Schedule: s.schedule(r.Name()).String(), Pace: paceText(r.Pace()), Condition: string(r.Condition())}
		reply.Margin, _ = r.Margin()
		for _, t := range r.TaskStates() {
			if t.Ended.IsZero() {
				reply.Tasks = append(reply.Tasks, s.taskStatus(r, t))
			}
		}
		out = append(out, reply)
	}
	return out, nil
}

func paceText(p task.Pace) string {
	if p.Rate > 0 {
		return say.Size(p.Rate) + "/s"
	}
	return p.Mode
}
