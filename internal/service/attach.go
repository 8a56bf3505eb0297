package service

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"strings"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
	"nidalo/internal/nbd"
	"nidalo/internal/service/attach"
)

// Arrays as local block devices: what administrators ask for, and the export that only the keeper is given.

func (s *Service) newAttach() *attach.Desk {
	return attach.New(attach.Host{Home: s.opt.Home, Log: s.opt.Log, Ends: s.done, Once: s.once, Noted: s.attachments,
		Note:   func(id string, how attach.How) { s.note(func(m *memory) { m.attach(id, how) }) },
		Forget: func(id string) { s.note(func(m *memory) { delete(m.Attached, id) }) },
		Alone:  func() (func(), bool) { return s.admin.Unlock, s.admin.TryLock() },
		Arrays: func() (out []attach.Array) {
			for _, r := range s.running() {
				for _, a := range r.attachables() {
					out = append(out, a.Array)
				}
			}
			return out
		}})
}

func (m *memory) attach(id string, how attach.How) {
	if m.Attached == nil {
		m.Attached = map[string]attach.How{}
	}
	m.Attached[id] = how
}

// attachAsAsked notes that an array, or each of its volumes, is to be a device whenever it is in service here, if that was asked for.
func (s *Service) attachAsAsked(req control.StartRequest, rec *record.Record) error {
	if !req.Attach {
		return nil
	}
	lay, err := rec.Layout()
	if err != nil {
		return err
	}
	ids := []string{rec.Array.String()}
	if volumes := lay.Volumes(); len(volumes) > 0 {
		ids = nil
		for _, v := range volumes {
			ids = append(ids, volumeID(rec.Array, v.Slot))
		}
	}
	return s.change(func(m *memory) {
		for _, id := range ids {
			m.attach(id, attach.How{Boot: true})
		}
	})
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
	r, x, err := s.mayAttach(q)
	if err != nil {
		return nil, err
	}
	id := x.ID
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
		err = s.unwritten(r, x.slot)
	}
	var a keeper.Attached
	if err == nil {
		a, err = s.devices.Make(x.Array, how, keeper.WorkTime)
	}
	if err != nil {
		if !already {
			s.note(func(m *memory) { delete(m.Attached, id) })
		}
		return nil, person(err)
	}
	if !already {
		s.event(event.Event{Kind: event.ArrayAttached, Array: x.Name, Detail: fmt.Sprintf("as %s (%s)", cmp.Or(a.Link, a.Device), a.Device)})
	}
	return attach.Status(a, how), nil
}

func (s *Service) mayAttach(q control.AttachRequest) (r *running, x attachable, err error) {
	if r, x, err = s.attachable(q.Array); err != nil {
		return nil, x, err
	}
	if !s.opt.Stays {
		return nil, x, &control.Error{What: fmt.Sprintf("array %q cannot be attached by a command: a service has to run for it", q.Array),
			Hints: []string{"systemctl start nidalo   starts the installed one", "nidalo serve   runs it here"}}
	}
	if err := r.Failure(); err != nil {
		return nil, x, person(err)
	}
	s.mu.Lock()
	leaves := s.leaves(r, x.slot)
	s.mu.Unlock()
	if leaves {
		return nil, x, stillEmptying(r.Name(), q.Array)
	}
	if q.Connections < 0 || q.Connections > keeper.MaxConnections {
		return nil, x, &control.Error{What: fmt.Sprintf("%d connections are not possible: choose 1 to %d", q.Connections, keeper.MaxConnections)}
	}
	return r, x, nil
}

// unwritten refuses while clients other than the keeper hold an array, or a volume.
func (s *Service) unwritten(r *running, slot int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at := r.seat(slot); at.clients == at.devices {
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
	id, err := s.deviceNamed(q.Array)
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
		if a != nil && !a.Connected && !q.Force {
			return nil, &control.Error{What: err.Error(), Hints: []string{
				"nidalo start " + say.Quote(q.Array) + "   serves it again, so that it can be flushed",
				"nidalo detach -force " + say.Quote(q.Array) + "   ends it all the same; it says what is lost, and asks"}}
		}
		return nil, person(err)
	}
	s.note(func(m *memory) { delete(m.Attached, id) })
	severity, detail := event.Info, "everything is flushed"
	if q.Force {
		severity, detail = event.Warning, "by force; data that could not be written is lost"
	}
	s.event(event.Event{Kind: event.ArrayDetached, Severity: severity, Array: q.Array, Detail: detail})
	return out, nil
}

// deviceNamed is the identity under which an array or a volume is attached, which need not be in service.
func (s *Service) deviceNamed(name string) (id string, err error) {
	if strings.Contains(name, "/") {
		_, x, err := s.attachable(name)
		for id, d := range s.devices.Devices() {
			if err != nil && d.Path == "/dev/nidalo/"+name { // its set is not in service
				return id, nil
			}
		}
		return x.ID, err
	}
	if id, err = s.identify(name); err == nil && id == "" {
		_, err = s.named(name)
	}
	return id, err
}

// openAttached gives the keeper an array by its identity, of which it is the only one to write. No lock is held: it may wait for an
// earlier session.
func (s *Service) openAttached(name, peer string) (nbd.Export, func(), error) {
	id, session, _ := strings.Cut(name, "/")
	if !strings.HasPrefix(peer, "process ") {
		return nil, nil, errors.New("devices are for this host only")
	}
	s.mu.Lock()
	r, slot := s.attachedArray(id)
	if r == nil {
		s.mu.Unlock()
		return nil, nil, nbd.ErrNoExport
	}
	at := r.seat(slot)
	s.mu.Unlock()
	leave, err := at.door.Enter(session)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if now, _ := s.attachedArray(id); now != r { // it was taken out of service meanwhile
		leave()
		return nil, nil, nbd.ErrNoExport
	}
	if at.device == nil { // all sessions are one client, so the next session is told of writes that an earlier one lost
		at.device = r.NewClient()
	}
	r.clients++
	at.clients++
	at.devices++
	lessPlaces := keeper.OnePlaceMore()
	all := export{r.Array, at.device, &r.served}
	name = fmt.Sprintf("%s%s/%s/%d/%d", attach.Prefix, id, session, r.Record().Starts, r.since)
	share := func() nbd.Memory {
		if m := at.door.Memory(id, session, s.opt.Log); m != nil {
			return m
		}
		return nil
	}
	var x nbd.Export = device{all, name, share}
	if slot >= 0 {
		x = deviceOfVolume{ofVolume{all, slot}, name, share}
	}
	return x, func() {
		s.mu.Lock()
		r.clients--
		at.clients--
		at.devices--
		s.mu.Unlock()
		lessPlaces()
		leave()
	}, nil
}

// attachedArray is an array in service that is attached, by its identity, or the one of a volume that is, and the slot of that; nil: there is none.
// s.mu is held.
func (s *Service) attachedArray(id string) (r *running, slot int) {
	if _, attached := s.mem.Attached[id]; !attached {
		return nil, -1
	}
	for _, r := range s.arrays {
		for _, x := range r.attachables() {
			if x.ID == id {
				return r, x.slot
			}
		}
	}
	return nil, -1
}

// device is an array as its keeper sees it.
type device struct {
	export
	name  string
	share func() nbd.Memory
}

// deviceOfVolume is a volume as its keeper sees it.
type deviceOfVolume struct {
	ofVolume
	name  string
	share func() nbd.Memory
}

// Memory is that of device.
func (d deviceOfVolume) Memory() nbd.Memory { return d.share() }

// CanonicalName is that of device.
func (d deviceOfVolume) CanonicalName() string { return d.name }

// CanonicalName tells the start of the array as well.
func (d device) CanonicalName() string { return d.name }

// Memory is what is shared with the keeper, so that data does not pass the socket.
func (d device) Memory() nbd.Memory { return d.share() }

// readable is an array that is attached, as others see it: they may read it.
type readable struct{ export }

// ReadOnly marks it.
func (readable) ReadOnly() {}
