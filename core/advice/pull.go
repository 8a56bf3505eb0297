package advice

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

// Pull is the answer to whether disks can leave their bays now without anything being lost, redundancy included.
type Pull struct {
	Yes     bool
	Reasons []string
	When    *time.Time // it will be yes, as far as can be told
	Next    []string
}

// MayPull answers for some disks that leave together.
func MayPull(s *Snapshot, disks []Disk) *Pull {
	p := &puller{Snapshot: s, disks: disks, plan: Next(s), Pull: Pull{Yes: true, Reasons: []string{}, Next: []string{}}}
	p.held()
	for i := range s.Arrays {
		p.array(&s.Arrays[i])
	}
	p.idle()
	if p.Yes {
		p.free()
	}
	return &p.Pull
}

// puller collects the reasons of one answer.
type puller struct {
	*Snapshot
	Pull
	disks []Disk // that leave
	plan  *Plan
}

func (p *puller) because(format string, args ...any) {
	if why := fmt.Sprintf(format, args...); !slices.Contains(p.Reasons, why) {
		p.Reasons = append(p.Reasons, why)
	}
}

func (p *puller) no(format string, args ...any) {
	p.Yes = false
	p.because(format, args...)
}

// name is how a reason names one of the disks that leave.
func (p *puller) name(i state.Identity) string {
	if len(p.disks) == 1 {
		return "it"
	}
	return i.String()
}

// leaves says whether something is on one of the disks that leave.
func (p *puller) leaves(spindle string) bool {
	return spindle != "" && slices.ContainsFunc(p.disks, func(d Disk) bool { return d.Spindle == spindle })
}

// held says no for disks that the system uses, and for those of which nothing is known.
func (p *puller) held() {
	for _, d := range p.Disks {
		if p.leaves(d.Spindle) {
			for _, holder := range d.Held {
				p.no("%s", holder)
			}
		}
	}
	for _, d := range p.disks {
		switch d.State {
		case state.DiskBroken:
			p.no("%s cannot be opened, so its contents are not known: %s", p.name(d.Identity), strings.Join(d.Holds, "; "))
		case state.DiskClosed:
			p.no("this user may not open %s, so its contents are not known", p.name(d.Identity))
		}
	}
}

// idle says no for disks that an array needs which is to start and cannot yet.
func (p *puller) idle() {
	for _, i := range p.Idle {
		if i.Why != CannotStart && i.Why != Waits {
			continue
		}
		for _, d := range p.disks {
			if slices.Contains(p.carried(d.Spindle), i.ID) {
				p.no("%s carries a member of array %q, which is not in service and lacks members already", p.name(d.Identity), i.Name)
			}
		}
	}
}

// array judges what one array loses with the disks that leave.
func (p *puller) array(a *Array) {
	var working []Member
	for _, m := range a.Members {
		if m.Onto != nil && p.leaves(m.Onto.Spindle) {
			p.no("%s of array %q is being copied onto %s; the copy %s", m.Disk, a.Name, p.name(m.Onto.Disk), p.ends(a, m))
		}
		if !p.leaves(m.Spindle) {
			continue
		}
		name := p.name(m.Disk)
		switch {
		case m.Condition == record.Failed || m.Condition == record.Missing:
			p.because("array %q does without %s: it is %s there", a.Name, name, m.Condition)
		case m.Condition == record.Rebuilding:
			p.no("%s is being rebuilt for array %q, which is %s until then; the rebuild %s", name, a.Name, a.Condition, p.ends(a, m))
		case m.Onto != nil:
			p.no("%s is a member of array %q and is being copied onto another disk", name, a.Name)
			p.until(a, m)
		default:
			working = append(working, m)
		}
	}
	if len(working) > 0 {
		p.working(a, working)
	}
}

// ends says when the task of a member ends.
func (p *puller) ends(a *Array, m Member) string {
	if ends := a.task(m.Slot).ends(p.Now); ends != "" {
		return ends
	}
	return "has not ended"
}

// working says no for members that work, and what taking them out would mean.
func (p *puller) working(a *Array, members []Member) {
	after, _ := a.without(func(m Member) bool {
		return slices.ContainsFunc(members, func(o Member) bool { return o.Slot == m.Slot })
	})
	it, is := "it", "it is a member"
	if len(members) > 1 {
		it, is = "them", fmt.Sprintf("%d of them are members", len(members))
		if len(members) == len(p.disks) {
			is = "they are members"
		}
	} else if len(p.disks) > 1 {
		it = members[0].Disk.String()
		is = it + " is a member"
	}
	switch before := a.Margin; {
	case a.Failure != "":
		p.no("%s of array %q, which has failed: everything that can be rescued is on its members", is, a.Name)
		return
	case a.Unproven:
		p.no("%s of array %q, which had lost more disks than it has parity: until the check that follows has ended, places of any volume may be lost without %s", is, a.Name, it)
		return
	case after < 0 && a.Map.Volumes() != nil:
		p.no("without %s nothing could restore a volume of array %q that is on a lost disk: it is %s and its margin is %d", it, a.Name, a.Condition, max(before, 0))
	case after < 0:
		p.no("array %q would lose its data without %s: it is %s and its margin is %d", a.Name, it, a.Condition, max(before, 0))
	case after < before:
		p.no("%s of array %q: the data would survive, but the margin would fall from %d to %d", is, a.Name, before, after)
	default:
		p.no("%s of array %q: the data would survive and the margin would stay at %d, but fewer losses beside it would be survived", is, a.Name, before)
	}
	for _, t := range a.Tasks {
		switch t.Kind {
		case state.TaskRebuild, state.TaskCatchUp:
			p.because("the %s of %s reads from %s", t.Kind, a.Members[t.Slot].Disk, it)
		case state.TaskConvert:
			p.because("the conversion of array %q waits while a member is away", a.Name)
		}
	}
	p.wayOut(a, members)
}

// wayOut says how members that work can leave: copied onto disks that nothing more urgent wants, once the array has its margin.
func (p *puller) wayOut(a *Array, members []Member) {
	if a.Map.Redundant() && slices.ContainsFunc(a.Members, func(m Member) bool { return m.Condition.Lacks() }) {
		p.Next = append(p.Next, fmt.Sprintf("nidalo next   shows how array %q gets its margin back; only then should another disk leave it", a.Name))
		return
	}
	free := slices.DeleteFunc(slices.Clone(p.Disks), func(d Disk) bool { return p.plan.taken[d.Path] || p.leaves(d.Spindle) })
	for _, m := range members {
		command := fmt.Sprintf("nidalo retire %s %s", a.Name, p.argument(m))
		mine := p.plan.Of(a.ID)
		i := slices.IndexFunc(mine, func(st Step) bool { return strings.HasPrefix(st.Command, command) })
		fit := Fit(free, m.Need, "", m.Disk.OnDevice())
		switch {
		case i >= 0 && mine[i].Urgency == Soon: // it is about to fail
			p.Next = append(p.Next, mine[i].Command+"   "+mine[i].Do)
		case fit != nil && m.Part == 0:
			p.Next = append(p.Next, command+" "+say.Argument(fit.Identity)+"   copies it onto "+fit.Identity.String()+" first; then it may leave")
			free = slices.DeleteFunc(free, func(d Disk) bool { return d.Path == fit.Path })
		default:
			p.Next = append(p.Next, command+fmt.Sprintf("   copies it onto a blank disk of at least %s that is inserted first; then it may leave", say.Size(m.Need)))
		}
	}
}

// until notes when the answer will be yes: when the copying of a member ends.
func (p *puller) until(a *Array, m Member) {
	switch t := a.task(m.Slot); {
	case t == nil:
	case t.State == state.TaskPaused:
		p.because("the %s is paused at %.1f%%", t.Kind.Noun(), t.Percent)
		p.Next = append(p.Next, "nidalo continue "+a.Name+"   lets it go on; the disk may leave when it has ended")
	case t.Left >= 0:
		if at := p.Now.Add(t.Left); p.When == nil || p.When.Before(at) {
			p.When = &at
		}
	}
}

// free says why disks may leave.
func (p *puller) free() {
	for _, d := range p.disks {
		name := p.name(d.Identity)
		switch d.State {
		case state.DiskSpare:
			p.because("%s is a spare; while it is out, it can take no member's place", name)
		case state.DiskBlank, state.DiskRetired:
			p.because("%s is %s: no array needs it", name, d.State)
		default:
			if len(p.Reasons) == 0 {
				p.because("no array in service needs %s; it holds %s", name, cmp.Or(strings.Join(d.Holds, "; "), "nothing"))
			}
		}
		p.Next = append(p.Next, "nidalo locate "+say.Argument(d.Identity)+"   lights its bay")
	}
}
