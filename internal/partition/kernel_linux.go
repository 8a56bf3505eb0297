package partition

import (
	"errors"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"nidalo/internal/disk"
)

// blkpg is struct blkpg_ioctl_arg of the kernel's linux/blkpg.h, and blkpgPart its struct blkpg_partition.
type blkpg struct {
	op, flags, length int32
	_                 int32
	data              unsafe.Pointer
}

type blkpgPart struct {
	start, length int64 // bytes
	number        int32
	_             [128]byte // names, which the kernel does not look at
	_             int32
}

const (
	blkpgAdd    = 1
	blkpgRemove = 2
	blkpgResize = 3
)

// Tell makes the kernel know the partitions of a table as they are now, singly, so that others of the disk may be in use: those that
// are gone are removed, new ones added, others resized. was is the table that it knew before, or nil.
func Tell(d *disk.File, was, now *Table) error {
	one := func(op int32, p Part) error {
		data := blkpgPart{start: p.Start, length: p.Length, number: int32(p.Number)}
		arg := blkpg{op: op, length: int32(unsafe.Sizeof(data)), data: unsafe.Pointer(&data)}
		var err error
		for range 50 { // udev may be looking at the disk just now, which ends
			if err = d.Ioctl(unix.BLKPG, unsafe.Pointer(&arg)); !errors.Is(err, unix.EBUSY) {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		return err
	}
	known := map[int]Part{}
	if was != nil {
		for _, p := range was.Parts {
			known[p.Number] = p
		}
	}
	for _, p := range now.Parts {
		old, there := known[p.Number]
		delete(known, p.Number)
		switch {
		case there && old.Start == p.Start && old.Length == p.Length:
			continue
		case there && old.Start == p.Start:
			if err := one(blkpgResize, p); err != nil {
				return err
			}
			continue
		case there:
			if err := one(blkpgRemove, old); err != nil && !errors.Is(err, unix.ENXIO) {
				return err
			}
		}
		// It is there already when another program told the kernel.
		if err := one(blkpgAdd, p); err != nil && !errors.Is(err, unix.EBUSY) {
			return err
		}
	}
	for _, p := range known {
		if err := one(blkpgRemove, p); err != nil && !errors.Is(err, unix.ENXIO) {
			return err
		}
	}
	return nil
}
