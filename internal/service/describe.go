package service

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"nidalo/core/advice"
	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/ownership"
)

// How arrays are, in words and numbers.

// Status describes all arrays, or the one with the given name.
func (s *Service) Status(name string) (*control.Status, error) {
	disks, err := s.Disks()
	if err != nil {
		return nil, err
	}
	out := &control.Status{Time: s.opt.Now(), Host: s.hostName(), Serving: s.opt.Stays, Arrays: []control.ArrayStatus{}, Next: []string{}}
	out.Held = s.Held()
	if s.opt.Stays {
		out.Socket = filepath.Join(s.opt.Home, "nbd.sock")
	}
	attached := s.devices.Devices()
	plan := advice.Next(s.snapshotOf(disks, attached))
	for _, r := range s.running() {
		if name == "" || r.Name() == name || r.ID().String() == name {
			a := s.describe(r)
			a.Spares = s.sparesOf(r, disks)
			a.Device, a.Next = attached[a.ID], advice.Lines(plan.Of(a.ID))
			out.Arrays = append(out.Arrays, a)
		}
	}
	for _, i := range s.idleArrays() {
		if name == "" || i.set.Newest.Name == name || i.set.Newest.Array.String() == name {
			a := s.describeIdle(s.lookedAt(i))
			a.Next = advice.Lines(plan.Of(a.ID))
			out.Arrays = append(out.Arrays, a)
		}
	}
	switch {
	case name != "" && len(out.Arrays) == 0:
		_, err := s.find(name)
		return nil, err
	case len(out.Arrays) == 0:
		out.Next = advice.Lines(plan.Steps())
	}
	out.Disks = s.diskTasks()
	estimate(out)
	return out, nil
}

// estimate guesses when tasks that wait for their turn will end: after those that run, one after the other, as fast as those are at the mean;
// and the end of all, if there are several and each has a rate.
func estimate(st *control.Status) {
	var running, waiting []*control.TaskStatus
	for i := range st.Arrays {
		for j := range st.Arrays[i].Tasks {
			switch t := &st.Arrays[i].Tasks[j]; {
			case t.State == state.TaskRunning && t.Ended == nil:
				running = append(running, t)
			case t.State == state.TaskWaiting:
				waiting = append(waiting, t)
			}
		}
	}
	end, rate := 0.0, 0.0
	for _, t := range running {
		if t.ETA == nil || t.Rate <= 0 {
			return
		}
		end, rate = max(end, *t.ETA), rate+t.Rate/float64(len(running))
	}
	if rate == 0 {
		return
	}
	for _, t := range waiting {
		end += float64(t.Total-t.Done) / rate
		at := end
		t.ETA, t.Unsure = &at, 1
	}
	if len(running)+len(waiting) > 1 {
		st.AllEnd = &end
	}
}

func (s *Service) describe(r *running) control.ArrayStatus {
	rec, lay := r.Record(), r.Layout()
	certain, best := r.Margin()
	out := control.ArrayStatus{Name: rec.Name, ID: rec.Array.String(), Level: string(rec.Level), Condition: r.Condition(),
		Margin: max(certain, 0), MarginBest: best, Capacity: r.Capacity(), Strip: rec.Strip, Groups: lay.Shape.Groups,
		SpinDown: rec.SpinDown, Epoch: rec.Epoch, Created: rec.Created, Members: []control.MemberStatus{}, Tasks: []control.TaskStatus{}, Next: []string{}}
	c := r.Stats()
	out.Counters = map[string]int64{
		"client_read_bytes": c.BytesRead.Load(), "client_written_bytes": c.BytesWritten.Load(), "journal_bytes": c.Journal.Bytes.Load(),
		"in_place_bytes": c.InPlace.Load(), "table_bytes": c.TableBytes.Load(), "checkpoints": c.Journal.Checkpoints.Load(),
		"given_back_bytes": c.GivenBack.Load(), "healed_blocks": c.Stripes.Healed.Load(), "unreadable_blocks": c.Stripes.Unreadable.Load(), "replayed_batches": c.Replayed.Load(),
	}
	out.Counters["client_operations"], out.Counters["client_busy_microseconds"] = r.served.operations.Load(), r.served.busy.Load()/1000
	if err := r.Failure(); err != nil {
		out.Reason = err.Error()
		out.Margin, out.MarginBest = 0, 0
	} else {
		out.Used = min(r.Used(), out.Capacity)
	}
	if s.opt.Stays {
		out.Export = s.exportURI(rec.Name)
	}
	if err := r.Trouble(); err != nil {
		out.Trouble = err.Error()
	}
	if out.Owned = r.owned(s.hostName()); out.Owned != nil {
		out.Owned.Fenced, out.Owned.Unfenced = s.fences(r)
	}
	if out.Owned != nil && out.Trouble == "" {
		out.Trouble = s.unrenewed(r)
	}
	out.Trouble = cmp.Or(out.Trouble, r.unproven())
	if r.Unsettled() && s.Held() == "" {
		out.Trouble = "it was not stopped in order: a start is needed to bring the batches of its journals into place"
	}
	s.describeMembers(r, lay, &out)
	for _, t := range r.TaskStates() {
		out.Tasks = append(out.Tasks, s.taskStatus(r, t))
	}
	if c := r.LastCheck(); c.Kind == record.Check {
		out.LastCheck = checkStatus(c)
		out.LastCheck.Partial = !c.Ended.IsZero() && c.Cursor < lay.Stripes()
	}
	out.NextCheck = s.nextCheck(r)
	s.describeLayout(r, &out)
	return out
}

// describeMembers tells what is known of each member, and of what they share.
func (s *Service) describeMembers(r *running, lay *layout.Map, out *control.ArrayStatus) {
	var names []state.Identity
	for _, m := range seated(r.MemberStates()) {
		if m.Condition.TakesPart() {
			names = append(names, m.Disk)
		}
		ms := memberStatus(m)
		ms.Group = lay.GroupOf(m.Slot) + 1
		if turns, why := r.Turning(m.Slot); !turns {
			ms.Sleeps = true
		} else if why != nil && out.SpinDown > 0 {
			ms.NoSleep = why.Error()
		}
		if m.Condition == record.Failed || m.Condition == record.Missing {
			ms.NeedSize = r.NeedSize(m.Slot)
		} else if away := s.away(m.Disk); !away.IsZero() {
			ms.Away = &away
		} else {
			ms.Health = s.memberHealth(r, m)
			ms.Celsius = s.memberTemperature(m)
		}
		out.Members = append(out.Members, ms)
	}
	out.Together = filesTogether(names)
	if r.Failure() == nil {
		out.Hosts = layout.WithoutHosts(lay, s.hostsOf(seated(r.MemberStates())), func(slot int) bool { return !r.member(slot).Condition.Counts() })
	}
}

// describeLayout adds how an array is laid out, and may be.
func (s *Service) describeLayout(r *running, out *control.ArrayStatus) {
	out.Growth, out.Change = growthOf(r), changeOf(r.Record())
	if w, there := s.waitingOf(r); there {
		out.Waiting = &w.Change
	}
	out.Handing = s.handingStatus(r)
	if out.Volumes = s.volumesOf(r); len(out.Volumes) > 0 {
		out.Export = "" // each has its own
		out.Used = 0
		for _, v := range out.Volumes {
			out.Used += v.Used
		}
	}
	if out.Change == nil && len(out.Volumes) == 0 { // two layouts are no layers
		out.Layers = plan.Layers(r.Layout())
	}
}

// checkStatus is a check as the record of an array has it.
func checkStatus(c record.Task) *control.CheckStatus {
	out := &control.CheckStatus{Mismatches: c.Mismatches, Repaired: c.Repaired, Unrepairable: c.Unrepairable, Repair: c.Repair, Started: c.Started}
	if !c.Ended.IsZero() {
		out.Ended = &c.Ended
	}
	return out
}

func memberStatus(m array.MemberState) control.MemberStatus {
	ms := control.MemberStatus{Slot: m.Slot, Bay: m.Disk.Bay, Model: m.Disk.Model, Serial: m.Disk.Serial, Path: m.Disk.Path,
		Condition: m.Condition.String(), Reason: m.Reason, Size: m.Size, Errors: m.Errors.Total(),
		ReadErrors: m.Errors.Read, WriteErrors: m.Errors.Write, ChecksumErrors: m.Errors.Checksum,
		Moved: m.Load.Bytes, Operations: m.Load.Operations, Busy: m.Load.Time.Seconds()}
	if !m.Since.IsZero() {
		ms.Since = &m.Since
	}
	return ms
}

func (s *Service) taskStatus(r *running, t task.State) control.TaskStatus {
	out := control.TaskStatus{Kind: t.Kind, State: t.State, Percent: t.Percent, Done: t.Done, Total: t.Total, Rate: t.Rate, Started: t.Started}
	out.Moved, out.Waits, out.Unsure = t.Moved, t.Waits, t.Spread
	out.Pace = paceText(r.Pace())
	if at := s.roundAt(r.ID().String()); at.Held && t.Kind == state.TaskCheck && t.State == state.TaskPaused {
		out.Waits = "until " + s.roundOf(r, s.rules()).rule.Window.Next(s.opt.Now()).Format("Jan 2 15:04")
	}
	if t.Slot >= 0 {
		out.Slot = &t.Slot
		if members := r.MemberStates(); t.Slot < len(members) {
			out.Disk = members[t.Slot].Disk.String()
		}
		if id, ok := r.Onto(t.Slot); ok && t.Kind == state.TaskRetire {
			out.Onto = id.String()
		}
	}
	if t.Left >= 0 {
		seconds := t.Left.Seconds()
		out.ETA = &seconds
	}
	if r.Pace().Mode == task.Rest && t.State == state.TaskRunning {
		out.State, out.ETA, out.Waits = state.TaskPaused, nil, "as the pace says at this hour"
	}
	if !t.Ended.IsZero() {
		out.Ended = &t.Ended
	}
	if t.Err != nil && t.State == state.TaskFailed {
		out.Error = t.Err.Error()
	}
	if c := t.Check; c != nil {
		out.Check = &control.CheckStatus{Mismatches: c.Mismatches, Repaired: c.Repaired, Unrepairable: c.Unrepairable, Repair: c.Repair, Started: t.Started, Ended: out.Ended}
		slices.SortFunc(c.Places, func(x, y task.Mismatch) int {
			return cmp.Or(cmp.Compare(x.Slot, y.Slot), cmp.Compare(x.Block, y.Block))
		})
		for slot, n := range c.Of {
			if m := r.member(slot); n > 0 {
				out.Check.Disks = append(out.Check.Disks, control.DiskMismatches{Slot: slot, Disk: m.Disk.String(), Mismatches: n})
			}
		}
		for _, p := range c.Places {
			out.Check.Places = append(out.Check.Places, control.Place{Slot: p.Slot, Disk: r.member(p.Slot).Disk.String(), Stripe: p.Stripe,
				Offset: p.Block * array.Block, What: p.What})
		}
	}
	return out
}

// lookedAt is an array that is not in service as its disks are now.
func (s *Service) lookedAt(i idle) idle {
	id := i.set.Newest.Array.String()
	var found []roster.Candidate
	order, known := s.seen.Seen()
	for _, src := range order {
		if f := known[src]; f.Record != nil && f.Record.Array.String() == id {
			found = append(found, roster.Candidate{Disk: seen{f.Info}, Record: f.Record})
		}
	}
	now := roster.Set{Newest: i.set.Newest, Current: make([]roster.Candidate, len(i.set.Newest.Roster)), Onto: make([]roster.Candidate, len(i.set.Newest.Roster))}
	if len(found) > 0 {
		now = roster.Judge(found)
	}
	return idle{now, i.reason}
}

// cannotStart says whether an array is out of service because its disks do not make it up, rather than because it is to be, or not known to be free.
func (i idle) cannotStart() bool {
	switch i.reason {
	case errTakenOut, errStranger, errStarting:
		return false
	}
	for _, is := range []any{&errWaits{}, &errOwned{}, &errUnowned{}, &errElsewhere{}, &errWatched{}, &ownership.StoppedError{}} {
		if errors.As(i.reason, is) {
			return false
		}
	}
	return true
}

// seen is a disk of which only what the survey knows of it is wanted.
type seen struct{ info control.DiskInfo }

var errOnlySeen = errors.New("the disk is not open")

func (d seen) ReadAt([]byte, int64) error     { return errOnlySeen }
func (d seen) WriteAt([]byte, int64) error    { return errOnlySeen }
func (d seen) ReadVec([][]byte, int64) error  { return errOnlySeen }
func (d seen) WriteVec([][]byte, int64) error { return errOnlySeen }
func (d seen) Sync() error                    { return errOnlySeen }
func (d seen) Close() error                   { return nil }
func (d seen) Size() int64                    { return d.info.Size }
func (d seen) Identity() state.Identity       { return d.info.Identity }

func (s *Service) describeIdle(i idle) control.ArrayStatus {
	rec := i.set.Newest
	out := control.ArrayStatus{Name: rec.Name, ID: rec.Array.String(), Level: string(rec.Level), Condition: state.Failed,
		Reason: i.reason.Error(), Strip: rec.Strip, Epoch: rec.Epoch, Created: rec.Created, Tasks: []control.TaskStatus{}, Members: []control.MemberStatus{}, Next: []string{}}
	out.Out = true
	lay, err := rec.Layout()
	if err == nil {
		out.Capacity, out.Groups, out.Change = lay.Capacity(), lay.Shape.Groups, changeOf(rec)
		if !i.cannotStart() {
			out.Condition, out.Margin = i.set.Condition(lay), max(i.set.Margin(), 0)
			out.MarginBest = out.Margin
			if i.set.Margin() < 0 {
				out.Reason += "; it could not be started now: " + i.set.Shortage()
			}
			if i.set.Doubt != nil {
				out.Condition, out.Reason = state.Failed, out.Reason+"; "+i.set.Doubt.Error()
			}
		}
	}
	for _, c := range i.set.Strangers {
		out.Says = append(out.Says, fmt.Sprintf("%s: slot %d, epoch %d, is left out: %s", c.Disk.Identity(), c.Record.Slot, c.Record.Epoch, c.Why))
	}
	for slot, c := range i.set.Current {
		if c.Disk != nil {
			out.Says = append(out.Says, fmt.Sprintf("%s: slot %d, epoch %d, counts", c.Disk.Identity(), slot, c.Record.Epoch))
		}
	}
	for _, c := range i.set.Stale {
		out.Says = append(out.Says, fmt.Sprintf("%s: slot %d, epoch %d, is behind", c.Disk.Identity(), c.Record.Slot, c.Record.Epoch))
	}
	for slot, e := range rec.Roster {
		if e.Condition == record.Vacant {
			continue
		}
		m := array.MemberState{Slot: slot, Condition: e.Condition, Size: e.Size, Errors: e.Errors, Since: e.Since,
			Disk: state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}}
		if (slot >= len(i.set.Current) || i.set.Current[slot].Disk == nil) && e.Condition != record.Failed {
			m.Condition = record.Missing
		}
		ms := memberStatus(m)
		if lay != nil {
			ms.Group = lay.GroupOf(slot) + 1
		}
		out.Members = append(out.Members, ms)
	}
	return out
}
