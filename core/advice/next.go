package advice

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
)

// Urgency is how soon a step should be done.
type Urgency string

// The urgencies, the most urgent first.
const (
	Now        Urgency = "now"
	Soon       Urgency = "soon"
	Wait       Urgency = "wait"
	Convenient Urgency = "when convenient"
)

var urgencies = []Urgency{Now, Soon, Wait, Convenient}

// Rank is 0 for the most urgent, and more for what can wait longer.
func (u Urgency) Rank() int {
	if i := slices.Index(urgencies, u); i >= 0 {
		return i
	}
	return len(urgencies)
}

// CheckEvery is how old a consistency check may get before another is advised.
const CheckEvery = 35 * 24 * time.Hour

// Step is one thing to do.
type Step struct {
	Array   string  `json:"array,omitempty"`
	Urgency Urgency `json:"urgency"` // now, soon, wait, when convenient
	Why     string  `json:"why"`
	Do      string  `json:"do"`                // in words
	Command string  `json:"command,omitempty"` // exact
	Disk    string  `json:"disk,omitempty"`    // bay, model and serial
	of      string  // identity of the array
}

// About is the array and the disk that a step is about; either may be none.
func (st Step) About() string {
	if st.Array == "" || st.Disk == "" {
		return st.Array + st.Disk
	}
	return st.Array + ", " + st.Disk
}

// Line is a step in one line: the command first, where there is one.
func (st Step) Line() string {
	if st.Command == "" {
		return st.Do + ": " + st.Why
	}
	return st.Command + "   " + st.Do + ": " + st.Why
}

// Plan is everything that there is to do on a host, in order.
type Plan struct {
	all     []Step
	Again   time.Time // when to look again although nothing is to be done
	Regular bool      // checks begin by themselves, the next one then
	taken   map[string]bool
}

// Next says what the administrator should do. Arrays that are nearest to losing data come first, and have first claim on
// blank disks: no two steps want the same one.
func Next(s *Snapshot) *Plan {
	p := &planner{Snapshot: s, claimed: map[string]bool{}, instead: map[string]*Disk{}}
	out := &Plan{Again: s.Now.Add(CheckEvery), taken: p.claimed}
	arrays := slices.Clone(s.Arrays)
	slices.SortStableFunc(arrays, func(x, y Array) int { return cmp.Compare(x.Margin, y.Margin) })
	for i := range arrays {
		a := &arrays[i]
		p.array = a
		p.device()
		p.serving()
	}
	out.lookAgain(s)
	for _, i := range s.Idle {
		p.idle(i)
	}
	p.leftovers()
	p.home()
	if len(s.Arrays)+len(s.Idle) == 0 {
		p.first()
	}
	slices.SortStableFunc(p.steps, func(x, y Step) int {
		return cmp.Compare(slices.Index(urgencies, x.Urgency), slices.Index(urgencies, y.Urgency))
	})
	out.all = p.steps
	return out
}

// lookAgain finds when to look again although nothing is to be done.
func (p *Plan) lookAgain(s *Snapshot) {
	regular := func(a Array) bool {
		return !a.Check.Next.IsZero() || slices.ContainsFunc(a.Tasks, func(t Task) bool { return t.Regular })
	}
	p.Regular = slices.ContainsFunc(s.Arrays, regular) && !slices.ContainsFunc(s.Arrays, func(a Array) bool { return a.Used > 0 && !regular(a) })
	for _, a := range s.Arrays {
		at := a.Check.Next
		if !p.Regular && !a.Check.Ended.IsZero() {
			at = a.Check.Ended.Add(CheckEvery)
		}
		if !at.IsZero() && at.Before(p.Again) {
			p.Again = at
		}
	}
}

// Steps lists all steps, those that are the same for several arrays once.
func (p *Plan) Steps() []Step {
	out := []Step{}
	for _, st := range p.all {
		if !slices.ContainsFunc(out, func(o Step) bool { return o.Command != "" && o.Command == st.Command && o.Do == st.Do }) {
			out = append(out, st)
		}
	}
	return out
}

// Of lists the steps about the array with an identity.
func (p *Plan) Of(id string) []Step {
	out := []Step{}
	for _, st := range p.all {
		if st.of == id {
			out = append(out, st)
		}
	}
	return out
}

// Lines are steps in a line each.
func Lines(steps []Step) []string {
	out := []string{}
	for _, st := range steps {
		out = append(out, st.Line())
	}
	return out
}

// planner collects the steps of one plan.
type planner struct {
	*Snapshot
	array   *Array
	steps   []Step
	claimed map[string]bool  // blank disks that a step wants, by path
	instead map[string]*Disk // the blank disk that takes the place of a physical disk with partitions
}

func (p *planner) add(urgency Urgency, why, do, command string, about state.Identity) {
	st := Step{Urgency: urgency, Why: why, Do: do, Command: command}
	if p.array != nil {
		st.Array, st.of = p.array.Name, p.array.ID
	}
	if about.Path != "" {
		st.Disk = about.String()
	}
	p.steps = append(p.steps, st)
}

// fit is Fit for a member among the disks that no step wants yet.
func (p *planner) fit(m Member, bay string) *Disk {
	free := slices.DeleteFunc(slices.Clone(p.Disks), func(d Disk) bool { return p.claimed[d.Path] })
	best := Fit(free, m.Need, bay, m.Disk.OnDevice())
	if best != nil {
		p.claimed[best.Path] = true
	}
	return best
}

var noDisk state.Identity

// device says what to do when an array should be a device and is not, or when its device hangs.
func (p *planner) device() {
	switch d := p.array.Device; {
	case d == nil || d.Connected || d.Path == "" && p.array.Failure != "":
	case d.Path != "":
		p.add(Now, fmt.Sprintf("its device %s waits (%s)", d.Path, d.Reason), "end it if it does not come back; data that could not be written is lost then", "nidalo detach -force "+p.array.Name, noDisk)
	default:
		p.add(Now, "it should be attached and is not ("+d.Reason+")", "start the keeper if it does not come by itself", "systemctl start nidalo-keeper", noDisk)
	}
}

// serving follows the procedure for one array in service, as far as it can be foreseen.
func (p *planner) serving() {
	a, before := p.array, len(p.steps)
	if a.Failure != "" {
		p.add(Now, "it has failed ("+a.Failure+")", "bring the lost members back, in any bay, and start it; everything that was flushed is on them", "nidalo start "+a.Name, noDisk)
		p.add(Convenient, "some members may never come back", "see how much can be read without them, copy it out, or bring back members that left before", "nidalo rescue "+a.Name, noDisk)
		return
	}
	switch {
	case a.Unproven:
		p.add(Now, "it had lost more disks than it has parity; a further loss may cost places of any volume until a check has ended", "let the check end that follows", "nidalo status "+a.Name, noDisk)
	case a.Map.Redundant() && a.Condition == state.Exposed:
		p.add(Now, "no further loss is survived until redundancy is back", "back up what is not backed up yet", "", noDisk)
	}
	if a.Condition == state.Partial {
		var lost []string
		for _, m := range a.Members {
			if m.Condition == record.Failed || m.Condition == record.Missing {
				lost = append(lost, say.Short(m.Disk))
			}
		}
		if len(lost) > 0 {
			p.add(Now, "too many disks are lost for parity to restore the volumes on them", fmt.Sprintf("put %s back, in any bay; what comes back catches up by itself, and the other volumes stay in use", say.List(lost)), "", noDisk)
		}
	}
	p.away()
	restoring := false
	for _, m := range a.Members {
		if t := a.task(m.Slot); t != nil {
			restoring = true
			p.waitFor(t, m.Disk)
			continue
		}
		p.member(m)
	}
	if !restoring {
		p.spares()
	}
	converting := p.converting()
	p.check(restoring || len(p.steps) > before)
	if !converting {
		p.room()
		p.spread()
	}
}

// converting says how a change of the layout is, if one is under way.
func (p *planner) converting() bool {
	i := slices.IndexFunc(p.array.Tasks, func(t Task) bool { return t.Kind == state.TaskConvert })
	if i >= 0 {
		p.waitFor(&p.array.Tasks[i], noDisk)
	}
	return i >= 0
}

// room says that the array could grow, or will once all its disks are larger ones.
func (p *planner) room() {
	a := p.array
	exchanged := 0
	for _, m := range a.Members {
		if m.Since.Sub(a.Created) > time.Second && m.Condition == record.Active {
			exchanged++
		}
	}
	switch {
	case a.Condition != state.Healthy:
	case a.Gain > 0:
		p.add(Convenient, fmt.Sprintf("its disks have room for %s more", say.Size(a.Gain)), map[bool]string{false: "let it grow; no data moves", true: "let it grow; a part of the data is laid out anew"}[a.GainMoves], "nidalo grow "+a.Name, noDisk)
	case a.GainThen > 0 && exchanged >= a.Larger && a.Larger > 0:
		p.add(Convenient, fmt.Sprintf("%s larger by now, and %s is unused", say.Of(a.Larger, len(a.Members), "disk"), say.Size(a.Unused)),
			fmt.Sprintf("exchange %s too; the array can then grow by %s", say.List(a.Short), say.Size(a.GainThen)), "", noDisk)
	}
	if fs := a.FileSystem; fs != nil && a.Condition == state.Healthy {
		p.add(Convenient, fmt.Sprintf("the %s file system on it ends at %s of %s, because the array grew", fs.Kind, say.Size(fs.End), say.Size(a.Map.Capacity())), "let it grow as well", fs.Command, noDisk)
	}
}

// member says what a member needs that no task is about.
func (p *planner) member(m Member) {
	redundant := p.array.Map.Redundant()
	switch {
	case m.Exchange != "":
		p.add(Now, "its disk is being exchanged", m.Exchange, fmt.Sprintf("nidalo exchange %s %d", p.array.Name, m.Slot), m.Disk)
	case m.Condition == record.Failing || m.Foretold:
		p.retire(m)
	case redundant && p.array.Condition == state.Partial && (m.Condition == record.Failed || m.Condition == record.Missing):
		p.giveUp(m)
	case redundant && (m.Condition == record.Failed || m.Condition == record.Missing):
		p.replace(m)
	}
}

func (p *planner) waitFor(t *Task, about state.Identity) {
	do := "wait for the " + t.Kind.Noun()
	switch t.State {
	case state.TaskPaused:
		p.add(Soon, fmt.Sprintf("the %s is paused at %.1f%%", t.Kind.Noun(), t.Percent), "let it go on", "nidalo continue "+p.array.Name, about)
		return
	case state.TaskWaiting:
		p.add(Wait, t.Waits, do, "nidalo watch", about)
		return
	}
	why := fmt.Sprintf("it is at %.1f%%", t.Percent)
	if ends := t.ends(p.Now); ends != "" {
		why += ", " + ends
	}
	p.add(Wait, why, do, "nidalo watch", about)
}

// check says when a consistency check is wanted, or what the last one found. busy: there is more important work.
func (p *planner) check(busy bool) {
	a, c := p.array, p.array.Check
	for i, t := range a.Tasks {
		if t.Kind == state.TaskCheck {
			if !busy && !t.Regular {
				p.waitFor(&a.Tasks[i], noDisk)
			}
			return
		}
	}
	command := "nidalo check " + a.Name
	switch {
	case a.Condition == state.Partial: // what is not known now the lost disks may tell
	case !c.Ended.IsZero() && c.Unrepairable > 0:
		p.add(Now, fmt.Sprintf("the last check found %d blocks beyond repair", c.Unrepairable), "restore the damaged files from a backup, then check again", "nidalo check -repair "+a.Name, noDisk)
		return
	case !c.Ended.IsZero() && c.Mismatches > c.Repaired:
		p.add(Soon, fmt.Sprintf("the last check found %d mismatches", c.Mismatches), "repair them", "nidalo check -repair "+a.Name, noDisk)
		return
	case busy || a.Used == 0:
		return
	}
	var changed time.Time // the last time that a member changed after the array was made
	for _, m := range a.Members {
		if m.Since.After(changed) && m.Since.Sub(a.Created) > time.Second {
			changed = m.Since
		}
	}
	since := c.Ended
	if since.IsZero() {
		since = a.Created
	}
	switch {
	case c.Late != "":
		p.add(Soon, c.Late, "check that all agrees", command, noDisk)
	case !changed.IsZero() && c.Ended.Before(changed):
		do := "check that all agrees"
		if !c.Next.IsZero() {
			do += ", or leave it to the check that begins by itself " + say.Moment(p.Now, c.Next)
		}
		p.add(Convenient, "its members changed on "+changed.Local().Format("Jan 2 15:04")+", and it has not been checked since", do, command, noDisk)
	case !c.Next.IsZero(): // it is seen to
	case p.Now.Sub(since) > CheckEvery:
		p.add(Convenient, fmt.Sprintf("it has not been checked for more than %d days", int(CheckEvery.Hours()/24)), "check that all agrees", command, noDisk)
	}
}

// idle says how an array gets into service.
func (p *planner) idle(i Idle) {
	p.array = &Array{ID: i.ID, Name: i.Name}
	start := "nidalo start " + i.Name
	switch i.Why {
	case TakenOut:
		p.add(Convenient, "it was taken out of service", "start it when it is wanted again", start, noDisk)
	case Stranger:
		p.add(Convenient, "its disks come from another host or home", "start it here, if it is not in use there", start, noDisk)
	case Elsewhere: // nothing is to be done
	case Unowned:
		p.add(Now, i.Reason, "put that right; it is tried again by itself", start, noDisk)
	case Waits:
		p.add(Wait, i.Reason, "put the missing disks in, or start it without them at once", start, noDisk)
	default:
		for _, t := range i.Twins {
			p.add(Now, t.Why, "choose the one that is the member", "nidalo choose "+t.Example, noDisk)
		}
		if len(i.Twins) == 0 {
			p.add(Now, i.Reason, "bring its missing disks back, in any bay, and start it", start, noDisk)
			p.add(Convenient, "some members may never come back", "see how much can be read without them, copy it out, or bring back members that left before", "nidalo rescue "+i.Name, noDisk)
		}
	}
}
