package service

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

var urgencies = []string{control.Now, control.Soon, control.Wait, control.Convenient}

// checkEvery is how old a consistency check may get before another is advised.
const checkEvery = 35 * 24 * time.Hour

// Next is what the administrator should do, over all arrays, in order.
func (s *Service) Next() (*control.NextReply, error) {
	disks, err := s.Disks()
	if err != nil {
		return nil, err
	}
	out := &control.NextReply{Time: s.opt.Now(), Steps: []control.NextStep{}, Again: s.opt.Now().Add(checkEvery)}
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
	slices.SortStableFunc(out.Steps, func(x, y control.NextStep) int {
		return cmp.Compare(slices.Index(urgencies, x.Urgency), slices.Index(urgencies, y.Urgency))
	})
	return out, nil
}

func (s *Service) idleSteps(i idle) (out []control.NextStep) {
	name := i.set.Newest.Name
	switch reason := i.reason; {
	case reason == errTakenOut:
		return []control.NextStep{{Array: name, Urgency: control.Convenient, Why: "it was taken out of service", Do: "start it when it is wanted again", Command: "nidalo start " + name}}
	case reason == errStranger:
		return []control.NextStep{{Array: name, Urgency: control.Convenient, Why: "its disks come from another host or home", Do: "start it here, if nobody uses it there", Command: "nidalo start " + name}}
	case errors.As(reason, &errWaits{}):
		return []control.NextStep{{Array: name, Urgency: control.Wait, Why: reason.Error(), Do: "put the missing disks in, or start it without them at once", Command: "nidalo start " + name}}
	default:
		for slot := range i.set.Newest.Roster {
			for _, t := range s.twinsOf(i.set.Newest.Array, slot) {
				out = append(out, control.NextStep{Array: name, Urgency: control.Now, Why: t.Error(), Do: "say which one is the member", Command: "nidalo choose " + t.example()})
			}
		}
		if len(out) > 0 {
			return out
		}
		return []control.NextStep{{Array: name, Urgency: control.Now, Why: reason.Error(), Do: "bring its missing disks back, in any bay, and start it", Command: "nidalo start " + name},
			{Array: name, Urgency: control.Convenient, Why: "members may never come back", Do: "see what can be read without them, copy it out, or bring back those that left before", Command: "nidalo rescue " + name}}
	}
}

// stepsFor follows the procedure for one array, as far as it can be foreseen.
func (s *Service) stepsFor(r *running, disks []control.DiskInfo, used map[string]bool) (out []control.NextStep) {
	name := r.Name()
	add := func(urgency, why, do, command string, id disk.Identity) {
		d := ""
		if id.Path != "" {
			d = id.String()
		}
		out = append(out, control.NextStep{Array: name, Urgency: urgency, Why: why, Do: do, Command: command, Disk: d})
	}
	if err := r.Failure(); err != nil {
		add(control.Now, "it has failed: "+strings.TrimPrefix(err.Error(), array.ErrFailed.Error()+": "), "bring the lost members back, in any bay, and start it; what was flushed is on them", "nidalo start "+name, disk.Identity{})
		add(control.Convenient, "members may never come back", "see what can be read without them, copy it out, or bring back those that left before", "nidalo rescue "+name, disk.Identity{})
		return out
	}
	tasks := r.TaskStates()
	restoring := map[int]task.State{}
	for _, t := range tasks {
		if t.Ended.IsZero() && (t.Kind == state.TaskRebuild || t.Kind == state.TaskCatchUp || t.Kind == state.TaskRetire) {
			restoring[t.Slot] = t
		}
	}
	margin, _ := r.Margin()
	redundant := r.Layout().Redundant()
	if redundant && margin == 0 && r.Condition() == state.Exposed {
		add(control.Now, "no further loss is survived until redundancy is back", "back up what is not backed up yet", "", disk.Identity{})
	}
	for _, m := range r.MemberStates() {
		if t, ok := restoring[m.Slot]; ok {
			waitFor(t, name, m.Disk, s.opt.Now(), add)
			continue
		}
		if why := s.foretold(r, m); why != "" {
			m.Condition, m.Reason = record.Failing, why
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
	checkSteps(r, tasks, len(restoring) > 0 || len(out) > 0, s.opt.Now(), add)
	return out
}

type adder func(urgency, why, do, command string, id disk.Identity)

func waitFor(t task.State, name string, id disk.Identity, now time.Time, add adder) {
	what := fmt.Sprintf("wait for the %s", t.Kind)
	switch t.State {
	case state.TaskPaused:
		add(control.Soon, fmt.Sprintf("the %s is paused at %.1f%%", t.Kind, t.Percent), "let it go on", "nidalo continue "+name, id)
		return
	case state.TaskWaiting:
		add(control.Wait, t.Waits, what, "nidalo watch", id)
		return
	}
	why := fmt.Sprintf("the %s is at %.1f%%", t.Kind, t.Percent)
	if t.Left >= 0 {
		why += ", ends " + control.EndTime(now, t.Left.Seconds(), t.Spread)
	}
	add(control.Wait, why, what, "nidalo watch", id)
}

// word is how a command names a member: its bay, unless another disk is in there by now.
func word(m array.MemberState, disks []control.DiskInfo) string {
	if m.Disk.Bay != "" && slices.ContainsFunc(disks, func(d control.DiskInfo) bool {
		return d.Bay == m.Disk.Bay && d.Serial != "" && d.Serial != m.Disk.Serial
	}) {
		return fmt.Sprint(m.Slot)
	}
	if m.Disk.Bay == "" && m.Disk.Serial == "" && m.Disk.Path == "" {
		return fmt.Sprint(m.Slot)
	}
	return control.Argument(m.Disk)
}

func quoted(bay string) string {
	if bay == "" {
		return ""
	}
	return control.Quote(bay)
}

// inBay is what is in the bay a member was last seen in, or where the member's own disk is.
func inBay(m array.MemberState, disks []control.DiskInfo) *control.DiskInfo {
	for i, d := range disks {
		if m.Disk.Bay != "" && d.Bay == m.Disk.Bay || m.Disk.Bay == "" && d.Path == m.Disk.Path {
			return &disks[i]
		}
	}
	return nil
}

func (s *Service) replaceSteps(r *running, m array.MemberState, disks []control.DiskInfo, used map[string]bool, add adder) {
	name, need := r.Name(), r.NeedSize(m.Slot)
	why := fmt.Sprintf("it is %s since %s", m.Condition, m.Since.Local().Format("Jan 2 15:04"))
	if m.Reason != "" {
		reason := strings.TrimPrefix(m.Reason, m.Disk.String()+": ")
		if more, ok := strings.CutPrefix(reason, disk.ErrGone.Error()+": "); ok {
			reason = more
		}
		why += ": " + reason
	}
	urgency := control.Soon
	if margin, _ := r.Margin(); margin == 0 {
		urgency = control.Now
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
		add(urgency, why, do, fmt.Sprintf("nidalo replace %s %s %s", name, word(m, disks), control.Argument(fit.Identity)), m.Disk)
		return
	}
	place := "a bay"
	if here := inBay(m, disks); here != nil && here.State != control.DiskEmpty && here.Serial == m.Disk.Serial {
		if m.Disk.Bay != "" {
			place = "bay " + m.Disk.Bay
		}
		add(urgency, why, "find it by its light", "nidalo locate "+word(m, disks), m.Disk)
		add(urgency, "nothing is lost by that", "take it out", "nidalo may-pull "+word(m, disks), m.Disk)
	} else if m.Disk.Bay != "" && here != nil && here.State == control.DiskEmpty {
		place = "bay " + m.Disk.Bay
		if m.CatchesUp {
			add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back: it catches up what it missed; otherwise insert a blank disk of at least %s into %s", control.FormatSize(need), place),
				fmt.Sprintf("nidalo replace %s %s %s", name, word(m, disks), control.Quote(m.Disk.Bay)), m.Disk)
			return
		}
	}
	add(urgency, why, fmt.Sprintf("insert a blank disk of at least %s (%d bytes) into %s", control.FormatSize(need), need, place),
		fmt.Sprintf("nidalo replace %s %s %s", name, word(m, disks), cmp.Or(quoted(m.Disk.Bay), "DISK")), m.Disk)
}

// replaceDiskStep is replaceSteps for a member that is a partition: the disk is replaced with everything that arrays have on it.
func (s *Service) replaceDiskStep(m array.MemberState, urgency, why string, disks []control.DiskInfo, used map[string]bool, add adder) {
	whole, need := record.Physical(m.Disk.Serial), int64(4*mib)
	for _, x := range s.membersAt(spindle(m.Disk)) {
		need += x.r.NeedSize(x.m.Slot)
	}
	var best *control.DiskInfo
	for i, d := range disks {
		if d.State == control.DiskBlank && d.Bad == "" && d.Hardware != nil && d.Hardware.Part == 0 && d.Size >= need && (best == nil || d.Size < best.Size) {
			best = &disks[i]
		}
	}
	if best == nil {
		add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back; otherwise insert a blank disk of at least %s: it takes over everything that arrays had on %s", control.FormatSize(need), whole),
			"nidalo replace "+control.Quote(whole)+" DISK", m.Disk)
		return
	}
	used[key(*best)] = true
	add(urgency, why, fmt.Sprintf("if it was taken out by mistake, put it back: it catches up; otherwise put the blank disk %s in its place, with everything that arrays had on it", best.Identity),
		"nidalo replace "+control.Quote(whole)+" "+control.Argument(best.Identity), m.Disk)
}

const mib = 1 << 20

func (s *Service) retireStep(r *running, m array.MemberState, disks []control.DiskInfo, used map[string]bool, add adder) {
	name, need := r.Name(), r.NeedSize(m.Slot)
	why := "it works, but " + cmp.Or(m.Reason, fmt.Sprintf("had %d errors, all restored", m.Errors.Total()))
	if fit := pick(disks, m, need, "", used); fit != nil {
		add(control.Soon, why, "copy it onto "+fit.Identity.String()+" and let it go; the margin does not drop", fmt.Sprintf("nidalo retire %s %s %s", name, word(m, disks), control.Argument(fit.Identity)), m.Disk)
		return
	}
	add(control.Soon, why, fmt.Sprintf("insert a blank disk of at least %s (%d bytes), then retire it", control.FormatSize(need), need), fmt.Sprintf("nidalo retire %s %s", name, word(m, disks)), m.Disk)
}

// pick is bestFit for a member without the disks spoken for, and speaks for the one it returns.
func pick(disks []control.DiskInfo, m array.MemberState, need int64, bay string, used map[string]bool) *control.DiskInfo {
	var free []control.DiskInfo
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
func (s *Service) spareSteps(r *running, disks []control.DiskInfo, used map[string]bool, busy bool, add adder) {
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
			if i := slices.IndexFunc(disks, func(d control.DiskInfo) bool {
				return spindle(d.Identity) == of && d.Hardware != nil && d.Hardware.Part == 0
			}); i >= 0 && !used[of] {
				used[of] = true
				add(control.Convenient, fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", record.Physical(m.Disk.Serial), record.Physical(failed)),
					fmt.Sprintf("insert a disk of at least %s and make it a spare", control.FormatSize(disks[i].Size)), "nidalo spare DISK", m.Disk)
			}
			continue
		}
		if fit := pick(disks, m, r.NeedSize(m.Slot), "", used); fit != nil {
			add(control.Convenient, fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", shortName(m.Disk), failed),
				fmt.Sprintf("either make %s the new spare (nidalo spare %s), or let the array move onto it, which frees the old spare", fit.Identity, control.Argument(fit.Identity)),
				fmt.Sprintf("nidalo retire %s %s %s", r.Name(), word(m, disks), control.Argument(fit.Identity)), m.Disk)
		} else {
			add(control.Convenient, fmt.Sprintf("the spare %s stands in for %s, and no spare is left for the next failure", shortName(m.Disk), failed),
				fmt.Sprintf("insert a disk of at least %s and make it a spare", control.FormatSize(r.NeedSize(m.Slot))), "nidalo spare DISK", m.Disk)
		}
	}
}

func checkSteps(r *running, tasks []task.State, busy bool, now time.Time, add adder) {
	c, name := r.LastCheck(), r.Name()
	for _, t := range tasks {
		if t.Kind == state.TaskCheck && t.Ended.IsZero() {
			if !busy {
				waitFor(t, name, disk.Identity{}, now, add)
			}
			return
		}
	}
	if c.Kind == record.Check && !c.Ended.IsZero() && c.Unrepairable > 0 {
		add(control.Now, fmt.Sprintf("the last check found %d blocks beyond repair", c.Unrepairable), "restore the damaged files from a backup, then check again", "nidalo check -repair "+name, disk.Identity{})
		return
	}
	if c.Kind == record.Check && !c.Ended.IsZero() && c.Mismatches > c.Repaired {
		add(control.Soon, fmt.Sprintf("the last check found %d mismatches", c.Mismatches), "repair them", "nidalo check -repair "+name, disk.Identity{})
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
		add(control.Convenient, "its members changed on "+last.Local().Format("Jan 2 15:04")+" and it was not checked since", "check that all agrees", "nidalo check "+name, disk.Identity{})
	case c.Ended.IsZero() && now.Sub(r.Record().Created) > checkEvery, !c.Ended.IsZero() && now.Sub(c.Ended) > checkEvery:
		add(control.Convenient, "it was not checked for more than "+fmt.Sprint(int(checkEvery.Hours()/24))+" days", "check that all agrees", "nidalo check "+name, disk.Identity{})
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
