package service

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/partition"
)

// A disk can serve several arrays with a partition for each. Nidalo writes the partitions itself, in free room only.

// carving is a partition that is to be made on a disk.
type carving struct {
	info  control.DiskInfo
	table *partition.Table // as it will be
	was   *partition.Table // as it is; nil where there is none
	part  partition.Part
}

// carvings works out the partitions of a size for some disks. Nothing is written.
func (s *Service) carvings(names []string, use int64, array string) (out []carving, err error) {
	for _, name := range names {
		src, err := s.seen.Locate(name)
		if err != nil {
			return nil, err
		}
		info := s.lookAt(src)
		refuse := func(format string, args ...any) error {
			return &control.Error{What: fmt.Sprintf("disk %s: ", info.Identity) + fmt.Sprintf(format, args...)}
		}
		hw := info.Hardware
		switch {
		case hw == nil:
			return nil, refuse("only real disks have partitions; name it without -use")
		case hw.Part > 0:
			return nil, refuse("it is a partition already; name the whole disk, or leave out -use")
		case info.State == state.DiskReadOnly || hw.ReadOnly:
			return nil, refuse("it is read-only")
		case info.State != state.DiskBlank && len(hw.Parts) == 0:
			return nil, notBlank(info)
		}
		d, err := s.seen.Peek(src)
		if err != nil {
			return nil, person(err)
		}
		c := carving{info: info}
		if c.table, err = partition.Read(d, hw.Sector); errors.Is(err, partition.ErrNone) && info.State == state.DiskBlank {
			c.table, err = partition.New(d, hw.Sector), nil
		} else if err == nil {
			was := *c.table
			was.Parts = slices.Clone(was.Parts)
			c.was = &was
		}
		_ = d.Close()
		if err != nil {
			return nil, refuse("%v", err)
		}
		if c.part, err = c.table.Add(use, array); err != nil {
			return nil, refuse("%v; the largest free room has %s", err, say.Size(largest(c.table)))
		}
		out = append(out, c)
	}
	return out, nil
}

func largest(t *partition.Table) (n int64) {
	for _, r := range t.Free() {
		n = max(n, r.Length)
	}
	return n
}

// identity is what the partition will be known by.
func (c carving) identity() state.Identity {
	id := c.info.Identity
	if id.Serial != "" {
		id.Serial += fmt.Sprint(state.PartMark, c.part.Number)
	}
	id.Path = partPath(id.Path, c.part.Number)
	return id
}

// partPath is the path of a partition as the kernel names it.
func partPath(disk string, number int) string {
	if last := disk[len(disk)-1]; last >= '0' && last <= '9' {
		return fmt.Sprintf("%sp%d", disk, number)
	}
	return fmt.Sprintf("%s%d", disk, number)
}

// carve writes the tables, tells the kernel, and returns the paths of the new partitions. All disks are looked at before the first is
// written.
func (s *Service) carve(list []carving) (paths []string, err error) {
	for _, c := range list {
		if err := s.writeTable(c.info, c.was, c.table); err != nil {
			return nil, err
		}
		paths = append(paths, c.identity().Path)
	}
	return paths, s.awaitNodes(paths)
}

// nodesFor is how long the nodes of new partitions may take.
const nodesFor = 10 * time.Second

// writeTable writes a partition table and has the kernel know it.
func (s *Service) writeTable(info control.DiskInfo, was, now *partition.Table) error {
	d, err := disk.OpenTable(info.Path)
	if err != nil {
		return person(err)
	}
	defer d.Close()
	// Somebody else may have changed it since it was looked at.
	switch again, err := partition.Read(d, info.Hardware.Sector); {
	case was == nil && !errors.Is(err, partition.ErrNone), was != nil && (err != nil || again.ID != was.ID || len(again.Parts) != len(was.Parts)):
		return &control.Error{What: fmt.Sprintf("disk %s: its partition table changed just now", info.Identity), Hints: []string{"give the command again"}}
	}
	if err := now.Write(d); err != nil {
		return person(err)
	}
	if err := partition.Tell(d, was, now); err != nil {
		return &control.Error{What: fmt.Sprintf("disk %s: the partition table is written, but the system does not take it over: %v", info.Identity, err)}
	}
	return nil
}
