// Package partition reads, changes and writes the partition tables of disks, GPT and MBR, and tells the kernel. Everything is in
// bytes, so a table can be carried over to a disk with sectors of another size.
package partition

import (
	"cmp"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/diskfs/go-diskfs/partition/gpt"
	"github.com/diskfs/go-diskfs/partition/mbr"
	"github.com/google/uuid"

	"nidalo/core/state"
	"nidalo/internal/disk"
)

// Kind is a kind of table.
type Kind string

// The kinds.
const (
	GPT Kind = "GPT"
	MBR Kind = "MBR"
)

// Member is the type of partitions that Nidalo makes for members of arrays: an identifier of our own.
const Member = "9B7E33C6-6F1D-4E0B-A5D2-4C1F0E6A8D37"

// memberMBR is the same in an MBR, which has no room for identifiers: "non-FS data".
const memberMBR = 0xda

// ErrNone says that a disk has no partition table.
var ErrNone = errors.New("no partition table")

// Table is the partitions of a disk.
type Table struct {
	Kind   Kind
	Parts  []Part // in the order of their numbers
	Size   int64  // of the disk, bytes
	Sector int    // bytes
	ID     string // of the disk; empty: a new one when it is written
	Boot   []byte // boot code before the table: 440 bytes
}

// Part is a partition.
type Part struct {
	Number        int
	Start, Length int64  // bytes
	Type          string // an identifier, or for an MBR two hexadecimal digits
	Name          string
	ID            string // empty: a new one when it is written
	Attributes    uint64 // of GPT; of MBR 0x80 where it is the one to boot from
}

// align is what new partitions begin and end at multiples of, bytes.
const align = 1 << 20

// edge is how much of the head and of the tail of a disk a table may take, bytes.
const edge = 1 << 20

// New is an empty GPT for a disk.
func New(d disk.Disk, sector int) *Table {
	return &Table{Kind: GPT, Size: d.Size(), Sector: sector, Boot: make([]byte, bootCode)}
}

const bootCode = 440

// Read reads the table of a disk with sectors of a size. It returns ErrNone where there is none, and refuses tables that it could not
// write again as they are.
func Read(d disk.Disk, sector int) (*Table, error) {
	im, err := load(d)
	if err != nil {
		return nil, err
	}
	t := &Table{Size: d.Size(), Sector: sector, Boot: slices.Clone(im.head[:bootCode])}
	if im.head[510] != 0x55 || im.head[511] != 0xaa {
		return nil, fmt.Errorf("%s: %w", d.Identity(), ErrNone)
	}
	for i := range 4 {
		switch im.head[446+16*i+4] {
		case 0xee:
			return t, t.readGPT(im, d)
		case 0x05, 0x0f, 0x85:
			return nil, fmt.Errorf("%s: its MBR has logical partitions, which cannot be carried over", d.Identity())
		}
	}
	return t, t.readMBR(im, d)
}

func (t *Table) readGPT(im *image, d disk.Disk) error {
	t.Kind = GPT
	raw, err := gpt.Read(im, t.Sector, t.Sector)
	if err != nil {
		return fmt.Errorf("%s: %w", d.Identity(), err)
	}
	t.ID = raw.GUID
	for _, p := range raw.Partitions {
		if p.Type == gpt.Unused {
			continue
		}
		if p.End < p.Start || p.End > uint64(t.Size)/uint64(t.Sector) {
			return fmt.Errorf("%s: partition %d lies outside of the disk", d.Identity(), p.Index)
		}
		t.Parts = append(t.Parts, Part{Number: p.Index, Start: int64(p.Start) * int64(t.Sector), Length: int64(p.End-p.Start+1) * int64(t.Sector),
			Type: strings.ToUpper(string(p.Type)), Name: p.Name, ID: p.GUID, Attributes: p.Attributes})
	}
	return t.check()
}

func (t *Table) readMBR(im *image, d disk.Disk) error {
	t.Kind = MBR
	raw, err := mbr.Read(im, t.Sector, t.Sector)
	if err != nil {
		return fmt.Errorf("%s: %w", d.Identity(), err)
	}
	t.ID = fmt.Sprintf("%08x", binary.LittleEndian.Uint32(im.head[bootCode:]))
	for i, p := range raw.Partitions {
		if p == nil || p.Type == mbr.Empty || p.Size == 0 {
			continue
		}
		own := Part{Number: i + 1, Start: int64(p.Start) * int64(t.Sector), Length: int64(p.Size) * int64(t.Sector), Type: fmt.Sprintf("%02x", byte(p.Type))}
		if p.Bootable {
			own.Attributes = 0x80
		}
		t.Parts = append(t.Parts, own)
	}
	if len(t.Parts) == 0 {
		// The mark at the end of the sector alone is also that of a boot sector.
		return fmt.Errorf("%s: %w", d.Identity(), ErrNone)
	}
	return t.check()
}

// check refuses partitions that overlap, lie outside, or are no whole sectors.
func (t *Table) check() error {
	sorted := t.byPlace()
	first, last := t.room()
	for i, p := range sorted {
		switch {
		case p.Start%int64(t.Sector) != 0 || p.Length%int64(t.Sector) != 0 || p.Length <= 0:
			return fmt.Errorf("partition %d is not made of whole sectors of %d bytes", p.Number, t.Sector)
		case p.Start < first || p.Start+p.Length > last:
			return fmt.Errorf("partition %d does not lie within the disk (bytes %d to %d)", p.Number, first, last)
		case i > 0 && sorted[i-1].Start+sorted[i-1].Length > p.Start:
			return fmt.Errorf("partitions %d and %d overlap", sorted[i-1].Number, p.Number)
		}
	}
	return nil
}

func (t *Table) byPlace() []Part {
	return slices.SortedFunc(slices.Values(t.Parts), func(x, y Part) int { return cmp.Compare(x.Start, y.Start) })
}

// room is where partitions may lie: behind the table and before its second copy.
func (t *Table) room() (first, last int64) {
	sector := int64(t.Sector)
	if t.Kind == MBR {
		return sector, min(t.Size/sector, 1<<32) * sector
	}
	entries := (int64(128*128) + sector - 1) / sector
	return (2 + entries) * sector, (t.Size/sector - 1 - entries) * sector
}

// Free lists the gaps between partitions, from one multiple of 1 MiB to another.
func (t *Table) Free() (out []disk.Range) {
	first, last := t.room()
	at := max(first, align)
	gap := func(until int64) {
		from, to := (at+align-1)/align*align, until/align*align
		if to > from {
			out = append(out, disk.Range{Offset: from, Length: to - from})
		}
	}
	for _, p := range t.byPlace() {
		gap(p.Start)
		at = max(at, p.Start+p.Length)
	}
	gap(last)
	return out
}

// mostNumbers is how many partitions a table has room for.
func (t *Table) mostNumbers() int {
	if t.Kind == MBR {
		return 4
	}
	return 128
}

// Add makes a partition for a member in the first gap that is large enough. A length of 0 takes the largest gap as a whole.
func (t *Table) Add(length int64, name string) (Part, error) {
	if length < 0 {
		return Part{}, fmt.Errorf("a partition of %d bytes", length)
	}
	length = (length + align - 1) / align * align
	free := t.Free()
	at := slices.IndexFunc(free, func(r disk.Range) bool { return r.Length >= length })
	if length == 0 {
		for i, r := range free {
			if at < 0 || r.Length > free[at].Length {
				at = i
			}
		}
	}
	if at < 0 {
		return Part{}, fmt.Errorf("no gap of %d bytes is left", length)
	}
	p := Part{Start: free[at].Offset, Length: cmp.Or(length, free[at].Length), Type: Member, Name: name}
	if t.Kind == MBR {
		p.Type, p.Name = fmt.Sprintf("%02x", memberMBR), ""
	}
	for n := 1; n <= t.mostNumbers(); n++ {
		if !slices.ContainsFunc(t.Parts, func(o Part) bool { return o.Number == n }) {
			p.Number = n
			t.Parts = append(t.Parts, p)
			slices.SortFunc(t.Parts, func(x, y Part) int { return x.Number - y.Number })
			return p, nil
		}
	}
	return Part{}, fmt.Errorf("the table has room for %d partitions only", t.mostNumbers())
}

// For is the same table for another disk: new identifiers; everything else, places by bytes, as it was. With grow the last
// partition takes the rest of a larger disk.
func (t *Table) For(size int64, sector int, grow bool) (*Table, error) {
	out := &Table{Kind: t.Kind, Size: size, Sector: sector, Boot: slices.Clone(t.Boot), Parts: slices.Clone(t.Parts)}
	for i := range out.Parts {
		out.Parts[i].ID = ""
	}
	if sorted := out.byPlace(); grow && len(sorted) > 0 {
		last := sorted[len(sorted)-1]
		if _, end := out.room(); end/align*align > last.Start+last.Length {
			i := slices.IndexFunc(out.Parts, func(p Part) bool { return p.Number == last.Number })
			out.Parts[i].Length = end/align*align - last.Start
		}
	}
	return out, out.check()
}

// Write writes the table: its second copy first, so that a disk never has only a first one that is half written.
func (t *Table) Write(d disk.Disk) error {
	if err := t.check(); err != nil {
		return fmt.Errorf("%s: %w", d.Identity(), err)
	}
	im, err := load(d)
	if err != nil {
		return err
	}
	copy(im.head, t.Boot)
	if t.Kind == MBR {
		err = t.writeMBR(im)
	} else {
		err = t.writeGPT(im)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", d.Identity(), err)
	}
	return im.store(d)
}

func (t *Table) writeGPT(im *image) error {
	raw := &gpt.Table{LogicalSectorSize: t.Sector, PhysicalSectorSize: t.Sector, GUID: t.ID, ProtectiveMBR: true}
	for _, p := range t.Parts {
		raw.Partitions = append(raw.Partitions, &gpt.Partition{Index: p.Number, Start: uint64(p.Start) / uint64(t.Sector), End: uint64(p.Start+p.Length)/uint64(t.Sector) - 1,
			Size: uint64(p.Length), Type: gpt.Type(p.Type), Name: p.Name, GUID: cmp.Or(p.ID, uuid.NewString()), Attributes: p.Attributes})
	}
	return raw.Write(im, t.Size)
}

func (t *Table) writeMBR(im *image) error {
	raw := &mbr.Table{LogicalSectorSize: t.Sector, PhysicalSectorSize: t.Sector}
	for n := 1; n <= 4; n++ {
		raw.Partitions = append(raw.Partitions, &mbr.Partition{})
		for _, p := range t.Parts {
			if p.Number != n {
				continue
			}
			var kind byte
			if _, err := fmt.Sscanf(p.Type, "%02x", &kind); err != nil {
				return fmt.Errorf("partition %d: type %q", n, p.Type)
			}
			if uint64(p.Start+p.Length)/uint64(t.Sector) > 1<<32 {
				return fmt.Errorf("partition %d ends beyond what an MBR can say", n)
			}
			raw.Partitions[n-1] = &mbr.Partition{Bootable: p.Attributes&0x80 != 0, Type: mbr.Type(kind), Start: uint32(p.Start / int64(t.Sector)), Size: uint32(p.Length / int64(t.Sector))}
		}
	}
	if err := raw.Write(im, t.Size); err != nil {
		return err
	}
	// The library leaves the identifier of the disk alone.
	id := make([]byte, 4)
	if _, err := fmt.Sscanf(t.ID, "%08x", &im.scratch); t.ID != "" && err == nil {
		binary.LittleEndian.PutUint32(id, im.scratch)
	} else if _, err := rand.Read(id); err != nil {
		return err
	}
	copy(im.head[bootCode:], id)
	return nil
}

// Name is how people call a partition by its table: number, size, name.
func (p Part) String() string {
	if p.Name != "" {
		return fmt.Sprintf("partition %d (%s)", p.Number, state.Printable(p.Name))
	}
	return fmt.Sprintf("partition %d", p.Number)
}
