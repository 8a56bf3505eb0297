package roster

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/disk"
)

// Who belongs to an array is decided from the records of the disks that name it, before anything is written to any of them.
// A record may be old, damaged in a way that its checksum does not show, or forged; the highest epoch alone proves nothing.
//
// A change of the roster is written to every live member before it takes effect, so in an array that was never tampered
// with the members that the newest record names are in its state, or in the one just before, which it names as well
// (record.Before). That gives each state its case:
//
//   - its backers are the members it names as taking part, in its state or the one just before it, and the members it names
//     as away that are in the very state it says they left in
//   - its opponents are the members it names as taking part that are in another state, and those it names as away that
//     went on since, other than by a change that never reached the members it counts on
//   - a state is refuted when its opponents could have served the array without its backers: then they may have gone on,
//     and what they hold may be newer. It is refuted as well when the members it names could not have served the array,
//     because nothing is written then
//
// The newest state that is not refuted wins. Its opponents are strangers: they are left out, named, and never written to.
// When every state is refuted, or the winner has opponents and its own members are not enough to serve, it is in doubt, and
// nothing is started until a person has decided.

// Candidate is a disk that carries a member record.
type Candidate struct {
	Disk   disk.Disk
	Record *record.Record
}

// Set is the disks found of one array, judged.
type Set struct {
	Newest    *record.Record
	Current   []Candidate // by slot; Disk is nil where none is current
	Onto      []Candidate // by slot; Disk is nil where no copy of the member is under way
	Stale     []Candidate // carry an older state, or were taken out of the roster
	Strangers []Stranger  // say that they belong, and cannot be believed
	Doubt     error       // why the array must not be started without a decision
	// Surviving: it was decided to start a guarded set without members that are not there and that the others do not know to be lost, although they are
	// more than it has parity.
	Surviving bool
}

// Stranger is a disk whose record contradicts those of the members.
type Stranger struct {
	Candidate
	Why string
}

// ErrDoubt is wrapped by the reasons not to start an array.
var ErrDoubt = errors.New("it is not certain which state is the right one")

// origin is what never changes about an array.
type origin struct {
	array   uuid.UUID
	created time.Time
}

func originOf(r *record.Record) origin { return origin{r.Array, r.Created} }

// Judge sorts the candidates, of which there is at least one, and which all name the same array.
func Judge(candidates []Candidate) Set {
	var s Set
	var own []Candidate
	for _, c := range candidates {
		if e := c.Record.Roster[c.Record.Slot]; e.ID != c.Record.Member && e.Onto != c.Record.Member {
			s.Strangers = append(s.Strangers, Stranger{c, "its record does not name it as a member"})
		} else {
			own = append(own, c)
		}
	}
	if len(own) == 0 {
		own = candidates // for what there is to show
		s.Doubt = fmt.Errorf("%w: no disk's record names that disk as a member", ErrDoubt)
	}
	own = s.sameOrigin(own)
	cases := casesOf(own)
	winner := slices.IndexFunc(cases, func(c *claim) bool { return !c.refuted })
	if winner < 0 {
		s.doubt(cases)
		winner = 0
	} else if w := cases[winner]; len(w.against) > 0 && !w.serves(w.able) {
		s.doubt(cases)
	}
	s.sort(own, cases[winner])
	return s
}

// sameOrigin leaves out candidates that disagree with the others about what never changes.
func (s *Set) sameOrigin(candidates []Candidate) []Candidate {
	count := map[origin]int{}
	for _, c := range candidates {
		count[originOf(c.Record)]++
	}
	var best origin
	most, tied := 0, false
	for _, c := range candidates { // in their order, so that the result does not depend on the map's
		switch o := originOf(c.Record); {
		case count[o] > most:
			best, most, tied = o, count[o], false
		case count[o] == most && o != best:
			tied = true
		}
	}
	if tied {
		s.Doubt = fmt.Errorf("%w: the disks do not agree about how the array was created", ErrDoubt)
	}
	var out []Candidate
	for _, c := range candidates {
		if originOf(c.Record) == best {
			out = append(out, c)
		} else {
			s.Strangers = append(s.Strangers, Stranger{c, "it was created at another time"})
		}
	}
	return out
}

// claim is one state of the roster, with what speaks for and against it.
type claim struct {
	rec     *record.Record // of the highest generation
	lay     *layout.Map
	backed  []bool      // by slot
	able    []bool      // by slot: backed by a member whose data is all there
	against []Candidate // its opponents
	refuted bool
}

// casesOf are the states that candidates are in, newest first.
func casesOf(candidates []Candidate) (out []*claim) {
	for _, c := range candidates {
		i := slices.IndexFunc(out, func(x *claim) bool { return x.rec.State() == c.Record.State() })
		switch {
		case i < 0:
			out = append(out, &claim{rec: c.Record})
		case c.Record.Generation > out[i].rec.Generation:
			out[i].rec = c.Record
		}
	}
	slices.SortStableFunc(out, func(x, y *claim) int {
		switch {
		case x.rec.Epoch != y.rec.Epoch:
			if x.rec.Epoch > y.rec.Epoch {
				return -1
			}
			return 1
		}
		return slices.Compare(x.rec.EpochID[:], y.rec.EpochID[:])
	})
	for _, x := range out {
		x.weigh(candidates)
	}
	return out
}

func (x *claim) weigh(candidates []Candidate) {
	lay, err := x.rec.Layout()
	if err != nil {
		x.refuted = true
		return
	}
	x.lay, x.backed, x.able = lay, make([]bool, len(x.rec.Roster)), make([]bool, len(x.rec.Roster))
	opposed := make([]bool, len(x.rec.Roster))
	for _, c := range candidates {
		slot := c.Record.Slot
		if slot >= len(x.rec.Roster) || x.rec.Roster[slot].ID != c.Record.Member {
			continue // it has left this state's roster, or is a copy: it says nothing about it
		}
		switch {
		case x.takes(c):
			x.backed[slot] = true
			x.able[slot] = x.rec.Roster[slot].Condition != record.Rebuilding
		case x.knowsLeft(c):
			x.backed[slot] = true
		case x.contradicts(c):
			opposed[slot] = c.Record.Roster[slot].Condition != record.Rebuilding
			x.against = append(x.against, c)
		}
	}
	named := make([]bool, len(x.rec.Roster))
	for slot, e := range x.rec.Roster {
		named[slot] = e.Condition.Counts()
	}
	x.refuted = len(x.against) > 0 && x.serves(opposed) || !lay.Serves(func(slot int) bool { return !named[slot] })
}

// serves says whether the members in some slots alone could serve the array.
func (x *claim) serves(by []bool) bool {
	return x.lay != nil && x.lay.Survives(func(slot int) bool { return !by[slot] })
}

// takes says whether a candidate is a member of the state as it is: in it, or in the one that a crash in the change of the
// roster leaves. For one that returned, and of which nothing counts yet but what it had, that is the one it had left in.
func (x *claim) takes(c Candidate) bool {
	e, own := x.rec.Roster[c.Record.Slot], c.Record.State()
	_, err := e.PlaceOf(c.Record.Place) // with the segments that this state names
	return err == nil && e.ID == c.Record.Member && e.Condition.TakesPart() &&
		(own == x.rec.State() || own == x.rec.Previous() && own.Epoch > 0 ||
			e.Condition == record.Rebuilding && e.Cursor == 0 && e.LeftBy(c.Record))
}

// knowsLeft says whether a candidate left the array in the state that it is in.
func (x *claim) knowsLeft(c Candidate) bool {
	e := x.rec.Roster[c.Record.Slot]
	return e.ID == c.Record.Member && !e.Condition.TakesPart() && e.LeftBy(c.Record)
}

// contradicts says whether a candidate cannot be in the state it is in if this state is the right one.
func (x *claim) contradicts(c Candidate) bool {
	e := x.rec.Roster[c.Record.Slot]
	if x.takes(c) || x.knowsLeft(c) || c.Record.State() == x.rec.State() {
		return false // the last: it was about to be brought back, see Readmit
	}
	if e.Condition.TakesPart() {
		// One that is behind was set back, or this state is not what it says. One that is ahead went on.
		return true
	}
	// It is away, and in another state than it left in: an earlier one counts for nothing, a later one is its own.
	if e.Left.Epoch == 0 {
		return c.Record.Epoch >= x.rec.Epoch
	}
	return c.Record.Epoch >= e.Left.Epoch && !x.halfway(c)
}

// halfway says whether a candidate that is away was the only one to get a change of the roster before a crash: the change next after
// the state it left in, or may have, which counts on members that are in this state. When they are two or more they never had it,
// since only one at a time is set back: so it never took effect, and the candidate did not go on by it.
func (x *claim) halfway(c Candidate) bool {
	e, own := x.rec.Roster[c.Record.Slot], c.Record
	if before := own.Previous(); before != e.Left && before != e.Tried {
		return false
	}
	lack := 0
	for slot, mine := range x.rec.Roster {
		if slot < len(own.Roster) && own.Roster[slot].ID == mine.ID && mine.Condition.TakesPart() && own.Roster[slot].Condition.TakesPart() {
			lack++
		}
	}
	return lack >= 2
}

// doubt says which states there are, and which disks carry them.
func (s *Set) doubt(cases []*claim) {
	if s.Doubt != nil {
		return
	}
	var sides []string
	for _, x := range cases {
		var names []string
		for slot, yes := range x.backed {
			if yes {
				e := x.rec.Roster[slot]
				names = append(names, state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}.String())
			}
		}
		if len(names) > 0 {
			sides = append(sides, fmt.Sprintf("epoch %d: %s", x.rec.Epoch, strings.Join(names, ", ")))
		}
	}
	s.Doubt = fmt.Errorf("%w: members went on without each other, or were set back (%s)", ErrDoubt, strings.Join(sides, "; "))
}

// sort puts the candidates where they belong when a state is the right one.
func (s *Set) sort(candidates []Candidate, x *claim) {
	s.Newest = x.rec
	s.Current = make([]Candidate, len(x.rec.Roster))
	s.Onto = make([]Candidate, len(x.rec.Roster))
	for _, c := range candidates {
		slot := c.Record.Slot
		if slot >= len(x.rec.Roster) {
			s.Stale = append(s.Stale, c)
			continue
		}
		e := x.rec.Roster[slot]
		switch {
		case e.Onto != uuid.Nil && e.Onto == c.Record.Member:
			s.Onto[slot] = c
		case x.takes(c) && s.Current[slot].Disk != nil:
			if s.Doubt == nil {
				s.Doubt = fmt.Errorf("%w: %s and %s both carry member %d", ErrDoubt, s.Current[slot].Disk.Identity(), c.Disk.Identity(), slot)
			}
		case x.takes(c):
			s.Current[slot] = c
		case e.ID == c.Record.Member && x.contradicts(c):
			s.Strangers = append(s.Strangers, Stranger{c, fmt.Sprintf("it is in epoch %d, which the others contradict: it went on by itself, was set back, or its record is a forgery", c.Record.Epoch)})
		default:
			s.Stale = append(s.Stale, c)
		}
	}
}

// Holds says whether an array opened from the set keeps the disk.
func (s Set) Holds(d disk.Disk) bool {
	has := func(c Candidate) bool { return c.Disk == d }
	return slices.ContainsFunc(s.Current, has) || slices.ContainsFunc(s.Onto, func(c Candidate) bool {
		return has(c) && s.Current[c.Record.Slot].Disk != nil
	})
}

// Margin is how many further losses the set survives for certain; negative when it cannot be started.
func (s Set) Margin() int {
	lay, err := s.Newest.Layout()
	if err != nil {
		return -1
	}
	certain, _ := lay.MarginOfDisks(s.disks(), s.gone)
	return certain
}

// Serves says whether the set can be started. A guarded set that lacks more members than it has parity can, when those that are there know that the others
// are lost, or it was decided so: otherwise the others may only be late, or be in use elsewhere.
func (s Set) Serves() bool {
	if s.Margin() >= 0 {
		return true
	}
	lay, err := s.Newest.Layout()
	if err != nil || !lay.Serves(s.gone) {
		return false
	}
	return s.Surviving || len(s.Untold()) == 0
}

// Untold are the slots whose members are not there, without the others knowing them to be away.
func (s Set) Untold() (slots []int) {
	for slot, e := range s.Newest.Roster {
		if e.Condition.TakesPart() && s.Current[slot].Disk == nil {
			slots = append(slots, slot)
		}
	}
	return slots
}

// Condition is what the array would be in if it were started.
func (s Set) Condition(lay *layout.Map) state.Condition {
	return lay.Condition(s.disks(), s.gone)
}

func (s Set) gone(slot int) bool {
	return s.Current[slot].Disk == nil || s.Newest.Roster[slot].Condition == record.Rebuilding
}

func (s Set) disks() []string {
	out := make([]state.Identity, len(s.Current))
	for slot, c := range s.Current {
		if c.Disk != nil {
			out[slot] = c.Disk.Identity()
		}
	}
	return state.Spindles(out)
}

// Shortage says in words which members a set lacks.
func (s Set) Shortage() string {
	var names []string
	for slot, e := range s.Newest.Roster {
		if s.Current[slot].Disk == nil {
			names = append(names, fmt.Sprintf("slot %d, %s", slot, state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}))
		}
	}
	if len(names) == 0 {
		return "a member is not rebuilt yet, and another is lost"
	}
	return "more members are missing than the level survives: " + strings.Join(names, "; ")
}
