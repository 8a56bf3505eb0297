package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/event"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/remote"
	"nidalo/internal/service/disks"
)

// Arrays of this home start by themselves, whenever their disks appear: all at once, one after the other, or late. An array that
// lacks disks that may still come is waited for, and then started without them where its redundancy allows that. Disks of the
// lab and files are there at once or not at all, so nothing waits for them.

// lateDisks is how long an incomplete array waits when the configuration does not say.
const lateDisks = 30 * time.Second

var errStarting = errors.New("it is just being started")

// waiting is an array that waits for disks.
type waiting struct {
	until time.Time
	tried string // with which disks a start failed; it is tried again with others
}

// errWaits is why an array that waits for disks is not in service yet.
type errWaits struct {
	names []string
	until time.Time
}

func (e errWaits) Error() string {
	return fmt.Sprintf("it waits until %s for %s, and then starts without", e.until.Local().Format("15:04:05"), strings.Join(e.names, ", "))
}

// awaited lists the members of a set that its roster counts on, that are not there, and that may still come. Those of other hosts are waited for only
// when this service has just begun: a host that is taken over from may have had disks.
func (s *Service) awaited(set roster.Set) (names []string) {
	for slot, e := range set.Newest.Roster {
		there := slot < len(set.Current) && set.Current[slot].Disk != nil
		if counts := e.Condition.TakesPart(); counts && !there {
			if id := (state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}); id.OnDevice() || remote.Is(id.Path) && time.Since(s.began) < s.lateDisks() {
				names = append(names, fmt.Sprintf("slot %d, %s", slot, id))
			}
		}
	}
	return names
}

// carried are the arrays of this home that disks carry and that are not in service, as they are seen, by identity.
func (s *Service) carried() map[string][]roster.Candidate {
	running := map[string]bool{}
	for _, r := range s.running() {
		running[r.ID().String()] = true
	}
	s.mu.Lock()
	ours, out := slices.Clone(s.mem.Arrays), slices.Clone(s.mem.Out)
	s.mu.Unlock()
	found := map[string][]roster.Candidate{}
	order, known := s.seen.Seen()
	for _, src := range order {
		f := known[src]
		if f.Record == nil || s.ambiguous(f) != nil {
			continue
		}
		id := f.Record.Array.String()
		if slices.Contains(ours, id) && !slices.Contains(out, id) && !running[id] {
			found[id] = append(found[id], roster.Candidate{Disk: seen{f.Info}, Record: f.Record})
		}
	}
	return found
}

// meet notes arrays that came from elsewhere since this service began: they are left alone until somebody starts them.
func (s *Service) meet() {
	s.mu.Lock()
	known := map[string]bool{}
	for _, id := range s.mem.Arrays {
		known[id] = true
	}
	for _, i := range s.idle {
		known[i.set.Newest.Array.String()] = true
	}
	for _, r := range s.arrays {
		known[r.ID().String()] = true
	}
	s.mu.Unlock()
	order, seen := s.seen.Seen()
	for _, src := range order {
		if r := seen[src].Record; r != nil && !known[r.Array.String()] {
			id := r.Array.String()
			known[id] = true
			s.leave(s.peeked(s.carriers(id), id), errStranger)
		}
	}
}

// muster starts what is complete, or has waited long enough. Only lookLoop calls it.
func (s *Service) muster() {
	s.meet()
	for id, found := range s.carried() {
		set := roster.Judge(found)
		if s.rescues.Busy(set.Newest.Name) != nil {
			continue
		}
		w, known := s.waits[id]
		if !known {
			w = &waiting{until: time.Now().Add(s.lateDisks())}
			s.waits[id] = w
		}
		if why := s.standBy(id); why != nil {
			s.reason(set, why)
			delete(s.waits, id)
			continue
		}
		disks, names := stand(found), s.awaited(set)
		switch {
		case w.tried == disks:
			continue // with these disks it could not be started
		case len(names) > 0 && time.Now().Before(w.until):
			s.reason(set, errWaits{names, w.until})
			continue
		case !set.Serves() || set.Doubt != nil:
			w.tried = disks
			reason := set.Doubt
			if reason == nil {
				reason = fmt.Errorf("%w: %s", array.ErrFailed, set.Shortage())
			}
			s.reason(set, reason)
			s.event(event.Event{Kind: event.ArrayNotStarted, Array: set.Newest.Name, Detail: reason.Error()})
			continue
		}
		if why := s.alone(id, s.carriers(id)); why != nil {
			s.reason(set, why)
			continue
		}
		if !s.unasked() {
			return
		}
		w.tried = disks
		s.startMustered(id, set, w)
		s.admin.Unlock()
	}
}

// startShared starts an array that another host could have, for one command; a service that stays does so as soon as it looks around.
func (s *Service) startShared(id string, sources []disks.Source) {
	found := s.peeked(sources, id)
	if len(found) == 0 {
		return
	}
	set := roster.Judge(found)
	for _, c := range found {
		_ = c.Disk.Close()
	}
	if s.opt.Stays {
		s.reason(set, errStarting)
	} else {
		s.startMustered(id, set, &waiting{})
	}
}

// startMustered starts an array whose disks have come, if this host may have it. admin is held.
func (s *Service) startMustered(id string, set roster.Set, w *waiting) {
	s.reason(set, errStarting)
	if err := s.claim(id, s.carriers(id), false); err != nil {
		s.reason(set, err)
		w.tried = ""
		return
	}
	shared := s.shared(s.carriers(id))
	if shared { // what was seen of its disks may be from before another host had it
		_ = s.seen.LookAnew()
	}
	found, err := s.candidates(s.carriers(id), id)
	if err != nil {
		s.unclaim(id, forOthers)
		s.reason(set, err)
		w.tried = ""
		return
	}
	if err := s.startOne(found, false); err != nil {
		s.unclaim(id, forOthers)
		return
	}
	delete(s.waits, id)
	s.own(id, set.Newest.Name)
	s.applyPaces()
	e := event.Event{Kind: event.ArrayStarted, Array: set.Newest.Name, Detail: "its disks have come"}
	if shared {
		e.Kind, e.Detail = event.ArrayTakenOver, "no other host has it"
	}
	s.event(e)
	s.takeBackOf(set.Newest.Array)
}

// stand says with which disks, and in which state of theirs, a start was tried.
func stand(found []roster.Candidate) string {
	var disks []string
	for _, c := range found {
		disks = append(disks, fmt.Sprint(c.Record.Member, c.Record.Epoch))
	}
	slices.Sort(disks)
	return strings.Join(disks, " ")
}

func (s *Service) lateDisks() time.Duration {
	if d := s.config().LateDisks; d > 0 {
		return time.Duration(d)
	}
	return lateDisks
}

// reason notes why an array is not in service.
func (s *Service) reason(set roster.Set, why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.idle, func(i idle) bool { return i.set.Newest.Array == set.Newest.Array })
	if i < 0 {
		s.idle = append(s.idle, idle{set, why})
	} else {
		s.idle[i] = idle{set, why}
	}
}

// holdBack notes, at the start of a service that stays, that an array is to wait. It is false when nothing is missing that may come.
func (s *Service) holdBack(found []roster.Candidate) bool {
	if !s.opt.Stays || len(found) == 0 {
		return false
	}
	set := roster.Judge(found)
	names := s.awaited(set)
	if len(names) == 0 {
		return false
	}
	for _, c := range found {
		_ = c.Disk.Close()
	}
	w := &waiting{until: time.Now().Add(s.lateDisks())}
	s.waits[set.Newest.Array.String()] = w
	s.reason(set, errWaits{names, w.until})
	s.event(event.Event{Kind: event.ArrayWaits, Array: set.Newest.Name, Detail: errWaits{names, w.until}.Error()})
	return true
}
