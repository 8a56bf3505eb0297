package service

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/say"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/nbd"
	"nidalo/internal/service/disks"
	"nidalo/internal/service/rescue"
)

// Rescue judges what can still be read of an array that is not in service, and then copies it out, serves it, or brings
// it back in place, when asked. But for the last nothing is written to its disks. A long judging goes on when Rescue returns.
func (s *Service) Rescue(req control.RescueRequest) (*control.RescueReply, error) {
	if req.Watch || req.Stop {
		return s.rescues.Watch(req)
	}
	if r, err := s.named(req.Array); err == nil && r.Failure() == nil {
		return nil, &control.Error{What: fmt.Sprintf("array %q is in service: all that it has can be read there", r.Name()),
			Hints: []string{"nidalo status " + r.Name()}}
	}
	if err := s.rescues.Busy(req.Array); err != nil {
		if req.Copy == "" && !req.Serve && !req.InPlace {
			return s.rescues.Watch(req)
		}
		return nil, err
	}
	if err := s.mayRescue(req); err != nil {
		return nil, err
	}
	run, err := s.prepareRescue(req, s.seen.Peek)
	if err != nil {
		return nil, err
	}
	return s.rescues.Begin(run)
}

// mayRescue refuses what cannot be asked for together, or not here.
func (s *Service) mayRescue(req control.RescueRequest) error {
	switch {
	case req.Serve && !s.opt.Stays:
		return &control.Error{What: "a command that ends cannot serve an array, and no service runs in this home", Hints: []string{"nidalo serve   runs one; then give the command again"}}
	case req.InPlace && len(req.Images) > 0:
		return &control.Error{What: "an image cannot be brought back in place", Hints: []string{"copy it onto a disk of at least the same size first; the disk then counts like the one it was made of"}}
	}
	for _, path := range []string{req.Copy, req.List} {
		if path != "" && !filepath.IsAbs(path) {
			return &control.Error{What: fmt.Sprintf("%q is not an absolute path", path)}
		}
	}
	return nil
}

// prepareRescue opens what is left of an array.
func (s *Service) prepareRescue(req control.RescueRequest, open func(disks.Source) (disk.Disk, error)) (*rescue.Run, error) {
	if err := s.seen.LookAnew(); err != nil {
		return nil, err
	}
	found, bad, err := s.remains(req, open)
	if err != nil {
		for _, c := range found {
			_ = c.Disk.Close()
		}
		return nil, err
	}
	return s.rescues.Prepare(req, found, bad)
}

// remains opens all that carries a record of the array: disks found, and images with lists of what is bad in them.
func (s *Service) remains(req control.RescueRequest, open func(disks.Source) (disk.Disk, error)) (found []roster.Candidate, bad map[disk.Disk][]disk.Range, err error) {
	bad = map[disk.Disk][]disk.Range{}
	var id uuid.UUID
	switch known, err := s.identify(req.Array); {
	case err != nil:
		return nil, bad, err
	case known != "":
		id = uuid.MustParse(known)
	}
	for _, image := range req.Images {
		d, err := disk.OpenReadOnly(image.Path)
		if err != nil {
			return found, bad, &control.Error{What: fmt.Sprintf("image %s: %v", image.Path, err)}
		}
		if image.Bad != "" {
			if bad[d], err = rescue.ReadRanges(image.Bad); err != nil {
				_ = d.Close()
				return found, bad, &control.Error{What: err.Error(), Hints: []string{"a line is: where it begins, and how long it is, both in bytes; # begins a comment"}}
			}
		}
		r, _ := disk.ReadRecord(d)
		switch {
		case r == nil:
			err = &control.Error{What: fmt.Sprintf("image %s carries no member record that can be read", image.Path)}
		case id == uuid.Nil && (r.Name == req.Array || r.Array.String() == req.Array):
			id = r.Array
		case r.Array != id:
			err = &control.Error{What: fmt.Sprintf("image %s is of another array, %q", image.Path, r.Name)}
		}
		if err != nil {
			_ = d.Close()
			return found, bad, err
		}
		found = append(found, roster.Candidate{Disk: d, Record: r})
	}
	if id == uuid.Nil {
		return found, bad, &control.Error{What: fmt.Sprintf("no disk carries anything of an array %q", req.Array), Hints: []string{"nidalo disks   shows what the disks hold"}}
	}
	imaged := map[uuid.UUID]bool{}
	for _, c := range found {
		imaged[c.Record.Member] = true
	}
	for _, src := range append(s.carriers(id.String()), s.membersOf(id)...) {
		d, err := open(src)
		if err != nil {
			continue
		}
		p := disk.NewPatient(d, disk.Patience{Read: disks.Patience, Hung: disks.Patience}, func() bool { return true })
		if r, _ := disk.ReadRecord(p); r != nil && r.Array == id && !imaged[r.Member] && s.ambiguous(carrying(d, r)) == nil {
			found, imaged[r.Member] = append(found, roster.Candidate{Disk: d, Record: r}), true
		} else {
			_ = d.Close()
		}
	}
	if len(found) == 0 {
		return nil, bad, &control.Error{What: fmt.Sprintf("none of the disks of array %q can be read", req.Array), Hints: []string{"nidalo disks   shows which are there"}}
	}
	return found, bad, nil
}

// membersOf is where the members of an array are that is in service, or has failed there: what they carry is not surveyed.
func (s *Service) membersOf(id uuid.UUID) (out []disks.Source) {
	order, known := s.seen.Seen()
	for _, src := range order {
		if r, _, ok := s.memberAt(known[src].Info.Identity); ok && r.ID() == id {
			out = append(out, src)
		}
	}
	return out
}

func (s *Service) newRescues() *rescue.Desk {
	return rescue.New(rescue.Host{Now: s.opt.Now, Ends: s.done, Spawn: s.wait.Go, Tell: s.event, Address: s.exportURI, BringBack: s.bringBack,
		Config: func() array.Config { return array.Config{Limits: s.config().Limits.engine(), Now: s.opt.Now} }})
}

// bringBack makes members that had left count again, and starts the array with them.
func (s *Service) bringBack(run *rescue.Run) error {
	if !s.unasked() {
		return errors.New("the service ends")
	}
	defer s.admin.Unlock()
	found := run.Found()
	if found.Lost > run.Request.Accept {
		return fmt.Errorf("%s would be lost, more than was agreed to", say.Size(found.Lost))
	}
	s.letGoFailed(run.Name())
	id := run.ID.String()
	if err := s.claim(id, s.carriers(id), true); err != nil { // before anything is written
		return err
	}
	if err := s.readmit(run); err != nil {
		s.unclaim(id, forOthers)
		return err
	}
	var names []string
	for _, id := range found.Back {
		names = append(names, id.String())
	}
	s.event(event.Event{Kind: event.MembersReadmitted, Array: run.Name(),
		Detail: fmt.Sprintf("%s: brought back in place; %s were given up", strings.Join(names, ", "), say.Size(found.Lost))})
	_, err := s.start(control.StartRequest{Array: id})
	return err
}

// readmit makes the members that had left count again, on the disks.
func (s *Service) readmit(run *rescue.Run) error {
	own, err := s.prepareRescue(run.Request, s.seen.Open)
	if err != nil {
		return err
	}
	if own.Epoch != run.Epoch {
		own.Abandon()
		return errors.New("its disks have changed since a moment ago; give the command again")
	}
	return own.Readmit(run.Progress)
}

// openRescue gives a client what is being rescued.
func (s *Service) openRescue(name string) (nbd.Export, func(), error) {
	of, volume, _ := strings.Cut(name, "/")
	run, leave := s.rescues.Join(of)
	if run == nil {
		return nil, nil, nbd.ErrNoExport
	}
	all, volumes := rescued{export{run.Array(), run.Array().NewClient(), &served{}}, run}, run.Found().Volumes
	if i := slices.IndexFunc(volumes, func(v control.RescueVolume) bool { return v.Name == volume }); i >= 0 {
		return rescuedVolume{all, volumes[i]}, leave, nil
	}
	if volume != "" || len(volumes) > 0 {
		leave()
		return nil, nil, nbd.ErrNoExport
	}
	return all, leave, nil
}

// rescuedVolume is what is left of a volume of a guarded set.
type rescuedVolume struct {
	rescued
	v control.RescueVolume
}

func (x rescuedVolume) Size() int64 { return x.v.Size }

func (x rescuedVolume) Read(p []byte, off int64) ([]nbd.Hole, error) {
	if off < 0 || int64(len(p)) > x.v.Size-off {
		return nil, layout.ErrRange
	}
	holes, err := x.rescued.Read(p, x.v.Start+off)
	for i := range holes {
		holes[i].Offset -= x.v.Start
	}
	return holes, err
}

func (x rescuedVolume) Extents(off, n int64, limit int) ([]nbd.Extent, error) {
	if off < 0 || n > x.v.Size-off {
		return nil, layout.ErrRange
	}
	return x.rescued.Extents(x.v.Start+off, n, limit)
}

// rescued is what is left of an array as the block protocol sees it.
type rescued struct {
	export
	run *rescue.Run
}

// ReadOnly marks it.
func (x rescued) ReadOnly() {}

func (x rescued) Read(p []byte, off int64) (holes []nbd.Hole, err error) {
	err = x.while(func() error {
		holes, err = x.export.Read(p, off)
		return err
	})
	return holes, err
}

func (x rescued) Extents(off, n int64, limit int) (found []nbd.Extent, err error) {
	err = x.while(func() error {
		found, err = x.export.Extents(off, n, limit)
		return err
	})
	return found, err
}

func (x rescued) while(read func() error) error {
	err := x.run.While(read)
	if errors.Is(err, rescue.ErrOver) {
		return fmt.Errorf("%w: %w", nbd.ErrShutdown, err)
	}
	return err
}
