package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/health"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// Spare is a disk that waits for a member to fail, by its serial or else its path, since disks move.
type Spare struct {
	Disk   string   `json:"disk" toml:"disk"`     // serial or path
	Arrays []string `json:"arrays" toml:"arrays"` // none: all
	// AlthoughBad: it was made a spare in spite of what is known of it.
	AlthoughBad bool `json:"although_bad,omitempty" toml:"although_bad"`
}

// serves says whether the spare is meant for an array.
func (p Spare) serves(name string) bool { return len(p.Arrays) == 0 || slices.Contains(p.Arrays, name) }

// spares is all that was assigned, here and in the configuration.
func (s *Service) spares() []Spare {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append(slices.Clone(s.mem.Spares), s.config().Spares...)
}

func (s *Service) spareOf(info control.DiskInfo) (Spare, bool) {
	for _, p := range s.spares() {
		if p.Disk == info.Serial && info.Serial != "" || p.Disk == info.Path || p.Disk == info.Bay && info.Bay != "" {
			return p, true
		}
	}
	return Spare{}, false
}

// noteBad remembers that a disk failed, however often it is erased.
func (s *Service) noteBad(id state.Identity, why string) {
	s.note(func(m *memory) { m.Bad[id.Name()] = why })
}

// badBecause is why a disk had better not be trusted again: it failed, or was found bad when it was vetted. A vet to the
// end with nothing wrong makes it good again.
func (s *Service) badBecause(id state.Identity) string {
	name := id.Name()
	if v, ok := s.vetting(name); ok && !v.Ended.IsZero() {
		switch {
		case v.Errors > 0:
			return fmt.Sprintf("its vet found %d pieces wrong", v.Errors)
		case len(v.Failing) > 0:
			return "it says of itself: " + strings.Join(v.Failing, "; ")
		}
	}
	if why := s.badByItself(name); why != "" {
		if _, _, member := s.memberAt(id); !member { // of members the engine judges
			return why
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mem.Bad[name]
}

// badByItself is what a disk says of itself, or what reading it showed.
func (s *Service) badByItself(name string) string {
	s.mu.Lock()
	w, asked := s.healths[name]
	s.mu.Unlock()
	if asked && w.verdict.Grade != health.Fine {
		return "it says of itself: " + strings.Join(w.verdict.Reasons, "; ")
	}
	v, vetted := s.vetting(name)
	if t, ok := s.surfaceOf(name); ok && t.Bad > 0 && (!vetted || v.Ended.Before(t.Ended)) {
		return fmt.Sprintf("of its surface %s could not be read", say.Count(t.Bad, "block", "blocks"))
	}
	return ""
}

// Spares lists all spares, those that are not here included.
func (s *Service) Spares() ([]control.SpareStatus, error) {
	out := []control.SpareStatus{}
	disks, err := s.Disks()
	if err != nil {
		return nil, err
	}
	for _, p := range s.spares() {
		c := control.SpareStatus{Name: p.Disk, Arrays: append([]string{}, p.Arrays...), Ready: []string{}}
		for _, d := range disks {
			if q, ok := s.spareOf(d); !ok || q.Disk != p.Disk || d.State == state.DiskEmpty {
				continue
			}
			c.Disk = &d
			switch {
			case d.State != state.DiskSpare:
				c.Reason = strings.Join(append([]string{"it is " + string(d.State)}, d.Holds...), ": ")
			case d.Bad != "" && !p.AlthoughBad:
				c.Reason = d.Bad
			default:
				c.Ready, c.Reason = s.readyFor(d, p)
			}
		}
		if c.Disk == nil {
			c.Reason = "it is not here"
		}
		out = append(out, c)
	}
	return out, nil
}

// readyFor lists the arrays in service for which a spare would step in, and says for which it is too small.
func (s *Service) readyFor(d control.DiskInfo, p Spare) (ready []string, small string) {
	ready = []string{}
	var short []string
	if d.Bad != "" && !p.AlthoughBad {
		return ready, ""
	}
	for _, r := range s.running() {
		switch {
		case !p.serves(r.Name()) || !r.Layout().Redundant():
		case r.fits(d.Size):
			ready = append(ready, r.Name())
		default:
			short = append(short, r.Name())
		}
	}
	if len(short) > 0 {
		small = "too small for " + say.List(short)
	}
	return ready, small
}

// fits says whether a disk of a size could take the place of any member.
func (r *running) fits(size int64) bool {
	for slot := range r.Layout().Members {
		if r.NeedSize(slot) > size {
			return false
		}
	}
	return true
}

// sparesOf are the spares that stand ready for an array.
func (s *Service) sparesOf(r *running, disks []control.DiskInfo) (out []string) {
	for _, d := range disks {
		if p, ok := s.spareOf(d); ok && d.State == state.DiskSpare && (d.Bad == "" || p.AlthoughBad) && p.serves(r.Name()) && r.Layout().Redundant() && r.fits(d.Size) {
			out = append(out, d.Identity.String())
		}
	}
	return out
}

func badDisk(id state.Identity, why string) error {
	return &control.Error{What: fmt.Sprintf("disk %s is not to be trusted: %s", id, why),
		Hints: []string{"nidalo vet " + say.Argument(id) + "   tests whether it is good all the same", "-although-bad takes it as it is"}}
}

// AssignSpare makes a blank disk the hot spare of some arrays, or of all; or releases it.
func (s *Service) AssignSpare(req control.SpareRequest) (*control.SpareReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	src, err := s.seen.Locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	if req.Release {
		if _, ok := s.spareOf(info); !ok {
			return nil, &control.Error{What: fmt.Sprintf("disk %s is no spare", info.Identity)}
		}
		before, _ := s.spareOf(info)
		ready, _ := s.readyFor(info, before)
		err := s.change(func(m *memory) {
			m.Spares = slices.DeleteFunc(m.Spares, func(p Spare) bool { return p.Disk == info.Serial || p.Disk == info.Path })
		})
		return &control.SpareReply{Disk: info, Taken: ready}, err
	}
	if info.State == state.DiskEmpty {
		return nil, &control.Error{What: fmt.Sprintf("bay %s is empty", req.Disk)}
	}
	if info.State != state.DiskBlank && info.State != state.DiskSpare {
		return nil, notBlank(info)
	}
	if why := s.doubtAt(src, info.Identity); why != "" && !req.AlthoughBad {
		return nil, badDisk(info.Identity, why)
	}
	reply, err := s.servedBy(info, req.Arrays)
	if err != nil {
		return nil, err
	}
	if before, was := s.spareOf(info); was {
		ready, _ := s.readyFor(info, before)
		now, _ := s.readyFor(info, Spare{Arrays: req.Arrays})
		reply.Taken = slices.DeleteFunc(ready, func(name string) bool { return slices.Contains(now, name) })
	}
	if info.Bay == "" {
		if err := s.seen.Remember(info.Path); err != nil {
			return nil, err
		}
	}
	err = s.change(func(m *memory) {
		m.Spares = slices.DeleteFunc(m.Spares, func(p Spare) bool { return p.Disk == info.Name() })
		m.Spares = append(m.Spares, Spare{Disk: info.Name(), Arrays: req.Arrays, AlthoughBad: req.AlthoughBad})
	})
	if err != nil {
		return nil, err
	}
	s.event(event.Event{Kind: event.SpareAssigned, Disk: info.Identity.String(), Detail: "for " + cmp.Or(strings.Join(req.Arrays, ", "), "all arrays")})
	reply.Disk = s.lookAt(src)
	s.wake()
	return reply, nil
}

// servedBy says for which arrays a disk is large enough as a spare.
func (s *Service) servedBy(info control.DiskInfo, arrays []string) (*control.SpareReply, error) {
	reply := &control.SpareReply{Disk: info}
	for _, name := range arrays {
		if _, err := s.named(name); err != nil {
			return nil, err
		}
	}
	for _, r := range s.running() {
		if !(Spare{Arrays: arrays}).serves(r.Name()) || !r.Layout().Redundant() {
			continue
		}
		short := int64(0)
		for _, m := range r.MemberStates() {
			if need := r.NeedSize(m.Slot); need > info.Size {
				short = max(short, need)
			}
		}
		if short > 0 {
			reply.TooSmall = append(reply.TooSmall, fmt.Sprintf("%s has %s (%d bytes); array %s needs %s (%d bytes)", info.Identity, say.Size(info.Size), info.Size, r.Name(), say.Size(short), short))
		} else {
			reply.Fits = append(reply.Fits, r.Name())
		}
	}
	if len(reply.TooSmall) > 0 && (len(reply.Fits) == 0 || len(arrays) > 0) {
		return nil, &control.Error{What: "too small to be a spare: " + strings.Join(reply.TooSmall, "; ")}
	}
	reply.TooSmall = append(reply.TooSmall, s.together(info, arrays)...)
	return reply, nil
}

// stepIn puts spares in the place of members that failed, the most endangered array first.
func (s *Service) stepIn() {
	if len(s.spares()) == 0 {
		return
	}
	arrays := s.running()
	slices.SortStableFunc(arrays, func(x, y *running) int {
		mx, _ := x.Margin()
		my, _ := y.Margin()
		return mx - my
	})
	whole := map[string]bool{} // disks that were seen to
	for _, r := range arrays {
		if r.Failure() != nil || !r.Layout().Redundant() {
			continue
		}
		for _, m := range r.MemberStates() {
			if m.Condition != record.Failed && m.Condition != record.Missing || s.exchanging(r, m.Slot) {
				continue
			}
			if partNumber(m.Disk) > 0 {
				of := spindle(m.Disk)
				if _, tried := whole[of]; !tried {
					whole[of] = s.takeOverDisk(of)
				}
				if whole[of] {
					continue
				}
			}
			s.takeOver(r, m)
		}
	}
}

// takeOverDisk lets a spare take the place of a whole disk with partitions of arrays: what failed is rebuilt, and what still works
// on the disk is copied. It is false when no spare can.
func (s *Service) takeOverDisk(of string) bool {
	if !s.unasked() {
		return true
	}
	defer s.admin.Unlock()
	disks, err := s.Disks()
	if err != nil {
		return true // it is tried again soon
	}
	on := s.membersAt(of)
	there := slices.ContainsFunc(disks, func(d control.DiskInfo) bool { return spindle(d.Identity) == of })
	for _, x := range on {
		if x.m.Condition.Counts() && !there {
			return true // it is gone, and this array has yet to notice
		}
	}
	slices.SortFunc(disks, func(x, y control.DiskInfo) int { return cmp.Compare(x.Size, y.Size) })
	for _, d := range disks {
		p, ok := s.spareOf(d)
		if !ok || d.State != state.DiskSpare || d.Hardware == nil || d.Hardware.Part > 0 || s.badBecause(d.Identity) != "" && !p.AlthoughBad ||
			slices.ContainsFunc(on, func(x memberOn) bool { return !p.serves(x.r.Name()) }) {
			continue
		}
		out := &control.DiskReply{Old: of, New: d}
		for _, x := range on {
			out.Parts = append(out.Parts, control.PartOfDisk{Array: x.r.Name(), Slot: x.m.Slot, Part: partNumber(x.m.Disk), Need: x.r.NeedSize(x.m.Slot)})
		}
		// The first may be too small for the table of the old disk, and the next not.
		if _, err = s.replaceParts(swap{control.DiskRequest{Old: of, AlthoughBad: p.AlthoughBad}, true}, on, d, out); err != nil {
			s.once("spare-unsuited", of+" "+d.Name(), err.Error(), event.Event{Kind: event.SpareUnsuited, Disk: d.Identity.String(),
				Detail: fmt.Sprintf("the spare cannot take the place of all of %s: %v", of, err)})
			continue
		}
		s.note(func(mem *memory) {
			for i, x := range on {
				mem.Took[x.r.Name()+"/"+partSerial(d, out.Parts[i].Part)] = x.m.Disk.Name()
			}
		})
		return true
	}
	return false
}

// partSerial is what a partition of a disk is known by.
func partSerial(d control.DiskInfo, number int) string {
	if d.Serial == "" {
		return partPath(d.Path, number)
	}
	return fmt.Sprintf("%s%s%d", d.Serial, state.PartMark, number)
}

// together tells of disks with partitions of several arrays whose place would need more than a spare has.
func (s *Service) together(info control.DiskInfo, arrays []string) (out []string) {
	need, names := map[string]int64{}, map[string][]string{}
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			if (Spare{Arrays: arrays}).serves(r.Name()) && partNumber(m.Disk) > 0 {
				of := spindle(m.Disk)
				need[of] += r.NeedSize(m.Slot)
				names[of] = append(names[of], r.Name())
			}
		}
	}
	for of, n := range need {
		if len(names[of]) > 1 && n > info.Size {
			out = append(out, fmt.Sprintf("%s has %s; the members of %s on %s need %s together", info.Identity, say.Size(info.Size), say.List(names[of]), of, say.Size(n)))
		}
	}
	slices.Sort(out)
	return out
}

// takeOver lets the smallest spare that fits take the place of a member.
func (s *Service) takeOver(r *running, m array.MemberState) {
	if !s.unasked() {
		return
	}
	defer s.admin.Unlock()
	if r.Condition() == state.Partial {
		return // nothing tells what it should hold
	}
	need := r.NeedSize(m.Slot)
	var best *control.DiskInfo
	most := 0
	lay, members := r.settled()
	hosts := s.hostsOf(members)
	disks, err := s.Disks()
	if err != nil {
		return
	}
	for i, d := range disks {
		p, ok := s.spareOf(d)
		if !ok || d.State != state.DiskSpare || !p.serves(r.Name()) || d.Size < need || s.badBecause(d.Identity) != "" && !p.AlthoughBad {
			continue
		}
		// The smallest, of those with which the losses of most hosts are survived.
		kept := advice.SurvivedWith(lay, hosts, m.Slot, cmp.Or(d.Host, s.hostName()))
		if best == nil || kept > most || kept == most && d.Size < best.Size {
			best, most = &disks[i], kept
		}
	}
	if best == nil {
		s.once("spare-missing", r.Name(), fmt.Sprint(m.Slot, m.Since), event.Event{Kind: event.SpareMissing, Array: r.Name(), Disk: m.Disk.String(),
			Detail: fmt.Sprintf("there is no spare of at least %s to take its place", say.Size(need))})
		return
	}
	d, err := s.seen.Open(s.seen.SourceOf(best.Identity))
	if err != nil {
		s.opt.Log.Warn("spare cannot be opened", "disk", best.Identity.String(), "reason", err)
		return
	}
	if err := quietly([]disk.Disk{d}, func() error { return r.StandIn(m.Slot, d) }); err != nil {
		_ = d.Close()
		s.opt.Log.Warn("spare could not take over", "disk", best.Identity.String(), "array", r.Name(), "reason", err)
		return
	}
	s.note(func(mem *memory) {
		mem.Spares = slices.DeleteFunc(mem.Spares, func(p Spare) bool { return p.Disk == best.Name() })
		mem.Took[r.Name()+"/"+best.Name()] = m.Disk.Name()
	})
	s.event(event.Event{Kind: event.SpareUsed, Array: r.Name(), Disk: best.Identity.String(),
		Detail: fmt.Sprintf("it takes the place of %s in slot %d, which is %s", m.Disk, m.Slot, m.Condition)})
}
