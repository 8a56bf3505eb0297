package service

import (
	"fmt"

	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/internal/array"
	"nidalo/internal/control"
)

const (
	mapParts = 64
	mapRows  = 6 // of strips that are drawn
)

// Map tells where the data of an array lives, over its members and bays.
func (s *Service) Map(name string) (*control.MapReply, error) {
	r, err := s.find(name)
	if err != nil {
		return nil, err
	}
	if err := r.Failure(); err != nil {
		return nil, &control.Error{What: fmt.Sprintf("array %q cannot be asked: %v", name, err), Hints: []string{"nidalo rescue " + name + "   says what can be read of it"}}
	}
	geo, members := r.Geometry(), r.MemberStates()
	certain, _ := r.Margin()
	out := &control.MapReply{Array: r.Name(), Level: string(geo.Level), Condition: string(r.Condition()), Margin: max(certain, 0), Strip: geo.Strip,
		Check: r.CheckCursor(), Partners: partners(geo, members)}
	for i, m := range r.Map(mapParts) {
		share := func(row int64) float64 {
			if row < 0 {
				return -1
			}
			return float64(row) / float64(max(m.Rows, 1))
		}
		mm := control.MemberMap{Slot: i, Disk: members[i].Disk, Condition: members[i].Condition.String(), Data: m.Rows * geo.Strip,
			Written: m.Written, Cursor: share(m.Cursor), Copied: share(m.Copied), Bad: make([]int, mapParts)}
		for row := range int64(mapRows) {
			mm.Strips = append(mm.Strips, plan.Cell(geo, i, row))
		}
		out.Members = append(out.Members, mm)
	}
	for _, t := range r.TaskStates() {
		if t.Check == nil {
			continue
		}
		for i := range out.Members { // of the last check only
			clear(out.Members[i].Bad)
		}
		if t.Check.Repaired == t.Check.Mismatches {
			continue
		}
		for _, p := range t.Check.Places {
			part := p.Block * array.Block * mapParts / max(out.Members[p.Slot].Data, 1)
			out.Members[p.Slot].Bad[min(max(part, 0), mapParts-1)]++
		}
	}
	return out, nil
}

// partners says in words which members hold the same data, or belong together, in nested and mirrored levels.
func partners(geo *layout.Geometry, members []array.MemberState) (out []string) {
	if geo.Groups < 2 && geo.Data > 1 || !geo.Redundant() {
		return nil
	}
	what := "form one parity group"
	if geo.Data == 1 {
		what = "hold the same data"
	}
	for g := range geo.Groups {
		var names []string
		for i := g * geo.Width(); i < (g+1)*geo.Width(); i++ {
			names = append(names, shortName(members[i].Disk))
		}
		out = append(out, fmt.Sprintf("%s %s: of them %d may be lost", join2(names), what, geo.Parity))
	}
	return out
}
