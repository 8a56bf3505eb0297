package service

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/keeper"
	"nidalo/internal/lab"
	"nidalo/internal/nbd"
	"nidalo/internal/ownership"
	"nidalo/internal/remote"
	"nidalo/internal/service/attach"
	"nidalo/internal/service/chronicle"
	"nidalo/internal/service/disks"
	"nidalo/internal/service/lend"
	"nidalo/internal/service/rescue"
	"nidalo/internal/service/vet"
)

// Options is what a service is made with.
type Options struct {
	Home   string
	Stays  bool              // by `nidalo serve`, as opposed to one command's own
	NoHost bool              // the disks of the host are left out: only files and the lab are looked at
	Lend   func(nbd.Exports) // begins to serve what this host lends, before its own disks are looked at: it may use some of them itself; may be nil
	Looks  bool              // by a command that only looks: nothing is written, to a disk or to the home, and no array is started
	Cache  int64             // bytes of dirty data over all arrays; 0 means the engine's default for each
	Log    *slog.Logger
	Now    func() time.Time // what goes by date or hour, or takes minutes and more; nil: the lab's clock, or the host's
}

// Service holds the arrays of one home.
type Service struct {
	opt     Options
	cfg     atomic.Pointer[Config]
	lab     *lab.Lab
	lock    *os.File
	done    chan struct{}
	wait    sync.WaitGroup
	closing sync.Once

	seen         *disks.Survey
	waits        map[string]*waiting // arrays that wait for disks; used before lookLoop begins and by it only
	chron        *chronicle.Chronicle
	turns        *turns
	vets         vet.Runs
	rescues      *rescue.Desk
	devices      *attach.Desk
	lends        *lend.Desk
	far          *remote.Hosts
	began        time.Time
	instance     string          // names this run of the service
	owning       *ownership.Desk // nil: nobody else has a say in who has an array
	surfaceRuns  vet.Runs
	moves        map[string]move              // of tasks; used by lookLoop only
	handed       map[string]float64           // by identity of the array, how much of both steps of a handing was shown
	unable       map[string]time.Time         // by identity of the array, since when a member that leaves does not get on; used by lookLoop only
	looked       atomic.Int64                 // when lookLoop began its last round, in ns
	poke         chan struct{}                // lookLoop is to look at once
	asked        time.Time                    // when disks were asked how they are; used by lookLoop only
	exchangeTurn sync.Mutex                   // of what exchanges ask for; taken before admin
	saving       sync.Mutex                   // of mem to its file; taken before mu
	lost         int                          // events that could not be written lately, see minds; only lookLoop has it
	unnoted      atomic.Pointer[trouble]      // why mem could not be written; nil: it could
	admin        sync.Mutex                   // one change by an administrator at a time
	mu           sync.Mutex                   // guards what is below; no disk is touched while it is held
	arrays       map[string]*running          // by name
	idle         []idle                       // found but not in service
	claims       map[string]*ownership.Claim  // by identity of the array
	beats        map[string]heard             // by identity of the array
	fenced       map[string]map[string]uint64 // tokens with which shared disks are fenced, by path, for each array
	fencing      map[string]bool              // paths of disks whose reservation is being changed
	mem          memory
	healths      map[string]watched // by serial or path
}

// running is an array in service.
type running struct {
	*array.Array
	clients    int
	peers      map[string]*connected
	served     served        // what clients asked for
	seats      map[int]*seat // by slot of the volume that is served; -1: the array as a whole
	resting    atomic.Bool   // disks of it are being put to sleep
	beating    atomic.Bool   // its beat is being written
	beaten     time.Time     // when it was last; used by lookLoop only
	wasPartial atomic.Bool   // more disks were lost than it has parity, and it has not been checked since they are back
	proving    atomic.Bool   // that check is under way
	unchecked  atomic.Bool   // it was cancelled
	since      uint64        // the first of the starts up to this one that were all on this host
}

// seat is what is served under one name: an array, or a volume of a guarded set.
type seat struct {
	clients, devices int           // of the clients, the keeper's
	door             attach.Door   // for the sessions of the keeper
	device           *array.Client // all of them
}

// seat is that of the volume on a slot, or of the array as a whole. The service's mu is held.
func (r *running) seat(slot int) *seat {
	if r.seats[slot] == nil {
		r.seats[slot] = &seat{}
	}
	return r.seats[slot]
}

func newRunning(a *array.Array) *running {
	return &running{Array: a, peers: map[string]*connected{}, seats: map[int]*seat{}}
}

// member is what is known of the member in a slot. It may have been let go since the slot was found: then it is missing.
func (r *running) member(slot int) array.MemberState {
	if members := r.MemberStates(); slot < len(members) {
		return members[slot]
	}
	return array.MemberState{Slot: slot, Condition: record.Missing}
}

// settled are the map of an array and its members, as many as the map has: while members come or go the two are told one after the other.
func (r *running) settled() (lay *layout.Map, members []array.MemberState) {
	for range 100 {
		if lay, members = r.Layout(), r.MemberStates(); lay.Members == len(members) {
			return lay, members
		}
		time.Sleep(2 * time.Millisecond)
	}
	for slot := len(members); slot < lay.Members; slot++ {
		members = append(members, array.MemberState{Slot: slot, Condition: record.Missing})
	}
	return lay, members
}

// idle is an array that was found and could not be started.
type idle struct {
	set    roster.Set
	reason error
}

// Open takes the home and starts every array found.
func Open(opt Options) (*Service, error) {
	if opt.Now == nil {
		opt.Now = lab.At(opt.Home).Now
	}
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	if !opt.Looks {
		if err := os.MkdirAll(opt.Home, 0o700); err != nil {
			return nil, fmt.Errorf("home %s: %w", opt.Home, err)
		}
	}
	cfg, err := ReadConfig(opt.Home)
	if err != nil {
		return nil, err
	}
	if on := keeper.Own(opt.Home); on != "" && opt.Stays {
		return nil, &control.Error{What: fmt.Sprintf("home %s is on array %q, which is attached to this host: when memory is short, each would wait for the other", opt.Home, on),
			Hints: []string{"another home is chosen with -home DIR"}}
	}
	var lock *os.File
	if !opt.Looks {
		if lock, err = lockHome(opt); err != nil {
			return nil, err
		}
	}
	s := &Service{opt: opt, lab: lab.At(opt.Home), lock: lock, done: make(chan struct{}), arrays: map[string]*running{}}
	s.turns, s.poke = newTurns(), make(chan struct{}, 1)
	s.moves, s.waits, s.healths, s.unable = map[string]move{}, map[string]*waiting{}, map[string]watched{}, map[string]time.Time{}
	s.cfg.Store(&cfg)
	s.began, s.instance, s.claims, s.beats = time.Now(), newInstance(), map[string]*ownership.Claim{}, map[string]heard{}
	s.fenced, s.fencing = map[string]map[string]uint64{}, map[string]bool{}
	if err := s.reach(); err != nil {
		s.unlock()
		return nil, err
	}
	s.rescues = s.newRescues()
	s.devices = s.newAttach()
	s.setSender()
	var watch func()
	if opt.Stays { // before the first look, so that nothing that comes after it is missed
		watch = s.seen.Watch(s.done, s.wake)
	}
	if err := s.startAll(); err != nil {
		close(s.done)
		s.chron.Close()
		s.unlock()
		return nil, err
	}
	if opt.Stays {
		s.stay(watch)
	}
	return s, nil
}

// reach makes what other hosts and disks are reached with, and recalls what is known of them.
func (s *Service) reach() (err error) {
	if err = s.recall(); err != nil {
		return err
	}
	s.chron = s.newChronicle() // hosts come and go from here on
	defer func() {
		if err != nil {
			s.chron.Close()
		}
	}()
	if s.far, err = s.newRemote(); err != nil {
		return err
	}
	s.lends = s.newLend()
	s.seen = s.newSurvey()
	if s.opt.Lend != nil {
		s.lends.Tend()
		s.opt.Lend(s.lends)
	}
	return s.openOwnership()
}

// stay begins what a service does by itself.
func (s *Service) stay(watch func()) {
	s.chron.History() // while there are descriptors for it
	s.resumeVets()
	s.resumeSurfaces()
	s.looked.Store(time.Now().UnixNano())
	s.wait.Go(watch)
	s.wait.Go(s.lookLoop)
	s.wait.Go(s.devices.Loop)
	s.wait.Go(s.lendLoop)
}

// newInstance names a run of a service.
func newInstance() string {
	var random [8]byte
	_, _ = rand.Read(random[:])
	return hex.EncodeToString(random[:])
}

// running lists the arrays in service, by name.
func (s *Service) running() []*running {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]*running, 0, len(s.arrays))
	for _, n := range s.names() {
		out = append(out, s.arrays[n])
	}
	return out
}

func (s *Service) idleArrays() []idle {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.idle)
}

// config is the configuration in force.
func (s *Service) config() *Config { return s.cfg.Load() }

// Close flushes and stops all arrays.
func (s *Service) Close() (err error) {
	s.closing.Do(func() { err = s.close() })
	return err
}

func (s *Service) close() error {
	close(s.done)
	s.vets.End()
	s.surfaceRuns.End()
	errs := s.closeArrays()
	s.unfenceAll()
	s.far.Close()
	s.lends.Close()
	if s.owning != nil {
		s.owning.Close()
	}
	s.wait.Wait()
	s.writeAgain()
	s.chron.Close()
	errs = append(errs, s.forgotten())
	s.unlock()
	return errors.Join(errs...)
}

// unasked takes admin for a change that was not asked for; it is false, and admin not taken, when the service ends.
func (s *Service) unasked() bool {
	s.admin.Lock()
	select {
	case <-s.done:
		s.admin.Unlock()
		return false
	default:
		return true
	}
}

func (s *Service) closeArrays() (errs []error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	for _, r := range s.running() {
		name := r.Name()
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
	return errs
}

// How long a service waits for a command that uses its home, which it says, and a command for another that is about to end.
const (
	lockWait  = 30 * time.Second
	lockBrief = 3 * time.Second
)

// lockHome keeps other processes from changing what this one does. It waits for a command that is about to end.
func lockHome(opt Options) (*os.File, error) {
	lock, err := os.OpenFile(filepath.Join(opt.Home, "service.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("home %s: %w", opt.Home, err)
	}
	most := lockBrief
	if opt.Stays {
		most = lockWait
	}
	for began := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			break
		}
		who := lockedBy(lock)
		if stays := strings.Contains(who, " serve"); stays || time.Since(began) > most || !errors.Is(err, unix.EWOULDBLOCK) {
			_ = lock.Close()
			out := &control.Error{What: fmt.Sprintf("home %s: %v: %s", opt.Home, control.ErrHomeBusy, cmp.Or(who, "it does not say which")), Hints: []string{
				"wait until it has ended, or stop it first", "another home is chosen with -home DIR"}}
			if stays {
				out.Hints[0] = "a service runs there already, or is just starting or stopping: use it, or stop it first"
			}
			return nil, out
		}
		if opt.Stays && time.Since(began) < 100*time.Millisecond {
			opt.Log.Info("waiting for a command that uses the home", "process", who)
		}
	}
	if err := lock.Truncate(0); err == nil {
		_, _ = lock.WriteAt(fmt.Appendf(nil, "%d\n", os.Getpid()), 0)
	}
	return lock, nil
}

// Held says which process has the home that this one only looks at; empty: none.
func (s *Service) Held() string {
	lock, err := os.Open(filepath.Join(s.opt.Home, "service.lock"))
	if !s.opt.Looks || err != nil {
		return ""
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_SH|unix.LOCK_NB); !errors.Is(err, unix.EWOULDBLOCK) {
		return ""
	}
	return cmp.Or(lockedBy(lock), "another process")
}

// lockedBy says which process has a lock, by its number and command.
func lockedBy(lock *os.File) string {
	buf := make([]byte, 32)
	n, _ := lock.ReadAt(buf, 0)
	pid, err := strconv.Atoi(strings.TrimSpace(string(buf[:n])))
	if err != nil {
		return ""
	}
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil {
		return fmt.Sprintf("process %d", pid)
	}
	return fmt.Sprintf("process %d, %s", pid, say.Quote(strings.TrimSpace(strings.ReplaceAll(string(raw[:min(len(raw), 200)]), "\x00", " "))))
}

func (s *Service) unlock() {
	if s.lock != nil {
		_ = s.lock.Close()
	}
}

func (s *Service) names() []string {
	names := make([]string, 0, len(s.arrays))
	for n := range s.arrays {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

func (s *Service) engine() array.Config {
	return array.Config{Agree: s.agree, Writer: record.WriterOf(s.hostName()), Cache: s.opt.Cache, Limits: s.config().Limits.engine(), Turns: s.turns, Event: s.engineEvent, Now: s.opt.Now,
		KeepEmptied: s.config().GiveBack != nil && !*s.config().GiveBack}
}

// startAll starts the arrays that the disks found make up.
func (s *Service) startAll() error {
	if err := s.seen.Look(true); err != nil {
		return err
	}
	byArray := map[string][]disks.Source{}
	names := map[string]string{}
	order, known := s.seen.Seen()
	for _, src := range order {
		f := known[src]
		if f.Record != nil {
			id := f.Record.Array.String()
			byArray[id], names[id] = append(byArray[id], src), f.Record.Name
		} else if f.Info.State == state.DiskBroken {
			s.opt.Log.Warn("disk cannot be read", "disk", src.String(), "reason", strings.Join(f.Info.Holds, "; "))
		}
	}
	ids := slices.SortedFunc(maps.Keys(byArray), func(x, y string) int {
		return cmp.Or(cmp.Compare(names[x], names[y]), cmp.Compare(x, y))
	})
	for _, id := range ids {
		if slices.Contains(s.mem.Arrays, id) && !slices.Contains(s.mem.Out, id) && s.shared(byArray[id]) {
			s.startShared(id, byArray[id])
			continue
		}
		switch {
		case slices.Contains(s.mem.Out, id):
			s.leave(s.peeked(byArray[id], id), errTakenOut)
			continue
		case !slices.Contains(s.mem.Arrays, id):
			s.leave(s.peeked(byArray[id], id), errStranger)
			continue
		}
		if err := s.aloneAtStart(id, byArray[id]); err != nil {
			s.leave(s.peeked(byArray[id], id), err) // lookLoop goes on
			continue
		}
		found, err := s.candidates(byArray[id], id)
		switch {
		case err != nil:
			s.leave(s.peeked(byArray[id], id), err)
		case s.holdBack(found):
		default:
			if err := s.startOne(found, false); err == nil {
				s.own(id, names[id])
			} else {
				s.waits[id] = &waiting{tried: stand(found)}
			}
		}
	}
	s.applyPaces()
	return nil
}

// own notes that an array belongs to this home and is in service.
func (s *Service) own(id, name string) {
	s.mu.Lock()
	known := slices.Contains(s.mem.Arrays, id) && !slices.Contains(s.mem.Out, id) && s.mem.Names[id] == name
	s.mu.Unlock()
	if known || s.opt.Looks {
		return
	}
	s.note(func(m *memory) {
		m.Out = slices.DeleteFunc(m.Out, func(x string) bool { return x == id })
		if !slices.Contains(m.Arrays, id) {
			m.Arrays = append(m.Arrays, id)
		}
		m.Names[id] = name
	})
}

var (
	errTakenOut = errors.New("it was taken out of service")
	errStranger = errors.New("it comes from elsewhere and was never in service here")
)

// leave notes an array that is there but not to be started.
func (s *Service) leave(found []roster.Candidate, reason error) {
	if len(found) == 0 {
		return
	}
	set := roster.Judge(found)
	for _, c := range found {
		_ = c.Disk.Close()
	}
	s.reason(set, reason)
	s.opt.Log.Info("array left alone", "array", set.Newest.Name, "reason", reason)
}

// candidates opens the disks in some sources that carry a record of an array. It fails when a lender says that somebody else has one: without that disk
// the array could go on twice. A disk on which an earlier session has not ended yet is merely not there.
func (s *Service) candidates(sources []disks.Source, id string) ([]roster.Candidate, error) {
	if s.opt.Looks {
		return s.peeked(sources, id), nil
	}
	var taken error
	found := s.opened(sources, id, func(src disks.Source) (disk.Disk, error) {
		d, err := s.seen.Open(src)
		if remote.Refused(err) == remote.Taken {
			taken = fmt.Errorf("%s is %s", s.identityAt(src), remote.Said(err))
		}
		return d, err
	})
	if taken != nil {
		letGo(found)
		return nil, errElsewhere{taken.Error()}
	}
	return found, nil
}

// peeked is candidates that are only read: another host may have them.
func (s *Service) peeked(sources []disks.Source, id string) []roster.Candidate {
	return s.opened(sources, id, s.seen.Peek)
}

func (s *Service) opened(sources []disks.Source, id string, open func(disks.Source) (disk.Disk, error)) (out []roster.Candidate) {
	for _, src := range sources {
		d, err := open(src)
		if err != nil {
			s.opt.Log.Warn("disk cannot be opened", "disk", src.String(), "reason", err)
			continue
		}
		if r, _ := disk.ReadRecord(d); r != nil && r.Array.String() == id {
			out = append(out, roster.Candidate{Disk: d, Record: r})
		} else {
			_ = d.Close()
		}
	}
	return s.unique(out)
}

func (s *Service) startOne(found []roster.Candidate, surviving bool) error {
	if len(found) == 0 {
		return errors.New("none of its disks can be opened")
	}
	set := roster.Judge(found)
	set.Surviving = surviving
	release := func(keepCurrent bool) {
		for _, c := range found {
			if !keepCurrent || !set.Holds(c.Disk) {
				_ = c.Disk.Close()
			}
		}
	}
	s.mu.Lock()
	_, taken := s.arrays[set.Newest.Name]
	s.mu.Unlock()
	if taken {
		set.Doubt = fmt.Errorf("another array with the name %q is in service", set.Newest.Name)
	}
	for _, c := range set.Stale {
		s.opt.Log.Warn("stale member left out", "array", set.Newest.Name, "disk", c.Disk.Identity().String(), "epoch", c.Record.Epoch, "current", set.Newest.Epoch)
	}
	for _, c := range set.Strangers {
		s.event(event.Event{Kind: event.MemberStranger, Array: set.Newest.Name, Disk: c.Disk.Identity().String(), Detail: c.Why + "; it is left out, and nothing is written to it"})
	}
	if err := s.mayGoOn(set, found); err != nil {
		set.Doubt = err
	}
	open := array.Open
	if s.opt.Looks {
		open = array.Look
	}
	since := uint64(0)
	if !s.opt.Looks {
		since = attach.Continue(set.Newest.Array.String(), set.Newest.Starts)
	}
	a, err := open(set, s.engine())
	if err != nil {
		release(false)
		s.reason(set, err)
		s.event(event.Event{Kind: event.ArrayNotStarted, Array: set.Newest.Name, Detail: err.Error()})
		return err
	}
	release(true)
	s.mu.Lock()
	r := newRunning(a)
	r.since = since
	r.served.claim.Store(s.claims[a.ID().String()])
	r.wasPartial.Store(a.Condition() == state.Partial || slices.Contains(s.mem.Unproven, a.ID().String())) // its disks may come back before anybody looks
	s.arrays[a.Name()] = r
	s.idle = slices.DeleteFunc(s.idle, func(i idle) bool { return i.set.Newest.Array == a.ID() })
	s.mu.Unlock()
	s.opt.Log.Info("array started", "array", a.Name(), "condition", a.Condition(), "level", a.Layout().Level)
	return nil
}

// nameTaken says whether an array has the name, in service or not.
func (s *Service) nameTaken(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.arrays[name] != nil || slices.ContainsFunc(s.idle, func(i idle) bool { return i.set.Newest.Name == name })
}

// find is the array in service with a name, with its members just asked whether they are there.
func (s *Service) find(name string) (*running, error) {
	r, err := s.named(name)
	if err == nil {
		r.Probe()
	}
	return r, err
}

func (s *Service) named(name string) (*running, error) {
	id, err := s.identify(name)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.arrays {
		if r.ID().String() == id {
			return r, nil
		}
	}
	for _, i := range s.idle {
		if i.set.Newest.Array.String() == id {
			return nil, &control.Error{What: fmt.Sprintf("array %q is not in service: %v", name, i.reason), Hints: []string{"nidalo status " + name + "   shows its members"}}
		}
	}
	if id != "" {
		return nil, &control.Error{What: fmt.Sprintf("array %q: none of its disks is there", name), Hints: []string{"nidalo disks   lists the disks that are"}}
	}
	if len(s.arrays) == 0 {
		return nil, &control.Error{What: fmt.Sprintf("there is no array %q: there are no arrays in %s", name, s.opt.Home),
			Hints: []string{"nidalo disks   lists the disks one can be made of"}}
	}
	return nil, &control.Error{What: fmt.Sprintf("there is no array %q; there is %s", name, strings.Join(s.names(), ", "))}
}
