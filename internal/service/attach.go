package service

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"strings"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
	"nidalo/internal/nbd"
	"nidalo/internal/service/attach"
)

// Arrays as local block devices: what administrators ask for, and the export that only the keeper is given.

func (s *Service) newAttach() *attach.Desk {
	return attach.New(attach.Host{Home: s.opt.Home, Log: s.opt.Log, Ends: s.done, Once: s.once, Noted: s.attachments,
		Note:   func(id string, how attach.How) error { return s.change(func(m *memory) { m.attach(id, how) }) },
		Forget: func(id string) error { return s.change(func(m *memory) { delete(m.Attached, id) }) },
		Alone:  func() (func(), bool) { return s.admin.Unlock, s.admin.TryLock() },
		Arrays: func() (out []attach.Array) {
			for _, r := range s.running() {
				out = append(out, r.attachable())
			}
			return out
		}})
}

func (r *running) attachable() attach.Array {
	return attach.Array{ID: r.ID().String(), Name: r.Name(), Capacity: r.Capacity()}
}

func (m *memory) attach(id string, how attach.How) {
	if m.Attached == nil {
		m.Attached = map[string]attach.How{}
	}
	m.Attached[id] = how
}

// attachments is a copy of what is remembered of attached arrays.
func (s *Service) attachments() map[string]attach.How {
	s.mu.Lock()
	defer s.mu.Unlock()
	return maps.Clone(s.mem.Attached)
}

// AwaitUnused waits, while the host shuts down, until the attached devices are no longer in use, or give is closed.
func (s *Service) AwaitUnused(give <-chan struct{}) { s.devices.AwaitUnused(give) }

// Attach makes an array a device.
func (s *Service) Attach(q control.AttachRequest) (*control.DeviceStatus, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.mayAttach(q)
	if err != nil {
		return nil, err
	}
	id := r.ID().String()
	was, already := s.attachments()[id]
	how := attach.How{Boot: was.Boot, Connections: cmp.Or(q.Connections, was.Connections)}
	if q.Boot != nil {
		how.Boot = *q.Boot
	}
	if err := s.change(func(m *memory) { m.attach(id, how) }); err != nil {
		return nil, err
	}
	// From here on others may only read; those that were there before could still write.
	if !already {
		err = s.unwritten(r)
	}
	var a keeper.Attached
	if err == nil {
		a, err = s.devices.Make(r.attachable(), how, keeper.WorkTime)
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
	return attach.Status(a, how), nil
}

func (s *Service) mayAttach(q control.AttachRequest) (*running, error) {
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
	if volumes := r.volumes(); len(volumes) > 0 {
		return nil, &control.Error{What: fmt.Sprintf("array %q is a guarded set, whose volumes cannot be attached yet", q.Array), Hints: []string{"clients reach each at " + s.exportURI(r.Name()+"/"+volumes[0].name) + " and so on"}}
	}
	if q.Connections < 0 || q.Connections > keeper.MaxConnections {
		return nil, &control.Error{What: fmt.Sprintf("%d connections are not possible: choose 1 to %d", q.Connections, keeper.MaxConnections)}
	}
	return r, nil
}

// unwritten refuses while clients other than the keeper hold an array.
func (s *Service) unwritten(r *running) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.clients == r.deviceClients {
		return nil
	}
	told := r.unused().(*control.Error)
	told.Hints = []string{"end them first: while an array is attached, others may only read it"}
	return told
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
	a, err := s.devices.Of(id)
	if _, noted := s.attachments()[id]; !noted && (err != nil || a == nil) {
		return nil, &control.Error{What: fmt.Sprintf("array %q is not attached", q.Array), Hints: []string{"nidalo attach " + say.Quote(q.Array) + "   makes it a device"}}
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
	if err := s.devices.End(id, q.Array, q.Force); err != nil {
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

// openAttached gives the keeper an array by its identity, of which it is the only one to write. No lock is held: it may wait for an
// earlier session.
func (s *Service) openAttached(name, peer string) (nbd.Export, func(), error) {
	id, session, _ := strings.Cut(name, "/")
	if !strings.HasPrefix(peer, "process ") {
		return nil, nil, errors.New("devices are for this host only")
	}
	s.mu.Lock()
	r := s.attachedArray(id)
	s.mu.Unlock()
	if r == nil {
		return nil, nil, nbd.ErrNoExport
	}
	leave, err := r.door.Enter(session)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.attachedArray(id) != r { // it was taken out of service meanwhile
		leave()
		return nil, nil, nbd.ErrNoExport
	}
	if r.device == nil { // all sessions are one client, so the next session is told of writes that an earlier one lost
		r.device = r.NewClient()
	}
	r.clients++
	r.deviceClients++
	return device{export{r.Array, r.device, &r.served}, fmt.Sprintf("%s%s/%s/%d/%d", attach.Prefix, id, session, r.Record().Starts, r.since)}, func() {
		s.mu.Lock()
		r.clients--
		r.deviceClients--
		s.mu.Unlock()
		leave()
	}, nil
}

// attachedArray is an array in service that is attached, by its identity; nil: there is none. s.mu is held.
func (s *Service) attachedArray(id string) *running {
	if _, attached := s.mem.Attached[id]; !attached {
		return nil
	}
	for _, r := range s.arrays {
		if r.ID().String() == id {
			return r
		}
	}
	return nil
}

// device is an array as its keeper sees it.
type device struct {
	export
	name string
}

// CanonicalName tells the start of the array as well.
func (d device) CanonicalName() string { return d.name }

// readable is an array that is attached, as others see it: they may read it.
type readable struct{ export }

// ReadOnly marks it.
func (readable) ReadOnly() {}
