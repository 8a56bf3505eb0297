package disks

import (
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/health"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/lab"
	"nidalo/internal/survey"
)

// examine reads what a disk holds.
func (s *Survey) examine(src Source, mark string) Found {
	f := Found{Mark: mark, at: time.Now(), Info: control.DiskInfo{Identity: state.Identity{Path: src.Path, Bay: src.Bay}, Lab: src.Bay != ""}}
	at, far := src.Far()
	if far {
		f.Info.Identity, f.Info.Held = s.host.Far.Identity(at), s.host.Far.Users(at)
	}
	h := s.Devices(false)
	device, known := s.deviceAt(h, src.Path)
	if known {
		f.Info.Identity, f.Info.Size, f.Info.Hardware = disk.Surveyed(device), device.Size, about(h, device)
	}
	if !far {
		f.Info.Held = disk.Holders(src.Path)
	}
	d, err := s.Peek(src)
	if len(device.Parts) > 0 {
		// What has a partition of it keeps all of it; which partition that is, the partition says.
		f.Info.State, f.Info.Holds = state.DiskInUse, append([]string{say.Count(len(device.Parts), "partition", "partitions")}, f.Info.Held...)
		if err == nil {
			f.Info.Health = HealthWord(patient(d).Health())
			_ = d.Close()
		}
		return f
	}
	if err != nil {
		f.closed(err)
		return f
	}
	defer d.Close()
	f.Info.Identity, f.Info.Size = d.Identity(), d.Size()
	if to := s.host.Lent(f.Info.Identity); to != "" && !far {
		// What it carries is for the other host to say.
		f.Info.State, f.Info.Held = state.DiskInUse, []string{"lent to " + to}
		f.Info.Holds = f.Info.Held
		return f
	}
	if s.host.Serves(f.Info.Identity) {
		f.Info.State = state.DiskInUse
		return f
	}
	if a, ok := d.(interface{ Asleep() bool }); ok && a.Asleep() {
		// What was seen of it last still holds: a device that another program writes to is awake.
		if old, same := s.At(src); same && old.Mark == mark && old.Info.State != state.DiskBroken {
			old.at, old.Info.Health = time.Now(), "asleep"
			return old
		}
	}
	f.read(patient(d), device)
	return f
}

func patient(d disk.Disk) *disk.Patient {
	return disk.NewPatient(d, disk.Patience{Read: Patience, Hung: Patience}, func() bool { return true })
}

// closed notes that a disk cannot be opened.
func (f *Found) closed(err error) {
	why := ""
	f.Info.Holds = nil
	if f.Info.State, why = Unreadable(err); why != "" {
		f.Info.Holds = []string{why}
	}
	if f.Info.State == state.DiskClosed && len(f.Info.Held) > 0 {
		f.Info.State, f.Info.Holds = state.DiskInUse, f.Info.Held
	}
	f.starved = starving(err)
	if errors.Is(err, lab.ErrEmpty) {
		f.Info.State, f.Info.Holds = state.DiskEmpty, nil
	}
}

// read notes what a disk holds that no array in service has.
func (f *Found) read(p *disk.Patient, device survey.Device) {
	c, err := disk.Look(p)
	if err == nil && device.Whole() {
		f.Info.Health = HealthWord(p.Health())
	}
	info := &f.Info
	switch {
	case errors.Is(err, disk.ErrHung):
		f.hung = true
		info.State, info.Holds = state.DiskBroken, []string{fmt.Sprintf("it does not answer: nothing came back for %s", Patience)}
	case err != nil:
		info.State, info.Holds = state.DiskBroken, []string{err.Error()}
	case c.Record != nil:
		info.State, f.Record = state.DiskInUse, c.Record
	case c.Damaged != nil:
		info.State, info.Holds = state.DiskInUse, []string{"a member record that cannot be read: " + c.Damaged.Error()}
	case !c.Blank():
		info.State, info.Holds = state.DiskInUse, c.Findings
	case len(info.Held) > 0:
		info.State = state.DiskInUse
	case device.ReadOnly:
		info.State, info.Holds = state.DiskReadOnly, []string{"nothing"}
	default:
		info.State = state.DiskBlank
	}
	if device.Zones != "" {
		if info.State == state.DiskBlank {
			info.State, info.Holds = state.DiskInUse, []string{"nothing"}
		}
		info.Holds = append(info.Holds, InOrder(device.Zones))
	}
	if f.Record == nil {
		info.Holds = append(info.Holds, info.Held...)
	}
}

// InOrder says why a zoned disk cannot be used.
func InOrder(zones string) string { return "it takes writes in order only (" + zones + " zones)" }

// Unreadable is the state of a disk that could not be opened, and why in words.
func Unreadable(err error) (is state.DiskState, why string) {
	if errors.Is(err, unix.EACCES) || errors.Is(err, unix.EPERM) {
		return state.DiskClosed, "this user may not read it"
	}
	return state.DiskBroken, state.Printable(err.Error())
}

// HealthWord is how a disk is by what it says of itself, in a word; empty when it was not asked or says nothing.
func HealthWord(r health.Readings, err error) string {
	switch {
	case errors.Is(err, disk.ErrAsleep):
		return "asleep"
	case err != nil:
		return ""
	}
	return WordFor(health.Judge(r, r, health.DefaultRules))
}

// WordFor is a verdict in a word.
func WordFor(v health.Verdict) string {
	if v.Grade == health.Fine && v.Hot {
		return "hot"
	}
	return string(v.Grade)
}

// about says what the system knows of a device without asking it.
func about(h survey.Host, d survey.Device) *control.Hardware {
	hw := &control.Hardware{Name: d.Name, Bus: d.Bus, Address: state.Printable(d.Address), Sector: d.Sector, ReadOnly: d.ReadOnly, WWN: state.Printable(d.WWN),
		Part: d.Part, Disk: d.Disk, Zones: d.Zones, File: state.Printable(d.File)}
	if d.Bus != "mapped" && d.Bus != "virtio" && d.Bus != "loop" {
		hw.Rotating = &d.Rotating
	}
	for _, twin := range h.Twins(d) {
		if twin.Name != d.Name {
			hw.Paths = append(hw.Paths, twin.Path)
		}
	}
	for _, p := range d.Parts {
		hw.Parts = append(hw.Parts, filepath.Join("/dev", p))
	}
	return hw
}
