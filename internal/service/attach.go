package service

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
	"nidalo/internal/nbd"
)

// Arrays as local block devices. The keeper, a process of its own, holds them; here is what the service has to do with it.

// attachment is what the home remembers of an attached array.
type attachment struct {
	Boot        bool `json:"boot"`
	Connections int  `json:"connections,omitempty"`
}

const attachedPrefix = "attached/" // of the names of exports, followed by the identity and a session

// Attach makes an array a device.
func (s *Service) Attach(q control.AttachRequest) (*control.DeviceStatus, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.find(q.Array)
	if err != nil {
		return nil, err
	}
	if !s.opt.Stays {
		return nil, &control.Error{What: fmt.Sprintf("array %q cannot be attached by a command: a service has to run for it", q.Array),
			Hints: []string{"systemctl start nidalo   starts the installed one", "nidalo serve   runs it here"}}
	}
	if err := r.Failure(); err != nil {
		return nil, person(err)
	}
	id := r.ID().String()
	s.mu.Lock()
	was, already := s.mem.Attached[id]
	s.mu.Unlock()
	boot := was.Boot
	if q.Boot != nil {
		boot = *q.Boot
	}
	if q.Connections < 0 || q.Connections > keeper.MaxConnections {
		return nil, &control.Error{What: fmt.Sprintf("%d connections: 1 to %d", q.Connections, keeper.MaxConnections)}
	}
	how := attachment{Boot: boot, Connections: cmp.Or(q.Connections, was.Connections)}
	if err := s.change(func(m *memory) { m.attach(id, how) }); err != nil {
		return nil, err
	}
	// From here on others may only read; those that were there before could still write.
	var a keeper.Attached
	s.mu.Lock()
	if others := r.clients - r.sessionClients(); others > 0 && !already {
		told := r.unused().(*control.Error)
		told.Hints = []string{"end them first: while an array is attached, others may only read it"}
		err = told
	}
	s.mu.Unlock()
	if err == nil {
		a, err = s.attachNow(r, how, keeper.WorkTime)
	}
	if err != nil {
		if !already {
			if undone := s.change(func(m *memory) { delete(m.Attached, id) }); undone != nil {
				s.opt.Log.Warn("that an array is not attached cannot be noted", "array", r.Name(), "reason", undone)
			}
		}
		return nil, person(err)
	}
	if !already {
		s.event(event.Event{Kind: event.ArrayAttached, Array: r.Name(), Detail: fmt.Sprintf("as %s (%s)", cmp.Or(a.Link, a.Device), a.Device)})
	}
	return s.deviceStatus(a, how), nil
}

func (m *memory) attach(id string, a attachment) {
	if m.Attached == nil {
		m.Attached = map[string]attachment{}
	}
	m.Attached[id] = a
}

// attachNow has the keeper make the device, or find it.
func (s *Service) attachNow(r *running, how attachment, most time.Duration) (keeper.Attached, error) {
	k, err := s.keeper(true)
	if err != nil {
		return keeper.Attached{}, err
	}
	return k.Attach(keeper.AttachRequest{Array: r.ID().String(), Name: r.Name(), Socket: filepath.Join(s.opt.Home, "nbd.sock"), Export: attachedPrefix + r.ID().String(), Connections: how.Connections}, most)
}

// keeper finds the keeper of this home. Where none is installed, one is started when it is wanted.
func (s *Service) keeper(wanted bool) (*keeper.Client, error) {
	k, err := keeper.Dial(s.opt.Home)
	if err == nil || !wanted {
		return k, err
	}
	if os.Getenv("INVOCATION_ID") != "" { // under systemd: a process that we started would end with us
		return nil, &control.Error{What: "the keeper is not running: " + keeper.Socket(s.opt.Home), Hints: []string{"systemctl start nidalo-keeper   starts it"}}
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	log, err := os.OpenFile(filepath.Join(s.opt.Home, "keeper.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(self, "keeper", "-home", s.opt.Home, "-leave")
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	late := time.After(keepWait)
	for {
		select {
		case <-late:
			return nil, &control.Error{What: fmt.Sprintf("the keeper that was started does not answer for %s", keepWait), Hints: []string{"its log is " + log.Name()}}
		case err := <-ended:
			return nil, &control.Error{What: fmt.Sprintf("the keeper ended at once: %v", err), Hints: []string{"its log is " + log.Name()}}
		case <-time.After(50 * time.Millisecond):
		}
		if k, err := keeper.Dial(s.opt.Home); err == nil {
			return k, nil
		}
	}
}

// Detach ends the device of an array.
func (s *Service) Detach(q control.DetachRequest) (*control.DetachReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	id, err := s.identify(q.Array)
	if err == nil && id == "" {
		_, err = s.named(q.Array)
	}
	if err != nil {
		return nil, err
	}
	notAttached := &control.Error{What: fmt.Sprintf("array %q is not attached", q.Array), Hints: []string{"nidalo attach " + say.Quote(q.Array) + "   makes it a device"}}
	a, err := s.attachedAs(id)
	s.mu.Lock()
	_, remembered := s.mem.Attached[id]
	s.mu.Unlock()
	if err != nil && !remembered || err == nil && a == nil && !remembered {
		return nil, notAttached
	}
	if err != nil {
		return nil, err
	}
	out := &control.DetachReply{Device: "the device of array " + q.Array}
	if a != nil {
		out.Device, out.UsedBy, out.Unflushed = cmp.Or(a.Link, a.Device), a.UsedBy, a.Unflushed
	}
	if q.DryRun {
		return out, nil
	}
	k, err := s.keeper(false)
	if err == nil {
		err = k.Detach(keeper.DetachRequest{Array: id, Force: q.Force, Socket: filepath.Join(s.opt.Home, "nbd.sock"), Export: attachedPrefix + id})
	}
	if err != nil {
		var no *keeper.Refused
		if errors.As(err, &no) && no.InUse {
			hints := []string{"close what uses it first"}
			for _, by := range no.Held {
				if at, mounted := strings.CutPrefix(by, "mounted at "); mounted {
					hints[0] = "umount " + say.Quote(at) + "   unmounts it"
				}
			}
			return nil, &control.Error{What: no.What, Hints: append(hints, fmt.Sprintf("nidalo detach -force %s   ends it all the same; data that it could not write is lost", say.Quote(q.Array)))}
		}
		return nil, person(err)
	}
	if err := s.change(func(m *memory) { delete(m.Attached, id) }); err != nil {
		return nil, err
	}
	severity, detail := event.Info, "everything is flushed"
	if q.Force {
		severity, detail = event.Warning, "by force; data that could not be written is lost"
	}
	s.event(event.Event{Kind: event.ArrayDetached, Severity: severity, Array: q.Array, Detail: detail})
	return out, nil
}

// attachedAs is the device of an array; nil when there is none.
func (s *Service) attachedAs(id string) (*keeper.Attached, error) {
	k, err := s.keeper(false)
	if err != nil {
		return nil, &control.Error{What: "the keeper is not running, so nothing is known of devices: " + keeper.Socket(s.opt.Home),
			Hints: []string{"systemctl start nidalo-keeper   starts the installed one", "nidalo keeper   runs it here"}}
	}
	st, err := k.State(true, keeper.WorkTime)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(st.Devices, func(a keeper.Attached) bool { return a.Array == id }); i >= 0 {
		return &st.Devices[i], nil
	}
	return nil, nil
}

func (s *Service) deviceStatus(a keeper.Attached, how attachment) *control.DeviceStatus {
	d := &control.DeviceStatus{Path: cmp.Or(a.Link, a.Device), Device: a.Device, Kind: a.Kind, Boot: how.Boot, Connected: a.Connected, Reason: a.Reason, Lost: a.Lost, Unflushed: a.Unflushed, UsedBy: a.UsedBy}
	for _, by := range a.UsedBy {
		if at, yes := strings.CutPrefix(by, "mounted at "); yes {
			d.Mounted = append(d.Mounted, at)
		}
	}
	return d
}

// AwaitUnused waits, while the host shuts down, until the attached devices are no longer in use, or give is closed.
func (s *Service) AwaitUnused(give <-chan struct{}) {
	s.mu.Lock()
	attached := len(s.mem.Attached) > 0
	s.mu.Unlock()
	if !attached || !keeper.HostStops() {
		return
	}
	for told := false; ; {
		var by []string
		for _, d := range s.attachedDevices() {
			by = append(by, d.UsedBy...)
		}
		if len(by) == 0 {
			return
		}
		if !told {
			s.opt.Log.Info("waiting until the attached arrays are no longer in use", "by", strings.Join(by, ", "))
			told = true
		}
		select {
		case <-give:
			return
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// attachedDevices is what attached arrays are attached as, by identity. One that should be attached and is not has the reason.
func (s *Service) attachedDevices() map[string]*control.DeviceStatus {
	s.mu.Lock()
	out := map[string]*control.DeviceStatus{}
	how := map[string]attachment{}
	for id, a := range s.mem.Attached {
		how[id] = a
		out[id] = &control.DeviceStatus{Boot: a.Boot, Reason: "the keeper is not running"}
	}
	s.mu.Unlock()
	if len(out) == 0 {
		return nil
	}
	k, err := s.keeper(false)
	if err != nil {
		return out
	}
	st, err := k.State(true, keeper.AnswerTime)
	for id := range out {
		out[id].Reason = "it is about to be attached"
		if err != nil {
			out[id].Reason = err.Error()
		}
	}
	for _, a := range st.Devices {
		if _, ours := out[a.Array]; ours {
			out[a.Array] = s.deviceStatus(a, how[a.Array])
		}
	}
	return out
}

// keepWait is how long an array that should be attached keeps administrators from their work when the keeper is slow; it is tried again.
const keepWait = 10 * time.Second

// keepLoop sees to it, once a second, that what should be attached is. It is a loop of its own, so that a keeper that hangs does not keep
// the service from its disks.
func (s *Service) keepLoop() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		s.keepAttached()
		select {
		case <-s.done:
			return
		case <-tick.C:
		}
	}
}

// keepAttached has what should be attached attached, with its size; used by keepLoop only.
func (s *Service) keepAttached() {
	s.mu.Lock()
	wanted := len(s.mem.Attached) > 0
	s.mu.Unlock()
	if !s.admin.TryLock() { // an administrator may be at it
		return
	}
	defer s.admin.Unlock()
	if _, err := os.Stat(keeper.Socket(s.opt.Home)); !wanted && err != nil {
		return
	}
	k, err := s.keeper(false)
	if err != nil && wanted {
		s.startKeeper()
		k, err = s.keeper(false)
	}
	var st keeper.State
	if err == nil {
		st, err = k.State(false, keeper.AnswerTime)
	}
	if err != nil {
		if wanted {
			s.once("keeper", "", err.Error(), event.Event{Kind: event.KeeperAway, Detail: "attached arrays wait for the keeper: " + err.Error()})
		}
		return
	}
	s.once("keeper", "", "", event.Event{Kind: event.KeeperBack, Detail: "the keeper answers"})
	for _, r := range s.running() {
		id := r.ID().String()
		i := slices.IndexFunc(st.Devices, func(a keeper.Attached) bool { return a.Array == id })
		s.mu.Lock()
		how, want := s.mem.Attached[id]
		s.mu.Unlock()
		switch {
		case i >= 0 && !want: // the home forgot it: the device counts
			if err := s.change(func(m *memory) { m.attach(id, attachment{}) }); err != nil {
				s.opt.Log.Warn("an attached array cannot be noted", "array", r.Name(), "reason", err)
			}
		case i >= 0 && st.Devices[i].Refused:
			s.once("attach", r.Name(), st.Devices[i].Reason, event.Event{Kind: event.ArrayNotAttached, Array: r.Name(), Detail: st.Devices[i].Reason})
		case i >= 0:
			s.once("attach", r.Name(), "", event.Event{Kind: event.ArrayAttached, Array: r.Name(), Detail: "as " + st.Devices[i].Device})
			if st.Devices[i].Connected && st.Devices[i].Size != r.Capacity() {
				if err := k.Refresh(keeper.RefreshRequest{Array: id}); err != nil {
					s.opt.Log.Warn("the device cannot be told the size of its array", "array", r.Name(), "reason", err)
				}
			}
		case want && !how.Boot && !s.attachedBefore(id): // from before a reboot
			_ = s.change(func(m *memory) { delete(m.Attached, id) })
		case want:
			a, err := s.attachNow(r, how, keepWait)
			if err != nil {
				s.once("attach", r.Name(), err.Error(), event.Event{Kind: event.ArrayNotAttached, Array: r.Name(), Detail: err.Error()})
				continue
			}
			s.once("attach", r.Name(), "", event.Event{Kind: event.ArrayAttached, Array: r.Name(), Detail: "as " + a.Device})
			s.opt.Log.Info("array attached", "array", r.Name(), "device", a.Device)
		}
	}
}

// attachedBefore says whether an array had a device since this host was booted.
func (s *Service) attachedBefore(id string) bool {
	_, err := os.Stat(filepath.Join(keeper.RunFolder(), "carry-over", id))
	return err == nil
}

// startKeeper starts one where none is installed.
func (s *Service) startKeeper() {
	if os.Getenv("INVOCATION_ID") == "" {
		if _, err := s.keeper(true); err != nil {
			s.opt.Log.Debug("no keeper", "reason", err)
		}
	}
}

// session is the connections of one keeper for one device. The next session begins when everything of this one is done, so that
// nothing old is done after what came later.
type session struct {
	name    string
	conns   int
	drained chan struct{}
}

func (r *running) sessionClients() int {
	if r.session == nil {
		return 0
	}
	return r.session.conns
}

// drainTime is how long a new session waits for the one before.
const drainTime = 5 * time.Second

// openAttached gives the keeper an array by its identity, of which it is the only one to write. s.mu is held.
func (s *Service) openAttached(name, peer string) (nbd.Export, func(), error) {
	id, token, _ := strings.Cut(name, "/")
	if !strings.HasPrefix(peer, "process ") {
		return nil, nil, errors.New("devices are for this host only")
	}
	var r *running
	for _, x := range s.arrays {
		if x.ID().String() == id {
			r = x
		}
	}
	if _, attached := s.mem.Attached[id]; r == nil || !attached {
		return nil, nil, nbd.ErrNoExport
	}
	if r.session != nil && r.session.name != token && r.session.conns > 0 {
		before := r.session
		s.mu.Unlock()
		select {
		case <-before.drained:
		case <-time.After(drainTime):
		}
		s.mu.Lock()
		if r.session == before && before.conns > 0 {
			return nil, nil, errors.New("what came over earlier connections is not finished yet")
		}
	}
	if r.session == nil || r.session.name != token {
		if r.session != nil && r.session.conns > 0 {
			return nil, nil, errors.New("another session was faster")
		}
		if r.device == nil { // what it wrote and was given up is told to the next session as well
			r.device = r.NewClient()
		}
		r.session = &session{name: token, drained: make(chan struct{})}
	}
	mine := r.session
	mine.conns++
	r.clients++
	return device{export{r.Array, r.device}, fmt.Sprintf("%s%s/%s/%d/%d", attachedPrefix, id, token, r.Record().Starts, r.since)}, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		r.clients--
		if mine.conns--; mine.conns == 0 {
			close(mine.drained)
			if r.session == mine {
				r.session = nil
			}
		}
	}, nil
}

// device is an array as its keeper sees it.
type device struct {
	export
	name string
}

// CanonicalName tells the start of the array as well.
func (d device) CanonicalName() string { return d.name }

// guarded is an array that is attached, as others see it: they may read it.
type guarded struct{ export }

// ReadOnly marks it.
func (guarded) ReadOnly() {}

// continuous notes that this host is about to start an array that was started so many times, and returns the first of the starts that
// were all on this host since it was booted, up to that one.
func (s *Service) continuous(id string, starts uint64) (since uint64) {
	path := filepath.Join(keeper.RunFolder(), "starts", id)
	next := starts + 1
	since = next
	var last, first uint64
	if raw, err := os.ReadFile(path); err == nil {
		if _, err := fmt.Sscanf(string(raw), "%d %d", &last, &first); err == nil && (starts == last || starts+1 == last) { // the second: it was killed before it counted
			since = first
		}
	}
	noteStarts(id, next, since)
	return since
}

// noteStarts writes that down, in memory: a reboot of the host begins anew.
func noteStarts(id string, last, since uint64) {
	if keeper.RunFolder() == "" || os.Geteuid() != 0 {
		return
	}
	path := filepath.Join(keeper.RunFolder(), "starts", id)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err == nil {
		_ = os.WriteFile(path, fmt.Appendf(nil, "%d %d\n", last, since), 0o600)
	}
}
