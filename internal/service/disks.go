package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/ownership"
	"nidalo/internal/service/disks"
)

// memberAt tells whether a disk is a live member of an array in service.
func (s *Service) memberAt(id state.Identity) (*running, array.MemberState, bool) {
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			switch m.Condition {
			case record.Failed, record.Missing, record.Vacant:
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
		if err := s.mayShare("", d.Identity()); err != nil {
			return taken, err
		}
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
	if req.Parity {
		return s.handOver(r, slot, req)
	}
	m := r.member(slot)
	works := works(m)
	if put, err := s.beyond(r, slot, req); put != nil || err != nil {
		if err != nil {
			return nil, err
		}
		return s.putIn(req.New, req.AlthoughBad, m, r.NeedSize(slot), put)
	}
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
	if err := s.unattached(r); err != nil {
		return err
	}
	return r.unused()
}

// unattached says that an array, or a volume of it, is attached; nil: none is. s.mu is held.
func (s *Service) unattached(r *running) error {
	for _, x := range r.attachables() {
		if _, attached := s.mem.Attached[x.ID]; attached {
			what := "array"
			if x.slot >= 0 {
				what = "volume"
			}
			return &control.Error{What: fmt.Sprintf("%s %q is attached to this host as a device", what, x.Name), Hints: []string{"nidalo detach " + say.Quote(x.Name) + "   ends that first"}}
		}
	}
	return nil
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
	members := seated(r.MemberStates())
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
	id := r.ID().String()
	s.unclaim(id, (*ownership.Claim).Forget)
	s.event(event.Event{Kind: event.ArrayDissolved, Array: r.Name()})
	// A member that was away, and comes back, is one from elsewhere then.
	s.note(func(m *memory) {
		own := func(other string) bool { return other == id }
		m.Arrays, m.Out = slices.DeleteFunc(m.Arrays, own), slices.DeleteFunc(m.Out, own)
		delete(m.Names, id)
		delete(m.Paces, r.Name())
		delete(m.Waiting, id)
		m.Unproven = slices.DeleteFunc(m.Unproven, own)
		delete(m.Handings, id)
		m.Grew = slices.DeleteFunc(m.Grew, own)
	})
	return nil
}
