package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/partition"
	"nidalo/internal/service/disks"
)

// A disk that carries members of several arrays is replaced as a whole: the new disk gets a partition table like the old one's, and
// then every array is repaired, the most endangered first, as one task.

// swap is a request, of a person or of the service itself.
type swap struct {
	control.DiskRequest
	spare bool // it was not asked for: what failed is rebuilt, and what still works is copied
}

// ReplaceDisk replaces or retires a whole disk.
func (s *Service) ReplaceDisk(asked control.DiskRequest) (*control.DiskReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	req := swap{DiskRequest: asked}
	whole, err := s.spindleNamed(req.Old)
	if err != nil {
		return nil, err
	}
	on := s.membersAt(whole)
	if len(on) == 0 {
		return nil, &control.Error{What: fmt.Sprintf("no array in service has a member on %s", req.Old), Hints: []string{"nidalo status   lists arrays and their members"}}
	}
	src, err := s.seen.Locate(req.New)
	if err != nil {
		return nil, err
	}
	info := s.lookAt(src)
	if info.State != state.DiskBlank && info.State != state.DiskSpare {
		if info.State == state.DiskReadOnly {
			return nil, &control.Error{What: fmt.Sprintf("disk %s is read-only: nothing can be written to it", info.Identity)}
		}
		return nil, notBlank(info)
	}
	if why := s.doubtAt(src, info.Identity); why != "" && !req.AlthoughBad {
		return nil, badDisk(info.Identity, why)
	}
	out := &control.DiskReply{Old: whole, New: info, Parts: []control.PartOfDisk{}, Others: []string{}, Stays: s.opt.Stays}
	for _, x := range on {
		out.Parts = append(out.Parts, control.PartOfDisk{Array: x.r.Name(), Slot: x.m.Slot, Part: partNumber(x.m.Disk), Need: x.r.NeedSize(x.m.Slot)})
		switch works := x.m.Condition.Counts(); {
		case req.Retire && !works:
			return nil, &control.Error{What: fmt.Sprintf("the member of array %q on it is %s: there is nothing to copy from", x.r.Name(), x.m.Condition), Hints: []string{"nidalo replace " + say.Quote(req.Old) + " " + say.Quote(req.New) + "   rebuilds it from the others"}}
		case !req.Retire && !x.r.Layout().Redundant():
			return nil, &control.Error{What: fmt.Sprintf("array %q has no redundancy: what is on %s cannot be rebuilt", x.r.Name(), x.m.Disk), Hints: []string{"while it can be read: nidalo retire -whole " + say.Quote(req.Old) + " " + say.Quote(req.New)}}
		case !req.Retire && works && x.r.WouldFail(x.m.Slot):
			return nil, &control.Error{What: fmt.Sprintf("%s still works and array %q has no margin: taking it out would put the data out of reach", x.m.Disk, x.r.Name())}
		case !req.Retire && works && !req.Force && !req.DryRun:
			return nil, &control.Error{Fatal: true, What: fmt.Sprintf("%s still works in array %q: replacing it lowers the margin until the rebuild is done", x.m.Disk, x.r.Name()), Hints: []string{
				"-yes does it", "nidalo retire -whole " + say.Quote(req.Old) + " " + say.Quote(req.New) + "   copies it first, and the margin does not drop"}}
		}
	}
	if len(on) == 1 && out.Parts[0].Part == 0 {
		return s.replaceOnly(req, on[0], info, out)
	}
	return s.replaceParts(req, on, info, out)
}

// memberOn is a member on a disk.
type memberOn struct {
	r *running
	m array.MemberState
}

// membersAt lists the members on a physical disk, those of the most endangered array first.
func (s *Service) membersAt(whole string) (out []memberOn) {
	for _, r := range s.running() {
		if r.Failure() != nil {
			continue
		}
		for _, m := range r.MemberStates() {
			if (m.Disk.Serial != "" || m.Disk.Path != "") && spindle(m.Disk) == whole {
				out = append(out, memberOn{r, m})
			}
		}
	}
	slices.SortStableFunc(out, func(x, y memberOn) int {
		mx, _ := x.r.Margin()
		my, _ := y.r.Margin()
		return mx - my
	})
	return out
}

// spindleNamed is the physical disk that a word means: one that is there, or one that an array remembers.
func (s *Service) spindleNamed(word string) (string, error) {
	src, err := s.seen.Locate(word)
	there := ""
	if err == nil {
		if there = spindle(s.lookAt(src).Identity); len(s.membersAt(there)) > 0 {
			return there, nil
		}
	}
	// Its bay may be empty or hold another disk by now.
	found := map[string]bool{}
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			if word != "" && (state.Physical(m.Disk.Serial) == word || m.Disk.Serial == word || m.Disk.Bay == word) {
				found[spindle(m.Disk)] = true
			}
		}
	}
	for name := range found {
		if len(found) == 1 {
			return name, nil
		}
	}
	if len(found) > 1 {
		return "", &control.Error{What: fmt.Sprintf("%q means more than one disk", word), Hints: []string{"name it by its serial"}}
	}
	return there, err
}

// partNumber is the number of the partition that a member is on, 0 for a whole disk.
func partNumber(i state.Identity) (n int) {
	if rest, ok := strings.CutPrefix(i.Serial, state.Physical(i.Serial)+state.PartMark); ok {
		_, _ = fmt.Sscanf(rest, "%d", &n)
	}
	return n
}

// replaceOnly is the case of a disk that is one member as a whole.
func (s *Service) replaceOnly(req swap, x memberOn, info control.DiskInfo, out *control.DiskReply) (*control.DiskReply, error) {
	if info.Size < out.Parts[0].Need {
		return nil, tooSmall(info, out.Parts[0].Need, x.m)
	}
	if !req.Retire {
		if _, err := s.beyond(x.r, x.m.Slot, control.ReplaceRequest{New: req.New}); err != nil {
			return nil, err
		}
	}
	if req.DryRun {
		return out, nil
	}
	put := x.r.Replace
	if req.Retire {
		put = x.r.Retire
	}
	if _, err := s.putIn(info.Name(), req.AlthoughBad, x.m, out.Parts[0].Need, func(d disk.Disk) error { return put(x.m.Slot, d) }); err != nil {
		return nil, err
	}
	s.noteSwap(req, info, out, map[string]int{x.r.ID().String(): x.m.Slot})
	return out, nil
}

func tooSmall(info control.DiskInfo, need int64, m array.MemberState) error {
	return &control.Error{What: fmt.Sprintf("disk %s has %s (%d bytes); the place of %s needs at least %s (%d bytes)", info.Identity, say.Size(info.Size), info.Size, m.Disk, say.Size(need), need)}
}

// replaceParts writes a table like the old disk's and puts every partition of an array into its place.
func (s *Service) replaceParts(req swap, on []memberOn, info control.DiskInfo, out *control.DiskReply) (*control.DiskReply, error) {
	if info.Hardware == nil || info.Hardware.Part > 0 {
		return nil, &control.Error{What: fmt.Sprintf("disk %s: the old disk has partitions, and only a whole real disk can get the same", info.Identity)}
	}
	from, like, numbers, err := s.template(req, on)
	if err != nil {
		return nil, err
	}
	out.Like = like.Identity.String()
	table, err := from.For(info.Size, info.Hardware.Sector, req.Grow)
	if err != nil {
		return nil, &control.Error{What: fmt.Sprintf("the partition table of %s does not fit on %s: %v", like.Identity, info.Identity, err)}
	}
	taken := map[int]bool{}
	for i := range on {
		number := numbers[i]
		out.Parts[i].Part, taken[number] = number, true
		at := slices.IndexFunc(table.Parts, func(p partition.Part) bool { return p.Number == number })
		if at < 0 || table.Parts[at].Length < out.Parts[i].Need {
			return nil, &control.Error{What: fmt.Sprintf("partition %d would be too small for array %q, which needs %s", number, on[i].r.Name(), say.Size(out.Parts[i].Need))}
		}
	}
	var others []partition.Part
	for _, p := range table.Parts {
		if !taken[p.Number] {
			others = append(others, p)
			out.Others = append(out.Others, fmt.Sprintf("%s, %s, is not part of any array", p, say.Size(p.Length)))
		}
	}
	if req.CopyOthers && len(others) > 0 {
		if err := s.mayCopy(like, from, others, info); err != nil {
			return nil, err
		}
		out.Notes = append(out.Notes, "file systems in the copied partitions now have the same identifiers twice: take the old disk out before the next start",
			"the firmware's own entry for booting from the new disk is missing: make one if the host is to boot from it")
	} else if len(others) > 0 {
		out.Notes = append(out.Notes, "partitions that no array has stay empty on the new disk; -copy-others copies them from "+say.Short(like.Identity))
	}
	if req.DryRun {
		return out, nil
	}
	if err := s.writeTable(info, nil, table); err != nil {
		return nil, err
	}
	var paths []string
	for _, p := range table.Parts {
		paths = append(paths, partPath(info.Path, p.Number))
	}
	if err := s.awaitNodes(paths); err != nil {
		return nil, err
	}
	if req.CopyOthers {
		for _, p := range others {
			if err := copyPart(partPath(like.Path, p.Number), partPath(info.Path, p.Number)); err != nil {
				return nil, &control.Error{What: fmt.Sprintf("%s could not be copied: %v", p, err)}
			}
		}
	}
	return out, s.putAll(req, on, info, out)
}

// putAll puts the partitions in their places and remembers that they belong together.
func (s *Service) putAll(req swap, on []memberOn, info control.DiskInfo, out *control.DiskReply) error {
	parts := map[string]int{}
	for i, x := range on {
		put := x.r.Replace
		switch {
		case req.Retire || req.spare && x.m.Condition.Counts():
			put = x.r.Retire
		case req.spare:
			put = x.r.StandIn
		}
		path := partPath(info.Path, out.Parts[i].Part)
		if _, err := s.putIn(path, true, x.m, out.Parts[i].Need, func(d disk.Disk) error { return put(x.m.Slot, d) }); err != nil {
			return &control.Error{What: fmt.Sprintf("array %q: %v", x.r.Name(), err), Hints: []string{fmt.Sprintf("nidalo replace %s %d %s   tries it again", x.r.Name(), x.m.Slot, path)}}
		}
		parts[x.r.ID().String()] = x.m.Slot
	}
	s.noteSwap(req, info, out, parts)
	return nil
}

func (s *Service) awaitNodes(paths []string) error {
	for began := time.Now(); time.Since(began) < nodesFor; time.Sleep(50 * time.Millisecond) {
		if !slices.ContainsFunc(paths, func(p string) bool { return !disks.IsDevice(p) }) {
			return s.seen.Look(true)
		}
	}
	return &control.Error{What: "the new partitions do not appear: " + strings.Join(paths, ", ")}
}

// numbersOn lists the numbers of the partitions that the arrays of some members have on another disk; nil when one of them has none.
func numbersOn(whole string, on []memberOn) (out []int) {
	for _, x := range on {
		at := -1
		for _, m := range x.r.MemberStates() {
			if spindle(m.Disk) == whole && partNumber(m.Disk) > 0 {
				at = partNumber(m.Disk)
			}
		}
		if at < 0 {
			return nil
		}
		out = append(out, at)
	}
	return out
}

// template is the table that the new disk gets, the disk that it is read from, and for each member the number of its partition.
func (s *Service) template(req swap, on []memberOn) (*partition.Table, control.DiskInfo, []int, error) {
	disks, err := s.Disks()
	if err != nil {
		return nil, control.DiskInfo{}, nil, err
	}
	wanted := ""
	if req.Like != "" {
		if wanted, err = s.spindleNamed(req.Like); err != nil {
			return nil, control.DiskInfo{}, nil, err
		}
	}
	old := spindle(on[0].m.Disk)
	// The old disk itself first, where it can be read.
	isOld := func(d control.DiskInfo) bool { return spindle(d.Identity) == old }
	disks = append(slices.DeleteFunc(slices.Clone(disks), func(d control.DiskInfo) bool { return !isOld(d) }), slices.DeleteFunc(disks, isOld)...)
	for _, d := range disks {
		if d.Hardware == nil || d.Hardware.Part > 0 || len(d.Hardware.Parts) == 0 || wanted != "" && spindle(d.Identity) != wanted {
			continue
		}
		numbers := numbersOn(spindle(d.Identity), on)
		if numbers == nil {
			continue
		}
		h, err := disk.OpenReadOnly(d.Path)
		if err != nil {
			continue
		}
		t, err := partition.Read(h, d.Hardware.Sector)
		_ = h.Close()
		if err == nil {
			return t, d, numbers, nil
		}
		if wanted != "" {
			return nil, d, nil, person(err)
		}
	}
	return nil, control.DiskInfo{}, nil, &control.Error{What: "the new disk can get no partition table: the old disk cannot be read, and no other disk has members of all these arrays",
		Hints: []string{"-like DISK   names one that has"}}
}
