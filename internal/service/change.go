package service

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// Arrays that change: larger disks, more disks, another level.

// Change changes the layout of an array, or says what that would mean.
func (s *Service) Change(req control.ChangeRequest) (*control.ChangeReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(req.Array)
	if err != nil {
		return nil, err
	}
	if r.Failure() != nil {
		return nil, person(r.Failure())
	}
	_, waits := s.waitingOf(r) // and may be about to begin
	switch {
	case req.Shrink > 0:
		return s.shrink(r, req)
	case req.Grow && len(req.Disks) == 0:
		return s.grow(r, req)
	case r.Layout().Level == layout.Guarded && len(req.Free) > 0:
		return s.leaveSet(r, req)
	case r.Layout().Level == layout.Guarded && req.Grow:
		return s.addVolumes(r, req)
	case req.Parity:
		return nil, &control.Error{What: fmt.Sprintf("array %s is no guarded set, whose parity disks are members of their own", r.Name())}
	case r.Record().Turn != nil || s.stillLeaves(r) != nil || waits:
		return s.changeLater(r, req)
	}
	return s.changeNow(r, req)
}

// changeNow changes the layout of an array of which nothing else changes.
func (s *Service) changeNow(r *running, req control.ChangeRequest) (*control.ChangeReply, error) {
	to, err := target(r, r.Layout(), req)
	if err != nil {
		return nil, err
	}
	slots, err := s.slotsOf(r, req.Free)
	if err != nil {
		return nil, err
	}
	to.Free = len(slots)
	disks, err := s.takeBlank(req.Disks, req.DryRun)
	if err != nil {
		return nil, err
	}
	out, err := s.changeOn(r, req, to, slots, disks)
	if err != nil || req.DryRun {
		for _, d := range disks {
			_ = d.Close()
		}
	}
	return out, err
}

// changeOn is Change with disks that are open, which belong to the array afterwards.
func (s *Service) changeOn(r *running, req control.ChangeRequest, to task.Target, slots []int, disks []disk.Disk) (*control.ChangeReply, error) {
	sizes := make([]int64, len(disks))
	for i, d := range disks {
		if why := s.doubt(d); why != "" && !req.AlthoughBad {
			return nil, badDisk(d.Identity(), why)
		}
		sizes[i] = d.Size()
	}
	c, err := r.PlanConversion(to, sizes)
	if err != nil {
		return nil, notChanged(r, c, err)
	}
	out := s.changeReply(r, c)
	for _, d := range disks {
		out.Disks = append(out.Disks, d.Identity())
	}
	if out.Free, out.Copies, err = frees(r, slots); err != nil {
		return nil, err
	}
	out.Spares = req.Spares && len(out.Free) > 0
	if c.Cut > 0 {
		err = s.cutting(r, c.Cut, req, out)
	}
	if err != nil || req.DryRun {
		return out, err
	}
	for _, d := range disks {
		if id := d.Identity(); id.Bay == "" {
			if err := s.seen.Remember(id.Path); err != nil {
				return nil, err
			}
		}
	}
	var spares []state.Identity
	if out.Spares {
		spares = out.Free
	}
	if err := s.noteLeaving(r, out.Copies, spares); err != nil {
		return nil, err
	}
	if err := quietly(disks, func() error { return r.Convert(to, disks) }); err != nil {
		s.forgetFreed(r)
		return nil, stillUsed(r, err)
	}
	s.noteGrowth(r, out)
	for _, d := range disks {
		s.noSpare(d.Identity())
	}
	return out, nil
}

// grow takes up the room of larger disks, or says what that would gain.
func (s *Service) grow(r *running, req control.ChangeRequest) (*control.ChangeReply, error) {
	r.measure()
	g := r.Gain()
	if g.Bytes == 0 && r.Record().Turn == nil && r.Waits() == "" {
		return nil, noRoom(r, g)
	}
	out := &control.ChangeReply{Array: r.Name(), Before: layoutOf(r), Then: layoutOf(r), Stays: s.opt.Stays, Device: s.devicePath(r)}
	out.Then.Capacity += g.Bytes
	if g.Moves {
		c, err := r.PlanWiden()
		if err != nil {
			return nil, person(err)
		}
		out = s.changeReply(r, c)
	}
	if req.DryRun {
		return out, nil
	}
	if err := r.growNow(); err != nil {
		return nil, person(err)
	}
	s.noteGrowth(r, out)
	return out, nil
}

// noRoom says why an array cannot grow, and what would make it.
func noRoom(r *running, g task.Gain) error {
	e := &control.Error{What: fmt.Sprintf("array %s uses all that its disks have in common", r.Name())}
	if names := shortNames(r, g); len(names) > 0 {
		e.What = fmt.Sprintf("array %s cannot grow yet: the disks of %s are too small", r.Name(), say.List(names))
		e.Hints = append(e.Hints, fmt.Sprintf("nidalo exchange %s %s   larger ones in their place gain %s", r.Name(), names[0], say.Size(g.Then)))
	}
	if r.Layout().Volumes() != nil {
		return &control.Error{What: fmt.Sprintf("array %s uses all of its data disks, as far as its parity disks reach", r.Name()),
			Hints: []string{fmt.Sprintf("nidalo grow %s VOLUME=DISK   adds a volume", r.Name()), fmt.Sprintf("nidalo exchange %s MEMBER   leads through the exchange of a disk for a larger one", r.Name())}}
	}
	e.Hints = append(e.Hints, fmt.Sprintf("nidalo grow %s DISK   adds a disk", r.Name()))
	return e
}

func shortNames(r *running, g task.Gain) (names []string) {
	states := r.MemberStates()
	for _, slot := range g.Short {
		names = append(names, say.Short(states[slot].Disk))
	}
	return names
}

// target is the layout that a request means for an array that has some layout.
func target(r *running, lay *layout.Map, req control.ChangeRequest) (task.Target, error) {
	to := task.Target{Level: layout.Level(req.Level), Strip: req.Strip, Groups: req.Groups}
	if !req.Grow {
		if req.Level == "" && len(req.Disks) == 0 && lay.Level.Nested() { // only other strips, perhaps
			to.Groups = cmp.Or(req.Groups, lay.Shape.Groups)
		}
		to.Level = layout.Level(cmp.Or(req.Level, string(lay.Level)))
		return to, nil
	}
	to.Level = lay.Level
	switch per := lay.Members / lay.Shape.Groups; {
	case lay.Level == layout.Mirror:
		names := say.Arguments(req.Disks)
		return to, &control.Error{What: fmt.Sprintf("more disks give a mirror more copies, or make it a stripe of mirrors: say which is wanted of %s", r.Name()), Hints: []string{
			fmt.Sprintf("nidalo convert %s -level 10 %s   twice as much room, with an even number of disks", r.Name(), names),
			fmt.Sprintf("nidalo convert %s -level 1 %s   more copies", r.Name(), names)}}
	case lay.Level.Nested() && len(req.Disks)%per != 0:
		return to, &control.Error{What: fmt.Sprintf("array %s has groups of %d disks and grows by whole groups; %d given", r.Name(), per, len(req.Disks))}
	case lay.Level.Nested():
		to.Groups = lay.Shape.Groups + len(req.Disks)/per
	}
	return to, nil
}

// notChanged says why a change cannot be made, and the smallest thing that would make it possible.
func notChanged(r *running, c task.Conversion, err error) error {
	e := &control.Error{What: err.Error()}
	switch {
	case errors.Is(err, layout.ErrSmaller) && c.Free == 0:
		e.What = fmt.Sprintf("level %s of %d disks has %s, less than the %s that array %s has", c.Level, c.Members, say.Size(c.After), say.Size(c.Before), r.Name())
		for n := 1; n <= layout.MaxMembers-c.Members; n++ {
			sizes := make([]int64, n+c.Members-len(r.MemberStates()))
			for i := range sizes {
				sizes[i] = c.Need
			}
			if _, err := r.PlanAfter(c.Target, sizes); err == nil {
				e.Hints = append(e.Hints, fmt.Sprintf("with %s of at least %s more it can be done", counted(n, "disk"), say.Size(c.Need)))
				return e
			}
		}
		e.Hints = append(e.Hints, fmt.Sprintf("nidalo shrink %s -to %s   makes the array that small first, if no more is written", r.Name(), roundDown(c.After)))
	case errors.Is(err, layout.ErrBackwards):
		e.What = fmt.Sprintf("level %s of %d disks cannot become level %s of %d in place: data would be put where other data still is", r.Layout().Level, len(r.MemberStates()), c.Level, c.Members)
		e.Hints = append(e.Hints, "make a second array of other disks, and copy what the first holds")
	}
	return e
}

// roundDown is a size that is no more than some bytes, as an argument.
func roundDown(n int64) string {
	if n >= 64<<30 {
		return fmt.Sprintf("%dGiB", n>>30)
	}
	return fmt.Sprintf("%dMiB", n>>20)
}

func counted(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func (s *Service) changeReply(r *running, p task.Conversion) *control.ChangeReply {
	out := &control.ChangeReply{Array: r.Name(), Before: layoutOf(r), Moves: p.Moves, Rate: plan.DefaultAssumptions.Rate, Stays: s.opt.Stays, Device: s.devicePath(r)}
	out.Then = control.LayoutStatus{Level: string(p.Level), Members: p.Members, Groups: p.At.Groups, Strip: p.Strip, Capacity: p.After, Margin: p.MarginAt}
	// Each member is read once, and written once in place and half of it once to its journal: what goes where something is.
	read := float64(p.Moves) / float64(p.Shape.Data*p.Shape.Groups)
	written := 1.5 * float64(p.Moves) / float64(p.At.Data*p.At.Groups)
	out.Seconds = (read + written) / out.Rate
	out.Back = p.Back
	if p.Map != nil {
		out.Layers, out.Written = plan.Layers(p.Map), writtenEach(r, p)
	}
	return out
}

// writtenEach is how much lies on the members now, and about how much will, each with its part of what is written.
func writtenEach(r *running, p task.Conversion) *control.WrittenEach {
	now, then := make([]int64, len(r.MemberStates())), make([]int64, p.Members)
	for slot := range now {
		now[slot] = r.WrittenOn(slot)
	}
	for slot := range then {
		then[slot] = int64(float64(p.Map.Bytes(slot)) * float64(p.Written) / float64(p.Map.Capacity()))
	}
	return &control.WrittenEach{Now: [2]int64{slices.Min(now), slices.Max(now)}, Then: [2]int64{slices.Min(then), slices.Max(then)}}
}

func layoutOf(r *running) control.LayoutStatus {
	lay := r.Layout()
	margin, _ := r.Margin()
	return control.LayoutStatus{Level: string(lay.Level), Members: len(seated(r.MemberStates())), Groups: lay.Shape.Groups, Strip: lay.Shape.Strip, Capacity: lay.Capacity(), Margin: margin}
}

// growByThemselves has arrays take up the room of larger disks, where the configuration says so.
func (s *Service) growByThemselves() {
	wanted := s.config().Grow
	for _, r := range s.running() {
		if !slices.Contains(wanted, r.Name()) && !slices.Contains(wanted, "all") || r.Condition() != state.Healthy || r.Record().Turn != nil {
			continue
		}
		r.measure()
		before := layoutOf(r)
		if g := r.Gain(); g.Bytes == 0 || g.Cut || !s.unasked() {
			continue // what was given up on purpose is taken up again by a command only
		}
		err := r.growNow()
		if err == nil {
			s.noteGrowth(r, &control.ChangeReply{Before: before, Then: layoutOf(r)})
		}
		s.admin.Unlock()
		if err != nil {
			s.opt.Log.Warn("an array cannot grow by itself", "array", r.Name(), "reason", err)
		}
	}
}

// devicePath is the device that an array is attached as; empty: it is not.
func (s *Service) devicePath(r *running) string {
	if d := s.devices.Devices()[r.ID().String()]; d != nil {
		return d.Path
	}
	return ""
}

// measureWait is how long a command waits for the sizes of disks.
const measureWait = 200 * time.Millisecond

// measure finds out how large the disks of an array are by now, those that hang excepted.
func (r *running) measure() {
	done := make(chan struct{})
	go func() {
		defer close(done)
		r.Measure()
	}()
	select {
	case <-done:
	case <-time.After(measureWait):
	}
}

// growthOf is what of the disks of an array it does not use; nil: nothing that would be worth it.
func growthOf(r *running) *control.GrowthStatus {
	if r.Failure() != nil || r.Record().Turn != nil {
		return nil
	}
	r.measure()
	g := r.Gain()
	if g.Bytes == 0 && g.Then == 0 {
		return nil
	}
	out := &control.GrowthStatus{Gain: g.Bytes, Moves: g.Moves, Cut: g.Cut, Then: g.Then, Short: shortNames(r, g)}
	for slot, n := range g.Unused {
		out.Unused += n
		if !slices.Contains(g.Short, slot) && n > 0 {
			out.Larger++
		}
	}
	return out
}

// changeOf is the change of layout that is under way; nil: none is.
func changeOf(rec *record.Record) *control.TurnStatus {
	turn, err := rec.Turns()
	if rec.Turn == nil || err != nil {
		return nil
	}
	return &control.TurnStatus{Level: string(turn.New.Level), Groups: turn.New.Shape.Groups, Strip: turn.New.Shape.Strip, Members: cmp.Or(rec.Turn.Members, len(rec.Roster)),
		Capacity: turn.New.Capacity(), Moved: rec.Turn.Moved, Down: turn.Down, Back: rec.Turn.Way == record.Back, Turns: rec.Turn.Way == record.TurnsYet, Started: rec.Turn.Started}
}
