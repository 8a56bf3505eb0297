package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
)

// replace says how a member that is failed or missing gets its place back.
func (p *planner) replace(m Member) {
	a := p.array
	urgency, why := Soon, "it has been missing since "+m.Since.Local().Format("Jan 2 15:04")
	if m.Condition == record.Failed {
		why = "it failed on " + m.Since.Local().Format("Jan 2 15:04")
	}
	if m.Reason != "" {
		why += " (" + m.Reason + ")"
	}
	if a.Margin == 0 {
		urgency = Now
	}
	if len(m.Twins) > 0 {
		p.add(urgency, why+"; "+m.Twins[0].Why, "choose the one that is the member; it is taken back then", "nidalo choose "+m.Twins[0].Example, m.Disk)
		return
	}
	if m.Part > 0 {
		p.replaceDisk(m, urgency, why)
		return
	}
	command := "nidalo replace " + a.Name + " " + p.argument(m) + " "
	elsewhere := m.Disk.Host != "" && m.Condition == record.Missing
	if elsewhere {
		p.add(urgency, why, fmt.Sprintf("see whether host %s runs, lends it and can be reached; it comes back by itself then", m.Disk.Host), "", m.Disk)
	}
	if spare := p.spare(m); spare != nil {
		p.add(urgency, why, "let the spare "+spare.Identity.String()+" take its place; a service that runs does so by itself", command+say.Argument(spare.Identity), m.Disk)
		return
	}
	if fit := p.fit(m, m.Disk.Bay); fit != nil {
		do := "put the blank disk " + fit.Identity.String() + " in its place; the rebuild begins at once"
		switch {
		case elsewhere:
			do = "if it does not come back, " + do
		case m.CatchesUp:
			do = "if it was taken out by mistake, put it back, in any bay, and it catches up; otherwise " + do
		}
		p.add(urgency, why, do, command+say.Argument(fit.Identity), m.Disk)
		if small := p.smallerParity(m, fit); small != nil {
			p.add(Convenient, fmt.Sprintf("no data disk may be larger than a parity disk; %s has %s, and %s, which has parity, has %s", say.Short(fit.Identity), say.Size(fit.Size), say.Short(small.Disk), say.Size(small.Size)),
				"or, to use all of the new disk: it takes over parity, and the disk that had it takes this place; redundancy is back later then", "nidalo replace -parity "+a.Name+" "+p.argument(m)+" "+say.Argument(fit.Identity), m.Disk)
		}
		return
	}
	if !elsewhere {
		p.insert(m, urgency, why, command)
	}
}

// smallerParity is the smallest parity disk, when a disk for the place of a data disk is larger by more than what rounding leaves.
func (p *planner) smallerParity(m Member, fit *Disk) (small *Member) {
	lay := p.array.Map
	if _, data := lay.Volume(m.Slot); !data {
		return nil
	}
	for i, o := range p.array.Members {
		if _, data := lay.Volume(o.Slot); !data && o.Condition.Counts() && (small == nil || o.Size < small.Size) {
			small = &p.array.Members[i]
		}
	}
	if small == nil || fit.Size <= small.Size+small.Size/100 {
		return nil
	}
	return small
}

// giveUp says what can be done about a member of a guarded set that nothing can restore.
func (p *planner) giveUp(m Member) {
	a := p.array
	why := "it is lost, with too many others"
	if m.Reason != "" {
		why += " (" + m.Reason + ")"
	}
	if m.Condition == record.Failed {
		p.add(Soon, why, "take it back if its disk can be read after all: what it holds counts", "nidalo fail -undo "+a.Name+" "+p.argument(m), m.Disk)
	}
	if _, data := a.Map.Volume(m.Slot); !data {
		p.add(Wait, why, "put it back; a new parity disk can be filled when fewer data disks are lost", "", m.Disk)
		return
	}
	fit := p.fit(m, m.Disk.Bay)
	if fit == nil {
		p.add(Convenient, why, fmt.Sprintf("if it will never come back, insert a blank disk of at least %s, and give up what was on it", say.Size(m.Need)), "nidalo replace -empty "+a.Name+" "+p.argument(m)+" DISK", m.Disk)
		return
	}
	p.add(Convenient, why, "if it will never come back, give up what was on it: its volume begins empty on the blank disk "+fit.Identity.String(),
		"nidalo replace -empty "+a.Name+" "+p.argument(m)+" "+say.Argument(fit.Identity), m.Disk)
}

// insert is replace where no blank disk is at hand: the failed disk goes out of its bay, and another comes in.
func (p *planner) insert(m Member, urgency Urgency, why, command string) {
	bay, target := "a bay", "DISK"
	blank := fmt.Sprintf("insert a blank disk of at least %s (%d bytes) into ", say.Size(m.Need), m.Need)
	here := p.inBay(m)
	switch {
	case here == nil || here.State == state.DiskEmpty && m.Disk.Bay == "":
	case here.State == state.DiskEmpty:
		bay, target = "bay "+m.Disk.Bay, say.Quote(m.Disk.Bay)
		if m.CatchesUp {
			p.add(urgency, why, "if it was taken out by mistake, put it back, and it catches up; otherwise "+blank+bay, command+target, m.Disk)
			return
		}
	case here.Serial == m.Disk.Serial:
		if m.Disk.Bay != "" {
			bay, target = "bay "+m.Disk.Bay, say.Quote(m.Disk.Bay)
		}
		p.add(urgency, why, "find it by its light", "nidalo locate "+p.argument(m), m.Disk)
		p.add(urgency, "the array does without it already", "take it out", "nidalo may-pull "+p.argument(m), m.Disk)
	default:
		p.unsuited(m, here, urgency)
	}
	p.add(urgency, why, blank+bay, command+target, m.Disk)
}

// unsuited says why the disk that is in the bay of a member cannot take its place as it is.
func (p *planner) unsuited(m Member, here *Disk, urgency Urgency) {
	name, word := here.Identity.String(), say.Argument(here.Identity)
	switch {
	case here.State == state.DiskBlank && p.claimed[here.Path]:
	case here.State == state.DiskBlank && here.Bad != "":
		p.add(urgency, here.Bad, "do not trust "+name+", which is in its bay, before it is vetted", "nidalo vet "+word, m.Disk)
	case here.State == state.DiskBlank && here.Size < m.Need:
		p.add(urgency, fmt.Sprintf("it has %s (%d bytes), and at least %s (%d bytes) are needed", say.Size(here.Size), here.Size, say.Size(m.Need), m.Need),
			"take "+name+" out of its bay again, because it is too small", "nidalo may-pull "+word, m.Disk)
	case here.State == state.DiskInUse && len(here.Held) == 0:
		why := name + ", which is in its bay, is not blank"
		if len(here.Holds) > 0 {
			why += ": it holds " + strings.Join(here.Holds, "; ")
		}
		p.add(urgency, why, "look at its contents, and erase it if they are not wanted any more", "nidalo inspect "+word, m.Disk)
	}
}

// replaceDisk is replace for a member on a partition: the disk is replaced with everything that arrays have on it.
func (p *planner) replaceDisk(m Member, urgency Urgency, why string) {
	whole, need := state.Physical(m.Disk.Serial), int64(4<<20) // for the partition tables
	for _, a := range p.Arrays {
		for _, o := range a.Members {
			if o.Spindle == m.Spindle {
				need += o.Need
			}
		}
	}
	best, known := p.instead[m.Spindle]
	for i, d := range p.Disks {
		if !known && d.State == state.DiskBlank && d.Bad == "" && d.OnDevice() && d.Part == 0 && !p.claimed[d.Path] && d.Size >= need && (best == nil || d.Size < best.Size) {
			best = &p.Disks[i]
		}
	}
	p.instead[m.Spindle] = best
	if best == nil {
		p.add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back; otherwise insert a blank disk of at least %s, which takes over everything that arrays had on %s", say.Size(need), whole),
			"nidalo replace "+say.Quote(whole)+" DISK", m.Disk)
		return
	}
	p.claimed[best.Path] = true
	p.add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back, and it catches up; otherwise put the blank disk %s in its place, with everything that arrays had on it", best.Identity),
		"nidalo replace "+say.Quote(whole)+" "+say.Argument(best.Identity), m.Disk)
}

// retire says how a member that still works is let go before it fails.
func (p *planner) retire(m Member) {
	why := "it works, but " + cmp.Or(m.Reason, fmt.Sprintf("had %s, all restored", say.Count(int64(m.Errors), "error", "errors")))
	if m.Reason == "" && m.Errors == 0 {
		why = "it works, but was found failing before this service began; nidalo history says why"
	}
	command := "nidalo retire " + p.array.Name + " " + p.argument(m)
	if fit := p.fit(m, ""); fit != nil {
		p.add(Soon, why, "copy it onto "+fit.Identity.String()+" and let it go; the margin does not drop", command+" "+say.Argument(fit.Identity), m.Disk)
		return
	}
	p.add(Soon, why, fmt.Sprintf("insert a blank disk of at least %s (%d bytes), then retire it", say.Size(m.Need), m.Need), command, m.Disk)
}

// spares says what is left to decide after a spare stepped in.
func (p *planner) spares() {
	for _, m := range p.array.Members {
		if m.StandsFor == "" || m.Condition != record.Active || p.spareFor(m) != nil {
			continue
		}
		why := fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", say.Short(m.Disk), m.StandsFor)
		need := m.Need
		if m.Part > 0 {
			whole := p.whole(m.Spindle)
			if whole == nil || p.claimed[m.Spindle] {
				continue
			}
			p.claimed[m.Spindle] = true
			why = fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", state.Physical(m.Disk.Serial), state.Physical(m.StandsFor))
			need = whole.Size
		} else if fit := p.fit(m, ""); fit != nil {
			p.add(Convenient, why, fmt.Sprintf("either make %s the new spare (nidalo spare %s), or let the array move onto it, which frees the old spare", fit.Identity, say.Argument(fit.Identity)),
				fmt.Sprintf("nidalo retire %s %s %s", p.array.Name, p.argument(m), say.Argument(fit.Identity)), m.Disk)
			continue
		}
		p.add(Convenient, why, fmt.Sprintf("insert a disk of at least %s and make it a spare", say.Size(need)), "nidalo spare DISK", m.Disk)
	}
}

// spareFor is the smallest spare that could take the place of a member; nil when there is none.
func (p *planner) spareFor(m Member) (best *Disk) {
	for i, d := range p.Disks {
		if d.servesArray(p.array.Name) && d.Size >= m.Need && !p.claimed[d.Path] && (best == nil || d.Size < best.Size) {
			best = &p.Disks[i]
		}
	}
	return best
}

// spare is spareFor, and takes it for the member.
func (p *planner) spare(m Member) *Disk {
	best := p.spareFor(m)
	if best != nil {
		p.claimed[best.Path] = true
	}
	return best
}

// leftovers says what to do with disks that no array has any more: those that failed, and those whose place another disk has. A disk that carries
// anything of an array which is not whole is left alone: a rescue may need it.
func (p *planner) leftovers() {
	p.array = nil
	for _, d := range p.Disks {
		if d.Part > 0 || p.isMember(d.Spindle) || slices.ContainsFunc(p.carried(d.Spindle), func(id string) bool { return !p.isWhole(id) }) {
			continue
		}
		word := say.Argument(d.Identity)
		switch {
		case d.Bad != "" && d.State == state.DiskSpare:
			p.add(Soon, "this spare does not step in: "+d.Bad, "make another disk the spare, and take this one out", "nidalo spare -release "+word, d.Identity)
		case d.Bad != "" && (d.State == state.DiskInUse || d.State == state.DiskBlank || d.State == state.DiskRetired) && len(d.Held) == 0:
			why := d.Bad
			if d.Told != "" {
				why += " (" + d.Told + ")"
			}
			p.add(Convenient, why, "take it out and send it back, or test it", "nidalo locate "+word, d.Identity)
		case d.State == state.DiskInUse && d.Carries != "" && len(d.Held) == 0:
			p.add(Convenient, "another disk has its place in the array, and it keeps its old contents until it is erased", "erase it to use it again, or take it out", "nidalo erase "+word, d.Identity)
		case d.State == state.DiskRetired:
			p.add(Convenient, "a copy took its place, and it keeps its old contents until it is erased", "erase it to use it again, or take it out", "nidalo erase "+word, d.Identity)
		}
	}
}

// isWhole says whether an array is in service with all of its members.
func (p *planner) isWhole(id string) bool {
	return slices.ContainsFunc(p.Arrays, func(a Array) bool {
		return a.ID == id && a.Failure == "" && !slices.ContainsFunc(a.Members, func(m Member) bool { return m.Condition.Lacks() })
	})
}

// isMember says whether a physical disk has a member of an array in service, whatever its condition.
func (p *planner) isMember(spindle string) bool {
	return slices.ContainsFunc(p.Arrays, func(a Array) bool {
		return slices.ContainsFunc(a.Members, func(m Member) bool {
			return m.Spindle == spindle || m.Onto != nil && m.Onto.Spindle == spindle
		})
	})
}

// whole is a physical disk of the host.
func (p *planner) whole(spindle string) *Disk {
	for i, d := range p.Disks {
		if d.Spindle == spindle && d.Part == 0 {
			return &p.Disks[i]
		}
	}
	return nil
}
