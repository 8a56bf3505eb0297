package roster

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"nidalo/core/record"
	"nidalo/internal/disk"
)

// State is one state that members agree about: a possible start of a rescue.
type State struct {
	Record *record.Record
	Use    []Part // what is read, by slot; Disk is nil where nothing is there
	Left   []Candidate
	Past   bool // an older state of a newer one in the list, as the disks that left it then carry it
}

// Part is what a state has in one slot.
type Part struct {
	Candidate
	Stale bool   // it left the array earlier: only what was not changed since counts
	Left  uint64 // when stale: the epoch up to which it has everything
}

// States lists the states that disks of one array agree about, newest first. There is more than one only when members
// went on without each other, and none when nothing of what was found is a member by itself: a copy that was not finished.
func States(found []Candidate) (out []State) {
	views := map[uuid.UUID]*record.Record{}
	for _, c := range found {
		if v := views[c.Record.EpochID]; v == nil || c.Record.Generation > v.Generation {
			views[c.Record.EpochID] = c.Record
		}
	}
	newest := make([]*record.Record, 0, len(views))
	for _, v := range views {
		newest = append(newest, v)
	}
	half := map[uuid.UUID]int{} // 1: half made
	for _, v := range newest {
		if slices.ContainsFunc(found, func(c Candidate) bool { return halfMade(v, c.Record) }) {
			half[v.EpochID] = 1
		}
	}
	slices.SortFunc(newest, func(x, y *record.Record) int {
		return cmp.Or(cmp.Compare(y.Epoch, x.Epoch), cmp.Compare(half[x.EpochID], half[y.EpochID]), slices.Compare(x.EpochID[:], y.EpochID[:]))
	})
	used := map[disk.Disk]bool{}
	for _, v := range newest {
		s, news := stateOf(v, found), false
		for _, p := range s.Use {
			if p.Disk != nil && !used[p.Disk] {
				used[p.Disk], news = true, true
			}
		}
		if news {
			s.Past = len(out) > 0 && !slices.ContainsFunc(s.Use, func(p Part) bool { return p.Disk != nil && fork(out[0].Record, p.Record) })
			out = append(out, s)
		}
	}
	return out
}

// halfMade says whether a state counts on a member that went another way from the state before: a crash in the change of the roster
// is the likelier reason, and the member that went on has what came after. In a mirror of two nothing proves it, see halfway.
func halfMade(v, own *record.Record) bool {
	return own.Slot < len(v.Roster) && v.Roster[own.Slot].ID == own.Member && v.Roster[own.Slot].Condition.TakesPart() &&
		own.EpochID != v.EpochID && own.Epoch == v.Epoch && own.Before == v.Before
}

// fork says whether a record tells of changes that the newest one knows nothing of: its disk went on by itself.
func fork(newest, own *record.Record) bool {
	if own.Epoch >= newest.Epoch {
		return own.EpochID != newest.EpochID
	}
	if own.Slot >= len(newest.Roster) || newest.Roster[own.Slot].ID != own.Member {
		return false // its place has another member since
	}
	e := newest.Roster[own.Slot]
	return e.Left.Epoch != 0 && !e.LeftBy(own) && own.Epoch >= e.Left.Epoch
}

func stateOf(v *record.Record, found []Candidate) State {
	s := State{Record: v, Use: make([]Part, len(v.Roster))}
	for _, c := range found {
		own := c.Record
		if own.Slot >= len(v.Roster) || v.Roster[own.Slot].ID != own.Member {
			s.Left = append(s.Left, c)
			continue
		}
		e := v.Roster[own.Slot]
		in := e.Condition.TakesPart()
		current := in && (&claim{rec: v}).takes(c)
		// One that carries the very state was about to be brought back, see Readmit.
		stale := !in && e.Base != 0 && (e.LeftBy(own) || own.EpochID == v.EpochID)
		was := s.Use[own.Slot]
		if (current || stale) && (was.Disk == nil || was.Stale && current) {
			if was.Disk != nil {
				s.Left = append(s.Left, was.Candidate)
			}
			s.Use[own.Slot] = Part{c, stale, e.Base}
		} else {
			s.Left = append(s.Left, c)
		}
	}
	return s
}

// ErrNoReadmission is wrapped by the reasons why members cannot be brought back.
var ErrNoReadmission = errors.New("the array cannot be brought back in place")

// Readmits lists the slots whose members would be brought back in place, or says why that is not possible.
func (s State) Readmits() (slots []int, err error) {
	lay, err := s.Record.Layout()
	if err != nil {
		return nil, err
	}
	lost := func(slot int) bool {
		return s.Use[slot].Disk == nil || s.Record.Roster[slot].Condition == record.Rebuilding
	}
	for slot, p := range s.Use {
		if p.Stale {
			slots = append(slots, slot)
		}
	}
	switch certain, _ := lay.Margin(lost); {
	case certain < 0:
		return nil, fmt.Errorf("%w: too few of its members are there", ErrNoReadmission)
	case len(slots) == 0:
		return nil, fmt.Errorf("%w: no member is away that could be", ErrNoReadmission)
	}
	if certain, _ := lay.Margin(func(slot int) bool { return lost(slot) || s.Use[slot].Stale }); certain >= 0 {
		return nil, fmt.Errorf("%w: there is no need to, since the members that never left are enough to start it", ErrNoReadmission)
	}
	for _, c := range s.Left {
		if own := c.Record; own.Epoch >= s.Record.Epoch && own.EpochID != s.Record.EpochID {
			return nil, fmt.Errorf("%w: %s went on without the others; take it out first", ErrNoReadmission, c.Disk.Identity())
		}
	}
	return slots, nil
}
