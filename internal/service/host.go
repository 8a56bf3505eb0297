package service

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/keeper"
	"nidalo/internal/survey"
)

// The disks of the host are what the kernel says there is, at this moment; no path of a device is ever remembered. The kernel
// tells when devices come and go, and everything is looked up once a minute besides, and whenever somebody asks.

// host is the block devices that the kernel had when it was asked last.
type host struct {
	mu      sync.Mutex
	devices survey.Host
	at      time.Time
	changed atomic.Bool // since then
}

// hostEvery is how soon the devices are looked up again although the kernel told of no change.
const hostEvery = time.Minute

// devices are the block devices of this host, looked up now when fresh is set or something changed.
func (s *Service) devices(fresh bool) survey.Host {
	if s.opt.NoHost || s.config().HostDisks != nil && !*s.config().HostDisks {
		return nil
	}
	s.host.mu.Lock()
	defer s.host.mu.Unlock()
	every := hostEvery
	if s.opt.Stays && s.events == nil { // nobody tells
		every = lookEvery
	}
	if told := s.host.changed.Swap(false); fresh || told || time.Since(s.host.at) > every {
		now, err := survey.Look()
		if err != nil {
			s.opt.Log.Debug("the block devices of this host cannot be listed", "reason", err)
			now = survey.Host{}
		}
		s.host.devices, s.host.at = now, time.Now()
	}
	return s.host.devices
}

// watchHost notes the kernel's events and has lookLoop look at once.
func (s *Service) watchHost() {
	for {
		select {
		case <-s.done:
			return
		case <-s.events:
			s.host.changed.Store(true)
			s.wake()
		}
	}
}

// hostSources are the devices to look at: of several paths to one disk the one to use.
func (s *Service) hostSources(h survey.Host) (out []source) {
	for _, d := range h.Sorted() {
		if keeper.OwnName(d.Name) != "" || d.Disk != "" && keeper.OwnName(d.Disk) != "" {
			continue // an array of ours, attached: to look at it is to ask ourselves
		}
		if s.used(h, d).Name == d.Name {
			out = append(out, source{path: d.Path})
		}
	}
	return out
}

// used is the path to a disk that is in use, or else the one to use.
func (s *Service) used(h survey.Host, d survey.Device) survey.Device {
	twins := h.Twins(d)
	if len(twins) > 1 {
		for _, t := range twins {
			if s.inService(disk.Surveyed(t)) {
				return t
			}
		}
	}
	return twins[0]
}

// deviceAt is the device that a path leads to, under whatever name.
func (s *Service) deviceAt(h survey.Host, path string) (survey.Device, bool) {
	var st unix.Stat_t
	if path == "" || len(h) == 0 || unix.Stat(path, &st) != nil || st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return survey.Device{}, false
	}
	d, ok := h.ByNumber(fmt.Sprintf("%d:%d", unix.Major(uint64(st.Rdev)), unix.Minor(uint64(st.Rdev))))
	if ok {
		d = s.used(h, d)
	}
	return d, ok
}

// onDevice says whether something is on a real disk, there or not.
func onDevice(i state.Identity) bool { return strings.HasPrefix(i.Path, "/dev/") }

// isDevice says whether a path leads to a block device.
func isDevice(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode()&os.ModeDevice != 0 && info.Mode()&os.ModeCharDevice == 0
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

// spindle names the whole disk that something is on: by its serial where it has one, since a path may mean another disk by now.
func spindle(i state.Identity) string {
	return cmp.Or(state.SpindleOf(i.Model, i.Serial), spindleOfPath(i.Path))
}

// sharing lists the other members of the same physical disk among some identities, by index.
func sharing(of []state.Identity) map[string][]int {
	out := map[string][]int{}
	for i, id := range of {
		if id.Serial != "" || id.Path != "" {
			out[spindle(id)] = append(out[spindle(id)], i)
		}
	}
	for k, list := range out {
		if len(list) < 2 {
			delete(out, k)
		}
	}
	return out
}

// unreadable is the state of a disk that could not be opened, and why in words.
func unreadable(err error) (is state.DiskState, why string) {
	switch {
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
		return state.DiskClosed, "this user may not read it"
	}
	return state.DiskBroken, state.Printable(err.Error())
}

// spindleOfPath names the whole disk behind a path: partitions of one disk share it, and loop devices their file.
func spindleOfPath(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return path
	}
	if !strings.HasPrefix(real, "/dev/") {
		return real
	}
	// /sys/class/block/loop0p1 is a link to …/loop0/loop0p1, which has a file "partition".
	node, err := filepath.EvalSymlinks("/sys/class/block/" + filepath.Base(real))
	if err != nil {
		return real
	}
	if _, err := os.Stat(filepath.Join(node, "partition")); err == nil {
		node = filepath.Dir(node)
	}
	if backing, err := os.ReadFile(filepath.Join(node, "loop/backing_file")); err == nil {
		return strings.TrimSpace(string(backing)) // two loop devices on one file are one disk
	}
	return "/dev/" + filepath.Base(node)
}
