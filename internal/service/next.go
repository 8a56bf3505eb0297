package service

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

// Urgencies of steps.
const (
	Now        = "now"
	Soon       = "soon"
	Wait       = "wait"
	Convenient = "when convenient"
)

var urgencies = []string{Now, Soon, Wait, Convenient}

// checkEvery is how old a consistency check may get before another is advised.
const checkEvery = 35 * 24 * time.Hour

// Next is what the administrator should do, over all arrays, in order.
func (s *Service) Next() (*NextReply, error) {
	disks, err := s.Disks()
	if err != nil {
		return nil, err
	}
	out := &NextReply{Time: time.Now(), Steps: []NextStep{}, Again: time.Now().Add(checkEvery)}
	arrays := s.running()
	slices.SortStableFunc(arrays, func(x, y *running) int {
		mx, _ := x.Margin()
		my, _ := y.Margin()
		return cmp.Compare(mx, my)
	})
	used := map[string]bool{} // blank disks already spoken for by an earlier step
	attached := s.attachedDevices()
	for _, r := range arrays {
		r.Probe()
		out.Steps = append(out.Steps, deviceSteps(r.Name(), attached[r.ID().String()])...)
		out.Steps = append(out.Steps, s.stepsFor(r, disks, used)...)
		if c := r.LastCheck(); !c.Ended.IsZero() && c.Ended.Add(checkEvery).Before(out.Again) {
			out.Again = c.Ended.Add(checkEvery)
		}
	}
	for _, i := range s.idleArrays() {
		out.Steps = append(out.Steps, s.idleSteps(i)...)
	}
	slices.SortStableFunc(out.Steps, func(x, y NextStep) int {
		return cmp.Compare(slices.Index(urgencies, x.Urgency), slices.Index(urgencies, y.Urgency))
	})
	return out, nil
}

func (s *Service) idleSteps(i idle) (out []NextStep) {
	name := i.set.Newest.Name
	switch reason := i.reason; {
	case reason == errTakenOut:
		return []NextStep{{Array: name, Urgency: Convenient, Why: "it was taken out of service", Do: "start it when it is wanted again", Command: "nidalo start " + name}}
	case reason == errStranger:
		return []NextStep{{Array: name, Urgency: Convenient, Why: "its disks come from another host or home", Do: "start it here, if nobody uses it there", Command: "nidalo start " + name}}
	case errors.As(reason, &errWaits{}):
		return []NextStep{{Array: name, Urgency: Wait, Why: reason.Error(), Do: "put the missing disks in, or start it without them at once", Command: "nidalo start " + name}}
	default:
		for slot := range i.set.Newest.Roster {
			for _, t := range s.twinsOf(i.set.Newest.Array, slot) {
				out = append(out, NextStep{Array: name, Urgency: Now, Why: t.Error(), Do: "say which one is the member", Command: "nidalo choose " + t.example()})
			}
		}
		if len(out) > 0 {
			return out
		}
		return []NextStep{{Array: name, Urgency: Now, Why: reason.Error(), Do: "bring its missing disks back, in any bay, and start it", Command: "nidalo start " + name},
			{Array: name, Urgency: Convenient, Why: "members may never come back", Do: "see what can be read without them, copy it out, or bring back those that left before", Command: "nidalo rescue " + name}}
	}
}

// stepsFor follows the procedure for one array, as far as it can be foreseen.
func (s *Service) stepsFor(r *running, disks []DiskInfo, used map[string]bool) (out []NextStep) {
	name := r.Name()
	add := func(urgency, why, do, command string, id disk.Identity) {
		d := ""
		if id.Path != "" {
			d = id.String()
		}
		out = append(out, NextStep{name, urgency, why, do, command, d})
	}
	if err := r.Failure(); err != nil {
		add(Now, "it has failed: "+strings.TrimPrefix(err.Error(), array.ErrFailed.Error()+": "), "bring the lost members back, in any bay, and start it; what was flushed is on them", "nidalo start "+name, disk.Identity{})
		add(Convenient, "members may never come back", "see what can be read without them, copy it out, or bring back those that left before", "nidalo rescue "+name, disk.Identity{})
		return out
	}
	tasks := r.TaskStates()
	restoring := map[int]array.TaskState{}
	for _, t := range tasks {
		if t.Ended.IsZero() && (t.Kind == array.TaskRebuild || t.Kind == array.TaskCatchUp || t.Kind == array.TaskRetire) {
			restoring[t.Slot] = t
		}
	}
	margin, _ := r.Margin()
	redundant := r.Geometry().Redundant()
	if redundant && margin == 0 && r.Condition() == array.Exposed {
		add(Now, "no further loss is survived until redundancy is back", "back up what is not backed up yet", "", disk.Identity{})
	}
	for _, m := range r.MemberStates() {
		if t, ok := restoring[m.Slot]; ok {
			waitFor(t, name, m.Disk, add)
			continue
		}
		switch {
		case !redundant:
			if m.Condition == record.Failing {
				s.retireStep(r, m, disks, used, add)
			}
		case m.Condition == record.Failed || m.Condition == record.Missing:
			s.replaceSteps(r, m, disks, used, add)
		case m.Condition == record.Failing:
			s.retireStep(r, m, disks, used, add)
		}
	}
	s.spareSteps(r, disks, used, len(restoring) > 0, add)
	checkSteps(r, tasks, len(restoring) > 0 || len(out) > 0, add)
	return out
}

type adder func(urgency, why, do, command string, id disk.Identity)

func waitFor(t array.TaskState, name string, id disk.Identity, add adder) {
	what := "wait for the " + t.Kind
	switch t.State {
	case array.TaskPaused:
		add(Soon, fmt.Sprintf("the %s is paused at %.1f%%", t.Kind, t.Percent), "let it go on", "nidalo continue "+name, id)
		return
	case array.TaskWaiting:
		add(Wait, t.Waits, what, "nidalo watch", id)
		return
	}
	why := fmt.Sprintf("the %s is at %.1f%%", t.Kind, t.Percent)
	if t.Left >= 0 {
		why += ", ends " + EndTime(time.Now(), t.Left.Seconds(), t.Spread)
	}
	add(Wait, why, what, "nidalo watch", id)
}

// EndTime tells when something ends and how sure that is.
func EndTime(now time.Time, seconds, spread float64) string {
	end := now.Add(time.Duration(seconds * float64(time.Second)))
	layout := "15:04:05"
	switch {
	case seconds > 20*3600:
		layout = "Mon Jan 2 15:04"
	case seconds > 600:
		layout = "15:04"
	}
	text := "about " + end.Local().Format(layout)
	switch {
	case spread >= 1:
		return text + ", a first guess"
	case spread > 0.02:
		return text + fmt.Sprintf(" (±%.0f%%)", 100*spread)
	}
	return text
}

// word is how a command names a member: its bay, unless another disk is in there by now.
func word(m array.MemberState, disks []DiskInfo) string {
	if m.Disk.Bay != "" && slices.ContainsFunc(disks, func(d DiskInfo) bool { return d.Bay == m.Disk.Bay && d.Serial != "" && d.Serial != m.Disk.Serial }) {
		return fmt.Sprint(m.Slot)
	}
	if m.Disk.Bay == "" && m.Disk.Serial == "" && m.Disk.Path == "" {
		return fmt.Sprint(m.Slot)
	}
	return Argument(m.Disk)
}

func quoted(bay string) string {
	if bay == "" {
		return ""
	}
	return Quote(bay)
}

// inBay is what is in the bay a member was last seen in, or where the member's own disk is.
func inBay(m array.MemberState, disks []DiskInfo) *DiskInfo {
	for i, d := range disks {
		if m.Disk.Bay != "" && d.Bay == m.Disk.Bay || m.Disk.Bay == "" && d.Path == m.Disk.Path {
			return &disks[i]
		}
	}
	return nil
}

func (s *Service) replaceSteps(r *running, m array.MemberState, disks []DiskInfo, used map[string]bool, add adder) {
	name, need := r.Name(), r.NeedSize(m.Slot)
	why := fmt.Sprintf("it is %s since %s", m.Condition, m.Since.Local().Format("Jan 2 15:04"))
	if m.Reason != "" {
		why += ": " + strings.TrimPrefix(m.Reason, m.Disk.String()+": ")
	}
	urgency := Soon
	if margin, _ := r.Margin(); margin == 0 {
		urgency = Now
	}
	if twins := s.twinsOf(r.ID(), m.Slot); len(twins) > 0 {
		add(urgency, why+": "+twins[0].Error(), "say which one is the member: it is taken back then", "nidalo choose "+twins[0].example(), m.Disk)
		return
	}
	if partOf(m.Disk) {
		s.replaceDiskStep(m, urgency, why, disks, used, add)
		return
	}
	if fit := pick(disks, m, need, m.Disk.Bay, used); fit != nil {
		do := "put the blank disk " + fit.Identity.String() + " in its place; the rebuild begins at once"
		if m.CatchesUp {
			do = "if it was taken out by mistake, put it back, in any bay: it catches up; otherwise " + do
		}
		add(urgency, why, do, fmt.Sprintf("nidalo replace %s %s %s", name, word(m, disks), Argument(fit.Identity)), m.Disk)
		return
	}
	place := "a bay"
	if here := inBay(m, disks); here != nil && here.State != DiskEmpty && here.Serial == m.Disk.Serial {
		if m.Disk.Bay != "" {
			place = "bay " + m.Disk.Bay
		}
		add(urgency, why, "find it by its light", "nidalo locate "+word(m, disks), m.Disk)
		add(urgency, "nothing is lost by that", "take it out", "nidalo may-pull "+word(m, disks), m.Disk)
	} else if m.Disk.Bay != "" && here != nil && here.State == DiskEmpty {
		place = "bay " + m.Disk.Bay
		if m.CatchesUp {
			add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back: it catches up what it missed; otherwise insert a blank disk of at least %s into %s", FormatSize(need), place),
				fmt.Sprintf("nidalo replace %s %s %s", name, word(m, disks), Quote(m.Disk.Bay)), m.Disk)
			return
		}
	}
	add(urgency, why, fmt.Sprintf("insert a blank disk of at least %s (%d bytes) into %s", FormatSize(need), need, place),
		fmt.Sprintf("nidalo replace %s %s %s", name, word(m, disks), cmp.Or(quoted(m.Disk.Bay), "DISK")), m.Disk)
}

// replaceDiskStep is replaceSteps for a member that is a partition: the disk is replaced with everything that arrays have on it.
func (s *Service) replaceDiskStep(m array.MemberState, urgency, why string, disks []DiskInfo, used map[string]bool, add adder) {
	whole, need := record.Physical(m.Disk.Serial), int64(4*mib)
	for _, x := range s.membersAt(spindle(m.Disk)) {
		need += x.r.NeedSize(x.m.Slot)
	}
	var best *DiskInfo
	for i, d := range disks {
		if d.State == DiskBlank && d.Bad == "" && d.Hardware != nil && d.Hardware.Part == 0 && d.Size >= need && (best == nil || d.Size < best.Size) {
			best = &disks[i]
		}
	}
	if best == nil {
		add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back; otherwise insert a blank disk of at least %s: it takes over everything that arrays had on %s", FormatSize(need), whole),
			"nidalo replace "+Quote(whole)+" DISK", m.Disk)
		return
	}
	used[key(*best)] = true
	add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back: it catches up; otherwise put the blank disk %s in its place, with everything that arrays had on it", best.Identity),
		"nidalo replace "+Quote(whole)+" "+Argument(best.Identity), m.Disk)
}

const mib = 1 << 20

func (s *Service) retireStep(r *running, m array.MemberState, disks []DiskInfo, used map[string]bool, add adder) {
	name, need := r.Name(), r.NeedSize(m.Slot)
	why := "it works, but " + cmp.Or(m.Reason, fmt.Sprintf("had %d errors, all restored", m.Errors.Total()))
	if fit := pick(disks, m, need, "", used); fit != nil {
		add(Soon, why, "copy it onto "+fit.Identity.String()+" and let it go; the margin does not drop", fmt.Sprintf("nidalo retire %s %s %s", name, word(m, disks), Argument(fit.Identity)), m.Disk)
		return
	}
	add(Soon, why, fmt.Sprintf("insert a blank disk of at least %s (%d bytes), then retire it", FormatSize(need), need), fmt.Sprintf("nidalo retire %s %s", name, word(m, disks)), m.Disk)
}

// pick is bestFit for a member without the disks spoken for, and speaks for the one it returns.
func pick(disks []DiskInfo, m array.MemberState, need int64, bay string, used map[string]bool) *DiskInfo {
	var free []DiskInfo
	for _, d := range disks {
		if !used[key(d)] && d.Bad == "" {
			free = append(free, d)
		}
	}
	best := bestFit(free, need, bay, onDevice(m.Disk))
	if best != nil {
		used[key(*best)] = true
	}
	return best
}

// spareSteps: what a spare that stepped in leaves to decide.
func (s *Service) spareSteps(r *running, disks []DiskInfo, used map[string]bool, busy bool, add adder) {
	if busy {
		return
	}
	for _, m := range r.MemberStates() {
		s.mu.Lock()
		failed, took := s.mem.Took[r.Name()+"/"+cmp.Or(m.Disk.Serial, m.Disk.Path)]
		s.mu.Unlock()
		if !took || m.Condition != record.Active {
			continue
		}
		if partNumber(m.Disk) > 0 {
			of := spindle(m.Disk)
			if i := slices.IndexFunc(disks, func(d DiskInfo) bool { return spindle(d.Identity) == of && d.Hardware != nil && d.Hardware.Part == 0 }); i >= 0 && !used[of] {
				used[of] = true
				add(Convenient, fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", record.Physical(m.Disk.Serial), record.Physical(failed)),
					fmt.Sprintf("insert a disk of at least %s and make it a spare", FormatSize(disks[i].Size)), "nidalo spare DISK", m.Disk)
			}
			continue
		}
		if fit := pick(disks, m, r.NeedSize(m.Slot), "", used); fit != nil {
			add(Convenient, fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", shortName(m.Disk), failed),
				fmt.Sprintf("either make %s the new spare (nidalo spare %s), or let the array move onto it, which frees the old spare", fit.Identity, Argument(fit.Identity)),
				fmt.Sprintf("nidalo retire %s %s %s", r.Name(), word(m, disks), Argument(fit.Identity)), m.Disk)
		} else {
			add(Convenient, fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", shortName(m.Disk), failed),
				fmt.Sprintf("insert a disk of at least %s and make it a spare", FormatSize(r.NeedSize(m.Slot))), "nidalo spare DISK", m.Disk)
		}
	}
}

func checkSteps(r *running, tasks []array.TaskState, busy bool, add adder) {
	c, name := r.LastCheck(), r.Name()
	for _, t := range tasks {
		if t.Kind == array.TaskCheck && t.Ended.IsZero() {
			if !busy {
				waitFor(t, name, disk.Identity{}, add)
			}
			return
		}
	}
	if c.Kind == record.Check && !c.Ended.IsZero() && c.Unrepairable > 0 {
		add(Now, fmt.Sprintf("the last check found %d blocks beyond repair", c.Unrepairable), "restore the damaged files from a backup, then check again", "nidalo check -repair "+name, disk.Identity{})
		return
	}
	if c.Kind == record.Check && !c.Ended.IsZero() && c.Mismatches > c.Repaired {
		add(Soon, fmt.Sprintf("the last check found %d mismatches", c.Mismatches), "repair them", "nidalo check -repair "+name, disk.Identity{})
		return
	}
	if busy || r.Used() == 0 {
		return
	}
	var last time.Time // something changed that a check should confirm
	for _, m := range r.MemberStates() {
		if m.Since.After(last) && m.Since.Sub(r.Record().Created) > time.Second {
			last = m.Since
		}
	}
	switch {
	case !last.IsZero() && c.Ended.Before(last):
		add(Convenient, "its members changed on "+last.Local().Format("Jan 2 15:04")+" and it was not checked since", "check that all agrees", "nidalo check "+name, disk.Identity{})
	case c.Ended.IsZero() && time.Since(r.Record().Created) > checkEvery, !c.Ended.IsZero() && time.Since(c.Ended) > checkEvery:
		add(Convenient, "it was not checked for more than "+fmt.Sprint(int(checkEvery.Hours()/24))+" days", "check that all agrees", "nidalo check "+name, disk.Identity{})
	}
}

// nextFor is the steps of one array as lines, for alerts.
func (s *Service) nextFor(name string) []string {
	if name == "" {
		return nil
	}
	reply, err := s.Next()
	if err != nil {
		return nil
	}
	var out []string
	for _, st := range reply.Steps {
		if st.Array == name {
			out = append(out, strings.TrimSpace(st.Do+"   "+st.Command))
		}
	}
	return out
}
