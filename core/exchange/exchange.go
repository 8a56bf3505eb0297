// Package exchange is the procedure of exchanging a member's disk, step by step: what is waited for, what is to be done next, and what is
// written down at the end. It is a function of what there is to see, and names the next action.
package exchange

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
)

// Step is where an exchange stands.
type Step string

// The steps, in order.
const (
	CheckFirst Step = "check-first" // the others are checked before redundancy is lost
	TakeOut    Step = "take-out"    // the old disk is to leave its bay
	PutIn      Step = "put-in"      // a new one is to come
	Vet        Step = "vet"         // the new one is tested
	Rebuild    Step = "rebuild"
	Check      Step = "check" // all is checked again
	Done       Step = "done"
	Left       Step = "left" // it was given up, or came to another end
)

// Path lists the steps that an exchange goes through, in order.
func (x *Exchange) Path() []Step {
	path := []Step{TakeOut, PutIn, Rebuild}
	if x.First {
		path = slices.Insert(path, 0, CheckFirst)
	}
	if x.Quick {
		path = slices.Insert(path, len(path)-1, Vet)
	}
	if !x.Skip {
		path = append(path, Check)
	}
	return path
}

// Over says whether nothing more is to be done.
func (s Step) Over() bool { return s == Done || s == Left }

// Exchange is an exchange under way or over, as it is remembered.
type Exchange struct {
	Array    string         `json:"array"` // its identity
	Name     string         `json:"name"`  // of the array
	Slot     int            `json:"slot"`
	Old      state.Identity `json:"old"`
	New      state.Identity `json:"new"`
	Step     Step           `json:"step"`
	First    bool           `json:"check_first"`
	Quick    bool           `json:"vet"`
	Skip     bool           `json:"no_check"`         // it is not checked at the end
	Bad      bool           `json:"although_bad"`     // the new disk is taken in spite of what is known of it
	Says     string         `json:"says"`             // what it waits for, or why it does not go on
	Known    []string       `json:"known,omitempty"`  // disks that were here at the beginning
	Started  time.Time      `json:"started"`          // when it was begun
	Exposed  time.Time      `json:"exposed"`          // when the member stopped counting
	Out      time.Time      `json:"out"`              // when the old disk left its bay
	In       time.Time      `json:"in"`               // when the new one was taken
	Rebuilt  time.Time      `json:"rebuilt"`          // when the member counted again
	Ended    time.Time      `json:"ended"`            // zero: not yet
	Verified int64          `json:"verified"`         // bytes that the check at the end read
	Wrong    int64          `json:"wrong"`            // blocks that it found wrong
	Result   string         `json:"result,omitempty"` // in words
}

// Disk is what is to be seen of a disk.
type Disk struct {
	state.Identity
	State state.DiskState
	Size  int64
	Holds []string
	Bad   string // why it is not to be trusted
}

// Sight is what there is to see at one moment.
type Sight struct {
	Now       time.Time
	Array     bool // it is in service, and has not failed
	Condition record.Condition
	Disk      state.Identity // that has the slot
	Reason    string         // why the member failed
	Stopped   string         // why the rebuild does not run, in words; empty: it runs
	Disks     []Disk         // all that are here
	Need      int64          // bytes that a disk must have
	Vetted    Verdict        // of the new disk, by a vet that began in this exchange
	Checked   Verdict        // by a check that began in the present step
	Read      int64          // bytes that it read
	Wrong     int64          // blocks it found wrong
}

// Verdict is how a test ended.
type Verdict int

// The verdicts.
const (
	Unasked Verdict = iota // it was not begun
	Pending
	Passed
	Refused
)

// Action is what is to be done now; after it the exchange is looked at again.
type Action int

// The actions.
const (
	Nothing     Action = iota
	DeclareFail        // the member is to be declared failed, and its bay to be lit
	BeginVet           // of New
	PutNew             // New takes the member's place
	BeginCheck         // of the array
	CloseDown          // lights off, and the record is closed
)

// Next looks at an exchange, changes its step, and says what to do.
func (x *Exchange) Next(see Sight) Action {
	switch {
	case x.Step.Over():
		return Nothing
	case !see.Array:
		x.Says = "the array is not in service"
		return Nothing
	}
	switch x.Step {
	case CheckFirst:
		return x.checkFirst(see)
	case TakeOut:
		return x.takeOut(see)
	case PutIn:
		return x.putIn(see)
	case Vet:
		return x.vet(see)
	case Rebuild:
		return x.rebuild(see)
	}
	return x.check(see)
}

func works(c record.Condition) bool { return c == record.Active || c == record.Failing }

func same(a, b state.Identity) bool { return a.Name() == b.Name() }

func (x *Exchange) checkFirst(see Sight) Action {
	x.Says = "the array is being checked first"
	switch {
	case !works(see.Condition): // it failed meanwhile: there is no time for that
		x.Step = TakeOut
		return x.takeOut(see)
	case see.Checked == Unasked:
		return BeginCheck
	case see.Checked == Passed:
		x.Step = TakeOut
		return DeclareFail
	case see.Checked == Refused:
		x.Says = fmt.Sprintf("the check found %s that could not be repaired: see nidalo status %s, and end this exchange or begin it without -check-first", say.Count(see.Wrong, "block", "blocks"), x.Name)
	}
	return Nothing
}

func (x *Exchange) takeOut(see Sight) Action {
	if a, over := x.overtaken(see); over {
		return a
	}
	if works(see.Condition) {
		return DeclareFail
	}
	if x.Exposed.IsZero() {
		x.Exposed = see.Now
	}
	for _, d := range see.Disks {
		if same(d.Identity, x.Old) && (x.Old.Bay == "" || d.Bay == x.Old.Bay) && d.State != state.DiskEmpty {
			x.Says = fmt.Sprintf("take %s out; the array does without it", x.Old)
			return Nothing
		}
	}
	x.Out, x.Step = see.Now, PutIn
	return x.putIn(see)
}

// overtaken says whether the slot was filled in another way.
func (x *Exchange) overtaken(see Sight) (Action, bool) {
	switch {
	case !same(see.Disk, x.Old) && (see.Condition == record.Rebuilding || works(see.Condition)):
		x.New, x.In, x.Step = see.Disk, see.Now, Rebuild
		return x.rebuild(see), true
	case see.Condition == record.Rebuilding:
		return x.leave(see, fmt.Sprintf("%s is back, and catches up", x.Old)), true
	case works(see.Condition) && !x.Exposed.IsZero():
		return x.leave(see, fmt.Sprintf("%s counts again", see.Disk)), true
	}
	return Nothing, false
}

func (x *Exchange) leave(see Sight, why string) Action {
	x.Step, x.Ended, x.Result, x.Says = Left, see.Now, why, ""
	return CloseDown
}

func (x *Exchange) putIn(see Sight) Action {
	if a, over := x.overtaken(see); over {
		return a
	}
	d := x.candidate(see)
	where := "any bay"
	if x.Old.Bay != "" {
		where = "bay " + x.Old.Bay
	}
	switch {
	case d == nil:
		x.Says = fmt.Sprintf("put a blank disk of at least %s (%d bytes) into %s", say.Size(see.Need), see.Need, where)
	case same(d.Identity, x.Old):
		x.Says = fmt.Sprintf("%s is in %s again: put another disk there, or take it back with nidalo fail -undo %s %d", x.Old, where, x.Name, x.Slot)
	case d.State != state.DiskBlank && d.State != state.DiskSpare:
		x.Says = fmt.Sprintf("%s is %s", d.Identity, strings.Join(append([]string{string(d.State)}, d.Holds...), ": "))
		if d.State == state.DiskInUse || d.State == state.DiskRetired {
			x.Says += fmt.Sprintf("; nidalo inspect %s shows its contents, and nidalo erase %s makes it blank", say.Argument(d.Identity), say.Argument(d.Identity))
		}
	case d.Size < see.Need:
		x.Says = fmt.Sprintf("%s has %s (%d bytes), and at least %s (%d bytes) are needed: put a larger one into %s", d.Identity, say.Size(d.Size), d.Size, say.Size(see.Need), see.Need, where)
	case d.Bad != "" && !x.Bad:
		x.Says = fmt.Sprintf("%s is not to be trusted (%s): put another one into %s", d.Identity, d.Bad, where)
	case x.Quick && !same(x.New, d.Identity):
		x.New, x.Step = d.Identity, Vet
		return BeginVet
	default:
		x.New = d.Identity
		return PutNew
	}
	return Nothing
}

// candidate is the disk that is meant: the one in the bay, or else, where there are no bays, one that was not here before.
func (x *Exchange) candidate(see Sight) *Disk {
	for i, d := range see.Disks {
		if x.Old.Bay != "" && d.Bay == x.Old.Bay && d.State != state.DiskEmpty && state.Physical(d.Serial) == d.Serial {
			return &see.Disks[i]
		}
	}
	if x.Old.Bay != "" {
		return nil
	}
	var best *Disk
	for i, d := range see.Disks {
		if slices.Contains(x.Known, d.Name()) || d.State == state.DiskEmpty || d.OnDevice() != x.Old.OnDevice() || state.Physical(d.Serial) != d.Serial {
			continue
		}
		if best == nil || d.State == state.DiskBlank && best.State != state.DiskBlank {
			best = &see.Disks[i]
		}
	}
	return best
}

func (x *Exchange) vet(see Sight) Action {
	d := x.candidate(see)
	switch {
	case d == nil || !same(d.Identity, x.New):
		x.New, x.Step = state.Identity{}, PutIn
		return x.putIn(see)
	case see.Vetted == Unasked:
		return BeginVet
	case see.Vetted == Passed:
		return PutNew
	case see.Vetted == Refused:
		x.Says = fmt.Sprintf("%s did not pass its test: take it out, and put another one in", x.New)
	default:
		x.Says = fmt.Sprintf("%s is being tested", x.New)
	}
	return Nothing
}

func (x *Exchange) rebuild(see Sight) Action {
	switch {
	case works(see.Condition) && same(see.Disk, x.New):
		x.Rebuilt = see.Now
		if x.Skip {
			return x.finish(see)
		}
		x.Step, x.Says = Check, ""
		return BeginCheck
	case !works(see.Condition) && see.Condition != record.Rebuilding:
		x.New, x.Step = state.Identity{}, PutIn
		x.Says = fmt.Sprintf("%s failed in the rebuild (%s): take it out, and put another one in", see.Disk, cmp.Or(see.Reason, "no reason known"))
	case see.Stopped != "":
		x.Says = see.Stopped
	default:
		x.Says = fmt.Sprintf("%s is being rebuilt", x.New)
	}
	return Nothing
}

func (x *Exchange) check(see Sight) Action {
	switch see.Checked {
	case Unasked:
		return BeginCheck
	case Pending:
		x.Says = "the whole array is being checked"
		return Nothing
	}
	x.Verified, x.Wrong = see.Read, see.Wrong
	return x.finish(see)
}

func (x *Exchange) finish(see Sight) Action {
	x.Step, x.Ended, x.Says = Done, see.Now, ""
	x.Result = x.summary()
	return CloseDown
}

// summary is the closing record in words.
func (x *Exchange) summary() string {
	out := fmt.Sprintf("%s out, %s in; %s altogether, %s of it without %s", x.Old, x.New, span(x.Started, x.Ended), span(x.Exposed, x.Rebuilt), x.Old.Name())
	switch {
	case x.Skip:
		out += "; not checked"
	case x.Wrong > 0:
		out += fmt.Sprintf("; %s checked, %s wrong", say.Size(x.Verified), say.Count(x.Wrong, "block", "blocks"))
	default:
		out += fmt.Sprintf("; %s checked, all of it right", say.Size(x.Verified))
	}
	return out
}

func span(from, to time.Time) string { return to.Sub(from).Round(time.Second).String() }
