package disks

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/keeper"
	"nidalo/internal/remote"
	"nidalo/internal/survey"
	"nidalo/internal/wholefile"
)

// The disks of the host are what the kernel says there is, at this moment; no path of a device is ever remembered. The kernel
// tells when devices come and go, and everything is looked up once a minute besides, and whenever it is asked for.

// devicesEvery is how soon the devices are looked up again although the kernel told of no change.
const devicesEvery = time.Minute

// Sources lists the lab's bays, then the disks of the host, then the files of the configuration and of the list, what the patterns
// of the configuration match now, and what other hosts lend. The devices are looked up anew when that is asked.
func (s *Survey) Sources(anew bool) ([]Source, error) {
	out, far, err := s.here(anew)
	if err != nil {
		return nil, err
	}
	servers := s.host.Hosts()
	for _, server := range servers { // all are asked at the same time
		s.host.Far.At(server)
	}
	for _, server := range servers {
		for _, at := range s.host.Far.At(server).Disks() {
			far = append(far, Source{Path: at.String()})
		}
	}
	for _, src := range far {
		if !slices.Contains(out, src) {
			out = append(out, src)
		}
	}
	return out, nil
}

// here are the sources of this host alone, and those of others that the configuration or the list name.
func (s *Survey) here(anew bool) (out, far []Source, err error) {
	if s.host.Lab.Exists() {
		bays, err := s.host.Lab.Bays()
		if err != nil {
			return nil, nil, err
		}
		for _, b := range bays {
			out = append(out, Source{Bay: b})
		}
	}
	devices := s.Devices(anew)
	out = append(out, s.ofHost(devices)...)
	paths, patterns := s.host.Paths()
	remembered, err := s.remembered()
	if err != nil {
		return nil, nil, err
	}
	paths = append(slices.Clone(paths), remembered...)
	for _, pattern := range patterns {
		found, err := filepath.Glob(pattern)
		if err != nil {
			return nil, nil, fmt.Errorf("%q is not a valid pattern", pattern)
		}
		paths = append(paths, found...)
	}
	for _, p := range paths {
		if remote.Is(p) {
			far = append(far, Source{Path: p})
			continue
		}
		src := Source{Path: filepath.Clean(p)}
		if d, ok := s.deviceAt(devices, p); ok {
			src.Path = d.Path
		}
		if !slices.Contains(out, src) && there(src.Path) {
			out = append(out, src)
		}
	}
	return out, far, nil
}

func there(path string) bool {
	_, err := os.Stat(path)
	return err == nil || !errors.Is(err, os.ErrNotExist)
}

// remembered is what the list holds: an absolute path a line, as it is, or the address of a disk that another host lends.
func (s *Survey) remembered() (out []string, err error) {
	buf, err := os.ReadFile(s.host.List)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	for n, line := range strings.Split(string(buf), "\n") {
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if _, far := (Source{Path: line}).Far(); !far && !filepath.IsAbs(line) {
			return nil, fmt.Errorf("%s, line %d: %q is not an absolute path", s.host.List, n+1, line)
		}
		out = append(out, line)
	}
	return out, nil
}

// Remember adds the path of a file to the list, so that it is found again. Devices are found by themselves.
func (s *Survey) Remember(path string) error {
	if IsDevice(path) && s.host.Devices() {
		return nil
	}
	if strings.ContainsAny(path, "\n\r") {
		return &control.Error{What: fmt.Sprintf("disk %s: a path with a line break in it cannot be remembered", say.Quote(path))}
	}
	known, err := s.remembered()
	if err != nil || slices.Contains(known, path) {
		return err
	}
	buf, err := os.ReadFile(s.host.List)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if len(buf) == 0 {
		buf = []byte("# Disks that Nidalo looks at: one absolute path a line.\n")
	}
	if err := wholefile.Write(s.host.List, append(buf, path+"\n"...)); err != nil {
		return &control.Error{What: fmt.Sprintf("disk %s cannot be added to the list of disks to look at: %v", say.Quote(path), err), Hints: []string{"give the command again when that is mended"}}
	}
	return nil
}

// IsDevice says whether a path leads to a block device.
func IsDevice(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode()&os.ModeDevice != 0 && info.Mode()&os.ModeCharDevice == 0
}

// Watch has the kernel's events noted, and calls wake for each, until done is closed. It begins to listen before it returns, so that
// nothing that comes after a look that follows it is missed; run waits for the events.
func (s *Survey) Watch(done <-chan struct{}, wake func()) (run func()) {
	if s.devices.events = survey.Watch(done); s.devices.events == nil {
		return func() {}
	}
	return func() {
		for {
			select {
			case <-done:
				return
			case <-s.devices.events:
				s.devices.changed.Store(true)
				wake()
			}
		}
	}
}

// Devices are the block devices of this host, looked up now when that is asked or something changed.
func (s *Survey) Devices(anew bool) survey.Host {
	if !s.host.Devices() {
		return nil
	}
	d := &s.devices
	d.mu.Lock()
	defer d.mu.Unlock()
	every := devicesEvery
	if s.host.Stays && d.events == nil { // nothing tells of changes
		every = Every
	}
	if told := d.changed.Swap(false); anew || told || time.Since(d.at) > every {
		now, err := survey.Look()
		if err != nil {
			s.host.Log.Debug("the block devices of this host cannot be listed", "reason", err)
			now = survey.Host{}
		}
		d.host, d.at = now, time.Now()
	}
	return d.host
}

// ofHost are the devices to look at: of several paths to one disk the one to use.
func (s *Survey) ofHost(h survey.Host) (out []Source) {
	for _, d := range h.Sorted() {
		if keeper.OwnName(d.Name) != "" || d.Disk != "" && keeper.OwnName(d.Disk) != "" {
			continue // an array of ours, attached: to look at it is to ask ourselves
		}
		if s.used(h, d).Name == d.Name {
			out = append(out, Source{Path: d.Path})
		}
	}
	return out
}

// used is the path to a disk that is in use, or else the one to use.
func (s *Survey) used(h survey.Host, d survey.Device) survey.Device {
	twins := h.Twins(d)
	if len(twins) > 1 {
		for _, t := range twins {
			if s.host.Serves(disk.Surveyed(t)) {
				return t
			}
		}
	}
	return twins[0]
}

// deviceAt is the device that a path leads to, under whatever name.
func (s *Survey) deviceAt(h survey.Host, path string) (survey.Device, bool) {
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

// DeviceAt is the device that a path leads to, under whatever name, as it was last looked up.
func (s *Survey) DeviceAt(path string) (survey.Device, bool) {
	return s.deviceAt(s.Devices(false), path)
}

// mark names the disk in a source without an operation on it; empty when there is none.
func (s *Survey) mark(src Source) string {
	if src.Bay != "" {
		mark, err := s.host.Lab.Mark(src.Bay)
		if starving(err) { // it cannot be told, so nothing is new
			f, _ := s.At(src)
			return f.Mark
		}
		return mark
	}
	if at, far := src.Far(); far {
		return s.host.Far.Mark(at)
	}
	var st unix.Stat_t
	if err := unix.Stat(src.Path, &st); err != nil {
		return ""
	}
	if d, ok := s.DeviceAt(src.Path); ok {
		return d.Mark()
	}
	return fmt.Sprintf("%d/%d/%d/%d", st.Dev, st.Ino, st.Rdev, st.Size)
}

// starving says whether an error is for want of descriptors.
func starving(err error) bool { return errors.Is(err, unix.EMFILE) || errors.Is(err, unix.ENFILE) }
