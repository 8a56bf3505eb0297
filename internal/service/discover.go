package service

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/lab"
)

// source is a place where a disk may be.
type source struct {
	bay  string // of the lab
	path string
}

func (src source) String() string { return cmp.Or(src.bay, src.path) }

// found is what was last seen in a source. It says nothing of arrays in service, which change by themselves.
type found struct {
	mark    string // changes when another disk is there
	at      time.Time
	info    control.DiskInfo
	record  *record.Record
	hung    bool
	starved bool // it could not be looked at, for want of descriptors
}

// holds is how long what was found counts as read this moment. A disk that hangs is asked again only now and then.
func (f found) holds() time.Duration {
	if f.hung {
		return 10 * time.Second
	}
	return freshFor
}

// seenDisks is the view of all sources, kept up to date by look.
type seenDisks struct {
	looking sync.Mutex // one look at a time
	mu      sync.Mutex
	order   []source
	known   map[source]found
	changed []source // whose disk is another than before, until lookLoop has greeted it
	retry   []source // with a member that could not be taken back just now
}

const (
	// lookEvery is how soon a disk that appears, moves or vanishes is noticed.
	lookEvery = time.Second
	// lookPatience is how long one disk may keep a survey waiting.
	lookPatience = 2 * time.Second
	// freshFor is how long what was read of a disk outside of all arrays counts as read this moment.
	freshFor = 500 * time.Millisecond
)

func (s *Service) listPath() string { return filepath.Join(s.opt.Home, "disks.list") }

// sources lists the lab's bays, then the disks of the host, then the files of the configuration and of disks.list, and what the
// patterns of the configuration match now.
func (s *Service) sources(fresh bool) ([]source, error) {
	var out []source
	if s.lab.Exists() {
		bays, err := s.lab.Bays()
		if err != nil {
			return nil, err
		}
		for _, b := range bays {
			out = append(out, source{bay: b})
		}
	}
	devices := s.devices(fresh)
	out = append(out, s.hostSources(devices)...)
	paths := slices.Clone(s.config().Disks)
	remembered, err := s.remembered()
	if err != nil {
		return nil, err
	}
	paths = append(paths, remembered...)
	for _, pattern := range s.config().Patterns {
		found, err := filepath.Glob(pattern)
		if err != nil {
			return nil, fmt.Errorf("%q is not a valid pattern", pattern)
		}
		paths = append(paths, found...)
	}
	for _, p := range paths {
		src := source{path: filepath.Clean(p)}
		if d, ok := s.deviceAt(devices, p); ok {
			src.path = d.Path
		}
		if !slices.Contains(out, src) && there(src.path) {
			out = append(out, src)
		}
	}
	return out, nil
}

func there(path string) bool {
	_, err := os.Stat(path)
	return err == nil || !errors.Is(err, os.ErrNotExist)
}

// remembered is what disks.list holds: an absolute path a line, as it is.
func (s *Service) remembered() (out []string, err error) {
	buf, err := os.ReadFile(s.listPath())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	for n, line := range strings.Split(string(buf), "\n") {
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if !filepath.IsAbs(line) {
			return nil, fmt.Errorf("%s, line %d: %q is not an absolute path", s.listPath(), n+1, line)
		}
		out = append(out, line)
	}
	return out, nil
}

// remember adds the path of a file to disks.list, so that it is found again. Devices are found by themselves.
func (s *Service) remember(path string) error {
	if isDevice(path) && !s.opt.NoHost {
		return nil
	}
	if strings.ContainsAny(path, "\n\r") {
		return &control.Error{What: fmt.Sprintf("disk %s: a path with a line break in it cannot be remembered", say.Quote(path))}
	}
	known, err := s.remembered()
	if err != nil || slices.Contains(known, path) {
		return err
	}
	buf, err := os.ReadFile(s.listPath())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if len(buf) == 0 {
		buf = []byte("# Disks that Nidalo looks at: one absolute path a line.\n")
	}
	return os.WriteFile(s.listPath(), append(buf, path+"\n"...), 0o600)
}

// open opens a disk for good. One that is held is tried for a moment: an operation on a handle that was closed just now may
// still be under way.
func (s *Service) open(src source) (d disk.Disk, err error) {
	for try := 0; ; try++ {
		if src.bay != "" {
			d, err = s.lab.Open(src.bay)
		} else {
			d, err = disk.Open(src.path)
		}
		if try == openTries || !errors.Is(err, disk.ErrInUse) {
			return d, err
		}
		time.Sleep(openRest)
	}
}

const (
	openTries = 10
	openRest  = 50 * time.Millisecond
)

func (s *Service) peek(src source) (disk.Disk, error) {
	if src.bay != "" {
		return s.lab.OpenReadOnly(src.bay)
	}
	return disk.OpenReadOnly(src.path)
}

// mark names the disk in a source without an operation on it; empty when there is none.
func (s *Service) mark(src source) string {
	if src.bay != "" {
		mark, err := s.lab.Mark(src.bay)
		if starving(err) { // it cannot be told, so nothing is new
			s.seen.mu.Lock()
			defer s.seen.mu.Unlock()
			return s.seen.known[src].mark
		}
		return mark
	}
	var st unix.Stat_t
	if err := unix.Stat(src.path, &st); err != nil {
		return ""
	}
	if d, ok := s.deviceAt(s.devices(false), src.path); ok {
		return d.Mark()
	}
	return fmt.Sprintf("%d/%d/%d/%d", st.Dev, st.Ino, st.Rdev, st.Size)
}

// look brings the survey up to date: disks that changed are read, and with fresh all that are not members of an array in
// service as well.
func (s *Service) look(fresh bool) error {
	s.seen.looking.Lock()
	defer s.seen.looking.Unlock()
	sources, err := s.sources(fresh)
	if err != nil {
		return err
	}
	s.seen.mu.Lock()
	before := s.seen.known
	s.seen.mu.Unlock()
	var changed []source
	var wait sync.WaitGroup
	looks := make([]found, len(sources))
	limit := make(chan struct{}, 16)
	var starved atomic.Bool
	for i, src := range sources {
		mark := s.mark(src)
		old, ok := before[src]
		same := ok && old.mark == mark
		if !same {
			changed = append(changed, src)
		}
		if same && (mark == "" || !fresh || time.Since(old.at) < old.holds() || s.inService(old.info.Identity)) {
			looks[i] = old
			continue
		}
		limit <- struct{}{}
		wait.Go(func() {
			defer func() { <-limit }()
			if looks[i] = s.examine(src, mark); looks[i].starved {
				starved.Store(true)
				if ok {
					looks[i] = old // nothing is known of it that was not before
				}
			}
		})
	}
	wait.Wait()
	short := event.Event{Kind: event.DescriptorsFree, Detail: "disks can be looked at again"}
	if starved.Load() {
		short = event.Event{Kind: event.DescriptorsShort, Detail: "this process may not open more files; disks cannot be looked at until it may"}
	}
	if starved.Load() || s.lookedShort.Swap(starved.Load()) {
		s.once("descriptors", "", string(short.Kind), short)
		s.lookedShort.Store(starved.Load())
	}
	known := make(map[source]found, len(sources))
	for i, src := range sources {
		known[src] = looks[i]
	}
	for src := range before {
		if !slices.Contains(sources, src) {
			changed = append(changed, src)
		}
	}
	s.seen.mu.Lock()
	s.seen.order, s.seen.known = sources, known
	if before != nil { // at the start nothing is news
		s.seen.changed = append(s.seen.changed, changed...)
	}
	s.seen.mu.Unlock()
	return nil
}

// lookAnew reads all disks that no array in service has, whenever they were read last.
func (s *Service) lookAnew() error {
	s.seen.mu.Lock()
	known := make(map[source]found, len(s.seen.known))
	for src, f := range s.seen.known {
		f.at = time.Time{}
		known[src] = f
	}
	s.seen.known = known
	s.seen.mu.Unlock()
	return s.look(true)
}

// lookAt reads one source anew.
func (s *Service) lookAt(src source) control.DiskInfo {
	f := s.examine(src, s.mark(src))
	s.keep(src, f)
	return s.present(f)
}

// keep notes what was found in a source.
func (s *Service) keep(src source, f found) {
	s.seen.mu.Lock()
	defer s.seen.mu.Unlock()
	// The map is replaced, never changed: look works on the old one meanwhile.
	known := make(map[source]found, len(s.seen.known)+1)
	for k, v := range s.seen.known {
		known[k] = v
	}
	if _, ok := known[src]; !ok {
		s.seen.order = append(slices.Clone(s.seen.order), src)
	}
	known[src] = f
	s.seen.known = known
}

// examine reads what a disk holds.
func (s *Service) examine(src source, mark string) found {
	f := found{mark: mark, at: time.Now(), info: control.DiskInfo{Identity: state.Identity{Path: src.path, Bay: src.bay}, Lab: src.bay != ""}}
	h := s.devices(false)
	device, known := s.deviceAt(h, src.path)
	if known {
		f.info.Identity, f.info.Size, f.info.Hardware = disk.Surveyed(device), device.Size, about(h, device)
	}
	f.info.Held = disk.Holders(src.path)
	if len(device.Parts) > 0 {
		// Whoever has a partition of it keeps all of it; which partition that is, the partition says.
		f.info.State, f.info.Holds = state.DiskInUse, append([]string{say.Count(len(device.Parts), "partition", "partitions")}, f.info.Held...)
		if d, err := s.peek(src); err == nil {
			f.info.Health = healthWord(disk.NewPatient(d, disk.Patience{Read: lookPatience, Hung: lookPatience}, func() bool { return true }).Health())
			_ = d.Close()
		}
		return f
	}
	d, err := s.peek(src)
	if err != nil {
		f.info.State, f.info.Holds = state.DiskBroken, nil
		is, why := unreadable(err)
		if f.info.State = is; why != "" {
			f.info.Holds = []string{why}
		}
		if is == state.DiskClosed && len(f.info.Held) > 0 {
			f.info.State, f.info.Holds = state.DiskInUse, f.info.Held
		}
		f.starved = starving(err)
		if errors.Is(err, lab.ErrEmpty) {
			f.info.State, f.info.Holds = state.DiskEmpty, nil
		}
		return f
	}
	f.info.Identity, f.info.Size = d.Identity(), d.Size()
	if s.inService(f.info.Identity) {
		f.info.State = state.DiskInUse
		_ = d.Close()
		return f
	}
	if a, ok := d.(interface{ Asleep() bool }); ok && a.Asleep() {
		// What was seen of it last still holds: a device that another program writes to is awake.
		s.seen.mu.Lock()
		old, same := s.seen.known[src]
		s.seen.mu.Unlock()
		if same && old.mark == mark && old.info.State != state.DiskBroken {
			_ = d.Close()
			old.at, old.info.Health = time.Now(), "asleep"
			return old
		}
	}
	p := disk.NewPatient(d, disk.Patience{Read: lookPatience, Hung: lookPatience}, func() bool { return true })
	c, err := disk.Look(p)
	if err == nil && device.Whole() {
		f.info.Health = healthWord(p.Health())
	}
	_ = d.Close()
	switch {
	case errors.Is(err, disk.ErrHung):
		f.hung = true
		f.info.State, f.info.Holds = state.DiskBroken, []string{fmt.Sprintf("it does not answer: nothing came back for %s", lookPatience)}
	case err != nil:
		f.info.State, f.info.Holds = state.DiskBroken, []string{err.Error()}
	case c.Blank():
		f.info.State = state.DiskBlank
	case c.Record != nil:
		f.info.State, f.record = state.DiskInUse, c.Record
	case c.Damaged != nil:
		f.info.State, f.info.Holds = state.DiskInUse, []string{"a member record that cannot be read: " + c.Damaged.Error()}
	default:
		f.info.State, f.info.Holds = state.DiskInUse, c.Findings
	}
	if f.info.State == state.DiskBlank {
		switch {
		case len(f.info.Held) > 0:
			f.info.State = state.DiskInUse
		case device.ReadOnly:
			f.info.State, f.info.Holds = state.DiskReadOnly, []string{"nothing"}
		}
	}
	if device.Zones != "" {
		if f.info.State == state.DiskBlank {
			f.info.State, f.info.Holds = state.DiskInUse, []string{"nothing"}
		}
		f.info.Holds = append(f.info.Holds, inOrder(device.Zones))
	}
	if f.record == nil {
		f.info.Holds = append(f.info.Holds, f.info.Held...)
	}
	return f
}

func inOrder(zones string) string { return "it takes writes in order only (" + zones + " zones)" }

// starving says whether an error is for want of descriptors.
func starving(err error) bool { return errors.Is(err, unix.EMFILE) || errors.Is(err, unix.ENFILE) }

// present adds what follows from the arrays as they are now.
func (s *Service) present(f found) control.DiskInfo {
	info := f.info
	info.Bad = s.badBecause(info.Identity)
	if r, m, ok := s.memberAt(info.Identity); ok {
		slot := m.Slot
		info.State, info.Array, info.Slot, info.Member, info.Holds = state.DiskInUse, r.Name(), &slot, m.Condition.String(), nil
		info.Health = s.memberHealth(r, m)
		return info
	}
	switch _, spare := s.spareOf(info); {
	case f.record != nil:
		info.Holds = []string{s.whatMember(f.record)}
		if why := s.ambiguous(f); why != nil {
			info.Holds = append(info.Holds, why.Error())
		}
		if e := f.record.Roster[f.record.Slot]; e.Onto != uuid.Nil && s.replaced(f.record) {
			info.State, info.Holds = state.DiskRetired, []string{fmt.Sprintf("retired from array %q (slot %d)", f.record.Name, f.record.Slot)}
		}
	case spare && info.State == state.DiskBlank:
		info.State = state.DiskSpare
	}
	if v, ok := s.vetting(info.Name()); ok && info.State != state.DiskEmpty {
		switch {
		case v.Ended.IsZero():
			info.Vetting = fmt.Sprintf("%s at %.0f%%", v.State, v.Percent)
		case v.Errors > 0:
			info.Vetting = fmt.Sprintf("found %d pieces wrong", v.Errors)
		case len(v.Failing) > 0:
			info.Vetting = "it says of itself: " + strings.Join(v.Failing, "; ")
		default:
			info.Vetting, info.Vetted = "passed "+v.Ended.Local().Format("2006-01-02"), true
		}
	}
	return info
}

// replaced says whether the array of a record is in service and has another member in the record's place.
func (s *Service) replaced(r *record.Record) bool {
	for _, a := range s.running() {
		if a.ID() == r.Array {
			now := a.Record()
			return r.Slot < len(now.Roster) && now.Roster[r.Slot].ID != r.Member
		}
	}
	return false
}

// whatMember says in words what a member record of a disk outside of all arrays in service means.
func (s *Service) whatMember(r *record.Record) string {
	for _, i := range s.idleArrays() {
		if i.set.Newest.Array == r.Array {
			return fmt.Sprintf("a member of array %q (slot %d), which is not in service", r.Name, r.Slot)
		}
	}
	text := fmt.Sprintf("a former or stale member of array %q (slot %d, epoch %d)", r.Name, r.Slot, r.Epoch)
	for _, a := range s.running() {
		if a.ID() != r.Array {
			continue
		}
		if _, err := a.Awaits(r, false); err != nil {
			text += ": " + err.Error()
		}
	}
	return text
}

// Disks surveys every bay of the lab and every path that is configured or was used.
func (s *Service) Disks() ([]control.DiskInfo, error) {
	if err := s.look(true); err != nil {
		return nil, err
	}
	s.seen.mu.Lock()
	order, known := s.seen.order, s.seen.known
	s.seen.mu.Unlock()
	out := make([]control.DiskInfo, 0, len(order))
	for _, src := range order {
		out = append(out, s.present(known[src]))
	}
	return out, nil
}
