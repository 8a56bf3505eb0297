package service

import (
	"cmp"
	"errors"
	"slices"
	"strings"

	"nidalo/core/advice"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/ownership"
)

// snapshot is what advice is given from: all disks, and all arrays as they are at this moment.
func (s *Service) snapshot() (*advice.Snapshot, error) {
	disks, err := s.Disks()
	if err != nil {
		return nil, err
	}
	return s.snapshotOf(disks, s.devices.Devices()), nil
}

func (s *Service) snapshotOf(disks []control.DiskInfo, attached map[string]*control.DeviceStatus) *advice.Snapshot {
	out := &advice.Snapshot{Now: s.opt.Now(), Host: s.hostName(), Home: s.homeTrouble()}
	for _, d := range disks {
		out.Disks = append(out.Disks, s.adviceDisk(d))
	}
	for _, r := range s.running() {
		r.Probe()
		out.Arrays = append(out.Arrays, s.adviceArray(r, attached[r.ID().String()]))
	}
	for _, i := range s.idleArrays() {
		out.Idle = append(out.Idle, s.adviceIdle(i))
	}
	return out
}

// notesOf is what the configuration notes of a disk, if anything.
func (s *Service) notesOf(id state.Identity) []string {
	if note := s.config().Notes[state.Physical(id.Serial)]; note != "" && id.Serial != "" {
		return []string{state.Printable(note)}
	}
	return nil
}

func (s *Service) adviceDisk(d control.DiskInfo) advice.Disk {
	out := advice.Disk{Identity: d.Identity, Spindle: spindle(d.Identity), Size: d.Size, State: d.State, Holds: d.Holds, Held: d.Held, Bad: d.Bad,
		Carries: d.Carries, Lab: d.Lab}
	if d.Bad != "" {
		s.mu.Lock()
		last := s.healths[d.Name()].now
		s.mu.Unlock()
		last.Temperature, last.LinkSpeed, last.LinkErrors = nil, nil, nil
		out.Told = strings.Join(append(last.Words(), s.notesOf(d.Identity)...), ", ")
	}
	if d.Hardware != nil {
		out.Part = d.Hardware.Part
	}
	if d.State == state.DiskSpare {
		p, _ := s.spareOf(d)
		out.Serves = p.Arrays
		if p.AlthoughBad {
			out.Bad = ""
		}
	}
	return out
}

func (s *Service) adviceArray(r *running, attached *control.DeviceStatus) advice.Array {
	rec := r.Record()
	lay, members := r.settled()
	out := advice.Array{ID: rec.Array.String(), Name: rec.Name, Map: lay, Condition: r.Condition(), Created: rec.Created}
	if err := r.Failure(); err != nil {
		out.Failure = strings.TrimPrefix(err.Error(), array.ErrFailed.Error()+": ")
	} else {
		out.Used = r.Used()
	}
	out.Margin, _ = r.Margin()
	out.Unproven = r.unproven() != ""
	if g := growthOf(r); g != nil && !g.Cut {
		out.Gain, out.GainMoves, out.GainThen, out.Short = g.Gain, g.Moves, g.Then, g.Short
		out.Unused, out.Larger = g.Unused, g.Larger
	}
	if fs := s.smallFileSystem(r); fs != nil {
		out.FileSystem = &advice.FileSystem{Kind: fs.Kind, End: fs.End, Command: fs.Command}
	}
	if c := r.LastCheck(); c.Kind == record.Check {
		out.Check = advice.Check{Ended: c.Ended, Mismatches: c.Mismatches, Repaired: c.Repaired, Unrepairable: c.Unrepairable}
	}
	if next := s.nextCheck(r); next != nil {
		out.Check.Next = *next
		out.Check.Late = s.roundOf(r, s.rules()).lateWhy(s.opt.Now())
	}
	begun := !s.roundAt(out.ID).Begun.IsZero()
	for _, t := range r.TaskStates() {
		if t.Ended.IsZero() {
			out.Tasks = append(out.Tasks, advice.Task{Kind: t.Kind, Slot: t.Slot, State: t.State, Percent: t.Percent, Left: t.Left, Spread: t.Spread, Waits: t.Waits, Regular: begun && t.Kind == state.TaskCheck})
		}
	}
	for _, m := range members {
		out.Members = append(out.Members, s.adviceMember(r, m))
	}
	if attached != nil {
		out.Device = &advice.Device{Connected: attached.Connected, Reason: attached.Reason}
		if attached.Device != "" {
			out.Device.Path = attached.Path
		}
	}
	return out
}

func (s *Service) adviceMember(r *running, m array.MemberState) advice.Member {
	out := advice.Member{Slot: m.Slot, Condition: m.Condition, Disk: m.Disk, Part: partNumber(m.Disk), Since: m.Since, Errors: m.Errors.Total(),
		Away: s.away(m.Disk), CatchesUp: m.CatchesUp, Need: r.NeedSize(m.Slot), Size: m.Size, Reason: plainReason(m)}
	if m.Disk.Serial != "" || m.Disk.Path != "" {
		out.Spindle = spindle(m.Disk)
	}
	if why := s.foretold(r, m); why != "" {
		out.Foretold, out.Reason = true, why
	}
	if id, ok := r.Onto(m.Slot); ok {
		out.Onto = &advice.Copy{Disk: id, Spindle: spindle(id)}
	}
	s.mu.Lock()
	out.StandsFor = s.mem.Took[r.Name()+"/"+m.Disk.Name()]
	s.mu.Unlock()
	for _, x := range s.exchanges() {
		if x.Array == r.ID().String() && x.Slot == m.Slot && !x.Step.Over() {
			out.Exchange = cmp.Or(x.Says, string(x.Step))
		}
	}
	if !m.Condition.Counts() {
		out.Twins = adviceTwins(s.twinsOf(r.ID(), m.Slot))
	}
	return out
}

// plainReason is why a member is as it is, without what is said beside it anyway: its name, and that its disk is gone.
func plainReason(m array.MemberState) string {
	return disk.Plain(strings.TrimPrefix(m.Reason, m.Disk.String()+": "))
}

func adviceTwins(twice []errTwice) (out []advice.Twin) {
	for _, t := range twice {
		out = append(out, advice.Twin{Why: t.Error(), Example: t.example()})
	}
	return out
}

func (s *Service) adviceIdle(i idle) advice.Idle {
	out := advice.Idle{ID: i.set.Newest.Array.String(), Name: i.set.Newest.Name, Reason: i.reason.Error()}
	switch {
	case i.reason == errTakenOut, errors.As(i.reason, &ownership.StoppedError{}):
		out.Why = advice.TakenOut
	case errors.As(i.reason, &errOwned{}), errors.As(i.reason, &errElsewhere{}), errors.As(i.reason, &errWatched{}):
		out.Why = advice.Elsewhere
	case errors.As(i.reason, &errUnowned{}):
		out.Why = advice.Unowned
	case i.reason == errStranger:
		out.Why = advice.Stranger
	case errors.As(i.reason, &errWaits{}):
		out.Why = advice.Waits
	default:
		for slot := range i.set.Newest.Roster {
			out.Twins = append(out.Twins, adviceTwins(s.twinsOf(i.set.Newest.Array, slot))...)
		}
	}
	return out
}

// Next is what the administrator should do, over all arrays, in order.
func (s *Service) Next() (*control.NextReply, error) {
	snap, err := s.snapshot()
	if err != nil {
		return nil, err
	}
	plan := advice.Next(snap)
	return &control.NextReply{Time: snap.Now, Steps: plan.Steps(), Again: plan.Again, Regular: plan.Regular}, nil
}

// nextFor is the steps of one array as lines, for alerts.
func (s *Service) nextFor(name string) []string {
	if name == "" {
		return nil
	}
	id, err := s.identify(name)
	if err != nil {
		return nil
	}
	snap, err := s.snapshot()
	if err != nil {
		return nil
	}
	var out []string
	for _, st := range advice.Next(snap).Of(id) {
		out = append(out, strings.TrimSpace(st.Do+"   "+st.Command))
	}
	return out
}

// MayPull answers whether disks can leave their bays now without anything being lost, redundancy included.
func (s *Service) MayPull(req control.PullRequest) (*control.PullReply, error) {
	snap, err := s.snapshot()
	if err != nil {
		return nil, err
	}
	var infos []control.DiskInfo
	var leave []advice.Disk
	for _, name := range s.ofHosts(snap, req.Disks) {
		info, err := s.there(name)
		if err != nil {
			return nil, err
		}
		of := s.adviceDisk(info)
		if !slices.ContainsFunc(snap.Disks, func(d advice.Disk) bool { return d.Path == of.Path }) {
			snap.Disks = append(snap.Disks, of) // it was named by a path, and is not among the disks of the host
		}
		if !slices.ContainsFunc(leave, func(d advice.Disk) bool { return d.Path == of.Path }) {
			infos, leave = append(infos, info), append(leave, of)
		}
	}
	answer := advice.MayPull(snap, leave)
	return &control.PullReply{Disks: infos, Yes: answer.Yes, Reasons: answer.Reasons, When: answer.When, Next: answer.Next}, nil
}

// ofHosts is some words with the disks of a host in the place of its name.
func (s *Service) ofHosts(snap *advice.Snapshot, words []string) (out []string) {
	for _, word := range words {
		before := len(out)
		for _, d := range snap.Disks {
			if d.Host != "" && d.Host == word {
				out = append(out, d.Path)
			}
		}
		if len(out) == before {
			out = append(out, word)
		}
	}
	return out
}

// there is the disk that a word means, which must not be an empty bay.
func (s *Service) there(name string) (control.DiskInfo, error) {
	src, err := s.seen.Locate(name)
	if err != nil {
		return control.DiskInfo{}, err
	}
	info := s.lookAt(src)
	if info.State == state.DiskEmpty {
		return info, &control.Error{What: "bay " + name + " is empty"}
	}
	return info, nil
}

// WhatIf tells what the loss of some disks would do to the arrays: to the one named, or to all that have any of them.
func (s *Service) WhatIf(req control.WhatIfRequest) ([]advice.Loss, error) {
	wanted := map[string]bool{}
	snap, err := s.snapshot()
	if err != nil {
		return nil, err
	}
	for _, name := range s.ofHosts(snap, req.Lose) {
		info, err := s.there(name)
		if err != nil {
			return nil, err
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
	out := []advice.Loss{}
	for _, r := range arrays {
		a := s.adviceArray(r, nil)
		if loss := advice.Lose(&a, wanted); len(loss.Lost) > 0 || req.Array != "" {
			out = append(out, loss)
		}
	}
	return out, nil
}
