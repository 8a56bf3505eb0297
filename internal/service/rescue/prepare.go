package rescue

import (
	"fmt"
	"slices"
	"sync"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// Prepare makes a rescue of the members of an array that were found; bad lists what is unreadable of those that are images. The disks
// belong to the rescue, or are closed. When a state has to be chosen first the rescue only says so.
func (d *Desk) Prepare(req control.RescueRequest, found []roster.Candidate, bad map[disk.Disk][]disk.Range) (*Run, error) {
	release := func(but map[disk.Disk]bool) {
		for _, c := range found {
			if !but[c.Disk] {
				_ = c.Disk.Close()
			}
		}
	}
	states := roster.States(found)
	if len(states) == 0 {
		release(nil)
		return nil, &control.Error{What: fmt.Sprintf("no remaining disk of array %q is a member by itself, for example because its copy was not finished", req.Array),
			Hints: []string{"nidalo disks   shows what the disks hold"}}
	}
	at, err := choose(req, states)
	out := describe(req, states, at)
	if err != nil {
		release(nil)
		if req.Copy != "" || req.Serve || req.InPlace || req.State > 0 {
			return nil, err
		}
		out.Doubt, out.State, out.Stage = err.Error(), 0, control.RescueDone
		return &Run{desk: d, reply: out}, nil
	}
	chosen := states[at]
	slots, err := chosen.Readmits()
	if len(req.Images) > 0 {
		slots = nil
	}
	if err != nil && req.InPlace {
		release(nil)
		return nil, &control.Error{What: fmt.Sprintf("array %q: %v", out.Array, err), Hints: []string{"nidalo rescue " + out.Array + "   reports what can be copied out"}}
	}
	for _, slot := range slots {
		out.Back = append(out.Back, chosen.Use[slot].Disk.Identity())
	}
	held := map[disk.Disk]bool{}
	for _, p := range chosen.Use {
		held[p.Disk] = true
	}
	release(held)
	a, notes, err := array.Rescue(chosen, bad, req.Old, d.host.Config())
	if err != nil {
		for d := range held {
			if d != nil {
				_ = d.Close()
			}
		}
		return nil, &control.Error{What: fmt.Sprintf("array %q: nothing can be read of its remaining members: %v", out.Array, err)}
	}
	out.Capacity, out.Written, out.Notes = a.Capacity(), a.Used(), notes
	for _, v := range a.Layout().Volumes() {
		out.Volumes = append(out.Volumes, control.RescueVolume{Name: chosen.Record.Roster[v.Slot].Volume, Start: v.Start, Size: v.Size})
	}
	stop := make(chan struct{})
	return &Run{Request: req, ID: chosen.Record.Array, Epoch: chosen.Record.EpochID, desk: d, reply: out, array: a,
		stop: stop, end: sync.OnceFunc(func() { close(stop) }), judged: make(chan struct{}), over: make(chan struct{})}, nil
}

// Readmit makes the members of a rescue that was prepared count again in place, and ends it.
func (run *Run) Readmit(progress func(int64) error) error {
	defer run.array.Abandon()
	return run.array.Readmit(progress)
}

// Abandon gives up a rescue that was prepared.
func (run *Run) Abandon() {
	if run.array != nil {
		run.array.Abandon()
	}
}

// choose is which of several states is meant.
func choose(req control.RescueRequest, states []roster.State) (int, error) {
	switch {
	case req.State > len(states):
		return 0, &control.Error{What: fmt.Sprintf("there is no state %d: the remaining members agree about %d", req.State, len(states))}
	case req.State > 0:
		return req.State - 1, nil
	case slices.ContainsFunc(states[1:], func(s roster.State) bool { return !s.Past }):
		return 0, &control.Error{What: fmt.Sprintf("the disks of array %q went on without each other: there are %d states of it", states[0].Record.Name, len(states)),
			Hints: []string{fmt.Sprintf("nidalo rescue -state 1 %s   judges the one with the highest epoch", states[0].Record.Name)}}
	}
	return 0, nil
}

// describe tells of the states that there are, where one was chosen by its index.
func describe(req control.RescueRequest, states []roster.State, chosen int) control.RescueReply {
	out := control.RescueReply{Array: states[0].Record.Name, Level: string(states[0].Record.Level), State: chosen + 1, Stage: control.RescueJudging, Old: req.Old}
	for i, st := range states {
		if i == 0 || !st.Past || chosen == i {
			out.States = append(out.States, describeState(i+1, st))
		}
	}
	return out
}

func describeState(number int, st roster.State) control.RescueState {
	out := control.RescueState{Number: number, Epoch: st.Record.Epoch}
	for slot, e := range st.Record.Roster {
		p := st.Use[slot]
		m := control.RescueMember{Slot: slot, Disk: state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}, Use: "not there"}
		if p.Disk != nil {
			m.Disk, m.There = p.Disk.Identity(), true
			if m.Disk.Serial == "" { // an image
				m.Disk.Model, m.Disk.Serial = e.Model, e.Serial
			}
			switch {
			case p.Stale:
				m.Use = fmt.Sprintf("left %s: only what did not change since", e.Since.Local().Format("2006-01-02 15:04"))
			case e.Condition == record.Rebuilding:
				m.Use = "was being rebuilt: what was finished"
			default:
				m.Use = "read"
			}
		}
		out.Members = append(out.Members, m)
	}
	for _, c := range st.Left {
		out.Unused = append(out.Unused, fmt.Sprintf("%s has epoch %d, and is of no use for this state", c.Disk.Identity(), c.Record.Epoch))
	}
	return out
}
