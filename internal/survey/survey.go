// Package survey tells which block devices this host has and what they are, from what the kernel says of them. It performs
// no operation on any device, so a disk that hangs or sleeps does not matter to it.
package survey

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"nidalo/core/state"
)

// Device is a block device: a whole disk, or a partition of one.
type Device struct {
	Name     string // the kernel's, such as sda or nvme0n1p2
	Path     string
	Number   string // "major:minor"
	Sequence uint64 // another one whenever a disk comes: a name and a number may be given again; 0 where the kernel has none
	Size     int64  // bytes
	Sector   int    // bytes: the least that can be read or written
	Physical int    // bytes: the least that the disk writes without reading first
	Model    string
	Serial   string // of the disk, also for a partition
	WWN      string // world-wide name of what is stored, the same over all paths to it
	Bus      string // "SCSI", "SATA", "USB", "NVMe", "virtio", "loop", "mapped", or empty
	Address  string // where on its bus it is, in words
	Bay      string // by the enclosure's own count, where an enclosure tells
	Rotating bool
	ReadOnly bool
	Zones    string   // "host-managed" where the disk only takes writes in order
	State    string   // the kernel's word for what has become of it, such as "running" or "offline"; often empty
	Disk     string   // of a partition: the name of its whole disk
	Part     int      // of a partition: its number
	Start    int64    // of a partition: its first byte on the whole disk
	Parts    []string // names of its partitions, in their order
	Holders  []string // names of devices made of it
	Below    []string // names of devices that it is made of
	File     string   // of a loop device: what it is made of
}

// Whole says that the device is no partition.
func (d Device) Whole() bool { return d.Disk == "" }

// Mark is another one whenever the device is another one, or of another size.
func (d Device) Mark() string {
	return d.Name + "/" + d.Number + "/" + strconv.FormatUint(d.Sequence, 10) + "/" + strconv.FormatInt(d.Size, 10)
}

// Named is the serial of the disk, and of which partition where it is one.
func (d Device) Named() string {
	if d.Serial == "" || d.Whole() {
		return d.Serial
	}
	return d.Serial + state.PartMark + strconv.Itoa(d.Part)
}

// Host is the block devices of a host at one moment, by their names.
type Host map[string]Device

// Sorted lists whole disks in the order in which people count them, each followed by its partitions.
func (h Host) Sorted() (out []Device) {
	for _, d := range h {
		if _, there := h[d.Disk]; d.Whole() || !there {
			out = append(out, d)
		}
	}
	slices.SortFunc(out, func(x, y Device) int {
		return cmp.Or(cmp.Compare(len(x.Name), len(y.Name)), cmp.Compare(x.Name, y.Name))
	})
	slices.SortStableFunc(out, func(x, y Device) int { return cmp.Compare(letters(x.Name), letters(y.Name)) })
	for i := len(out) - 1; i >= 0; i-- {
		var parts []Device
		for _, p := range out[i].Parts {
			if d, there := h[p]; there {
				parts = append(parts, d)
			}
		}
		out = slices.Insert(out, i+1, parts...)
	}
	return out
}

// letters is the kind of a device, the beginning of its name.
func letters(name string) string {
	if strings.HasPrefix(name, "sd") || strings.HasPrefix(name, "vd") {
		return name[:2]
	}
	return strings.TrimRight(name, "0123456789")
}

// ByNumber finds a device by "major:minor".
func (h Host) ByNumber(number string) (Device, bool) {
	for _, d := range h {
		if d.Number == number {
			return d, true
		}
	}
	return Device{}, false
}

// Twins are the other devices that are paths to the same disk, or made of nothing but paths to it: a multipath device. The one
// to use is first: a multipath device, or else the path with the lowest name.
func (h Host) Twins(d Device) (all []Device) {
	if d.WWN == "" || !d.Whole() {
		return []Device{d}
	}
	for _, other := range h {
		if other.Whole() && other.WWN == d.WWN && other.Size == d.Size {
			all = append(all, other)
		}
	}
	slices.SortFunc(all, func(x, y Device) int {
		return cmp.Or(-cmp.Compare(len(x.Below), len(y.Below)), cmp.Compare(len(x.Name), len(y.Name)), cmp.Compare(x.Name, y.Name))
	})
	return all
}
