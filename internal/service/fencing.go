package service

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nidalo/core/fence"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/disks"
)

// Disks that are attached to several hosts, as the configuration says. The owner of an array fences them: they take writes from nobody else.

// attachedElsewhere says whether other hosts are attached to a disk as well.
func (s *Service) attachedElsewhere(id state.Identity) bool {
	return slices.ContainsFunc(s.config().Ownership.Shared, func(named string) bool {
		if named == id.Serial || named == id.Bay || named == id.Path {
			return true
		}
		real, err := filepath.EvalSymlinks(named)
		return err == nil && filepath.IsAbs(named) && real == id.Path
	})
}

func (s *Service) sharedSource(src disks.Source) bool {
	if f, ok := s.seen.At(src); ok && s.attachedElsewhere(f.Info.Identity) {
		return true
	}
	return s.attachedElsewhere(state.Identity{Path: src.Path, Bay: src.Bay})
}

func identityOf(e record.Entry) state.Identity {
	return state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}
}

// unfenced says whether an array may be used on shared disks that cannot be fenced.
func (s *Service) unfenced(name string) bool {
	return slices.Contains(s.config().Ownership.Unfenced, name)
}

// cannotFence is what somebody is told about a shared disk that cannot be fenced.
func cannotFence(array string, err error) *control.Error {
	return &control.Error{What: fmt.Sprintf("a disk that other hosts are attached to cannot be fenced: %v: a host that was only paused could write to it after another one has the array", err),
		Hints: []string{fmt.Sprintf("unfenced = [%q]   under [ownership] in nidalo.toml, on each host, has the array used all the same", cmp.Or(array, "NAME"))}}
}

// fence has the shared disks in some sources take writes from the owner with a token only.
func (s *Service) fence(id string, sources []disks.Source, token uint64) error {
	for _, src := range sources {
		if !s.sharedSource(src) {
			continue
		}
		name := ""
		if f, ok := s.seen.At(src); ok && f.Record != nil {
			name = f.Record.Name
		}
		if err := s.fenceOne(id, name, src.Path, token); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) fenceOne(id, array, path string, token uint64) error {
	s.mu.Lock()
	was := s.fenced[id][path] == token
	s.mu.Unlock()
	switch err := s.fenceDisk(path, token, was); {
	case err == nil:
	case was && !errors.Is(err, fence.ErrOvertaken) && !errors.Is(err, fence.ErrForeign):
		return nil // it is on its way out, and was fenced before
	case errors.Is(err, disk.ErrNoFence) && s.unfenced(array):
		s.opt.Log.Warn("a disk that other hosts are attached to is not fenced", "array", array, "disk", path)
		return nil
	case errors.Is(err, disk.ErrNoFence):
		e := cannotFence(array, err)
		return fmt.Errorf("%s; %s", e.What, strings.Join(e.Hints, "; "))
	default:
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.fenced[id] == nil {
		s.fenced[id] = map[string]uint64{}
	}
	s.fenced[id][path] = token
	return nil
}

// fencePatience is how long a disk may take to abort what other hosts have under way. There are targets that never end it.
const fencePatience = 75 * time.Second

// fenceDisk is disk.Fence, which does not keep anybody waiting for ever.
func (s *Service) fenceDisk(path string, token uint64, again bool) error {
	s.mu.Lock()
	busy := s.fencing[path]
	s.fencing[path] = true
	s.mu.Unlock()
	if busy {
		return fmt.Errorf("%s: an earlier command about its reservation has not ended", path)
	}
	done := make(chan error, 1)
	go func() {
		err := disk.Fence(path, token, again)
		s.mu.Lock()
		delete(s.fencing, path)
		s.mu.Unlock()
		done <- err
	}()
	select {
	case err := <-done:
		return err
	case <-time.After(fencePatience):
		return fmt.Errorf("%s: a command about its reservation has not ended in %s", path, fencePatience)
	}
}

// fenceMembers fences the members that count, such as one that joins, or that comes back after it was without power.
func (s *Service) fenceMembers(rec *record.Record, token uint64) error {
	for _, e := range rec.Roster {
		if !e.Condition.TakesPart() || !s.attachedElsewhere(identityOf(e)) {
			continue
		}
		path := e.Path
		if f := s.carrying(e); f != "" {
			path = f // its name may be another since the record was written
		}
		if err := s.fenceOne(rec.Array.String(), rec.Name, path, token); err != nil {
			return err
		}
	}
	return nil
}

// carrying is the path of the disk that carries a member now; empty when it was not seen.
func (s *Service) carrying(e record.Entry) string {
	order, known := s.seen.Seen()
	for _, src := range order {
		if r := known[src].Record; r != nil && r.Member == e.ID {
			return src.Path
		}
	}
	return ""
}

// fences counts the disks of an array that other hosts are attached to: those that refuse their writes, and those that cannot.
func (s *Service) fences(r *running) (fenced, not int) {
	s.mu.Lock()
	n := len(s.fenced[r.ID().String()])
	s.mu.Unlock()
	for _, m := range r.MemberStates() {
		if s.attachedElsewhere(m.Disk) {
			not++
		}
	}
	return min(n, not), max(not-n, 0)
}

// unfence gives the disks of an array free that this host does not use any more.
func (s *Service) unfence(id string) {
	s.mu.Lock()
	paths := s.fenced[id]
	delete(s.fenced, id)
	s.mu.Unlock()
	for path, token := range paths {
		if err := disk.Unfence(path, token); err != nil {
			s.opt.Log.Warn("a disk was not given free; the next owner takes it all the same", "disk", path, "reason", err)
		}
	}
}

// unfenceAll is unfence for all arrays.
func (s *Service) unfenceAll() {
	s.mu.Lock()
	var ids []string
	for id := range s.fenced {
		ids = append(ids, id)
	}
	s.mu.Unlock()
	for _, id := range ids {
		s.unfence(id)
	}
}

// mayShare says why a disk cannot be used for an array of some name because other hosts are attached to it. With an empty name it is not known for which.
func (s *Service) mayShare(array string, id state.Identity) error {
	if !s.attachedElsewhere(id) || s.unfenced(array) || array == "" && len(s.config().Ownership.Unfenced) > 0 {
		return nil
	}
	held, err := disk.FencedBy(id.Path)
	if errors.Is(err, disk.ErrNoFence) {
		return cannotFence(array, err)
	}
	if err == nil && held.Holder != 0 {
		return &control.Error{What: fmt.Sprintf("disk %s is reserved by another host, with key %#x", id, held.Holder), Hints: []string{"stop what uses it there first"}}
	}
	if err != nil {
		return &control.Error{What: err.Error()}
	}
	return nil
}
