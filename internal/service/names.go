package service

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
)

// What people call things: disks by bay, serial or absolute path, arrays by name or identity. A word that means two things
// is refused, and a path that depends on where somebody stands is not taken.

// shortName is the shortest name of a disk, for people.
func shortName(i state.Identity) string {
	if partOf(i) {
		i.Bay = ""
	}
	return state.Printable(cmp.Or(i.Bay, i.Serial, i.Path))
}

// partOf says whether a disk is a partition, which its bay does not name.
func partOf(i state.Identity) bool { return state.Physical(i.Serial) != i.Serial }

// locate finds the source a user's word names: a bay, a serial or an absolute path.
func (s *Service) locate(name string) (source, error) {
	sources, err := s.sources(true)
	if err != nil {
		return source{}, err
	}
	path := ""
	if filepath.IsAbs(name) {
		path = filepath.Clean(name)
		if d, ok := s.deviceAt(s.devices(false), path); ok {
			path = d.Path // whatever name of it was used
		}
	}
	var hits []source
	add := func(src source) {
		if !slices.Contains(hits, src) {
			hits = append(hits, src)
		}
	}
	s.seen.mu.Lock()
	known := s.seen.known
	s.seen.mu.Unlock()
	for _, src := range sources {
		switch {
		case src.bay != "" && src.bay == name, src.path != "" && src.path == path:
			add(src)
		case src.bay != "":
			if d, err := s.lab.Disk(src.bay); err == nil && name != "" && (d.Serial == name || path != "" && s.lab.ImagePath(src.bay) == path) {
				add(src)
			}
		default:
			if d, ok := s.deviceAt(s.devices(false), src.path); ok && name != "" && (d.Named() == name || d.Bay == name && d.Whole()) {
				add(src)
			} else if f, ok := known[src]; ok && name != "" && f.info.Serial == name {
				add(src)
			}
		}
	}
	hints := []string{"nidalo disks   lists the disks by bay, serial and path"}
	switch {
	case path != "" && keeper.Own(path) != "":
		return source{}, &control.Error{What: fmt.Sprintf("disk %s is on array %q, which is attached to this host: an array must not stand on another of the same service", say.Quote(name), keeper.Own(path)),
			Hints: []string{"when memory is short each would wait for the other"}}
	case len(hits) > 1:
		var names []string
		for _, src := range hits {
			names = append(names, say.Quote(src.String()))
		}
		return source{}, &control.Error{What: fmt.Sprintf("disk %q: that means %d disks: %s", name, len(hits), strings.Join(names, ", ")), Hints: []string{"name it by its bay or path instead"}}
	case len(hits) == 1:
		return hits[0], nil
	case path != "":
		if info, err := os.Stat(path); err == nil && !info.IsDir() {
			return source{path: path}, nil
		}
		return source{}, &control.Error{What: fmt.Sprintf("disk %s: there is no such file or device", say.Quote(name)), Hints: hints}
	case strings.Contains(name, "/"):
		return source{}, &control.Error{What: fmt.Sprintf("disk %s: not an absolute path", say.Quote(name)), Hints: hints}
	}
	return source{}, &control.Error{What: fmt.Sprintf("disk %q: no bay, serial or path has that name", name), Hints: hints}
}

// sourceOf is where a disk is that was opened before.
func (s *Service) sourceOf(i state.Identity) source {
	if i.Bay != "" && s.lab.Exists() && s.lab.ImagePath(i.Bay) == i.Path {
		return source{bay: i.Bay}
	}
	return source{path: i.Path}
}

// slot finds a member by its bay, serial, path or slot number.
func (s *Service) slot(r *running, name string) (int, error) {
	slot, err := r.FindSlot(name)
	if err == nil {
		return slot, nil
	}
	if errors.Is(err, array.ErrTwoMembers) {
		return 0, &control.Error{What: fmt.Sprintf("%q: %v of array %q", name, err, r.Name()), Hints: []string{"name it by its slot number"}}
	}
	var have []string
	for _, m := range r.MemberStates() {
		have = append(have, shortName(m.Disk))
	}
	return 0, &control.Error{What: fmt.Sprintf("%q is no member of array %q; its members are %s", name, r.Name(), strings.Join(have, " "))}
}

// identify finds the array a word means, by its name or identity. An array of this home has the first claim to a name: one
// from elsewhere that has the same is meant only when it is named by its identity. It is empty when there is none.
func (s *Service) identify(word string) (id string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	names := map[string]string{} // by identity
	for id, name := range s.mem.Names {
		names[id] = name
	}
	for _, i := range s.idle {
		names[i.set.Newest.Array.String()] = i.set.Newest.Name
	}
	for _, r := range s.arrays {
		names[r.ID().String()] = r.Name()
	}
	if _, ok := names[word]; ok {
		return word, nil
	}
	var ours, others []string
	for id, name := range names {
		switch {
		case name != word:
		case slices.Contains(s.mem.Arrays, id) || s.arrays[name] != nil && s.arrays[name].ID().String() == id:
			ours = append(ours, id)
		default:
			others = append(others, id)
		}
	}
	hits := ours
	if len(ours) == 0 {
		hits = others
	}
	slices.Sort(hits)
	switch len(hits) {
	case 0:
		return "", nil
	case 1:
		return hits[0], nil
	}
	return "", &control.Error{What: fmt.Sprintf("%d arrays are named %q: %s", len(hits), word, strings.Join(hits, ", ")), Hints: []string{"name one by its identity"}}
}
