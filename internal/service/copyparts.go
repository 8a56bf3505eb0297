package service

import (
	"fmt"
	"slices"

	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/partition"
)

// Partitions that no array has are copied byte for byte when a whole disk is replaced, where that gives the same.

// mayCopy refuses to copy partitions byte for byte where that would not give the same.
func (s *Service) mayCopy(like control.DiskInfo, from *partition.Table, others []partition.Part, to control.DiskInfo) error {
	if like.Hardware.Sector != to.Hardware.Sector {
		return &control.Error{What: fmt.Sprintf("%s has sectors of %d bytes and %s of %d: copies byte for byte would not work", like.Identity, like.Hardware.Sector, to.Identity, to.Hardware.Sector),
			Hints: []string{"leave out -copy-others, and make the file systems anew"}}
	}
	for _, p := range others {
		path := partPath(like.Path, p.Number)
		for _, held := range disk.WritersOf(path) {
			return &control.Error{What: fmt.Sprintf("%s of %s is in use (%s): a copy would not be whole", p, like.Identity, held), Hints: []string{"unmount it, or mount it read-only, first"}}
		}
		i := slices.IndexFunc(from.Parts, func(o partition.Part) bool { return o.Number == p.Number })
		if i < 0 || from.Parts[i].Length > p.Length {
			return &control.Error{What: fmt.Sprintf("%s is smaller on the new disk", p)}
		}
	}
	return nil
}

// copyPart copies a partition byte for byte.
func copyPart(from, to string) error {
	in, err := disk.OpenReadOnly(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := disk.Open(to)
	if err != nil {
		return err
	}
	defer out.Close()
	buf := make([]byte, 1<<20)
	for at := int64(0); at < in.Size(); at += int64(len(buf)) {
		n := min(int64(len(buf)), in.Size()-at)
		if err := in.ReadAt(buf[:n], at); err != nil {
			return err
		}
		if err := out.WriteAt(buf[:n], at); err != nil {
			return err
		}
	}
	return out.Sync()
}
