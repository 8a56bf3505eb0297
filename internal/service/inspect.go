package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/disks"
)

// carried is a record, and the name of the disk that carries it.
type carried struct {
	name string
	*record.Record
}

// Inspect tells what disks carry, members or not, and compares those of one array.
func (s *Service) Inspect(names []string) (*control.InspectReply, error) {
	out := &control.InspectReply{Disks: []control.Inspected{}, Compared: []string{}}
	byArray := map[uuid.UUID][]carried{}
	for _, name := range names {
		i, r, err := s.inspect(name)
		if err != nil {
			return nil, err
		}
		if r != nil {
			byArray[r.Array] = append(byArray[r.Array], carried{say.Short(i.Disk), r})
		}
		out.Disks = append(out.Disks, i)
	}
	ids := slices.SortedFunc(maps.Keys(byArray), func(x, y uuid.UUID) int { return slices.Compare(x[:], y[:]) })
	for _, id := range ids {
		if group := byArray[id]; len(group) > 1 {
			out.Compared = append(out.Compared, compare(group)...)
		}
	}
	return out, nil
}

// inspect tells what one disk carries, and the record if it has one.
func (s *Service) inspect(name string) (i control.Inspected, r *record.Record, err error) {
	src, err := s.seen.Locate(name)
	if err != nil {
		return i, nil, err
	}
	d, err := s.seen.Peek(src)
	if err != nil {
		return i, nil, &control.Error{What: fmt.Sprintf("disk %s: %v", name, err)}
	}
	defer d.Close()
	p := disk.NewPatient(d, disk.Patience{Read: disks.Patience, Hung: disks.Patience}, func() bool { return true })
	i = control.Inspected{Disk: d.Identity(), Size: d.Size(), Note: strings.Join(s.notesOf(d.Identity()), "")}
	i.InService = s.opt.Stays && s.inService(i.Disk)
	if now, err := p.Health(); err == nil {
		w := s.heard(i.Disk.Name(), now)
		i.Health = &control.DiskSays{Verdict: w.verdict, Readings: now, Grew: now.Since(w.first), Since: w.since}
	}
	f, err := array.Inspect(p)
	if err != nil {
		i.Unreadable = err.Error()
	} else if f.Record == nil {
		if c, err := disk.Look(p); err == nil {
			i.Holds, i.Blank = c.Findings, c.Blank()
		}
	}
	i.Copies, i.Damaged = f.Copies[:], f.Damaged
	if f.Record != nil {
		describeRecord(&i, f)
	}
	return i, f.Record, nil
}

// compare says which record of one array is the newest, and what the others have that is not as it says.
func compare(group []carried) (out []string) {
	newest := group[0]
	for _, c := range group {
		if c.Epoch > newest.Epoch || c.Epoch == newest.Epoch && c.Generation > newest.Generation {
			newest = c
		}
	}
	tell := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	tell("of array %s, %s carries the newest record: epoch %d", newest.Name, newest.name, newest.Epoch)
	for _, c := range group {
		switch {
		case c.Epoch == newest.Epoch && c.EpochID != newest.EpochID:
			tell("%s went on by itself: it has epoch %d as well, but another one", c.name, c.Epoch)
		case c.Epoch+1 < newest.Epoch:
			tell("%s is behind: epoch %d", c.name, c.Epoch)
		case newest.Slot != c.Slot && (c.Slot >= len(newest.Roster) || newest.Roster[c.Slot].ID != c.Member):
			tell("%s is not in the newest roster any more: slot %d has another member", c.name, c.Slot)
		}
		for slot, e := range c.Roster {
			if slot < len(newest.Roster) && e.Condition != newest.Roster[slot].Condition {
				tell("%s believes that slot %d is %s; the newest says %s", c.name, slot, e.Condition, newest.Roster[slot].Condition)
			}
		}
	}
	return out
}

// describeRecord puts a record into words.
func describeRecord(i *control.Inspected, f array.Finding) {
	r := f.Record
	i.Array, i.ArrayID, i.Level, i.Slot, i.Epoch, i.Generation, i.Clean = r.Name, r.Array.String(), string(r.Level), r.Slot, r.Epoch, r.Generation, r.Clean
	i.Member, i.Strip, i.Created, i.Written = r.Member.String(), r.Strip, r.Created, f.Written
	for slot, e := range r.Roster {
		line := fmt.Sprintf("slot %d  %-10s  %s", slot, e.Condition, state.Identity{Path: e.Path, Bay: e.Bay, Model: e.Model, Serial: e.Serial})
		if e.Left.Epoch > 0 {
			line += fmt.Sprintf("  left in epoch %d", e.Left.Epoch)
		}
		if e.Onto != uuid.Nil {
			line += "  being copied onto another disk"
		}
		if slot == r.Slot {
			line += "  (this disk)"
		}
		i.Roster = append(i.Roster, line)
	}
	if c := r.Changes; c.Since != 0 {
		i.Changed = fmt.Sprintf("%d of %d parts since epoch %d, when the first member left", c.Marked(), record.ChangeParts, c.Since)
	}
	switch {
	case f.Head == nil:
		i.Journal = "its heads cannot be read"
	case f.Entries == 0:
		i.Journal = fmt.Sprintf("empty; everything before batch %d is in place", f.Head.Batch)
	default:
		i.Journal = fmt.Sprintf("%d entries, batches %d to %d, %s of blocks that may not be in place", f.Entries, f.First, f.Last, say.Size(f.Pending))
	}
}
