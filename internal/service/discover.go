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
	"time"

	"github.com/google/uuid"
	"golang.org/x/sys/unix"

	"nidalo/core/record"
	"nidalo/internal/disk"
	"nidalo/internal/history"
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
	mark   string // changes when another disk is there
	at     time.Time
	info   DiskInfo
	record *record.Record
	hung   bool
}

// holds is how long what was found counts as read this moment. A disk that hangs is asked again only now and then.
func (f found) holds() time.Duration {
	if f.hung {
		return 10 * time.Second
	}
	return freshFor
}

// survey is the view of all sources, kept up to date by look.
type survey struct {
	looking sync.Mutex // one look at a time
	mu      sync.Mutex
	order   []source
	known   map[source]found
	changed []source // whose disk is another than before, until lookLoop has greeted it
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

// sources lists the lab's bays, then what the configuration and disks.list name; a path may be a pattern.
func (s *Service) sources() ([]source, error) {
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
	buf, err := os.ReadFile(s.listPath())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	patterns := slices.Clone(s.config().Disks)
	for n, line := range strings.Split(string(buf), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if !filepath.IsAbs(line) {
			return nil, fmt.Errorf("%s, line %d: %q is not an absolute path", s.listPath(), n+1, line)
		}
		patterns = append(patterns, line)
	}
	seen := map[string]bool{}
	for _, pattern := range patterns {
		paths, err := filepath.Glob(pattern)
		if err != nil {
			return nil, fmt.Errorf("%q is not a valid pattern", pattern)
		}
		for _, p := range paths {
			if !seen[p] {
				seen[p] = true
				out = append(out, source{path: p})
			}
		}
	}
	return out, nil
}

// remember adds a path to disks.list, so that the disk is found again.
func (s *Service) remember(path string) error {
	buf, err := os.ReadFile(s.listPath())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if slices.Contains(strings.Split(string(buf), "\n"), path) {
		return nil
	}
	if len(buf) == 0 {
		buf = []byte("# Disks that Nidalo looks at: one absolute path or pattern a line.\n")
	}
	return os.WriteFile(s.listPath(), append(buf, path+"\n"...), 0o600)
}

func (s *Service) open(src source) (disk.Disk, error) {
	if src.bay != "" {
		return s.lab.Open(src.bay)
	}
	return disk.Open(src.path)
}

func (s *Service) peek(src source) (disk.Disk, error) {
	if src.bay != "" {
		return s.lab.OpenReadOnly(src.bay)
	}
	return disk.OpenReadOnly(src.path)
}

// mark names the disk in a source without an operation on it; empty when there is none.
func (s *Service) mark(src source) string {
	if src.bay != "" {
		return s.lab.Mark(src.bay)
	}
	var st unix.Stat_t
	if err := unix.Stat(src.path, &st); err != nil {
		return ""
	}
	return fmt.Sprintf("%d/%d/%d/%d", st.Dev, st.Ino, st.Rdev, st.Size)
}

// look brings the survey up to date: disks that changed are read, and with fresh all that are not members of an array in
// service as well.
func (s *Service) look(fresh bool) error {
	s.survey.looking.Lock()
	defer s.survey.looking.Unlock()
	sources, err := s.sources()
	if err != nil {
		return err
	}
	s.survey.mu.Lock()
	before := s.survey.known
	s.survey.mu.Unlock()
	var changed []source
	var wait sync.WaitGroup
	seen := make([]found, len(sources))
	limit := make(chan struct{}, 16)
	for i, src := range sources {
		mark := s.mark(src)
		old, ok := before[src]
		same := ok && old.mark == mark
		if !same {
			changed = append(changed, src)
		}
		if same && (mark == "" || !fresh || time.Since(old.at) < old.holds() || s.inService(old.info.Identity)) {
			seen[i] = old
			continue
		}
		limit <- struct{}{}
		wait.Go(func() {
			seen[i] = s.examine(src, mark)
			<-limit
		})
	}
	wait.Wait()
	known := make(map[source]found, len(sources))
	for i, src := range sources {
		known[src] = seen[i]
	}
	for src := range before {
		if !slices.Contains(sources, src) {
			changed = append(changed, src)
		}
	}
	s.survey.mu.Lock()
	s.survey.order, s.survey.known = sources, known
	if before != nil { // at the start nothing is news
		s.survey.changed = append(s.survey.changed, changed...)
	}
	s.survey.mu.Unlock()
	return nil
}

// lookAnew reads all disks that no array in service has, whenever they were read last.
func (s *Service) lookAnew() error {
	s.survey.mu.Lock()
	known := make(map[source]found, len(s.survey.known))
	for src, f := range s.survey.known {
		f.at = time.Time{}
		known[src] = f
	}
	s.survey.known = known
	s.survey.mu.Unlock()
	return s.look(true)
}

// lookAt reads one source anew.
func (s *Service) lookAt(src source) DiskInfo {
	f := s.examine(src, s.mark(src))
	s.survey.mu.Lock()
	defer s.survey.mu.Unlock()
	// The map is replaced, never changed: look works on the old one meanwhile.
	known := make(map[source]found, len(s.survey.known)+1)
	for k, v := range s.survey.known {
		known[k] = v
	}
	if _, ok := known[src]; !ok {
		s.survey.order = append(slices.Clone(s.survey.order), src)
	}
	known[src] = f
	s.survey.known = known
	return s.present(f)
}

// examine reads what a disk holds.
func (s *Service) examine(src source, mark string) found {
	f := found{mark: mark, at: time.Now(), info: DiskInfo{Identity: disk.Identity{Path: src.path, Bay: src.bay}}}
	d, err := s.peek(src)
	if err != nil {
		f.info.State, f.info.Holds = DiskBroken, []string{err.Error()}
		if errors.Is(err, lab.ErrEmpty) {
			f.info.State, f.info.Holds = DiskEmpty, nil
		}
		return f
	}
	f.info.Identity, f.info.Size = d.Identity(), d.Size()
	if s.inService(f.info.Identity) {
		f.info.State = DiskInUse
		_ = d.Close()
		return f
	}
	p := disk.NewPatient(d, disk.Patience{Read: lookPatience, Hung: lookPatience}, func() bool { return true })
	c, err := disk.Look(p)
	_ = d.Close()
	switch {
	case errors.Is(err, disk.ErrHung):
		f.hung = true
		f.info.State, f.info.Holds = DiskBroken, []string{fmt.Sprintf("it does not answer: nothing came back for %s", lookPatience)}
	case err != nil:
		f.info.State, f.info.Holds = DiskBroken, []string{err.Error()}
	case c.Blank():
		f.info.State = DiskBlank
	case c.Record != nil:
		f.info.State, f.record = DiskInUse, c.Record
	case c.Damaged != nil:
		f.info.State, f.info.Holds = DiskInUse, []string{"a member record that cannot be read: " + c.Damaged.Error()}
	default:
		f.info.State, f.info.Holds = DiskInUse, c.Findings
	}
	return f
}

// present adds what follows from the arrays as they are now.
func (s *Service) present(f found) DiskInfo {
	info := f.info
	if r, m, ok := s.memberAt(info.Identity); ok {
		slot := m.Slot
		info.State, info.Array, info.Slot, info.Member, info.Holds = DiskInUse, r.Name(), &slot, m.Condition.String(), nil
		return info
	}
	switch _, spare := s.spareOf(info); {
	case f.record != nil:
		info.Holds = []string{s.whatMember(f.record)}
		if e := f.record.Roster[f.record.Slot]; e.Onto != uuid.Nil && s.replaced(f.record) {
			info.State, info.Holds = DiskRetired, []string{fmt.Sprintf("retired from array %q (slot %d)", f.record.Name, f.record.Slot)}
		}
	case spare && info.State == DiskBlank:
		info.State = DiskSpare
	}
	if v, ok := s.vetting(key(info)); ok && info.State != DiskEmpty {
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
	return fmt.Sprintf("a former or stale member of array %q (slot %d, epoch %d)", r.Name, r.Slot, r.Epoch)
}

// Disks surveys every bay of the lab and every path that is configured or was used.
func (s *Service) Disks() ([]DiskInfo, error) {
	if err := s.look(true); err != nil {
		return nil, err
	}
	s.survey.mu.Lock()
	order, known := s.survey.order, s.survey.known
	s.survey.mu.Unlock()
	out := make([]DiskInfo, 0, len(order))
	for _, src := range order {
		out = append(out, s.present(known[src]))
	}
	return out, nil
}

// locate finds the source a user's word names: a bay, a serial or a path.
func (s *Service) locate(name string) (source, error) {
	sources, err := s.sources()
	if err != nil {
		return source{}, err
	}
	path, _ := filepath.Abs(name)
	for _, src := range sources {
		if src.bay != "" && src.bay == name || src.path != "" && src.path == path {
			return src, nil
		}
		if src.bay != "" {
			if d, err := s.lab.Disk(src.bay); err == nil && (d.Serial == name || s.lab.ImagePath(src.bay) == path) {
				return src, nil
			}
		}
	}
	if info, err := os.Stat(name); err == nil && !info.IsDir() {
		return source{path: path}, nil
	}
	hints := []string{"nidalo disks   lists the disks by bay, serial and path"}
	if strings.Contains(name, "/") {
		return source{}, &Error{What: fmt.Sprintf("disk %s: there is no such file or device", name), Hints: hints}
	}
	return source{}, &Error{What: fmt.Sprintf("disk %q: no bay, serial or path has that name", name), Hints: hints}
}

// wake makes lookLoop look at once.
func (s *Service) wake() {
	select {
	case s.poke <- struct{}{}:
	default:
	}
}

// lookLoop notices disks that appear, move, vanish or come back, and does what follows from that.
func (s *Service) lookLoop() {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	minute, day := time.Time{}, time.Time{}
	s.takeBackAll()
	for {
		select {
		case <-s.done:
			return
		case <-tick.C:
		case <-s.poke:
		}
		s.looked.Store(time.Now().UnixNano())
		for _, r := range s.running() {
			r.Probe()
		}
		if err := s.look(false); err != nil {
			s.opt.Log.Warn("the disks cannot be listed", "reason", err)
			continue
		}
		s.greet()
		s.conditions()
		s.health()
		s.stepIn()
		s.applyPaces()
		if time.Since(minute) > time.Minute {
			minute = time.Now()
			s.takeReadings()
		}
		if h := s.history(); h != nil && time.Since(day) > 24*time.Hour {
			day = time.Now()
			if err := h.Forget(day.AddDate(0, 0, -cmp.Or(s.config().History.Days, keepDays))); err != nil {
				s.opt.Log.Warn("the history cannot be shortened", "reason", err)
			}
		}
	}
}

// stuckLook is when a service that has not looked round counts as stuck; one hung disk after the other may take a while.
const stuckLook = time.Minute

// Alive answers the watchdog: the lists can be read, and the service still looks round after its disks.
func (s *Service) Alive() error {
	s.Names()
	if d := time.Since(time.Unix(0, s.looked.Load())); d > stuckLook {
		return fmt.Errorf("the service has not looked after its disks for %s", d.Round(time.Second))
	}
	return nil
}

// greet looks at disks that were not there before.
func (s *Service) greet() {
	s.survey.mu.Lock()
	changed := s.survey.changed
	s.survey.changed = nil
	s.survey.mu.Unlock()
	for _, src := range changed {
		s.survey.mu.Lock()
		f, there := s.survey.known[src]
		s.survey.mu.Unlock()
		switch {
		case !there || f.mark == "":
			s.event(Event{Kind: "disk-gone", Severity: Info, Disk: src.String()})
		case s.inService(f.info.Identity):
		case f.record != nil:
			s.event(Event{Kind: "disk-appeared", Severity: Info, Disk: f.info.Identity.String(), Detail: s.present(f).Holds[0]})
			s.takeBack(src, f)
		default:
			s.event(Event{Kind: "disk-appeared", Severity: Info, Disk: f.info.Identity.String(), Detail: strings.Join(append([]string{f.info.State}, f.info.Holds...), ": ")})
			if f.info.State == DiskBlank && s.config().Adopt == AdoptSameBay {
				s.adopt(src, f)
			}
		}
	}
}

// takeBackAll looks, at the start of the service, for members that came back while none ran.
func (s *Service) takeBackAll() {
	s.admin.Lock()
	defer s.admin.Unlock()
	s.takeBackOf(uuid.Nil)
}

// takeBackOf looks for members of one array, or with uuid.Nil of all, that are here and not in service. admin is held.
func (s *Service) takeBackOf(id uuid.UUID) {
	s.survey.mu.Lock()
	order, known := s.survey.order, s.survey.known
	s.survey.mu.Unlock()
	for _, src := range order {
		if f := known[src]; f.record != nil && (id == uuid.Nil || f.record.Array == id) && !s.inService(f.info.Identity) {
			s.takeBackHeld(src, f)
		}
	}
}

// takeBack lets a member that was away catch up.
func (s *Service) takeBack(src source, f found) {
	s.admin.Lock()
	defer s.admin.Unlock()
	s.takeBackHeld(src, f)
}

func (s *Service) takeBackHeld(src source, f found) {
	for _, r := range s.running() {
		if r.ID() != f.record.Array || r.Failure() != nil {
			continue
		}
		slot, err := r.Awaits(f.record, false)
		if err != nil {
			if !s.replaced(f.record) {
				s.event(Event{Kind: "member-stale", Severity: Warning, Array: r.Name(), Disk: f.info.Identity.String(), Detail: err.Error()})
			}
			return
		}
		r.LetGo(slot)
		d, err := s.open(src)
		if err != nil {
			s.opt.Log.Warn("disk cannot be opened", "disk", src.String(), "reason", err)
			return
		}
		own, _ := disk.ReadRecord(d)
		if own == nil {
			_ = d.Close()
			return
		}
		if err := r.Return(d, own, false); err != nil {
			_ = d.Close()
			s.event(Event{Kind: "member-stale", Severity: Warning, Array: r.Name(), Disk: f.info.Identity.String(), Detail: err.Error()})
		}
	}
}

// adopt lets a blank disk take the place of the member that was lost from the same bay.
func (s *Service) adopt(src source, f found) {
	s.admin.Lock()
	defer s.admin.Unlock()
	if _, spare := s.spareOf(f.info); spare || f.info.Bay == "" {
		return
	}
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			lost := m.Condition == record.Failed || m.Condition == record.Missing
			if !lost || m.Disk.Bay != f.info.Bay || r.Failure() != nil || !r.Geometry().Redundant() {
				continue
			}
			if need := r.NeedSize(m.Slot); f.info.Size < need {
				s.event(Event{Kind: "disk-too-small", Severity: Warning, Array: r.Name(), Disk: f.info.Identity.String(),
					Detail: fmt.Sprintf("it has %s (%d bytes); the place of %s needs %s (%d bytes)", FormatSize(f.info.Size), f.info.Size, m.Disk, FormatSize(need), need)})
				continue
			}
			d, err := s.open(src)
			if err != nil {
				return
			}
			if err := r.Replace(m.Slot, d); err != nil {
				_ = d.Close()
				s.opt.Log.Warn("disk could not be adopted", "disk", src.String(), "reason", err)
				return
			}
			s.event(Event{Kind: "disk-adopted", Severity: Info, Array: r.Name(), Disk: f.info.Identity.String(), Detail: fmt.Sprintf("it takes the place of %s, which was in the same bay", m.Disk)})
			return
		}
	}
}

// takeReadings notes what changes slowly, for the history.
func (s *Service) takeReadings() {
	h := s.history()
	if h == nil {
		return
	}
	now := time.Now()
	var out []history.Reading
	for _, r := range s.running() {
		if r.Failure() != nil {
			continue
		}
		out = append(out, history.Reading{Time: now, Of: r.Name(), Name: "used_bytes", Value: float64(r.Used())})
		for _, m := range r.MemberStates() {
			of := cmp.Or(m.Disk.Serial, m.Disk.Path)
			out = append(out, history.Reading{Time: now, Of: of, Name: "errors", Value: float64(m.Errors.Total())})
			if h, err := r.Health(m.Slot); err == nil && h.Temperature != nil {
				out = append(out, history.Reading{Time: now, Of: of, Name: "temperature", Value: *h.Temperature})
			}
		}
	}
	if err := h.AddReadings(out); err != nil {
		s.opt.Log.Warn("the history cannot be written", "reason", err)
	}
}
