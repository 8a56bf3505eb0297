package service

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/remote"
	"nidalo/internal/service/attach"
)

// Arrays that are made, or could be.

// Create makes an array of blank disks.
func (s *Service) Create(req control.CreateRequest) (*control.ArrayStatus, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if err := record.CheckName(req.Name); err != nil {
		return nil, &control.Error{What: err.Error()}
	}
	if s.nameTaken(req.Name) {
		return nil, &control.Error{What: fmt.Sprintf("there is an array %q already", req.Name)}
	}
	if req.Strip == 0 {
		req.Strip = layout.DefaultStrip
	}
	if err := fitsLevel(req); err != nil {
		return nil, err
	}
	if err := fitsSpinDown(req); err != nil {
		return nil, err
	}
	disks, err := s.takeForCreate(req)
	if err != nil {
		return nil, err
	}
	a, out, err := s.createOn(disks, req)
	if a == nil {
		for _, d := range disks {
			_ = d.Close()
		}
		return out, err
	}
	far := slices.ContainsFunc(disks, func(d disk.Disk) bool { return remote.Is(d.Identity().Path) || s.attachedElsewhere(d.Identity()) })
	if s.owning != nil && far {
		if err := s.share(a); err != nil {
			return nil, err
		}
	} else {
		s.begin(a)
	}
	s.seen.Expire()
	for _, d := range disks {
		s.noSpare(d.Identity())
	}
	kind := "level " + req.Level
	if layout.Level(req.Level) == layout.Guarded {
		kind = "guarded set"
	}
	s.event(event.Event{Kind: event.ArrayCreated, Array: a.Name(), Detail: fmt.Sprintf("%s of %d members, %s", kind, len(disks), say.Size(a.Capacity()))})
	r := s.arrayNamed(a.Name())
	if r == nil {
		return nil, &control.Error{What: fmt.Sprintf("array %q was created, and is not in service any more", a.Name())}
	}
	status := s.describe(r)
	return &status, nil
}

// fitsLevel looks at the level's own demands before any disk is looked at: they are the cheaper to put right.
func fitsLevel(req control.CreateRequest) error {
	if layout.Level(req.Level) == layout.Guarded {
		return fitsGuarded(req)
	}
	sizes := make([]int64, len(req.Disks))
	for i := range sizes {
		sizes[i] = 1 << 40
	}
	if len(sizes) > 0 {
		if _, err := layout.New(layout.Level(req.Level), req.Strip, req.Groups, sizes); err != nil {
			return &control.Error{What: err.Error()}
		}
	}
	return nil
}

// createOn makes the array of disks that are open, which belong to it then. Of a dry run it only says what it would be.
func (s *Service) createOn(disks []disk.Disk, req control.CreateRequest) (*array.Array, *control.ArrayStatus, error) {
	for _, d := range disks {
		if why := s.doubt(d); why != "" && !req.AlthoughBad {
			return nil, nil, badDisk(d.Identity(), why)
		}
		if err := s.mayShare(req.Name, d.Identity()); err != nil {
			return nil, nil, err
		}
	}
	plan := array.Plan{Name: req.Name, Level: layout.Level(req.Level), Strip: req.Strip, Groups: req.Groups, Disks: s.arranged(disks, req), Volumes: req.Volumes, SpinDown: req.SpinDown}
	disks = plan.Disks
	lay, _, err := plan.Layout()
	if err != nil {
		return nil, nil, &control.Error{What: err.Error()}
	}
	if req.DryRun {
		return nil, s.wouldBe(req, lay, disks), nil
	}
	for _, d := range disks {
		if id := d.Identity(); id.Bay == "" {
			if err := s.seen.Remember(id.Path); err != nil {
				return nil, nil, err
			}
		}
	}
	var a *array.Array
	err = quietly(disks, func() (err error) {
		cfg := s.engine()
		cfg.Agree = nil // nobody else knows of it yet
		a, err = array.Create(plan, cfg)
		return err
	})
	if errors.Is(err, disk.ErrFull) {
		return nil, nil, &control.Error{What: err.Error(), Hints: []string{"make space there, then erase the disks and create the array again"}}
	}
	return a, nil, err
}

// arranged puts disks of like sizes into groups together, where that gives more room than the order in which they were named, and disks of
// several hosts so that each group has as few of one host as can be.
func (s *Service) arranged(disks []disk.Disk, req control.CreateRequest) []disk.Disk {
	sizes := make([]int64, len(disks))
	for i, d := range disks {
		sizes[i] = d.Size()
	}
	order := plan.Arrange(layout.Level(req.Level), req.Strip, req.Groups, sizes)
	if hosts := s.hostsOfDisks(disks); len(slices.Compact(slices.Sorted(slices.Values(hosts)))) > 1 && layout.Level(req.Level) != layout.Guarded {
		order = plan.Spread(layout.Level(req.Level), req.Strip, req.Groups, sizes, hosts)
	}
	return layout.Ordered(disks, order)
}

// hostsOfDisks names the host of each disk.
func (s *Service) hostsOfDisks(disks []disk.Disk) []string {
	out := make([]string, len(disks))
	for i, d := range disks {
		out[i] = cmp.Or(d.Identity().Host, s.hostName())
	}
	return out
}

// hostsOf names the host of each member, by slot.
func (s *Service) hostsOf(members []array.MemberState) []string {
	out := make([]string, len(members))
	for i, m := range members {
		out[i] = cmp.Or(m.Disk.Host, s.hostName())
	}
	return out
}

// spreads says at which levels some disks survive the loss of any one of their hosts, and what of the capacity that costs.
func spreads(level string, strip, capacity int64, disks []disk.Disk, hosts []string) (out []string) {
	sizes := make([]int64, len(disks))
	for i, d := range disks {
		sizes[i] = d.Size()
	}
	for _, o := range plan.Outlasts(strip, sizes, hosts) {
		if string(o.Level) == level || len(out) == 2 {
			continue
		}
		than := say.Size(o.Capacity) + " usable"
		if less := capacity - o.Capacity; less > 0 {
			than += ", " + say.Size(less) + " less"
		}
		out = append(out, fmt.Sprintf("-level %s survives the loss of any one host, with %s", o.Level, than))
	}
	return out
}

// wouldBe is what an array that could be created is.
func (s *Service) wouldBe(req control.CreateRequest, lay *layout.Map, disks []disk.Disk) *control.ArrayStatus {
	out := &control.ArrayStatus{Name: req.Name, Level: req.Level, Capacity: lay.Capacity(), Strip: req.Strip, Groups: lay.Shape.Groups}
	names := make([]state.Identity, len(disks))
	for i, d := range disks {
		id := d.Identity()
		names[i] = id
		if text, _ := s.vettingOf(id.Name()); text == "" {
			out.NotVetted = append(out.NotVetted, say.Short(id))
		}
		out.Members = append(out.Members, control.MemberStatus{Slot: i, Bay: id.Bay, Model: id.Model, Serial: id.Serial, Path: id.Path, Size: d.Size()})
	}
	out.Unused = unusedOf(lay, disks)
	if out.Volumes = volumesThen(lay, req.Volumes, names); len(out.Volumes) == 0 {
		out.Layers = plan.Layers(lay)
	}
	out.Margin, out.MarginBest = lay.MarginOfDisks(state.Spindles(names), func(int) bool { return false })
	for _, slots := range sharing(names) {
		var of []string
		for _, slot := range slots {
			of = append(of, say.Short(names[slot]))
		}
		slices.Sort(of)
		out.Shared = append(out.Shared, fmt.Sprintf("%s are on one disk, and are lost together", say.List(of)))
	}
	slices.Sort(out.Shared)
	out.Together = filesTogether(names)
	hosts := s.hostsOfDisks(disks)
	if out.Hosts = layout.WithoutHosts(lay, hosts, func(int) bool { return false }); slices.ContainsFunc(out.Hosts, func(l layout.HostLoss) bool { return !l.Survived }) {
		out.Spread = spreads(req.Level, req.Strip, out.Capacity, disks, hosts)
	}
	return out
}

// unusedOf is how much of each disk an array has no use for; nil: they are all used as far as strips go.
func unusedOf(lay *layout.Map, disks []disk.Disk) []int64 {
	sizes := make([]int64, len(disks))
	for i, d := range disks {
		if p, err := record.PlaceFor(d.Size(), 0); err == nil {
			sizes[i] = p.DataSize
		}
	}
	out := plan.Unused(lay, sizes)
	if slices.Max(out) == 0 {
		return nil
	}
	return out
}

// filesTogether names files that lie in one file system, and so on one disk, as far as that can be told from here; empty: there are none. Those
// of a lab play disks, and do not count.
func filesTogether(of []state.Identity) string {
	byFileSystem := map[string][]string{}
	for _, id := range of {
		if id.On != "" && id.Bay == "" {
			byFileSystem[id.On] = append(byFileSystem[id.On], say.Short(id))
		}
	}
	var out []string
	for _, names := range byFileSystem {
		slices.Sort(names)
		switch {
		case len(names) < 2:
		case len(names) == len(of):
			out = append(out, say.List(names)+" are files of one file system: they are lost together with its disk, whatever the margin says")
		default:
			out = append(out, say.List(names)+" are files of one file system: they are lost together with its disk, and count as one")
		}
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

// begin puts an array that was just created into service.
func (s *Service) begin(a *array.Array) {
	r := newRunning(a)
	r.since = attach.Begin(a.ID().String(), a.Record().Starts) // it has been nowhere else
	s.mu.Lock()
	s.arrays[a.Name()] = r
	s.mu.Unlock()
	s.own(a.ID().String(), a.Name())
}

// arrayNamed is the array in service with a name.
func (s *Service) arrayNamed(name string) *running {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.arrays[name]
}

// takeForCreate opens the disks of a new array, or with Use the partitions that it makes for it. A dry run opens and writes nothing.
func (s *Service) takeForCreate(req control.CreateRequest) ([]disk.Disk, error) {
	if req.Use == 0 {
		return s.takeBlank(req.Disks, req.DryRun)
	}
	list, err := s.carvings(req.Disks, req.Use, req.Name)
	if err != nil {
		return nil, err
	}
	var planned []disk.Disk
	for i, c := range list {
		for _, other := range list[:i] {
			if other.info.Path == c.info.Path {
				return nil, &control.Error{What: fmt.Sprintf("disk %s is listed twice", c.info.Identity)}
			}
		}
		planned = append(planned, seen{control.DiskInfo{Identity: c.identity(), Size: c.part.Length}})
	}
	if req.DryRun {
		return planned, nil
	}
	// What the level asks for comes before anything is written.
	plan := array.Plan{Name: req.Name, Level: layout.Level(req.Level), Strip: req.Strip, Groups: req.Groups, Disks: planned}
	if _, _, err := plan.Layout(); err != nil {
		return nil, &control.Error{What: err.Error()}
	}
	paths, err := s.carve(list)
	if err != nil {
		return nil, err
	}
	return s.takeBlank(paths, false)
}
