package service

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"syscall"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/attach"
	"nidalo/internal/service/disks"
)

// memberAt tells whether a disk is a live member of an array in service.
func (s *Service) memberAt(id state.Identity) (*running, array.MemberState, bool) {
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			switch m.Condition {
			case record.Failed, record.Missing:
				continue
			}
			if m.Disk.Path == id.Path && m.Disk.Serial == id.Serial {
				return r, m, true
			}
		}
	}
	return nil, array.MemberState{}, false
}

func (s *Service) inService(id state.Identity) bool {
	_, _, ok := s.memberAt(id)
	return ok
}

// mayTakeAll says of every disk that cannot be taken why.
func (s *Service) mayTakeAll(names []string, sources []disks.Source) error {
	var wrong []error
	for i, src := range sources {
		if err := s.mayTake(names[i], s.lookAt(src)); err != nil {
			wrong = append(wrong, err)
		}
	}
	switch len(wrong) {
	case 0:
		return nil
	case 1:
		return wrong[0]
	}
	out := &control.Error{}
	for _, err := range wrong {
		out.What = strings.TrimPrefix(out.What+"; "+err.Error(), "; ")
		var told *control.Error
		if errors.As(err, &told) {
			for _, h := range told.Hints {
				if !slices.Contains(out.Hints, h) {
					out.Hints = append(out.Hints, h)
				}
			}
		}
	}
	return out
}

// takeBlank opens disks for a new array or as replacements, and refuses whatever holds something. Disks that are only looked at
// are not opened for writing: udev looks at a device anew whenever that ends.
func (s *Service) takeBlank(names []string, looks bool) (taken []disk.Disk, err error) {
	open := s.seen.Open
	if looks {
		open = s.seen.Peek
	}
	defer func() {
		if err != nil {
			for _, d := range taken {
				_ = d.Close()
			}
			taken = nil
		}
	}()
	var seen []disks.Source
	for _, name := range names {
		src, err := s.seen.Locate(name)
		if err != nil {
			return taken, err
		}
		if slices.Contains(seen, src) {
			return taken, &control.Error{What: fmt.Sprintf("disk %s is listed twice", name)}
		}
		seen = append(seen, src)
	}
	if err := s.mayTakeAll(names, seen); err != nil {
		return nil, err
	}
	for i, src := range seen {
		name := names[i]
		d, err := open(src)
		if err != nil {
			return taken, &control.Error{What: fmt.Sprintf("disk %s: %v", name, err)}
		}
		taken = append(taken, d)
		if looks {
			continue
		}
		// It is this process's alone now, so what it holds is seen for certain.
		switch c, err := disk.Look(d); {
		case err != nil:
			return taken, &control.Error{What: fmt.Sprintf("disk %s cannot be used: %v", name, err)}
		case !c.Blank():
			return taken, notBlank(s.lookAt(src))
		}
	}
	return taken, nil
}

// mayTake refuses a disk that is not blank, or cannot be used.
func (s *Service) mayTake(name string, info control.DiskInfo) error {
	if info.Hardware != nil && info.Hardware.Zones != "" {
		return &control.Error{What: fmt.Sprintf("disk %s cannot be used: %s", info.Identity, disks.InOrder(info.Hardware.Zones))}
	}
	switch info.State {
	case state.DiskEmpty:
		return &control.Error{What: fmt.Sprintf("bay %s is empty", name), Hints: []string{"nidalo lab insert " + name + "   puts a new disk in"}}
	case state.DiskBroken, state.DiskClosed:
		return &control.Error{What: fmt.Sprintf("disk %s cannot be used: %s", name, strings.Join(info.Holds, "; "))}
	case state.DiskReadOnly:
		return &control.Error{What: fmt.Sprintf("disk %s is read-only: nothing can be written to it", info.Identity)}
	case state.DiskInUse:
		if v, ok := s.vetting(info.Name()); ok && v.Ended.IsZero() && info.Array == "" {
			return &control.Error{What: fmt.Sprintf("disk %s is being vetted (%.0f%%)", info.Identity, v.Percent), Hints: []string{"nidalo vet   shows how far it is"}}
		}
		return notBlank(info)
	case state.DiskRetired:
		return notBlank(info)
	}
	return nil
}

// quietly keeps other programs from looking at some disks while their first records are written.
func quietly(disks []disk.Disk, do func() error) error {
	var locked []string
	for _, d := range disks {
		on, ok := d.(interface{ Node() string })
		if !ok || on.Node() == "" || slices.Contains(locked, on.Node()) {
			continue
		}
		release, err := disk.Hush(on.Node())
		if err != nil {
			return &control.Error{What: fmt.Sprintf("disk %s: %v", d.Identity(), err), Hints: []string{"wait until that program is done"}}
		}
		defer release()
		locked = append(locked, on.Node())
	}
	return do()
}

func notBlank(info control.DiskInfo) error {
	if info.Array != "" {
		return &control.Error{What: fmt.Sprintf("disk %s is in use: %s member of array %q", info.Identity, info.Member, info.Array)}
	}
	if len(info.Held) > 0 {
		return &control.Error{What: fmt.Sprintf("disk %s is in use: %s", info.Identity, strings.Join(info.Held, "; "))}
	}
	return &control.Error{What: fmt.Sprintf("disk %s is not blank: it holds %s", info.Identity, strings.Join(info.Holds, "; ")),
		Hints: []string{"nidalo erase " + say.Argument(info.Identity) + "   makes it blank, and what it holds is lost"}}
}

// Create makes an array of blank disks.
func (s *Service) Create(req control.CreateRequest) (*control.ArrayStatus, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if err := record.CheckName(req.Name); err != nil {
		return nil, &control.Error{What: err.Error()}
	}
	if s.nameTaken(req.Name) {
		return nil, &control.Error{What: fmt.Sprintf("there is an array %q already", req.Name)}
	}
	if req.Strip == 0 {
		req.Strip = layout.DefaultStrip
	}
	if err := fitsLevel(req); err != nil {
		return nil, err
	}
	disks, err := s.takeForCreate(req)
	if err != nil {
		return nil, err
	}
	a, out, err := s.createOn(disks, req)
	if a == nil {
		for _, d := range disks {
			_ = d.Close()
		}
		return out, err
	}
	s.begin(a)
	for _, d := range disks {
		s.noSpare(d.Identity())
	}
	s.event(event.Event{Kind: event.ArrayCreated, Array: a.Name(), Detail: fmt.Sprintf("level %s of %d members, %s", req.Level, len(disks), say.Size(a.Capacity()))})
	status := s.describe(s.arrayNamed(a.Name()))
	return &status, nil
}

// fitsLevel looks at the level's own demands before any disk is looked at: they are the cheaper to put right.
func fitsLevel(req control.CreateRequest) error {
	sizes := make([]int64, len(req.Disks))
	for i := range sizes {
		sizes[i] = 1 << 40
	}
	if len(sizes) > 0 {
		if _, err := layout.New(layout.Level(req.Level), req.Strip, req.Groups, sizes); err != nil {
			return &control.Error{What: err.Error()}
		}
	}
	return nil
}

// createOn makes the array of disks that are open, which belong to it then. Of a dry run it only says what it would be.
func (s *Service) createOn(disks []disk.Disk, req control.CreateRequest) (*array.Array, *control.ArrayStatus, error) {
	for _, d := range disks {
		if why := s.doubt(d); why != "" && !req.AlthoughBad {
			return nil, nil, badDisk(d.Identity(), why)
		}
	}
	plan := array.Plan{Name: req.Name, Level: layout.Level(req.Level), Strip: req.Strip, Groups: req.Groups, Disks: disks}
	lay, _, err := plan.Layout()
	if err != nil {
		return nil, nil, &control.Error{What: err.Error()}
	}
	if req.DryRun {
		return nil, s.wouldBe(req, lay, disks), nil
	}
	for _, d := range disks {
		if id := d.Identity(); id.Bay == "" {
			if err := s.seen.Remember(id.Path); err != nil {
				return nil, nil, err
			}
		}
	}
	var a *array.Array
	err = quietly(disks, func() (err error) {
		a, err = array.Create(plan, s.engine())
		return err
	})
	if errors.Is(err, disk.ErrFull) {
		return nil, nil, &control.Error{What: err.Error(), Hints: []string{"make space there, then erase the disks and create the array again"}}
	}
	return a, nil, err
}

// wouldBe is what an array that could be created is.
func (s *Service) wouldBe(req control.CreateRequest, lay *layout.Map, disks []disk.Disk) *control.ArrayStatus {
	out := &control.ArrayStatus{Name: req.Name, Level: req.Level, Capacity: lay.Capacity(), Strip: req.Strip, Groups: lay.Shape.Groups}
	names, spindles := make([]state.Identity, len(disks)), make([]string, len(disks))
	for i, d := range disks {
		id := d.Identity()
		names[i], spindles[i] = id, state.SpindleOf(id.Model, id.Serial)
		if text, _ := s.vettingOf(id.Name()); text == "" {
			out.NotVetted = append(out.NotVetted, say.Short(id))
		}
		out.Members = append(out.Members, control.MemberStatus{Slot: i, Bay: id.Bay, Model: id.Model, Serial: id.Serial, Path: id.Path, Size: d.Size()})
	}
	out.Margin, out.MarginBest = lay.MarginOfDisks(spindles, func(int) bool { return false })
	for _, slots := range sharing(names) {
		var of []string
		for _, slot := range slots {
			of = append(of, say.Short(names[slot]))
		}
		slices.Sort(of)
		out.Shared = append(out.Shared, fmt.Sprintf("%s are on one disk, and are lost together", say.List(of)))
	}
	slices.Sort(out.Shared)
	out.Together = filesTogether(names)
	return out
}

// filesTogether names files that lie in one file system, and so on one disk, as far as that can be told from here; empty: there are none. Those
// of a lab play disks, and do not count.
func filesTogether(of []state.Identity) string {
	byFileSystem := map[uint64][]string{}
	for _, id := range of {
		info, err := os.Stat(id.Path)
		if err != nil || !info.Mode().IsRegular() || id.Bay != "" {
			continue
		}
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			byFileSystem[uint64(st.Dev)] = append(byFileSystem[uint64(st.Dev)], say.Short(id))
		}
	}
	var out []string
	for _, names := range byFileSystem {
		if len(names) > 1 {
			slices.Sort(names)
			out = append(out, say.List(names)+" are files of one file system: they are lost together with its disk, whatever the margin says")
		}
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

// begin puts an array that was just created into service.
func (s *Service) begin(a *array.Array) {
	r := newRunning(a)
	r.since = attach.Begin(a.ID().String(), a.Record().Starts) // it has been nowhere else
	s.mu.Lock()
	s.arrays[a.Name()] = r
	s.mu.Unlock()
	s.own(a.ID().String(), a.Name())
}

// arrayNamed is the array in service with a name.
func (s *Service) arrayNamed(name string) *running {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.arrays[name]
}

// takeForCreate opens the disks of a new array, or with Use the partitions that it makes for it. A dry run opens and writes nothing.
func (s *Service) takeForCreate(req control.CreateRequest) ([]disk.Disk, error) {
	if req.Use == 0 {
		return s.takeBlank(req.Disks, req.DryRun)
	}
	list, err := s.carvings(req.Disks, req.Use, req.Name)
	if err != nil {
		return nil, err
	}
	var planned []disk.Disk
	for i, c := range list {
		for _, other := range list[:i] {
			if other.info.Path == c.info.Path {
				return nil, &control.Error{What: fmt.Sprintf("disk %s is listed twice", c.info.Identity)}
			}
		}
		planned = append(planned, seen{control.DiskInfo{Identity: c.identity(), Size: c.part.Length}})
	}
	if req.DryRun {
		return planned, nil
	}
	// What the level asks for comes before anything is written.
	plan := array.Plan{Name: req.Name, Level: layout.Level(req.Level), Strip: req.Strip, Groups: req.Groups, Disks: planned}
	if _, _, err := plan.Layout(); err != nil {
		return nil, &control.Error{What: err.Error()}
	}
	paths, err := s.carve(list)
	if err != nil {
		return nil, err
	}
	return s.takeBlank(paths, false)
}

// Fail declares a member failed.
func (s *Service) Fail(req control.FailRequest) error {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(req.Array)
	if err != nil {
		return err
	}
	slot, err := s.slot(r, req.Disk)
	if err != nil {
		return err
	}
	states := r.MemberStates()
	m := states[slot]
	switch works := m.Condition.TakesPart(); {
	case req.Undo:
		return s.undoFail(r, m, req.Sure)
	case r.WouldFail(slot) && !(req.Sure && req.Force):
		return fatal(r, slot)
	case r.WouldFail(slot) && !s.opt.Stays:
		return &control.Error{What: fmt.Sprintf("array %q cannot be made to fail by a command: it would be back with the next one, since no service is running for it", r.Name()),
			Hints: []string{"nidalo may-pull " + say.Argument(m.Disk) + "   says what it means to take the disk out"}}
	case works && !req.Sure:
		before, _ := r.Margin()
		after, _ := r.Layout().Margin(func(other int) bool { return other == slot || !states[other].Condition.Counts() })
		cost := fmt.Sprintf("without it the margin of array %q falls from %d to %d", r.Name(), before, after)
		if after == before {
			cost = fmt.Sprintf("the margin of array %q stays %d without it", r.Name(), before)
		}
		return &control.Error{Fatal: true, What: fmt.Sprintf("%s works: %s", m.Disk, cost), Hints: []string{"-yes does it"}}
	}
	err = r.Fail(slot, req.Force)
	if errors.Is(err, task.ErrMargin) {
		return fatal(r, slot)
	}
	return person(err)
}

// undoFail lets a member come back that was declared failed: it catches up what it missed. admin is held.
func (s *Service) undoFail(r *running, m array.MemberState, sure bool) error {
	switch {
	case r.Failure() != nil:
		return &control.Error{What: fmt.Sprintf("array %q has failed, and cannot take members back while it is in service", r.Name()),
			Hints: []string{"nidalo start " + r.Name() + "   starts it again with what its members have"}}
	case m.Condition != record.Failed:
		return &control.Error{What: fmt.Sprintf("%s is %s: there is nothing to take back", m.Disk, m.Condition)}
	}
	if m.Reason != task.ByAdministrator && !sure {
		why := "it is not known why it failed: that was before the service was started"
		if m.Reason != "" {
			why = "it failed by itself: " + m.Reason
		}
		return &control.Error{Fatal: true, What: fmt.Sprintf("%s was not declared failed since the service was started; %s", m.Disk, why),
			Hints: []string{"-yes takes it back all the same; what it holds is checked as it is read"}}
	}
	order, known := s.seen.Seen()
	for _, src := range order {
		f := known[src]
		if f.Record == nil || f.Record.Array != r.ID() || f.Info.Identity.Name() != m.Disk.Name() {
			continue
		}
		if why := s.ambiguous(f); why != nil {
			return person(why)
		}
		r.LetGo(m.Slot)
		d, err := s.seen.Open(src)
		if err != nil {
			return person(err)
		}
		own, err := disk.ReadRecord(d)
		if own == nil {
			_ = d.Close()
			return &control.Error{What: fmt.Sprintf("%s: its record cannot be read: %v", m.Disk, err)}
		}
		if err := r.Return(d, own, true); err != nil {
			_ = d.Close()
			told := &control.Error{What: fmt.Sprintf("%s: %v", m.Disk, err)}
			if errors.Is(err, roster.ErrStale) {
				told.Hints = []string{"nidalo erase makes it blank; then it can be put in as a new disk, by nidalo replace"}
			}
			return told
		}
		return nil
	}
	return &control.Error{What: fmt.Sprintf("%s is not here with what it had when it left", m.Disk), Hints: []string{"nidalo disks shows what is"}}
}

func fatal(r *running, slot int) error {
	m := r.MemberStates()[slot]
	why := "its margin is 0"
	if !r.Layout().Redundant() {
		why = fmt.Sprintf("level %s cannot lose any member", r.Layout().Level)
	}
	return &control.Error{Fatal: true, What: fmt.Sprintf("array %q would fail without %s: %s, and its data (%s written) would be unreachable", r.Name(), m.Disk, why, say.Size(r.Used())),
		Hints: []string{"-yes -although-fatal does it all the same"}}
}

// person makes an engine's error one for people.
func person(err error) error {
	if err == nil {
		return nil
	}
	if told, ok := err.(*control.Error); ok { // with its hints
		return told
	}
	return &control.Error{What: err.Error()}
}

// Replace puts a blank disk in the place of a member and starts the rebuild.
func (s *Service) Replace(req control.ReplaceRequest) (*control.ReplaceReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(req.Array)
	if err != nil {
		return nil, err
	}
	slot, err := s.slot(r, req.Old)
	if err != nil {
		return nil, err
	}
	if !r.Layout().Redundant() {
		return nil, &control.Error{What: fmt.Sprintf("level %s has no redundancy: what was on %s cannot be rebuilt", r.Layout().Level, req.Old)}
	}
	m := r.MemberStates()[slot]
	works := m.Condition.String() == "active" || m.Condition.String() == "failing"
	if works && r.WouldFail(slot) {
		return nil, &control.Error{What: fmt.Sprintf("%s still works and array %q has no margin: taking it out would put the data out of reach", m.Disk, r.Name()),
			Hints: []string{"replace the failed member first"}}
	}
	if works && !req.Force {
		return nil, &control.Error{Fatal: true, What: fmt.Sprintf("%s still works: replacing it lowers the margin until the rebuild is done", m.Disk), Hints: []string{"-yes does it"}}
	}
	return s.putIn(req.New, req.AlthoughBad, m, r.NeedSize(slot), func(d disk.Disk) error { return r.Replace(slot, d) })
}

// putIn takes a blank disk, or a spare, for the place of a member, and has it put there.
func (s *Service) putIn(name string, althoughBad bool, m array.MemberState, need int64, put func(disk.Disk) error) (*control.ReplaceReply, error) {
	disks, err := s.takeBlank([]string{name}, false)
	if err != nil {
		return nil, err
	}
	d, id := disks[0], disks[0].Identity()
	switch why := s.doubt(d); {
	case why != "" && !althoughBad:
		err = badDisk(id, why)
	case d.Size() < need:
		err = &control.Error{What: fmt.Sprintf("disk %s has %s (%d bytes); the place of %s needs at least %s (%d bytes)", id, say.Size(d.Size()), d.Size(), m.Disk, say.Size(need), need)}
	case id.Bay == "":
		err = s.seen.Remember(id.Path)
	}
	if err == nil {
		err = person(quietly([]disk.Disk{d}, func() error { return put(d) }))
	}
	if err != nil {
		_ = d.Close()
		return nil, err
	}
	s.noSpare(id)
	info := control.DiskInfo{Identity: id, Size: d.Size()}
	info.Vetting, info.Vetted = s.vettingOf(id.Name())
	return &control.ReplaceReply{Slot: m.Slot, Disk: info, Stays: s.opt.Stays, Member: m.Disk.String()}, nil
}

// Check starts a consistency check.
func (s *Service) Check(req control.CheckRequest) error {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(req.Array)
	if err != nil {
		return err
	}
	if r.Failure() != nil {
		return person(r.Failure())
	}
	blame := -1
	if req.Blame != "" {
		if blame, err = s.slot(r, req.Blame); err != nil {
			return err
		}
	}
	return person(r.StartCheckBlaming(req.Repair, blame))
}

// Erase makes a disk blank that is not in use by an array in service.
func (s *Service) Erase(req control.EraseRequest) (*control.DiskInfo, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	src, err := s.seen.Locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	switch {
	case info.State == state.DiskEmpty:
		return nil, &control.Error{What: fmt.Sprintf("bay %s is empty", req.Disk)}
	case info.Array != "":
		return nil, &control.Error{What: fmt.Sprintf("disk %s is in use: %s member of array %q", info.Identity, info.Member, info.Array)}
	}
	if members := s.membersOn(info); len(members) > 0 {
		return nil, &control.Error{What: fmt.Sprintf("disk %s is in use: %s", info.Identity, strings.Join(members, "; "))}
	}
	switch {
	case len(info.Held) > 0:
		return nil, &control.Error{What: fmt.Sprintf("disk %s is in use: %s", info.Identity, strings.Join(info.Held, "; "))}
	case req.DryRun || info.State == state.DiskBlank:
		return &info, nil
	}
	d, err := s.seen.Open(src)
	if err != nil {
		return nil, person(err)
	}
	defer d.Close()
	if err := disk.Wipe(d); err != nil {
		return nil, person(err)
	}
	if f, ok := d.(interface{ RereadPartitions() error }); ok {
		if err := f.RereadPartitions(); err != nil {
			return nil, &control.Error{What: fmt.Sprintf("disk %s is blank now, but the system still sees its old partitions: %v", info.Identity, err), Hints: []string{"take it out and put it back, or restart the host"}}
		}
		_ = s.seen.Look(true)
	}
	info = s.lookAt(src)
	return &info, nil
}

// membersOn lists the partitions of a disk that are members of arrays in service.
func (s *Service) membersOn(info control.DiskInfo) (out []string) {
	if info.Hardware == nil || len(info.Hardware.Parts) == 0 {
		return nil
	}
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			if slices.Contains(info.Hardware.Parts, m.Disk.Path) && m.Condition != record.Failed && m.Condition != record.Missing {
				out = append(out, fmt.Sprintf("%s is an %s member of array %q", say.Short(m.Disk), m.Condition, r.Name()))
			}
		}
	}
	return out
}

// unused refuses while clients hold the array.
func (s *Service) unused(r *running) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.free(r)
}

// free says why an array cannot be taken out of service. s.mu is held.
func (s *Service) free(r *running) error {
	if _, attached := s.mem.Attached[r.ID().String()]; attached {
		return &control.Error{What: fmt.Sprintf("array %q is attached to this host as a device", r.Name()), Hints: []string{"nidalo detach " + r.Name() + "   ends that first"}}
	}
	return r.unused()
}

func (r *running) unused() error {
	if r.clients == 0 {
		return nil
	}
	what := "1 client holds it"
	if r.clients > 1 {
		what = fmt.Sprintf("%d clients hold it", r.clients)
	}
	return &control.Error{What: fmt.Sprintf("array %q is in use: %s", r.Name(), what), Hints: []string{"disconnect them first"}}
}

// takeOut removes an array from those in service, unless clients hold it.
func (s *Service) takeOut(r *running) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.free(r); err != nil {
		return err
	}
	delete(s.arrays, r.Name())
	return nil
}

// Dissolve ends an array; its members become blank.
func (s *Service) Dissolve(req control.DissolveRequest) error {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(req.Array)
	if err != nil {
		return err
	}
	if req.DryRun {
		return s.unused(r)
	}
	members := r.MemberStates()
	if err := s.takeOut(r); err != nil {
		return err
	}
	if err := r.Close(); err != nil && r.Failure() == nil {
		return person(err)
	}
	for _, m := range members {
		if c := m.Condition.String(); c == "failed" || c == "missing" {
			continue
		}
		src := s.seen.SourceOf(m.Disk)
		d, err := s.seen.Open(src)
		if err != nil {
			return person(err)
		}
		if own, _ := disk.ReadRecord(d); own == nil || own.Array != r.ID() {
			_ = d.Close()
			continue // another disk is there by now
		}
		err = disk.Wipe(d)
		_ = d.Close()
		s.lookAt(src)
		if err != nil {
			return person(err)
		}
	}
	s.event(event.Event{Kind: event.ArrayDissolved, Array: r.Name()})
	// A member that was away, and comes back, is one from elsewhere then.
	id := r.ID().String()
	return s.change(func(m *memory) {
		own := func(other string) bool { return other == id }
		m.Arrays, m.Out = slices.DeleteFunc(m.Arrays, own), slices.DeleteFunc(m.Out, own)
		delete(m.Names, id)
		delete(m.Paces, r.Name())
	})
}
