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
	"golang.org/x/sys/unix"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
	"nidalo/internal/disk"
)

// Rescue judges what can still be read of an array that is not in service, and then copies it out, serves it, or brings
// it back in place, when asked. But for the last nothing is written to its disks. A long judging goes on when Rescue returns.
func (s *Service) Rescue(req control.RescueRequest) (*control.RescueReply, error) {
	if req.Watch || req.Stop {
		return s.watchRescue(req)
	}
	if r, err := s.named(req.Array); err == nil && r.Failure() == nil {
		return nil, &control.Error{What: fmt.Sprintf("array %q is in service: all that it has can be read there", r.Name()),
			Hints: []string{"nidalo status " + r.Name()}}
	}
	if err := s.rescueBusy(req.Array); err != nil {
		if req.Copy == "" && !req.Serve && !req.InPlace {
			return s.watchRescue(req)
		}
		return nil, err
	}
	if err := s.mayRescue(req); err != nil {
		return nil, err
	}
	if err := s.lookAnew(); err != nil {
		return nil, err
	}
	run, err := s.prepareRescue(req, s.peek)
	if err != nil {
		return nil, err
	}
	if run.array == nil { // a state has to be chosen first
		return &run.reply, nil
	}
	if err := s.beginRescue(run); err != nil {
		run.array.Abandon()
		return nil, err
	}
	wait := run.judged
	if req.Copy == "" && !req.Serve && !req.InPlace {
		wait = run.over
	}
	select {
	case <-wait:
	case <-time.After(rescuePatience):
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if run.err != nil {
		return nil, run.err
	}
	return run.snapshot(), nil
}

// mayRescue refuses what cannot be asked for together, or not here.
func (s *Service) mayRescue(req control.RescueRequest) error {
	switch {
	case req.Serve && !s.opt.Stays:
		return &control.Error{What: "nobody can be served by a command that ends: no service runs in this home", Hints: []string{"nidalo serve   runs one; then say this again"}}
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

// prepareRescue opens what is left of an array. The array of what is returned is nil when a state has to be chosen.
func (s *Service) prepareRescue(req control.RescueRequest, open func(source) (disk.Disk, error)) (run *salvage, err error) {
	found, bad, err := s.remains(req, open)
	release := func(but map[disk.Disk]bool) {
		for _, c := range found {
			if !but[c.Disk] {
				_ = c.Disk.Close()
			}
		}
	}
	if err != nil {
		release(nil)
		return nil, err
	}
	states := roster.States(found)
	if len(states) == 0 {
		release(nil)
		return nil, &control.Error{What: fmt.Sprintf("what is left of array %q is no member by itself, such as a copy that was not finished", req.Array),
			Hints: []string{"nidalo disks   shows what the disks hold"}}
	}
	at, err := chooseState(req, states)
	out := control.RescueReply{Array: states[0].Record.Name, Level: string(states[0].Record.Level), State: at + 1, Stage: control.RescueJudging, Old: req.Old}
	for i, st := range states {
		if i == 0 || !st.Past || at == i {
			out.States = append(out.States, describeState(i+1, st))
		}
	}
	if err != nil {
		release(nil)
		if req.Copy != "" || req.Serve || req.InPlace || req.State > 0 {
			return nil, err
		}
		out.Doubt, out.State, out.Stage = err.Error(), 0, control.RescueDone
		return &salvage{reply: out}, nil
	}
	chosen := states[at]
	slots, err := chosen.Readmits()
	if len(req.Images) > 0 {
		slots = nil
	}
	if err != nil && req.InPlace {
		release(nil)
		return nil, &control.Error{What: fmt.Sprintf("array %q: %v", out.Array, err), Hints: []string{"nidalo rescue " + out.Array + "   says what can be copied out"}}
	}
	for _, slot := range slots {
		out.Back = append(out.Back, chosen.Use[slot].Disk.Identity())
	}
	held := map[disk.Disk]bool{}
	for _, p := range chosen.Use {
		held[p.Disk] = true
	}
	release(held)
	a, notes, err := array.Rescue(chosen, bad, req.Old, array.Config{Limits: s.config().Limits.engine(), Now: s.opt.Now})
	if err != nil {
		for d := range held {
			if d != nil {
				_ = d.Close()
			}
		}
		return nil, &control.Error{What: fmt.Sprintf("array %q: nothing can be made of what is left: %v", out.Array, err)}
	}
	out.Capacity, out.Written, out.Notes = a.Capacity(), a.Used(), notes
	return &salvage{req: req, reply: out, array: a, id: chosen.Record.Array, epoch: chosen.Record.EpochID,
		stop: make(chan struct{}), judged: make(chan struct{}), over: make(chan struct{})}, nil
}

// remains opens all that carries a record of the array: disks found, and images with lists of what is bad in them.
func (s *Service) remains(req control.RescueRequest, open func(source) (disk.Disk, error)) (found []roster.Candidate, bad map[disk.Disk][]disk.Range, err error) {
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
			if bad[d], err = readRanges(image.Bad); err != nil {
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
		p := disk.NewPatient(d, disk.Patience{Read: lookPatience, Hung: lookPatience}, func() bool { return true })
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
func (s *Service) membersOf(id uuid.UUID) (out []source) {
	s.seen.mu.Lock()
	order, known := s.seen.order, s.seen.known
	s.seen.mu.Unlock()
	for _, src := range order {
		if r, _, ok := s.memberAt(known[src].info.Identity); ok && r.ID() == id {
			out = append(out, src)
		}
	}
	return out
}

// readRanges reads a list of what could not be read of a disk.
func readRanges(path string) (out []disk.Range, err error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, errors.New(path + " cannot be read as a list of ranges")
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.New(path + " cannot be read as a list of ranges")
	}
	lines := bufio.NewScanner(io.LimitReader(f, 64<<20))
	for n := 1; lines.Scan(); n++ {
		text, _, _ := strings.Cut(lines.Text(), "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		var r disk.Range
		if _, err := fmt.Sscanf(text, "%d %d", &r.Offset, &r.Length); err != nil || r.Offset < 0 || r.Length <= 0 || r.Offset+r.Length < 0 || len(strings.Fields(text)) != 2 {
			// Nothing of the line is shown, and nothing of the file but this: it may be one that whoever asks cannot read.
			return nil, fmt.Errorf("%s is not a list of ranges (line %d)", path, n)
		}
		out = append(out, r)
	}
	if lines.Err() != nil {
		return nil, errors.New(path + " cannot be read as a list of ranges")
	}
	return out, nil
}

func chooseState(req control.RescueRequest, states []roster.State) (int, error) {
	switch {
	case req.State > len(states):
		return 0, &control.Error{What: fmt.Sprintf("there is no state %d: what is left agrees about %d", req.State, len(states))}
	case req.State > 0:
		return req.State - 1, nil
	case slices.ContainsFunc(states[1:], func(s roster.State) bool { return !s.Past }):
		return 0, &control.Error{What: fmt.Sprintf("the disks of array %q went on without each other: there are %d states of it", states[0].Record.Name, len(states)),
			Hints: []string{fmt.Sprintf("nidalo rescue -state 1 %s   judges the one with the highest epoch", states[0].Record.Name)}}
	}
	return 0, nil
}

func describeState(number int, st roster.State) control.RescueState {
	out := control.RescueState{Number: number, Epoch: st.Record.Epoch}
	for slot, e := range st.Record.Roster {
		p := st.Use[slot]
		m := control.RescueMember{Slot: slot, Disk: state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial}, Use: "not there"}
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
