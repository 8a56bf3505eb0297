package service

import (
	"fmt"
	"slices"

	"github.com/google/uuid"

	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/disks"
)

// Inspect tells what disks carry, members or not, and compares those of one array.
func (s *Service) Inspect(names []string) (*control.InspectReply, error) {
	out := &control.InspectReply{Disks: []control.Inspected{}, Compared: []string{}}
	type carried struct {
		name string
		r    *record.Record
	}
	byArray := map[uuid.UUID][]carried{}
	for _, name := range names {
		src, err := s.seen.Locate(name)
		if err != nil {
			return nil, err
		}
		d, err := s.seen.Peek(src)
		if err != nil {
			return nil, &control.Error{What: fmt.Sprintf("disk %s: %v", name, err)}
		}
		p := disk.NewPatient(d, disk.Patience{Read: disks.Patience, Hung: disks.Patience}, func() bool { return true })
		i := control.Inspected{Disk: d.Identity(), Size: d.Size()}
		i.InService = s.inService(i.Disk)
		f, err := array.Inspect(p)
		if err != nil {
			i.Unreadable = err.Error()
		} else if f.Record == nil {
			if c, err := disk.Look(p); err == nil {
				i.Holds = c.Findings
				i.Blank = c.Blank()
			}
		}
		_ = d.Close()
		i.Copies, i.Damaged = f.Copies[:], f.Damaged
		if r := f.Record; r != nil {
			describeRecord(&i, f)
			byArray[r.Array] = append(byArray[r.Array], carried{shortName(i.Disk), r})
		}
		out.Disks = append(out.Disks, i)
	}
	ids := make([]uuid.UUID, 0, len(byArray))
	for id := range byArray {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(x, y uuid.UUID) int { return slices.Compare(x[:], y[:]) })
	for _, id := range ids {
		group := byArray[id]
		if len(group) < 2 {
			continue
		}
		newest := group[0]
		for _, c := range group {
			if c.r.Epoch > newest.r.Epoch || c.r.Epoch == newest.r.Epoch && c.r.Generation > newest.r.Generation {
				newest = c
			}
		}
		say := func(format string, args ...any) { out.Compared = append(out.Compared, fmt.Sprintf(format, args...)) }
		say("of array %s, %s carries the newest record: epoch %d", newest.r.Name, newest.name, newest.r.Epoch)
		for _, c := range group {
			switch {
			case c.r.Epoch == newest.r.Epoch && c.r.EpochID != newest.r.EpochID:
				say("%s went on by itself: it has epoch %d as well, but another one", c.name, c.r.Epoch)
			case c.r.Epoch+1 < newest.r.Epoch:
				say("%s is behind: epoch %d", c.name, c.r.Epoch)
			case newest.r.Slot != c.r.Slot && (c.r.Slot >= len(newest.r.Roster) || newest.r.Roster[c.r.Slot].ID != c.r.Member):
				say("%s is not in the newest roster any more: slot %d has another member", c.name, c.r.Slot)
			}
			for slot, e := range c.r.Roster {
				if slot < len(newest.r.Roster) && e.Condition != newest.r.Roster[slot].Condition {
					say("%s believes that slot %d is %s; the newest says %s", c.name, slot, e.Condition, newest.r.Roster[slot].Condition)
				}
			}
		}
	}
	return out, nil
}

// describe puts a record into words.
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
