package service

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/service/disks"
)

// lookAt reads one source anew.
func (s *Service) lookAt(src disks.Source) control.DiskInfo { return s.present(s.seen.LookAt(src)) }

// present adds what follows from the arrays as they are now.
func (s *Service) present(f disks.Found) control.DiskInfo {
	info := f.Info
	info.Bad = s.badBecause(info.Identity)
	if f.Record != nil {
		info.Carries = f.Record.Array.String()
	}
	if r, m, ok := s.memberAt(info.Identity); ok {
		slot := m.Slot
		info.State, info.Array, info.Slot, info.Member, info.Holds = state.DiskInUse, r.Name(), &slot, m.Condition.String(), nil
		info.Health = s.memberHealth(r, m)
		return info
	}
	switch _, spare := s.spareOf(info); {
	case f.Record != nil:
		info.Holds = []string{s.whatMember(f.Record, info.Held)}
		if why := s.ambiguous(f); why != nil {
			info.Holds = append(info.Holds, why.Error())
		}
		if e := f.Record.Roster[f.Record.Slot]; e.Onto != uuid.Nil && s.replaced(f.Record) {
			info.State, info.Holds = state.DiskRetired, []string{fmt.Sprintf("retired from array %q (slot %d)", f.Record.Name, f.Record.Slot)}
		}
	case spare && info.State == state.DiskBlank:
		info.State = state.DiskSpare
	}
	if info.State != state.DiskEmpty {
		info.Vetting, info.Vetted = s.vettingOf(info.Name())
	}
	return info
}

// vettingOf is what is known of the vet of a disk, in words, and whether it passed; empty: it was never vetted.
func (s *Service) vettingOf(name string) (text string, passed bool) {
	v, ok := s.vetting(name)
	switch {
	case !ok:
		return "", false
	case v.Ended.IsZero():
		return fmt.Sprintf("%s at %.0f%%", v.State, v.Percent), false
	case v.Errors > 0:
		return "found " + say.Count(v.Errors, "piece wrong", "pieces wrong"), false
	case len(v.Failing) > 0:
		return "it says of itself: " + strings.Join(v.Failing, "; "), false
	}
	return "passed " + v.Ended.Local().Format("2006-01-02"), true
}

// replaced says whether the array of a record is in service and has another member in the record's place.
func (s *Service) replaced(r *record.Record) bool {
	for _, a := range s.running() {
		if a.ID() == r.Array {
			now := a.Record()
			return r.Slot < len(now.Roster) && now.Roster[r.Slot].ID != r.Member
		}
	}
	return false
}

// whatMember says in words what a member record of a disk outside of all arrays in service means.
func (s *Service) whatMember(r *record.Record, users []string) string {
	if len(users) > 0 { // it may be in service there
		return fmt.Sprintf("a member of array %q (slot %d); %s", r.Name, r.Slot, strings.Join(users, "; "))
	}
	for _, i := range s.idleArrays() {
		if i.set.Newest.Array == r.Array {
			return fmt.Sprintf("a member of array %q (slot %d), which is not in service", r.Name, r.Slot)
		}
	}
	text := fmt.Sprintf("a former or stale member of array %q (slot %d, epoch %d)", r.Name, r.Slot, r.Epoch)
	for _, a := range s.running() {
		if a.ID() != r.Array {
			continue
		}
		if _, err := a.Awaits(r, false); err != nil {
			text += ": " + err.Error()
		}
	}
	return text
}

// Disks surveys every bay of the lab and every path that is configured or was used.
func (s *Service) Disks() ([]control.DiskInfo, error) {
	if err := s.seen.Look(true); err != nil {
		return nil, err
	}
	order, known := s.seen.Seen()
	out := make([]control.DiskInfo, 0, len(order))
	for _, src := range order {
		out = append(out, s.present(known[src]))
	}
	return out, nil
}

func (s *Service) newSurvey() *disks.Survey {
	return disks.New(disks.Host{Lab: s.lab, List: filepath.Join(s.opt.Home, "disks.list"), Stays: s.opt.Stays, Log: s.opt.Log, Serves: s.inService,
		Devices: func() bool { return !s.opt.NoHost && (s.config().HostDisks == nil || *s.config().HostDisks) },
		Paths:   func() (paths, patterns []string) { return s.config().Disks, s.config().Patterns },
		Far:     s.far, Hosts: s.remoteHosts, Lent: s.lends.Of, Token: s.tokenFor, Shared: s.attachedElsewhere, Overtaken: s.overtaken,
		Once: func(of, state string, e event.Event) { s.chron.Once(of, state, e) }})
}
