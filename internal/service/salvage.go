package service

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/nbd"
)

const (
	rescuePlaces   = 50      // spans of what is lost that a reply lists
	rescuePiece    = 4 << 20 // of the array, read at once while copying out
	rescuePatience = 2 * time.Second
	rescuePrefix   = "rescue/" // of the names of exports: no array has a slash in its name
)

// salvage is one rescue of an array: it is judged, and then copied out, served, or brought back in place.
type salvage struct {
	req       control.RescueRequest
	array     *array.Array
	id        uuid.UUID // of the array
	epoch     uuid.UUID // of the state that is judged
	out, lost *os.File  // when it is copied out
	list      *os.File  // of what is foretold to be lost, when that is wanted
	stop      chan struct{}
	judged    chan struct{}
	over      chan struct{}
	at        atomic.Int64 // how far the judging or bringing back is, in bytes of the array

	stopping bool // this and what follows is guarded by Service.mu
	reply    control.RescueReply
	err      error
	clients  int

	reading sync.RWMutex // held for reading by clients; guards closed
	closed  bool
}

func (run *salvage) name() string { return run.reply.Array }

// underWay says whether it is not over yet. Service.mu is held.
func (run *salvage) underWay() bool {
	switch run.reply.Stage {
	case control.RescueDone, control.RescueStopped, control.RescueFailed:
		return false
	}
	return true
}

var errSalvageStopped = errors.New("stopped")

func (run *salvage) stopped(s *Service) error {
	select {
	case <-run.stop:
		return errSalvageStopped
	case <-s.done:
		return errSalvageStopped
	default:
		return nil
	}
}

// sofar is told how far it is.
func (run *salvage) sofar(s *Service) func(int64) error {
	return func(off int64) error {
		run.at.Store(off)
		return run.stopped(s)
	}
}

// snapshot is what is known by now. Service.mu is held.
func (run *salvage) snapshot() *control.RescueReply {
	r := run.reply
	r.Places = slices.Clone(r.Places)
	r.Clients = run.clients
	if r.Stage == control.RescueJudging || r.Stage == control.RescueBringing {
		r.Percent = 100 * float64(run.at.Load()) / float64(max(r.Capacity, 1))
	}
	if r.Copy != nil {
		c := *r.Copy
		c.Places = slices.Clone(c.Places)
		r.Copy = &c
	}
	return &r
}

// rescueOf is the rescue of an array, under way or the last one. Service.mu is held.
func (s *Service) rescueOf(name string) *salvage {
	for _, run := range s.salvages {
		if run.name() == name || run.id.String() == name {
			return run
		}
	}
	return nil
}

// rescueBusy refuses what would disturb a rescue that is under way.
func (s *Service) rescueBusy(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	run := s.rescueOf(name)
	if run == nil || !run.underWay() {
		return nil
	}
	what := map[string]string{control.RescueCopying: "copied out to " + run.req.Copy, control.RescueServed: "served for a rescue", control.RescueBringing: "brought back in place"}[run.reply.Stage]
	if what == "" {
		what = "judged for a rescue"
	}
	return &control.Error{What: fmt.Sprintf("array %q is being %s", run.name(), what), Hints: []string{"nidalo rescue -stop " + run.name() + "   ends that"}}
}

func (s *Service) watchRescue(req control.RescueRequest) (*control.RescueReply, error) {
	s.mu.Lock()
	run := s.rescueOf(req.Array)
	if run == nil || req.Stop && !run.underWay() {
		s.mu.Unlock()
		return nil, &control.Error{What: fmt.Sprintf("no rescue of %q is under way", req.Array), Hints: []string{"nidalo rescue " + req.Array + "   judges what can be read of it"}}
	}
	if req.Stop && !run.stopping {
		run.stopping = true
		close(run.stop)
	}
	s.mu.Unlock()
	if req.Stop {
		select {
		case <-run.over:
		case <-time.After(rescuePatience):
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return run.snapshot(), nil
}

// beginRescue starts the work. The array belongs to it when nil is returned.
func (s *Service) beginRescue(run *salvage) (err error) {
	if path := run.req.Copy; path != "" {
		if run.out, err = newFile(path); err != nil {
			return err
		}
		if run.lost, err = newFile(path + ".lost"); err != nil {
			return errors.Join(err, run.discard())
		}
	}
	if run.req.List != "" {
		if run.list, err = newFile(run.req.List); err != nil {
			return errors.Join(err, run.discard())
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if old := s.rescueOf(run.id.String()); old != nil {
		if old.underWay() {
			return errors.Join(&control.Error{What: fmt.Sprintf("another rescue of %q has just begun", old.name())}, run.discard())
		}
		delete(s.salvages, old.name())
	}
	if s.salvages == nil {
		s.salvages = map[string]*salvage{}
	}
	s.salvages[run.name()] = run
	s.wait.Go(func() {
		defer close(run.over)
		s.salvage(run)
	})
	return nil
}

// salvage does the work of a rescue to its end.
func (s *Service) salvage(run *salvage) {
	err := s.judgeRescue(run)
	next := control.RescueJudging // until its disks are let go
	switch {
	case run.req.Copy != "":
		next = control.RescueCopying
	case run.req.Serve:
		next = control.RescueServed
	case run.req.InPlace:
		next = control.RescueBringing
	}
	s.mu.Lock()
	if err == nil {
		run.reply.Stage = next
		switch next {
		case control.RescueCopying:
			run.reply.Copy = &control.RescueCopy{State: state.TaskRunning, Path: run.req.Copy, Total: run.reply.Written, Started: s.opt.Now()}
		case control.RescueServed:
			run.reply.Export = s.exportURI(rescuePrefix + run.name())
		}
	} else if !errors.Is(err, errSalvageStopped) {
		run.err = err
	}
	s.mu.Unlock()
	close(run.judged)
	if err == nil {
		switch next {
		case control.RescueCopying:
			err = s.copyAndTell(run)
		case control.RescueServed:
			s.serveRescue(run)
		case control.RescueBringing:
			err = s.bringBack(run)
		}
	}
	run.reading.Lock() // nobody reads from here on
	run.closed = true
	run.reading.Unlock()
	run.array.Abandon()
	s.mu.Lock()
	defer s.mu.Unlock()
	run.reply.Export = ""
	switch {
	case errors.Is(err, errSalvageStopped):
		run.reply.Stage = control.RescueStopped
	case err != nil:
		run.reply.Stage, run.reply.Error = control.RescueFailed, err.Error()
	default:
		run.reply.Stage = control.RescueDone
	}
}

// discard takes back the files that were made for it.
func (run *salvage) discard() (err error) {
	for _, f := range []*os.File{run.out, run.lost, run.list} {
		if f != nil {
			err = errors.Join(err, f.Close(), os.Remove(f.Name()))
		}
	}
	return err
}

func (s *Service) judgeRescue(run *salvage) (err error) {
	var list *bufio.Writer
	if run.list != nil {
		list = bufio.NewWriter(run.list)
		fmt.Fprintf(list, "# What of %s cannot be read, as far as its members know: where it begins and how long it is, in bytes.\n", run.name())
		defer func() { err = errors.Join(err, list.Flush(), run.list.Sync(), run.list.Close()) }()
	}
	return run.array.Losses(func(l state.Span) {
		if list != nil {
			fmt.Fprintf(list, "%d %d\n", l.Offset, l.Length)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		r := &run.reply
		r.Lost += l.Length
		if l.Unsure {
			r.Unsure += l.Length
		}
		if r.Spans++; len(r.Places) < rescuePlaces {
			r.Places = append(r.Places, l)
		}
	}, run.sofar(s))
}

// copyAndTell copies it out, and notes how that ended.
func (s *Service) copyAndTell(run *salvage) error {
	s.event(event.Event{Kind: event.RescueStarted, Array: run.name(), Detail: "copied out to " + run.req.Copy})
	err := s.copyOut(run)
	s.mu.Lock()
	c := run.reply.Copy
	c.Ended = s.opt.Now()
	switch {
	case errors.Is(err, errSalvageStopped):
		c.State = state.TaskStopped
	case err != nil:
		c.State, c.Error = state.TaskFailed, err.Error()
	default:
		c.State, c.Total = state.TaskDone, c.Done
	}
	ended := *c
	s.mu.Unlock()
	severity := event.Info
	if ended.Lost > 0 || ended.Error != "" {
		severity = event.Warning
	}
	s.event(event.Event{Kind: event.Kind("rescue-" + string(ended.State)), Severity: severity, Array: run.name(), Detail: strings.TrimSpace(
		fmt.Sprintf("%s copied to %s, %s of it could not be read %s", say.Size(ended.Done), ended.Path, say.Size(ended.Lost), ended.Error))})
	return err
}

// serveRescue lets clients read until somebody ends it.
func (s *Service) serveRescue(run *salvage) {
	s.event(event.Event{Kind: event.RescueServed, Array: run.name(), Detail: "read-only, as " + rescuePrefix + run.name()})
	select {
	case <-run.stop:
	case <-s.done:
	}
	s.event(event.Event{Kind: event.RescueStopped, Array: run.name(), Detail: "it is not served any more"})
}

// bringBack makes members that had left count again, and starts the array with them.
func (s *Service) bringBack(run *salvage) error {
	s.admin.Lock()
	defer s.admin.Unlock()
	if run.reply.Lost > run.req.Accept {
		return fmt.Errorf("%s would be lost, more than was agreed to", say.Size(run.reply.Lost))
	}
	s.letGoFailed(run.name())
	if err := s.lookAnew(); err != nil {
		return err
	}
	own, err := s.prepareRescue(run.req, s.open)
	if err != nil {
		return err
	}
	if own.epoch != run.epoch {
		own.array.Abandon()
		return errors.New("its disks are not what they were a moment ago; say it again")
	}
	err = own.array.Readmit(run.sofar(s))
	own.array.Abandon()
	if err != nil {
		return err
	}
	var names []string
	for _, id := range run.reply.Back {
		names = append(names, id.String())
	}
	s.event(event.Event{Kind: event.MembersReadmitted, Array: run.name(),
		Detail: fmt.Sprintf("%s: brought back in place; %s were given up", strings.Join(names, ", "), say.Size(run.reply.Lost))})
	_, err = s.start(control.StartRequest{Array: run.id.String()})
	return err
}

// openRescue gives a client what is being rescued. Service.mu is held.
func (s *Service) openRescue(name string) (nbd.Export, func(), error) {
	run := s.salvages[name]
	if run == nil || run.reply.Stage != control.RescueServed {
		return nil, nil, nbd.ErrNoExport
	}
	run.clients++
	return salvaged{export{run.array, run.array.NewClient()}, run}, func() {
		s.mu.Lock()
		run.clients--
		s.mu.Unlock()
	}, nil
}

// salvaged is what is left of an array as the block protocol sees it.
type salvaged struct {
	export
	run *salvage
}

// ReadOnly marks it.
func (x salvaged) ReadOnly() {}

func (x salvaged) Read(p []byte, off int64) (holes []nbd.Hole, err error) {
	err = x.while(func() error {
		holes, err = x.export.Read(p, off)
		return err
	})
	return holes, err
}

func (x salvaged) Extents(off, n int64, limit int) (found []nbd.Extent, err error) {
	err = x.while(func() error {
		found, err = x.export.Extents(off, n, limit)
		return err
	})
	return found, err
}

// while keeps the disks open as long as they are read.
func (x salvaged) while(f func() error) error {
	x.run.reading.RLock()
	defer x.run.reading.RUnlock()
	if x.run.closed {
		return fmt.Errorf("%w: the rescue is over", nbd.ErrShutdown)
	}
	return f()
}
