package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
	"nidalo/internal/lab"
	"nidalo/internal/nbd"
)

// Options is what a service is made with.
type Options struct {
	Home  string
	Stays bool  // by `nidalo serve`, as opposed to one command's own
	Cache int64 // bytes of dirty data over all arrays; 0 means the engine's default for each
	Log   *slog.Logger
}

// Service holds the arrays of one home.
type Service struct {
	opt  Options
	lab  *lab.Lab
	lock *os.File
	done chan struct{}
	wait sync.WaitGroup

	mu     sync.Mutex
	arrays map[string]*running // by name
	idle   []idle              // found but not in service
}

// running is an array in service.
type running struct {
	*array.Array
	clients int
}

// idle is an array that was found and could not be started.
type idle struct {
	set    array.Set
	reason error
}

// Open takes the home and starts every array found.
func Open(opt Options) (*Service, error) {
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(opt.Home, 0o700); err != nil {
		return nil, fmt.Errorf("home %s: %w", opt.Home, err)
	}
	lock, err := os.OpenFile(filepath.Join(opt.Home, "service.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("home %s: %w", opt.Home, err)
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		_ = lock.Close()
		return nil, &Error{What: fmt.Sprintf("home %s: %v", opt.Home, ErrHomeBusy), Hints: []string{
			"a service runs there already: use it, or stop it first", "another home is chosen with -home DIR"}}
	}
	s := &Service{opt: opt, lab: lab.At(opt.Home), lock: lock, done: make(chan struct{}), arrays: map[string]*running{}}
	if err := s.startAll(); err != nil {
		_ = lock.Close()
		return nil, err
	}
	if opt.Stays {
		s.wait.Go(s.probeLoop)
	}
	return s, nil
}

// probeEvery is how soon a disk that is gone is noticed when nobody uses it.
const probeEvery = time.Second

func (s *Service) probeLoop() {
	tick := time.NewTicker(probeEvery)
	defer tick.Stop()
	for {
		select {
		case <-s.done:
			return
		case <-tick.C:
			s.mu.Lock()
			running := make([]*running, 0, len(s.arrays))
			for _, r := range s.arrays {
				running = append(running, r)
			}
			s.mu.Unlock()
			for _, r := range running {
				r.Probe()
			}
		}
	}
}

// Close flushes and stops all arrays.
func (s *Service) Close() error {
	close(s.done)
	s.wait.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, name := range s.names() {
		r := s.arrays[name]
		if r.Failure() != nil {
			r.Abandon()
			continue
		}
		if err := r.Close(); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", name, err))
			continue
		}
		s.opt.Log.Info("array stopped", "array", name, "flushed", true)
	}
	_ = s.lock.Close()
	return errors.Join(errs...)
}

func (s *Service) names() []string {
	names := make([]string, 0, len(s.arrays))
	for n := range s.arrays {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

func (s *Service) config() array.Config {
	return array.Config{Cache: s.opt.Cache, Event: func(e array.Event) {
		level := slog.LevelInfo
		if strings.Contains(e.Kind, "fail") || strings.Contains(e.Kind, "missing") || strings.Contains(e.Kind, "damaged") {
			level = slog.LevelWarn
		}
		s.opt.Log.Log(context.Background(), level, e.Kind, "array", e.Array, "disk", e.Disk, "detail", e.Detail)
	}}
}

// source is a place where a disk may be.
type source struct {
	bay  string // of the lab
	path string
}

func (s *Service) listPath() string { return filepath.Join(s.opt.Home, "disks.list") }

// sources lists the lab's bays and then the paths of disks.list; a path may be a pattern.
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
	seen := map[string]bool{}
	for n, line := range strings.Split(string(buf), "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if !filepath.IsAbs(line) {
			return nil, fmt.Errorf("%s, line %d: %q is not an absolute path", s.listPath(), n+1, line)
		}
		paths, err := filepath.Glob(line)
		if err != nil {
			return nil, fmt.Errorf("%s, line %d: %q is not a valid pattern", s.listPath(), n+1, line)
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

// startAll opens every disk that carries a record and starts the arrays they make up.
func (s *Service) startAll() error {
	sources, err := s.sources()
	if err != nil {
		return err
	}
	byArray := map[string][]array.Candidate{}
	for _, src := range sources {
		d, err := s.open(src)
		if err != nil {
			if !errors.Is(err, lab.ErrEmpty) {
				s.opt.Log.Warn("disk cannot be opened", "disk", src.bay+src.path, "reason", err)
			}
			continue
		}
		r, damage := disk.ReadRecord(d)
		if r == nil {
			if damage != nil {
				s.opt.Log.Warn("member record cannot be read", "disk", d.Identity().String(), "reason", damage)
			}
			_ = d.Close()
			continue
		}
		id := r.Array.String()
		byArray[id] = append(byArray[id], array.Candidate{Disk: d, Record: r})
	}
	ids := make([]string, 0, len(byArray))
	for id := range byArray {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(x, y string) int {
		return cmp.Or(cmp.Compare(byArray[x][0].Record.Name, byArray[y][0].Record.Name), cmp.Compare(x, y))
	})
	for _, id := range ids {
		s.startOne(byArray[id])
	}
	return nil
}

func (s *Service) startOne(found []array.Candidate) {
	set := array.Judge(found)
	release := func(keepCurrent bool) {
		for _, c := range found {
			if !keepCurrent || !slices.ContainsFunc(set.Current, func(k array.Candidate) bool { return k.Disk == c.Disk }) {
				_ = c.Disk.Close()
			}
		}
	}
	if _, taken := s.arrays[set.Newest.Name]; taken {
		set.Doubt = fmt.Errorf("another array with the name %q is in service", set.Newest.Name)
	}
	for _, c := range set.Stale {
		s.opt.Log.Warn("stale member left out", "array", set.Newest.Name, "disk", c.Disk.Identity().String(), "epoch", c.Record.Epoch, "current", set.Newest.Epoch)
	}
	a, err := array.Open(set, s.config())
	if err != nil {
		release(false)
		s.idle = append(s.idle, idle{set, err})
		s.opt.Log.Error("array not started", "array", set.Newest.Name, "reason", err)
		return
	}
	release(true)
	s.arrays[a.Name()] = &running{Array: a}
	s.opt.Log.Info("array started", "array", a.Name(), "condition", a.Condition(), "level", a.Geometry().Level)
}

// find is the array in service with a name.
func (s *Service) find(name string) (*running, error) {
	if r := s.arrays[name]; r != nil {
		r.Probe()
		return r, nil
	}
	for _, i := range s.idle {
		if i.set.Newest.Name == name {
			return nil, &Error{What: fmt.Sprintf("array %q is not in service: %v", name, i.reason), Hints: []string{"nidalo status " + name + "   shows its members"}}
		}
	}
	if len(s.arrays) == 0 {
		return nil, &Error{What: fmt.Sprintf("there is no array %q: there are no arrays in %s", name, s.opt.Home),
			Hints: []string{"nidalo disks   lists the disks one can be made of"}}
	}
	return nil, &Error{What: fmt.Sprintf("there is no array %q; there is %s", name, strings.Join(s.names(), ", "))}
}

// Names lists the exports.
func (s *Service) Names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.names()
}

// Open gives a client the array by its name.
func (s *Service) Open(name string) (nbd.Export, func(), error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.arrays[name]
	if r == nil {
		return nil, nil, nbd.ErrNoExport
	}
	r.clients++
	return export{r.Array}, func() {
		s.mu.Lock()
		r.clients--
		s.mu.Unlock()
	}, nil
}

// export is an array as the block protocol sees it.
type export struct{ a *array.Array }

func (e export) Size() int64 { return e.a.Capacity() }

func (e export) Read(p []byte, off int64) ([]nbd.Hole, error) {
	holes, err := e.a.ReadSparse(p, off)
	if err != nil || len(holes) == 0 {
		return nil, translate(err)
	}
	out := make([]nbd.Hole, len(holes))
	for i, h := range holes {
		out[i] = nbd.Hole(h)
	}
	return out, nil
}

func (e export) Write(p []byte, off int64) error { return translate(e.a.WriteAt(p, off)) }
func (e export) Receive(off, length int64, fill func([]byte) error) error {
	if err := e.a.Receive(off, length, fill); !errors.Is(err, array.ErrNotTaken) {
		return err
	}
	return nbd.ErrNotTaken
}

func (e export) Flush() error                       { return translate(e.a.Flush()) }
func (e export) FlushRange(off, length int64) error { return translate(e.a.FlushRange(off, length)) }
func (e export) Zero(off, length int64) error       { return translate(e.a.Zero(off, length)) }
func (e export) Extents(off, n int64, limit int) ([]nbd.Extent, error) {
	found, err := e.a.Extents(off, n, limit)
	out := make([]nbd.Extent, len(found))
	for i, x := range found {
		out[i] = nbd.Extent(x)
	}
	return out, translate(err)
}

func translate(err error) error {
	switch {
	case errors.Is(err, disk.ErrFull):
		return fmt.Errorf("%w: %w", nbd.ErrNoSpace, err)
	case errors.Is(err, array.ErrStopped):
		return fmt.Errorf("%w: %w", nbd.ErrShutdown, err)
	}
	return err
}

// Status describes all arrays, or the one with the given name.
func (s *Service) Status(name string) (*Status, error) {
	disks, err := s.Disks()
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := &Status{Time: time.Now(), Serving: s.opt.Stays, Arrays: []ArrayStatus{}, Next: []string{}}
	if s.opt.Stays {
		out.Socket = filepath.Join(s.opt.Home, "nbd.sock")
	}
	if name != "" {
		if r := s.arrays[name]; r != nil {
			out.Arrays = append(out.Arrays, s.describe(r, disks))
			return out, nil
		}
		for _, i := range s.idle {
			if i.set.Newest.Name == name {
				out.Arrays = append(out.Arrays, describeIdle(i))
				return out, nil
			}
		}
		_, err := s.find(name)
		return nil, err
	}
	for _, n := range s.names() {
		out.Arrays = append(out.Arrays, s.describe(s.arrays[n], disks))
	}
	for _, i := range s.idle {
		out.Arrays = append(out.Arrays, describeIdle(i))
	}
	if len(out.Arrays) == 0 {
		out.Next = s.firstSteps(disks)
	}
	return out, nil
}

func (s *Service) firstSteps(disks []DiskInfo) []string {
	blank := blankNames(disks)
	switch {
	case len(blank) >= 4:
		return []string{fmt.Sprintf("nidalo create -name NAME -level 6 %s", strings.Join(blank, " "))}
	case len(blank) >= 2:
		return []string{fmt.Sprintf("nidalo create -name NAME -level 1 %s", strings.Join(blank, " "))}
	case len(disks) == 0:
		return []string{"nidalo lab new   makes a simulated enclosure to try things with",
			"nidalo create -name NAME -level 6 /dev/DISK...   takes blank disks by their paths"}
	}
	return []string{"nidalo disks   shows what each disk holds"}
}

func blankNames(disks []DiskInfo) []string {
	var out []string
	for _, d := range disks {
		if d.State == DiskBlank {
			out = append(out, shortName(d.Identity))
		}
	}
	return out
}

func shortName(i disk.Identity) string { return cmp.Or(i.Bay, i.Serial, i.Path) }

func (s *Service) describe(r *running, disks []DiskInfo) ArrayStatus {
	r.Probe()
	rec, geo := r.Record(), r.Geometry()
	certain, best := r.Margin()
	out := ArrayStatus{Name: rec.Name, ID: rec.Array.String(), Level: string(rec.Level), Condition: string(r.Condition()),
		Margin: max(certain, 0), MarginBest: best, Capacity: r.Capacity(), Strip: rec.Strip, Groups: geo.Groups,
		Epoch: rec.Epoch, Created: rec.Created, Members: []MemberStatus{}, Tasks: []TaskStatus{}, Next: []string{}}
	c := r.Stats()
	out.Counters = map[string]int64{
		"client_read_bytes": c.BytesRead.Load(), "client_written_bytes": c.BytesWritten.Load(), "journal_bytes": c.Journalled.Load(),
		"in_place_bytes": c.InPlace.Load(), "table_bytes": c.TableBytes.Load(), "checkpoints": c.Checkpoints.Load(),
		"healed_blocks": c.Healed.Load(), "unreadable_blocks": c.Unreadable.Load(), "replayed_batches": c.Replayed.Load(),
	}
	if err := r.Failure(); err != nil {
		out.Reason = err.Error()
		out.Margin, out.MarginBest = 0, 0
	} else {
		out.Used = min(r.Used(), out.Capacity)
	}
	if s.opt.Stays {
		out.Export = "nbd+unix:///" + rec.Name + "?socket=" + filepath.Join(s.opt.Home, "nbd.sock")
	}
	for _, m := range r.MemberStates() {
		ms := memberStatus(m)
		if m.Condition == record.Failed || m.Condition == record.Missing {
			ms.NeedSize = r.NeedSize(m.Slot)
		}
		out.Members = append(out.Members, ms)
	}
	for _, t := range r.TaskStates() {
		out.Tasks = append(out.Tasks, taskStatus(r, t))
	}
	if c := r.LastCheck(); c.Kind == record.Check {
		out.LastCheck = &CheckStatus{Mismatches: c.Mismatches, Repaired: c.Repaired, Unrepairable: c.Unrepairable, Repair: c.Repair, Started: c.Started}
		if !c.Ended.IsZero() {
			out.LastCheck.Ended = &c.Ended
		}
	}
	out.Next = s.nextSteps(&out, disks)
	return out
}

func memberStatus(m array.MemberState) MemberStatus {
	ms := MemberStatus{Slot: m.Slot, Bay: m.Disk.Bay, Model: m.Disk.Model, Serial: m.Disk.Serial, Path: m.Disk.Path,
		Condition: m.Condition.String(), Size: m.Size, Errors: m.Errors.Total(),
		ReadErrors: m.Errors.Read, WriteErrors: m.Errors.Write, ChecksumErrors: m.Errors.Checksum}
	if !m.Since.IsZero() {
		ms.Since = &m.Since
	}
	return ms
}

func taskStatus(r *running, t array.TaskState) TaskStatus {
	out := TaskStatus{Kind: t.Kind, State: t.State, Percent: t.Percent, Done: t.Done, Total: t.Total, Rate: t.Rate, Started: t.Started}
	if t.Slot >= 0 {
		out.Slot = &t.Slot
	}
	if t.Left >= 0 {
		seconds := t.Left.Seconds()
		out.ETA = &seconds
	}
	if !t.Ended.IsZero() {
		out.Ended = &t.Ended
	}
	if t.Err != nil && t.State == array.TaskFailed {
		out.Error = t.Err.Error()
	}
	if c := t.Check; c != nil {
		out.Check = &CheckStatus{Mismatches: c.Mismatches, Repaired: c.Repaired, Unrepairable: c.Unrepairable, Repair: c.Repair, Started: t.Started, Ended: out.Ended}
		members := r.MemberStates()
		for _, p := range c.Places {
			out.Check.Places = append(out.Check.Places, Place{Slot: p.Slot, Disk: members[p.Slot].Disk.String(), Stripe: p.Stripe,
				Offset: p.Block * array.Block, What: p.What})
		}
	}
	return out
}

func describeIdle(i idle) ArrayStatus {
	rec := i.set.Newest
	out := ArrayStatus{Name: rec.Name, ID: rec.Array.String(), Level: string(rec.Level), Condition: string(array.FailedC),
		Reason: i.reason.Error(), Strip: rec.Strip, Epoch: rec.Epoch, Created: rec.Created, Tasks: []TaskStatus{}, Members: []MemberStatus{}, Next: []string{}}
	if geo, err := rec.Geometry(); err == nil {
		out.Capacity, out.Groups = geo.Capacity(), geo.Groups
	}
	for slot, e := range rec.Roster {
		m := array.MemberState{Slot: slot, Condition: e.Condition, Size: e.Size, Errors: e.Errors, Since: e.Since,
			Disk: disk.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}}
		if i.set.Current[slot].Disk == nil && e.Condition != record.Failed {
			m.Condition = record.Missing
		}
		out.Members = append(out.Members, memberStatus(m))
	}
	switch {
	case errors.Is(i.reason, array.ErrDoubt):
		out.Next = []string{"remove all but the disks whose state is the right one, then start the service again"}
	default:
		out.Next = []string{"bring the missing disks back, in any bay, then start the service again: nothing was written since"}
	}
	return out
}

// nextSteps is what to do about an array, most urgent first, as commands.
func (s *Service) nextSteps(a *ArrayStatus, disks []DiskInfo) []string {
	out := []string{}
	if a.Condition == string(array.FailedC) {
		return append(out, "bring the lost members back, in any bay, then stop and start the service: what was flushed is on them")
	}
	rebuilding := map[int]bool{}
	for _, t := range a.Tasks {
		if t.Kind == array.TaskRebuild && t.State == array.TaskRunning {
			rebuilding[*t.Slot] = true
			out = append(out, "wait for the rebuild of slot "+fmt.Sprint(*t.Slot)+"; follow it with: nidalo status "+a.Name)
		}
	}
	for _, m := range a.Members {
		if m.Condition == record.Failing.String() && a.Margin > 0 {
			out = append(out, fmt.Sprintf("nidalo replace -yes %s %s DISK   before it fails: %d errors so far, all restored", a.Name, cmp.Or(m.Bay, m.Serial, m.Path), m.Errors))
		}
		if m.NeedSize == 0 || rebuilding[m.Slot] {
			continue
		}
		if a.Level == "0" || a.Level == "concat" {
			continue
		}
		name := cmp.Or(m.Bay, m.Serial, m.Path, fmt.Sprint(m.Slot))
		fit := ""
		for _, d := range disks {
			if d.State == DiskBlank && d.Size >= m.NeedSize && (fit == "" || d.Bay == m.Bay && d.Bay != "") {
				fit = shortName(d.Identity)
			}
		}
		// A bay may by now hold another disk than the one that is meant.
		if slices.ContainsFunc(disks, func(d DiskInfo) bool { return d.Bay == m.Bay && d.Serial != m.Serial }) && m.Bay != "" {
			name = cmp.Or(m.Serial, fmt.Sprint(m.Slot))
		}
		if fit != "" {
			out = append(out, fmt.Sprintf("nidalo replace %s %s %s", a.Name, name, fit))
		} else {
			out = append(out, fmt.Sprintf("insert a blank disk of at least %s, then: nidalo replace %s %s BAY", FormatSize(m.NeedSize), a.Name, name))
		}
	}
	if c := a.LastCheck; c != nil && c.Ended != nil && c.Mismatches > 0 && !c.Repair {
		out = append(out, "nidalo check -repair "+a.Name+"   puts right what the last check found")
	}
	return out
}
