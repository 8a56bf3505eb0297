package service

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/nbd"
	"nidalo/internal/service/attach"
)

// Guarded sets as clients see them: each volume by itself.

// namedVolume is a volume of a guarded set, with the name that it has there.
type namedVolume struct {
	name string
	layout.Volume
}

// volumes are those of a guarded set, by slot; nil for all other arrays.
func (r *running) volumes() (out []namedVolume) {
	lay := r.Layout() // first: the record is never behind it, and slots do not go
	rec := r.Record()
	for _, v := range lay.Volumes() {
		out = append(out, namedVolume{rec.Roster[v.Slot].Volume, v})
	}
	return out
}

// volumeNamed is the slot of a volume; -1 for an array that has none, when no name is given. ok is false when there is no such volume.
func (r *running) volumeNamed(name string) (slot int, ok bool) {
	all := r.volumes()
	if name == "" {
		return -1, len(all) == 0
	}
	i := slices.IndexFunc(all, func(v namedVolume) bool { return v.name == name })
	if i < 0 {
		return -1, false
	}
	return all[i].Slot, true
}

// ofVolume is a volume of a guarded set as the block protocol sees it: a part of the logical space of the set.
type ofVolume struct {
	export
	slot int
}

// hold keeps the set from growing, which moves volumes in the logical space of the set, until release is called.
func (v ofVolume) hold() (release func()) {
	v.to.growing.RLock()
	return v.to.growing.RUnlock
}

func (v ofVolume) volume() layout.Volume {
	out, _ := v.a.Layout().Volume(v.slot)
	return out
}

func (v ofVolume) Size() int64 { return v.volume().Size }

// at is where bytes of the volume lie in the logical space of the set.
func (v ofVolume) at(off, n int64) (int64, error) {
	if of := v.volume(); off >= 0 && n >= 0 && off <= of.Size && n <= of.Size-off {
		return of.Start + off, nil
	}
	return 0, fmt.Errorf("%d bytes at offset %d of a volume of %d: %w", n, off, v.volume().Size, layout.ErrRange)
}

func (v ofVolume) Read(p []byte, off int64) ([]nbd.Hole, error) {
	defer v.hold()()
	at, err := v.at(off, int64(len(p)))
	if err != nil {
		return nil, err
	}
	holes, err := v.export.Read(p, at)
	for i := range holes {
		holes[i].Offset -= at - off
	}
	return holes, err
}

func (v ofVolume) Write(p []byte, off int64) error {
	defer v.hold()()
	at, err := v.at(off, int64(len(p)))
	if err != nil {
		return err
	}
	return v.export.Write(p, at)
}

// Receive leaves the data to Write: a client may take as long as it likes, and would keep the set from growing.
func (v ofVolume) Receive(int64, int64, func([]byte) error) error { return nbd.ErrNotTaken }

func (v ofVolume) FlushRange(off, length int64) error {
	defer v.hold()()
	at, err := v.at(off, length)
	if err != nil {
		return err
	}
	return v.export.FlushRange(at, length)
}

func (v ofVolume) Zero(off, length int64) error {
	defer v.hold()()
	at, err := v.at(off, length)
	if err != nil {
		return err
	}
	return v.export.Zero(at, length)
}

func (v ofVolume) Extents(off, n int64, limit int) ([]nbd.Extent, error) {
	defer v.hold()()
	at, err := v.at(off, n)
	if err != nil {
		return nil, err
	}
	return v.export.Extents(at, n, limit)
}

// growNow takes up the room of larger disks.
func (r *running) growNow() error {
	r.served.growing.Lock()
	defer r.served.growing.Unlock()
	_, err := r.Grow()
	return err
}

// addVolumes adds data disks to a guarded set, or says what that would mean.
func (s *Service) addVolumes(r *running, req control.ChangeRequest) (*control.ChangeReply, error) {
	switch {
	case req.Parity && len(req.Disks) != 1:
		return nil, &control.Error{What: "parity disks are added one at a time"}
	case req.Parity:
	case len(req.Volumes) != len(req.Disks):
		return nil, &control.Error{What: fmt.Sprintf("%d names for %d disks", len(req.Volumes), len(req.Disks)), Hints: []string{"nidalo grow " + say.Quote(r.Name()) + " VOLUME=DISK …", "nidalo grow -parity " + say.Quote(r.Name()) + " DISK   adds a parity disk"}}
	}
	disks, err := s.takeBlank(req.Disks, req.DryRun)
	if err != nil {
		return nil, err
	}
	out, err := s.addToSet(r, req, disks)
	if err != nil || req.DryRun {
		for _, d := range disks {
			_ = d.Close()
		}
	}
	return out, err
}

// addToSet is addVolumes with disks that are open, which belong to the set afterwards.
func (s *Service) addToSet(r *running, req control.ChangeRequest, disks []disk.Disk) (*control.ChangeReply, error) {
	for _, d := range disks {
		if why := s.doubt(d); why != "" && !req.AlthoughBad {
			return nil, badDisk(d.Identity(), why)
		}
	}
	if err := r.Alone(); err != nil {
		return nil, person(err)
	}
	out, err := setThen(r, req, disks)
	if err != nil || req.DryRun {
		return out, person(err)
	}
	out.Stays = s.opt.Stays
	for _, d := range disks {
		if id := d.Identity(); id.Bay == "" {
			if err := s.seen.Remember(id.Path); err != nil {
				return nil, err
			}
		}
	}
	err = quietly(disks, func() error {
		r.served.growing.Lock()
		defer r.served.growing.Unlock()
		if req.Parity {
			return r.AddParity(disks[0])
		}
		return r.AddVolumes(req.Volumes, disks)
	})
	if err != nil {
		return nil, person(err)
	}
	for _, d := range disks {
		s.noSpare(d.Identity())
	}
	return out, nil
}

// setThen is what a set is with some more disks.
func setThen(r *running, req control.ChangeRequest, disks []disk.Disk) (*control.ChangeReply, error) {
	out := &control.ChangeReply{Array: r.Name(), Before: layoutOf(r), Then: layoutOf(r), Parity: req.Parity}
	out.Then.Members += len(disks)
	sizes := make([]int64, len(disks))
	for i, d := range disks {
		sizes[i] = d.Size()
		out.Disks = append(out.Disks, d.Identity())
	}
	if req.Parity {
		out.Then.Margin++
		return out, r.PlanParity(sizes[0])
	}
	v, err := r.PlanVolumes(req.Volumes, sizes)
	out.Then.Capacity = v.After
	for i, size := range v.Sizes {
		out.Volumes = append(out.Volumes, control.VolumeStatus{Name: req.Volumes[i], Slot: out.Before.Members + i, Size: size})
	}
	return out, err
}

// volumesOf says how the volumes of a guarded set are.
func (s *Service) volumesOf(r *running) (out []control.VolumeStatus) {
	volumes := r.volumes()
	members, failed, attached := r.MemberStates(), r.Failure() != nil, s.devices.Devices() // after those, see volumes
	for _, v := range volumes {
		vs := control.VolumeStatus{Name: v.name, Slot: v.Slot, Size: v.Size}
		if !failed {
			vs.Used, vs.AtMost = min(r.WrittenIn(v.Slot), v.Size), !members[v.Slot].Condition.Counts()
		}
		if s.opt.Stays {
			vs.Export = s.exportURI(r.Name() + "/" + v.name)
		}
		if d := attached[attachID(r, v.Slot)]; d != nil {
			vs.Device = d
		}
		if vs.From = comesFrom(members, v.Slot, failed); failed {
			vs.Unreadable = v.Size
		}
		s.mu.Lock()
		if s.leaves(r, v.Slot) {
			vs.From += "; it is being given up"
		}
		s.mu.Unlock()
		if told := tells(r, v.Slot); !failed && !members[v.Slot].Condition.Counts() && told < v.Size {
			vs.From, vs.Unreadable = "nothing: too many disks are lost", v.Size-told
			if told > 0 {
				vs.From = fmt.Sprintf("parity and the other disks, %s of it", say.Size(told))
			}
		}
		out = append(out, vs)
	}
	return out
}

// comesFrom says what the contents of a volume are read from.
func comesFrom(members []array.MemberState, slot int, failed bool) string {
	switch m := members[slot]; {
	case failed:
		return "nowhere: the set has failed"
	case m.Condition == record.Rebuilding:
		return "its disk, as far as that is rebuilt, and parity"
	case m.Condition.Counts():
		return "its disk " + say.Short(m.Disk)
	}
	return "parity and the other disks"
}

// readableVolume is a volume that is attached, as others see it: they may read it.
type readableVolume struct{ ofVolume }

// ReadOnly marks it.
func (readableVolume) ReadOnly() {}

// attachID is the identity under which a volume is attached, or with slot -1 an array.
func attachID(r *running, slot int) string {
	if slot < 0 {
		return r.ID().String()
	}
	return volumeID(r.ID(), slot)
}

func volumeID(array uuid.UUID, slot int) string {
	return uuid.NewSHA1(array, fmt.Appendf(nil, "volume %d", slot)).String()
}

// attachable is what a device can be made of.
type attachable struct {
	attach.Array
	slot int // of the volume; -1: it is an array
}

// attachables are the array, or its volumes.
func (r *running) attachables() (out []attachable) {
	for _, v := range r.volumes() {
		out = append(out, attachable{attach.Array{ID: attachID(r, v.Slot), Of: r.ID().String(), Name: r.Name() + "/" + v.name, Capacity: v.Size}, v.Slot})
	}
	if len(out) == 0 {
		out = append(out, attachable{attach.Array{ID: r.ID().String(), Of: r.ID().String(), Name: r.Name(), Capacity: r.Capacity()}, -1})
	}
	return out
}

// attachable finds what a name means that is to be a device.
func (s *Service) attachable(name string) (r *running, a attachable, err error) {
	of, volume, _ := strings.Cut(name, "/")
	if r, err = s.find(of); err != nil {
		return nil, a, err
	}
	all := r.attachables()
	if i := slices.IndexFunc(all, func(a attachable) bool { return a.slot < 0 && volume == "" || a.Name == r.Name()+"/"+volume }); i >= 0 {
		return r, all[i], nil
	}
	e := &control.Error{What: fmt.Sprintf("array %q has no volume %q", r.Name(), volume)}
	if volume == "" {
		e.What = fmt.Sprintf("array %q is a guarded set, of which each volume is attached by itself", r.Name())
	}
	for _, a := range all {
		if a.slot >= 0 {
			e.Hints = append(e.Hints, "nidalo attach "+say.Quote(a.Name))
		}
	}
	return nil, a, e
}

// fitsGuarded looks at what a guarded set asks for before any disk is looked at.
func fitsGuarded(req control.CreateRequest) error {
	n := len(req.Disks) - len(req.Volumes)
	switch {
	case req.Groups != 0 || req.Use != 0:
		return &control.Error{What: "a guarded set has no groups, and takes whole disks"}
	case len(req.Volumes) == 0:
		return &control.Error{What: "a guarded set needs a data disk", Hints: []string{"nidalo create -name NAME -level guarded -parity DISK VOLUME=DISK …"}}
	case n < 1 || n > 3:
		return &control.Error{What: fmt.Sprintf("a guarded set has one to three parity disks; %d given", n), Hints: []string{"nidalo plan -level guarded   shows which should be"}}
	}
	return nil
}

// volumesThen are those of a set that could be created.
func volumesThen(lay *layout.Map, names []string, disks []state.Identity) (out []control.VolumeStatus) {
	for _, v := range lay.Volumes() {
		out = append(out, control.VolumeStatus{Name: names[v.Slot], Slot: v.Slot, Size: v.Size, From: "its disk " + say.Short(disks[v.Slot])})
	}
	return out
}
