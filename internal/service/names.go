package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"nidalo/core/say"
	"nidalo/internal/array"
	"nidalo/internal/control"
)

// What people call members and arrays. A word that means two things is refused.

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
	for _, m := range seated(r.MemberStates()) {
		have = append(have, say.Short(m.Disk))
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
