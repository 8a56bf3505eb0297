package service

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/disk"
)

const (
	rescuePlaces = 50      // spans of what is lost that a reply lists
	rescuePiece  = 4 << 20 // of the array, read at once while copying out
)

// salvage is one rescue that copies out.
type salvage struct {
	stop     chan struct{}
	stopping bool // under Service.mu, as is
	state    RescueCopy
}

// Rescue judges what can still be read of an array that is not in service, and copies it out when asked. Nothing is
// written to its disks.
func (s *Service) Rescue(req RescueRequest) (*RescueReply, error) {
	if req.Watch || req.Stop {
		return s.watchRescue(req)
	}
	if r, err := s.named(req.Array); err == nil && r.Failure() == nil {
		return nil, &Error{What: fmt.Sprintf("array %q is in service: all that it has can be read there", r.Name()),
			Hints: []string{"nidalo status " + r.Name()}}
	}
	if err := s.lookAnew(); err != nil {
		return nil, err
	}
	found, bad, err := s.remains(req)
	release := func() {
		for _, c := range found {
			_ = c.Disk.Close()
		}
	}
	if err != nil {
		release()
		return nil, err
	}
	states := array.States(found)
	if len(states) == 0 {
		release()
		return nil, &Error{What: fmt.Sprintf("what is left of array %q is no member by itself, such as a copy that was not finished", req.Array),
			Hints: []string{"nidalo disks   shows what the disks hold"}}
	}
	at, err := chooseState(req, states)
	out := &RescueReply{Array: states[0].Record.Name, Level: string(states[0].Record.Level), State: at + 1}
	for i, st := range states {
		if i == 0 || !st.Past || at == i {
			out.States = append(out.States, describeState(i+1, st))
		}
	}
	if err != nil {
		release()
		if req.Copy != "" || req.State > 0 {
			return nil, err
		}
		out.Doubt, out.State = err.Error(), 0
		return out, nil
	}
	chosen := states[at]
	held := map[disk.Disk]bool{}
	for _, p := range chosen.Use {
		held[p.Disk] = true
	}
	for _, c := range found {
		if !held[c.Disk] {
			_ = c.Disk.Close()
		}
	}
	a, notes, err := array.Rescue(chosen, bad, req.Old, array.Config{Limits: s.config().Limits.engine()})
	if err != nil {
		for d := range held {
			if d != nil {
				_ = d.Close()
			}
		}
		return nil, &Error{What: fmt.Sprintf("array %q: nothing can be made of what is left: %v", out.Array, err)}
	}
	out.Capacity, out.Written, out.Notes, out.Old = a.Capacity(), a.Used(), notes, req.Old
	err = a.Losses(func(l array.Span) {
		out.Lost += l.Length
		if out.Spans++; len(out.Places) < rescuePlaces {
			out.Places = append(out.Places, l)
		}
	}, func(int64) error {
		select {
		case <-s.done:
			return errors.New("the service stops")
		default:
			return nil
		}
	})
	if err == nil && req.Copy != "" {
		out.Copy, err = s.startSalvage(a, out.Array, req.Copy)
	}
	if err != nil || req.Copy == "" {
		a.Abandon()
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

// remains opens all that carries a record of the array: disks found, and images with lists of what is bad in them.
func (s *Service) remains(req RescueRequest) (found []array.Candidate, bad map[disk.Disk][]disk.Range, err error) {
	bad = map[disk.Disk][]disk.Range{}
	var id uuid.UUID
	for _, i := range s.idleArrays() {
		if i.set.Newest.Name == req.Array || i.set.Newest.Array.String() == req.Array {
			id = i.set.Newest.Array
		}
	}
	if r, err := s.named(req.Array); err == nil {
		id = r.ID()
	}
	for _, image := range req.Images {
		d, err := disk.OpenReadOnly(image.Path)
		if err != nil {
			return found, bad, &Error{What: fmt.Sprintf("image %s: %v", image.Path, err)}
		}
		if image.Bad != "" {
			if bad[d], err = readRanges(image.Bad); err != nil {
				_ = d.Close()
				return found, bad, &Error{What: err.Error(), Hints: []string{"a line is: where it begins, and how long it is, both in bytes; # begins a comment"}}
			}
		}
		r, _ := disk.ReadRecord(d)
		switch {
		case r == nil:
			err = &Error{What: fmt.Sprintf("image %s carries no member record that can be read", image.Path)}
		case id == uuid.Nil && (r.Name == req.Array || r.Array.String() == req.Array):
			id = r.Array
		case r.Array != id:
			err = &Error{What: fmt.Sprintf("image %s is of another array, %q", image.Path, r.Name)}
		}
		if err != nil {
			_ = d.Close()
			return found, bad, err
		}
		found = append(found, array.Candidate{Disk: d, Record: r})
	}
	if id == uuid.Nil {
		return found, bad, &Error{What: fmt.Sprintf("no disk carries anything of an array %q", req.Array), Hints: []string{"nidalo disks   shows what the disks hold"}}
	}
	imaged := map[uuid.UUID]bool{}
	for _, c := range found {
		imaged[c.Record.Member] = true
	}
	for _, src := range append(s.carriers(id.String()), s.membersOf(id)...) {
		d, err := s.peek(src)
		if err != nil {
			continue
		}
		p := disk.NewPatient(d, disk.Patience{Read: lookPatience, Hung: lookPatience}, func() bool { return true })
		if r, _ := disk.ReadRecord(p); r != nil && r.Array == id && !imaged[r.Member] {
			found, imaged[r.Member] = append(found, array.Candidate{Disk: d, Record: r}), true
		} else {
			_ = d.Close()
		}
	}
	if len(found) == 0 {
		return nil, bad, &Error{What: fmt.Sprintf("none of the disks of array %q can be read", req.Array), Hints: []string{"nidalo disks   shows which are there"}}
	}
	return found, bad, nil
}

// membersOf is where the members of an array are that is in service, or has failed there: what they carry is not surveyed.
func (s *Service) membersOf(id uuid.UUID) (out []source) {
	s.survey.mu.Lock()
	order, known := s.survey.order, s.survey.known
	s.survey.mu.Unlock()
	for _, src := range order {
		if r, _, ok := s.memberAt(known[src].info.Identity); ok && r.ID() == id {
			out = append(out, src)
		}
	}
	return out
}

// readRanges reads a list of what could not be read of a disk.
func readRanges(path string) (out []disk.Range, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(io.LimitReader(f, 64<<20))
	for n := 1; lines.Scan(); n++ {
		text, _, _ := strings.Cut(lines.Text(), "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		var r disk.Range
		if _, err := fmt.Sscanf(text, "%d %d", &r.Offset, &r.Length); err != nil || r.Offset < 0 || r.Length <= 0 || r.Offset+r.Length < 0 || len(strings.Fields(text)) != 2 {
			return nil, fmt.Errorf("%s, line %d: %q is not a range", path, n, text)
		}
		out = append(out, r)
	}
	return out, lines.Err()
}

func chooseState(req RescueRequest, states []array.State) (int, error) {
	switch {
	case req.State > len(states):
		return 0, &Error{What: fmt.Sprintf("there is no state %d: what is left agrees about %d", req.State, len(states))}
	case req.State > 0:
		return req.State - 1, nil
	case slices.ContainsFunc(states[1:], func(s array.State) bool { return !s.Past }):
		return 0, &Error{What: fmt.Sprintf("the disks of array %q went on without each other: there are %d states of it", states[0].Record.Name, len(states)),
			Hints: []string{fmt.Sprintf("nidalo rescue -state 1 %s   judges the one with the highest epoch", states[0].Record.Name)}}
	}
	return 0, nil
}

func describeState(number int, st array.State) RescueState {
	out := RescueState{Number: number, Epoch: st.Record.Epoch}
	for slot, e := range st.Record.Roster {
		p := st.Use[slot]
		m := RescueMember{Slot: slot, Disk: disk.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}, Use: "not there"}
		if p.Disk != nil {
			m.Disk, m.There = p.Disk.Identity(), true
			if m.Disk.Serial == "" { // an image
				m.Disk.Model, m.Disk.Serial = e.Model, e.Serial
			}
			switch {
			case p.Stale:
				m.Use = fmt.Sprintf("left %s: only what did not change since", e.Since.Local().Format("2006-01-02 15:04"))
			case e.Condition == record.Rebuilding:
				m.Use = "was being rebuilt: what was finished"
			default:
				m.Use = "read"
			}
		}
		out.Members = append(out.Members, m)
	}
	for _, c := range st.Left {
		out.Unused = append(out.Unused, fmt.Sprintf("%s has epoch %d, and is of no use for this state", c.Disk.Identity(), c.Record.Epoch))
	}
	return out
}

func (s *Service) watchRescue(req RescueRequest) (*RescueReply, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	run := s.salvages[req.Array]
	if run == nil {
		return nil, &Error{What: fmt.Sprintf("nothing is being copied out of %q", req.Array), Hints: []string{"nidalo rescue " + req.Array + "   judges what can be"}}
	}
	if req.Stop && run.state.Ended.IsZero() && !run.stopping {
		run.stopping = true
		close(run.stop)
	}
	state := run.state
	state.Places = slices.Clone(state.Places)
	return &RescueReply{Array: req.Array, Copy: &state}, nil
}

// startSalvage begins to copy an array out. The array belongs to it when nil is returned.
func (s *Service) startSalvage(a *array.Array, name, path string) (*RescueCopy, error) {
	if !filepath.IsAbs(path) {
		return nil, &Error{What: fmt.Sprintf("%q is not an absolute path", path)}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if run := s.salvages[name]; run != nil && run.state.Ended.IsZero() {
		return nil, &Error{What: fmt.Sprintf("%q is being copied out already, to %s", name, run.state.Path), Hints: []string{"nidalo rescue -stop " + name}}
	}
	out, err := newFile(path)
	if err != nil {
		return nil, err
	}
	lost, err := newFile(path + ".lost")
	if err != nil {
		return nil, errors.Join(err, out.Close(), os.Remove(path))
	}
	run := &salvage{stop: make(chan struct{}), state: RescueCopy{State: array.TaskRunning, Path: path, Total: a.Used(), Started: time.Now()}}
	if s.salvages == nil {
		s.salvages = map[string]*salvage{}
	}
	s.salvages[name] = run
	state := run.state
	s.event(Event{Kind: "rescue-started", Severity: Info, Array: name, Detail: "copied out to " + path})
	s.wait.Go(func() {
		err := s.copyOut(a, run, out, lost)
		a.Abandon()
		s.mu.Lock()
		run.state.Ended = time.Now()
		switch {
		case errors.Is(err, errSalvageStopped):
			run.state.State = array.TaskStopped
		case err != nil:
			run.state.State, run.state.Error = array.TaskFailed, err.Error()
		default:
			run.state.State, run.state.Total = array.TaskDone, run.state.Done
		}
		c := run.state
		s.mu.Unlock()
		severity := Info
		if c.Lost > 0 || c.Error != "" {
			severity = Warning
		}
		s.event(Event{Kind: "rescue-" + c.State, Severity: severity, Array: name,
			Detail: strings.TrimSpace(fmt.Sprintf("%s copied to %s, %s of it could not be read %s", FormatSize(c.Done), path, FormatSize(c.Lost), c.Error))})
	})
	return &state, nil
}

// newFile makes a file that must not be there yet.
func newFile(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	switch {
	case errors.Is(err, os.ErrExist):
		return nil, &Error{What: path + " is there already, and is not overwritten", Hints: []string{"name a file that is not there, on a file system with room for what was written"}}
	case err != nil:
		return nil, &Error{What: err.Error()}
	}
	return f, nil
}

// copiedOut refuses what would change an array that is being copied out.
func (s *Service) copiedOut(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if run := s.salvages[name]; run != nil && run.state.Ended.IsZero() {
		return &Error{What: fmt.Sprintf("array %q is being copied out to %s", name, run.state.Path), Hints: []string{"nidalo rescue -stop " + name + "   ends that"}}
	}
	return nil
}

var errSalvageStopped = errors.New("stopped")

// copyOut writes all that is known to be written, leaves holes elsewhere, and lists what could not be read beside it.
func (s *Service) copyOut(a *array.Array, run *salvage, out, lost *os.File) (err error) {
	list := bufio.NewWriter(lost)
	defer func() {
		err = errors.Join(err, list.Flush(), lost.Sync(), lost.Close(), out.Sync(), out.Close())
	}()
	fmt.Fprintf(list, "# What of %s could not be read and is zeros in %s: where it begins and how long it is, in bytes.\n", a.Name(), out.Name())
	if err := out.Truncate(a.Capacity()); err != nil {
		return err
	}
	var open array.Span
	put := func() {
		if open.Length > 0 {
			fmt.Fprintf(list, "%d %d\n", open.Offset, open.Length)
		}
	}
	buf := make([]byte, rescuePiece)
	for at, end := a.NextWritten(0); at < a.Capacity(); at, end = a.NextWritten(end) {
		for end-at < rescuePiece {
			from, to := a.NextWritten(end)
			if from != end || to-at > rescuePiece || from >= a.Capacity() {
				break
			}
			end = to
		}
		for ; at < end; at += int64(len(buf)) {
			select {
			case <-run.stop:
				put()
				return errSalvageStopped
			case <-s.done:
				put()
				return errSalvageStopped
			default:
			}
			buf = buf[:min(rescuePiece, end-at)]
			gaps, err := a.ReadKnown(buf, at)
			if err != nil {
				return err
			}
			if err := writeSparse(out, buf, at); err != nil {
				return err
			}
			var bytes int64
			for _, l := range gaps {
				bytes += l.Length
				if open.Offset+open.Length == l.Offset {
					open.Length += l.Length
					continue
				}
				put()
				open = l
			}
			s.mu.Lock()
			c := &run.state
			c.Done += int64(len(buf))
			c.Lost += bytes
			for _, l := range gaps {
				if len(c.Places) < rescuePlaces {
					c.Places = append(c.Places, l)
				}
			}
			c.Total = max(c.Total, c.Done)
			c.Rate = float64(c.Done) / max(time.Since(c.Started).Seconds(), 1e-3)
			s.mu.Unlock()
		}
	}
	put()
	return nil
}

// writeSparse leaves holes where there are only zeros.
func writeSparse(f *os.File, p []byte, off int64) error {
	const step = 64 << 10
	for i := 0; i < len(p); i += step {
		part := p[i:min(len(p), i+step)]
		if !slices.ContainsFunc(part, func(b byte) bool { return b != 0 }) {
			continue
		}
		if _, err := f.WriteAt(part, off+int64(i)); err != nil {
			return err
		}
	}
	return nil
}
