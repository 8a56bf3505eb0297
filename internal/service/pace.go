package service

import (
	"cmp"
	"slices"

	"nidalo/core/say"
	"nidalo/core/state"
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
		p := s.paceOf(r)
		if own, ok := s.roundPace(r.ID().String()); ok && !slices.ContainsFunc(r.TaskStates(), func(t task.State) bool { return t.Ended.IsZero() && t.Kind != state.TaskCheck }) {
			p = own
		}
		if p != r.Pace() {
			r.SetPace(p)
		}
	}
}

// paceOf is the pace that the schedule of an array asks for now: by a time of day the rate that its tasks need to be done by then.
func (s *Service) paceOf(r *running) task.Pace {
	schedule := s.schedule(r.Name())
	by, ok := schedule.By(s.opt.Now())
	if !ok {
		return schedule.At(s.opt.Now())
	}
	var left int64
	for _, t := range r.TaskStates() {
		if t.Ended.IsZero() {
			left = max(left, t.Total-t.Done)
		}
	}
	if left == 0 {
		return task.Pace{Mode: task.Normal}
	}
	need := max(leastRate, int64(float64(left)/by.Sub(s.opt.Now()).Seconds()*haste))
	if now := r.Pace().Rate; now > 0 && need > now*9/10 && need < now*11/10 {
		need = now // the estimate of a task begins anew when its pace changes
	}
	return task.Pace{Rate: need}
}

// leastRate is how fast a task goes at least, bytes a second, and haste by how much more than needed, so that it is done a little earlier.
const (
	leastRate = 1 << 20
	haste     = 1.1
)

// roundPace is the pace of a round that is under way, if it has its own.
func (s *Service) roundPace(id string) (task.Pace, bool) {
	at := s.roundAt(id)
	if at.Begun.IsZero() || at.Pace == "" {
		return task.Pace{}, false
	}
	p, err := queue.ParseSchedule(at.Pace)
	return p.At(s.opt.Now()), err == nil
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
			for _, r := range s.arrays { // what was just said goes before what is usual at night
				if at, ok := m.Rounds[r.ID().String()]; ok && (req.Array == "" || r.Name() == req.Array) {
					at.Pace = ""
					m.Rounds[r.ID().String()] = at
				}
			}
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
