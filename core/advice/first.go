package advice

import (
	"fmt"
	"slices"

	"nidalo/core/say"
	"nidalo/core/state"
)

// first says how to begin on a host without arrays.
func (p *planner) first() {
	p.array = nil
	var blank []string
	lab := slices.ContainsFunc(p.Disks, func(d Disk) bool { return d.Lab && d.State == state.DiskBlank })
	for _, d := range p.Disks {
		if d.State == state.DiskBlank && d.Lab == lab {
			blank = append(blank, say.Argument(d.Identity))
		}
	}
	why := "there are no arrays yet, and no disk is blank"
	if len(blank) > 0 {
		why = "there are no arrays yet, and " + say.Count(len(blank), "disk is blank", "disks are blank")
	}
	switch {
	case len(blank) >= 2:
		level := "1"
		if len(blank) >= 4 {
			level = "6"
		}
		p.add(Convenient, why, "compare the levels for the blank disks", "nidalo plan "+say.Arguments(blank), noDisk)
		p.add(Convenient, "the command shows its plan and asks before it writes", "make an array of the blank disks", fmt.Sprintf("nidalo create -name NAME -level %s %s", level, say.Arguments(blank)), noDisk)
	case len(p.Disks) == 0:
		p.add(Convenient, "there are no arrays and no disks here", "make a simulated enclosure to try things with", "nidalo lab new", noDisk)
		p.add(Convenient, "disks are also taken by their paths", "make an array of blank disks", "nidalo create -name NAME -level 6 /dev/DISK...", noDisk)
	default:
		p.add(Convenient, why, "see what each disk holds", "nidalo disks", noDisk)
	}
}

// home says what to do when the service cannot write what it remembers.
func (p *planner) home() {
	h := p.Home
	if h == nil {
		return
	}
	p.array = nil
	why := fmt.Sprintf("nothing can be written there: %s. That began %s; arrays go on", h.Why, say.Moment(p.Now, h.Since))
	if h.Notes {
		why += "; what was changed meanwhile is forgotten if the service ends before"
	}
	if h.Events > 0 {
		why += fmt.Sprintf("; %s not in the history yet", say.Count(h.Events, "event is", "events are"))
	}
	if h.Lost > 0 {
		why += fmt.Sprintf(", and %d never will be", h.Lost)
	}
	p.add(Soon, why, "make room for the home of the service, "+h.Path+", or mend its file system: writing goes on by itself", "", noDisk)
}
