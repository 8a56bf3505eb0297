package service

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/disks"
)

// Two disks that carry the same member are copies of each other, and nothing on them tells which is the member. Neither is used until
// one is chosen, or the other is gone. A choice is remembered: without the chosen disk its copy is not used either.

// Choose has one of several copies of a member used.
func (s *Service) Choose(req control.ChooseRequest) (*control.DiskInfo, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	src, err := s.seen.Locate(req.Disk)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	f, _ := s.seen.At(src)
	own := f.Record
	if own == nil || info.Array != "" {
		return nil, &control.Error{What: fmt.Sprintf("disk %s is no copy of a member: there is nothing to choose", info.Identity)}
	}
	all := s.copiesOf(own)
	if len(all) < 2 && s.chosen(own.Member) == "" {
		return nil, &control.Error{What: fmt.Sprintf("no other disk carries the same member as %s: there is nothing to choose", info.Identity)}
	}
	for _, r := range s.running() {
		if r.ID() != own.Array {
			continue
		}
		if now := r.Record(); own.Slot < len(now.Roster) && now.Roster[own.Slot].ID == own.Member {
			if m := r.member(own.Slot); m.Condition != record.Failed && m.Condition != record.Missing {
				return nil, &control.Error{What: fmt.Sprintf("its copy %s is in service already, as a member of array %q", m.Disk, r.Name()),
					Hints: []string{"nidalo stop " + r.Name() + "   takes the array out of service first"}}
			}
		}
		if _, err := r.Awaits(own, false); err != nil {
			return nil, &control.Error{What: fmt.Sprintf("disk %s cannot be the member: %v", info.Identity, err), Hints: []string{"nidalo erase " + say.Argument(info.Identity) + "   makes it blank; then it can replace the member"}}
		}
	}
	for _, c := range all {
		if c.Record.Epoch > own.Epoch && !req.Force {
			return nil, &control.Error{Fatal: true, What: fmt.Sprintf("%s is older than %s (epoch %d, and %d)", info.Identity, c.Info.Identity, own.Epoch, c.Record.Epoch), Hints: []string{"-yes takes the older one"}}
		}
	}
	if err := s.change(func(m *memory) {
		if m.Chosen == nil {
			m.Chosen = map[string]string{}
		}
		m.Chosen[own.Member.String()] = info.Name()
	}); err != nil {
		return nil, err
	}
	s.event(event.Event{Kind: event.MemberChosen, Array: own.Name, Disk: info.Identity.String(), Detail: fmt.Sprintf("it is slot %d; copies of it are not used", own.Slot)})
	s.seen.Again(src)
	s.wake()
	return &info, nil
}

// chosen is the disk that was chosen for a member, as key names it; empty when none was.
func (s *Service) chosen(member uuid.UUID) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mem.Chosen[member.String()]
}

// copiesOf lists the disks that carry the same member as a record.
func (s *Service) copiesOf(r *record.Record) (out []disks.Found) {
	order, known := s.seen.Seen()
	for _, src := range order {
		if f := known[src]; f.Record != nil && f.Record.Member == r.Member {
			out = append(out, f)
		}
	}
	return out
}

// ambiguous is why a disk is not used: a copy of it is there, or was chosen. It is nil when the disk may be used.
func (s *Service) ambiguous(f disks.Found) error {
	if f.Record == nil {
		return nil
	}
	if chosen := s.chosen(f.Record.Member); chosen != "" {
		if chosen == f.Info.Name() {
			return nil
		}
		return fmt.Errorf("it is a copy of %s, which was chosen", chosen)
	}
	all := s.copiesOf(f.Record)
	if len(all) < 2 {
		return nil
	}
	out := errTwice{of: f.Record, first: all[0].Info.Identity}
	for _, c := range all {
		out.names = append(out.names, c.Info.Identity.String())
	}
	return out
}

func carrying(d disk.Disk, r *record.Record) disks.Found {
	return disks.Found{Info: control.DiskInfo{Identity: d.Identity()}, Record: r}
}

// errTwice is two or more disks that claim one place.
type errTwice struct {
	of    *record.Record
	first state.Identity
	names []string
}

func (e errTwice) Error() string {
	if len(e.names) == 2 {
		return fmt.Sprintf("%s and %s both carry slot %d: one is a copy of the other, and neither is used", e.names[0], e.names[1], e.of.Slot)
	}
	return fmt.Sprintf("%s all carry slot %d: they are copies of each other, and none is used", strings.Join(e.names, ", "), e.of.Slot)
}

// example is how a command names one of them.
func (e errTwice) example() string { return say.Argument(e.first) }

// twinsOf lists what keeps a member of an array from being used because there are copies of it.
func (s *Service) twinsOf(id uuid.UUID, slot int) (out []errTwice) {
	order, known := s.seen.Seen()
	for _, src := range order {
		f := known[src]
		if f.Record == nil || f.Record.Array != id || f.Record.Slot != slot {
			continue
		}
		if twice, ok := s.ambiguous(f).(errTwice); ok && !slices.ContainsFunc(out, func(o errTwice) bool { return o.of.Member == twice.of.Member }) {
			out = append(out, twice)
		}
	}
	return out
}

// tellTwice makes it an event, once.
func (s *Service) tellTwice(e errTwice) {
	s.once("twice", e.of.Member.String(), strings.Join(e.names, " "), event.Event{Kind: event.MemberTwice, Array: e.of.Name,
		Detail: e.Error() + ". Say which one is the member (nidalo choose DISK), or take the others out"})
}

// unique leaves out candidates that are copies of each other, but for one that was chosen.
func (s *Service) unique(candidates []roster.Candidate) []roster.Candidate {
	return slices.DeleteFunc(candidates, func(c roster.Candidate) bool {
		why := s.ambiguous(carrying(c.Disk, c.Record))
		if why == nil {
			return false
		}
		_ = c.Disk.Close()
		if twice, ok := why.(errTwice); ok {
			s.tellTwice(twice)
		}
		return true
	})
}
