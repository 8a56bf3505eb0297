package service

import (
	"fmt"

	"nidalo/core/advice"
	"nidalo/core/plan"
	"nidalo/core/state"
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
		return nil, &control.Error{What: fmt.Sprintf("array %q cannot be asked: %v", name, err), Hints: []string{"nidalo rescue " + name + "   reports how much of it can be read"}}
	}
	lay, members := r.Layout(), r.MemberStates()
	ids := make([]state.Identity, len(members))
	for i, m := range members {
		ids[i] = m.Disk
	}
	certain, _ := r.Margin()
	out := &control.MapReply{Array: r.Name(), Level: string(lay.Level), Condition: string(r.Condition()), Margin: max(certain, 0), Strip: lay.Shape.Strip,
		Check: r.CheckCursor(), Partners: advice.Partners(lay, ids)}
	for i, m := range r.Spread(mapParts) {
		share := func(strips int64) float64 {
			if strips < 0 {
				return -1
			}
			return float64(strips) / float64(max(m.Strips, 1))
		}
		mm := control.MemberMap{Slot: i, Disk: r.member(i).Disk, Condition: r.member(i).Condition.String(), Data: m.Bytes,
			Written: m.Written, Cursor: share(m.Cursor), Copied: share(m.Copied), Bad: make([]int, mapParts)}
		for nth := range int64(mapRows) {
			mm.Strips = append(mm.Strips, plan.Cell(lay, i, nth))
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
			if p.Slot >= len(out.Members) {
				continue // it was let go
			}
			part := p.Block * array.Block * mapParts / max(out.Members[p.Slot].Data, 1)
			out.Members[p.Slot].Bad[min(max(part, 0), mapParts-1)]++
		}
	}
	return out, nil
}
