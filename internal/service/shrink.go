package service

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"nidalo/core/content"
	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/partition"
)

// Arrays that get smaller, and members that leave for good.

// leaving is a member that is to leave once the array does without another: it is copied onto that disk then.
type leaving struct {
	Member string    `json:"member"` // serial or path
	Onto   string    `json:"onto"`
	Noted  time.Time `json:"noted"`
}

// shrink gives an array less capacity, or says what that would mean.
func (s *Service) shrink(r *running, req control.ChangeRequest) (*control.ChangeReply, error) {
	after, err := r.PlanShrink(req.Shrink)
	if err != nil {
		return nil, &control.Error{What: fmt.Sprintf("array %s cannot have %s: %v", r.Name(), say.Size(req.Shrink), err)}
	}
	out := &control.ChangeReply{Array: r.Name(), Before: layoutOf(r), Then: layoutOf(r), Stays: s.opt.Stays, Device: s.devicePath(r)}
	out.Then.Capacity = after
	if err := s.cutting(r, after, req, out); err != nil || req.DryRun {
		return out, err
	}
	if _, err := r.Shrink(req.Shrink); err != nil {
		return nil, stillUsed(r, err)
	}
	return out, nil
}

// cutting looks at what lies beyond the new end of an array, and refuses where that would be lost unasked. What may be lost is trimmed, unless nothing is
// to be done yet.
func (s *Service) cutting(r *running, end int64, req control.ChangeRequest, out *control.ChangeReply) error {
	if end >= r.Capacity() {
		return nil
	}
	if err := fileSystemEnds(r, end); err != nil {
		return err
	}
	var err error
	if out.Beyond, out.More, err = writtenBeyond(r, end); err != nil {
		return person(err)
	}
	switch {
	case req.DryRun:
		return nil
	case out.Beyond > 0 && !req.Discard:
		return beyond(r, out, end)
	}
	if err := r.MayShrink(); err != nil || out.Beyond == 0 { // nothing is lost for a change that is refused then
		return person(err)
	}
	if err := r.Zero(end, r.Capacity()-end); err != nil {
		return person(err)
	}
	return person(r.Flush())
}

// mostCounted is up to how much what lies beyond the new end of an array is counted.
const mostCounted = 1 << 30

// writtenBeyond is how much is written from a byte on; more says that it was not all looked at.
func writtenBeyond(r *running, from int64) (bytes int64, more bool, err error) {
	const piece = 64 << 20
	for end, n := r.Capacity(), int64(piece); from < end && bytes < mostCounted; n = min(n, end-from) {
		list, err := r.Extents(from, min(n, end-from), 1)
		if err != nil || len(list) == 0 {
			return bytes, false, err
		}
		if from += list[0].Length; list[0].Written {
			bytes, n = bytes+list[0].Length, piece
		} else {
			n *= 2 // what was never written costs nothing
		}
		more = from < end
	}
	return bytes, more, nil
}

func beyond(r *running, c *control.ChangeReply, end int64) error {
	return &control.Error{What: fmt.Sprintf("array %s has %s written beyond its new end of %s", r.Name(), c.BeyondWords(), say.Size(end)), Hints: control.BeyondHints}
}

func stillUsed(r *running, err error) error {
	var used task.UsedError
	if errors.As(err, &used) {
		return &control.Error{What: fmt.Sprintf("array %s: %v", r.Name(), err), Hints: []string{"trim it, or stop what writes there; then give the command again"}}
	}
	return person(err)
}

// fileSystemEnds refuses an end in the middle of what is on an array.
func fileSystemEnds(r *running, end int64) error {
	head := make([]byte, content.Head)
	if err := r.ReadAt(head, 0); err != nil {
		return person(err)
	}
	if fs, ok := content.Find(head); ok && fs.End > end {
		e := &control.Error{What: fmt.Sprintf("the %s file system on array %s ends at %s (byte %d), beyond %s (byte %d)", fs.Kind, r.Name(), say.Size(fs.End), fs.End, say.Size(end), end)}
		if fs.Shrinks == "" {
			e.Hints = append(e.Hints, fs.Kind+" cannot be made smaller: copy what it holds to a smaller one")
		} else {
			e.Hints = append(e.Hints, fmt.Sprintf("%s DEVICE %dK   makes it smaller first, unmounted", fs.Shrinks, end>>10))
		}
		return e
	}
	for _, sector := range []int{4096, 512} { // by the device, and by other clients
		table, err := partition.Read(volume{seen{control.DiskInfo{Identity: state.Identity{Path: r.Name()}, Size: r.Capacity()}}, r}, sector)
		if err != nil {
			continue // there is none that we know
		}
		for _, p := range table.Parts {
			if p.Start+p.Length > end {
				return &control.Error{What: fmt.Sprintf("partition %d on array %s ends at %s (byte %d), beyond %s (byte %d)", p.Number, r.Name(), say.Size(p.Start+p.Length), p.Start+p.Length, say.Size(end), end),
					Hints: []string{"make the partition smaller first, after the file system on it"}}
			}
		}
	}
	return nil
}

// volume is an array as a disk that can be read.
type volume struct {
	seen
	r *running
}

func (v volume) ReadAt(p []byte, off int64) error { return v.r.ReadAt(p, off) }

// frees works out which disks leave when some members are to be free: the change lets the last ones go; another one that is named is copied onto the disk
// of one that is not, when that is over.
func frees(r *running, slots []int) (free []state.Identity, then []control.Moving, err error) {
	members := r.MemberStates()
	first := len(members) - len(slots)
	var named, kept []int
	for slot := range members {
		switch in := slices.Contains(slots, slot); {
		case in && slot < first:
			named = append(named, slot)
		case in:
			free = append(free, members[slot].Disk)
		case slot >= first:
			kept = append(kept, slot)
		}
	}
	for i, slot := range named {
		onto := members[kept[i]]
		if need := r.NeedSize(slot); onto.Size < need {
			return nil, nil, &control.Error{What: fmt.Sprintf("%s cannot be freed: what it holds would have to go onto %s, which has %s of the %s that its place needs", members[slot].Disk, onto.Disk, say.Size(onto.Size), say.Size(need)),
				Hints: []string{"free " + say.Short(onto.Disk) + " instead"}}
		}
		free = append(free, members[slot].Disk)
		then = append(then, control.Moving{From: members[slot].Disk, Onto: onto.Disk})
	}
	return free, then, nil
}

// slotsOf are the slots of members by their names, each once.
func (s *Service) slotsOf(r *running, names []string) (slots []int, err error) {
	for _, name := range names {
		slot, err := s.slot(r, name)
		if err != nil {
			return nil, err
		}
		if slices.Contains(slots, slot) {
			return nil, &control.Error{What: fmt.Sprintf("%s is named twice", name)}
		}
		slots = append(slots, slot)
	}
	return slots, nil
}

// noteLeaving notes which members are to be copied onto disks that are let go, and which disks are to be hot spares then.
func (s *Service) noteLeaving(r *running, then []control.Moving, spares []state.Identity) error {
	if len(then) == 0 && len(spares) == 0 {
		return nil
	}
	return s.change(func(m *memory) {
		for _, d := range spares {
			m.KeepFreed = append(m.KeepFreed, d.Name())
		}
		if m.Leaving == nil {
			m.Leaving = map[string][]leaving{}
		}
		for _, x := range then {
			m.Leaving[r.ID().String()] = append(m.Leaving[r.ID().String()], leaving{x.From.Name(), x.Onto.Name(), s.opt.Now()})
		}
	})
}

// keepFreed makes a disk that was freed a hot spare, if that was asked for.
func (s *Service) keepFreed(disk string) {
	of := func(name string) bool { return state.Tells(disk, name) }
	s.mu.Lock()
	wanted := slices.ContainsFunc(s.mem.KeepFreed, of)
	s.mu.Unlock()
	if !wanted {
		return
	}
	s.note(func(m *memory) {
		if i := slices.IndexFunc(m.KeepFreed, of); i >= 0 {
			m.Spares = append(m.Spares, Spare{Disk: m.KeepFreed[i]})
			m.KeepFreed = slices.DeleteFunc(m.KeepFreed, of)
		}
	})
}

// forgetFreed forgets what was to become of the disks of an array that does not do without them after all.
func (s *Service) forgetFreed(r *running) {
	members := r.MemberStates()
	s.note(func(m *memory) {
		delete(m.Leaving, r.ID().String())
		m.KeepFreed = slices.DeleteFunc(m.KeepFreed, func(name string) bool {
			return slices.ContainsFunc(members, func(o array.MemberState) bool { return o.Disk.Name() == name })
		})
	})
}

// stillLeaves says why an array cannot change yet: a member of the change before is still to leave.
func (s *Service) stillLeaves(r *running) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if list := s.mem.Leaving[r.ID().String()]; len(list) > 0 {
		name := list[0].Member
		for _, m := range r.MemberStates() {
			if m.Disk.Name() == name {
				name = m.Disk.String()
			}
		}
		return &control.Error{What: fmt.Sprintf("%s of array %s is still to be copied onto another disk and freed", name, r.Name()),
			Hints: []string{"nidalo watch   follows the copy, which begins by itself"}}
	}
	return nil
}

// unableFor is how long the service tries to copy a member that leaves before it gives up. A disk may be busy for a moment, or on its way to another bay.
const unableFor = 10 * time.Minute

// goLeaving goes on with members that leave, where the array does without the others by now.
func (s *Service) goLeaving() {
	for _, r := range s.running() {
		s.mu.Lock()
		list := slices.Clone(s.mem.Leaving[r.ID().String()])
		s.mu.Unlock()
		if len(list) == 0 || r.Record().Turn != nil || converts(r) || r.Condition() != state.Healthy || !s.unasked() {
			continue
		}
		done, err := s.leaveOne(r, list[0])
		if err == nil {
			delete(s.unable, r.ID().String())
		} else if since, there := s.unable[r.ID().String()]; !done && (!there || s.opt.Now().Sub(since) < unableFor) {
			if !there {
				s.unable[r.ID().String()] = s.opt.Now()
				s.opt.Log.Info("a member cannot be freed yet", "array", r.Name(), "member", list[0].Member, "reason", err)
			}
			err = nil
		}
		if err != nil || done {
			delete(s.unable, r.ID().String())
			s.note(func(m *memory) {
				if m.Leaving[r.ID().String()] = list[1:]; len(list) == 1 {
					delete(m.Leaving, r.ID().String())
				}
			})
			if err != nil {
				s.event(event.Event{Kind: event.MemberNotFreed, Array: r.Name(), Disk: list[0].Member,
					Detail: fmt.Sprintf("%v; nidalo retire %s %s %s copies it when that is mended", err, r.Name(), list[0].Member, list[0].Onto)})
			}
		}
		s.admin.Unlock()
	}
}

// converts says whether a change of layout is not quite at its end: the disks that were let go may not be blank yet.
func converts(r *running) bool {
	return slices.ContainsFunc(r.TaskStates(), func(t task.State) bool { return t.Kind == state.TaskConvert && t.Ended.IsZero() })
}

// leaveOne has a member copied onto the disk that was let go, and when that is done makes its own blank. With an error, done says that it is for good.
func (s *Service) leaveOne(r *running, x leaving) (done bool, err error) {
	slot, err := r.FindSlot(x.Member)
	if err == nil {
		if _, under := r.Onto(slot); under {
			return false, nil
		}
		if t := lastTask(r, slot, state.TaskRetire); t != nil && t.Kind == state.TaskRetire && !t.Ended.IsZero() && !t.Started.Before(x.Noted) {
			return true, fmt.Errorf("the copy onto %s has %s", x.Onto, t.State)
		}
		if _, err := s.unmark(r, x.Onto); err != nil {
			return false, err
		}
		m := r.member(slot)
		_, err := s.putIn(x.Onto, false, m, r.NeedSize(slot), func(d disk.Disk) error { return r.Retire(slot, d) })
		return false, err
	}
	info, err := s.unmark(r, x.Member)
	if err == nil && info.State == state.DiskBlank {
		s.event(event.Event{Kind: event.MemberFreed, Array: r.Name(), Disk: info.Identity.String(), Detail: "it is blank"})
	}
	return err == nil, err
}

// unmark makes a disk blank that an array has let go and that still says so; any other it leaves as it is.
func (s *Service) unmark(r *running, name string) (control.DiskInfo, error) {
	src, err := s.seen.Locate(name)
	if err != nil {
		return control.DiskInfo{}, err
	}
	if info := s.lookAt(src); info.State != state.DiskRetired || info.Carries != r.ID().String() {
		return info, nil
	}
	d, err := s.seen.Open(src)
	if err != nil {
		return control.DiskInfo{}, err
	}
	err = errors.Join(disk.Wipe(d), d.Close())
	return s.lookAt(src), err
}
