package disk

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"sync"

	"nidalo/core/record"
)

// Contents is what a look at the head and the tail of a disk found.
type Contents struct {
	Record   *record.Record // the newer valid copy of a member record, or nil
	Damaged  error          // a record was there but could not be read, and no other copy could
	Findings []string       // everything else that was recognised, in words
}

// Blank says that nothing was found at all.
func (c Contents) Blank() bool {
	return c.Record == nil && c.Damaged == nil && len(c.Findings) == 0
}

// edge is how much of the head and of the tail of a disk is looked at.
const edge = 1 << 20

// signatures are the fixed marks of common formats: they are only read, to refuse to overwrite what is there.
var signatures = []struct {
	offset int
	mark   string
	what   string
}{
	{512, "EFI PART", "a GPT partition table"},
	{4096, "EFI PART", "a GPT partition table"},
	{0x438, "\x53\xef", "an ext2/3/4 file system"},
	{0, "XFSB", "an XFS file system"},
	{0x10040, "_BHRfS_M", "a copy-on-write file system"},
	{3, "NTFS    ", "an NTFS file system"},
	{3, "EXFAT   ", "an exFAT file system"},
	{54, "FAT1", "a FAT file system"},
	{82, "FAT32", "a FAT file system"},
	{4086, "SWAPSPACE2", "swap space"},
	{0, "LUKS\xba\xbe", "an encrypted volume"},
	{0x8001, "CD001", "an ISO 9660 file system"},
	{512, "LABELONE", "another system's volume"},
	{4096, "\xfc\x4e\x2b\xa9", "another system's array"},
	{0, "\xfc\x4e\x2b\xa9", "another system's array"},
	{510, "\x55\xaa", "a partition table or boot sector"},
}

// Look reads the head and the tail of a disk.
func Look(d Disk) (Contents, error) {
	var c Contents
	size := d.Size()
	if size < 2*edge {
		return c, fmt.Errorf("%s: %d bytes is too small to be used", d.Identity(), size)
	}
	// One bad place near an end is no reason not to know a member.
	if c.Record, c.Damaged = ReadRecord(d); c.Record != nil || c.Damaged != nil {
		return c, nil
	}
	both := ends.Get().(*[2 * edge]byte)
	defer ends.Put(both)
	head, tail := both[:edge], both[edge:]
	if err := d.ReadAt(head, 0); err != nil {
		return c, err
	}
	if err := d.ReadAt(tail, size-edge); err != nil {
		return c, err
	}
	for _, s := range signatures {
		if bytes.HasPrefix(head[s.offset:], []byte(s.mark)) {
			c.Findings = append(c.Findings, s.what)
			break
		}
	}
	if len(c.Findings) == 0 {
		if backup := size&^511 - 512 - (size - edge); bytes.HasPrefix(tail[backup:], []byte("EFI PART")) {
			c.Findings = append(c.Findings, "the backup of a GPT partition table at its end")
		} else if foreignAtTail(tail, size) {
			c.Findings = append(c.Findings, "another system's array at its end")
		} else if at := firstNonZero(head); at >= 0 {
			c.Findings = append(c.Findings, fmt.Sprintf("unknown data from byte %d on", at))
		} else if at := firstNonZero(tail); at >= 0 {
			c.Findings = append(c.Findings, fmt.Sprintf("unknown data at its end, from byte %d on", size-edge+int64(at)))
		}
	}
	return c, nil
}

// foreignAtTail looks at the two places near the end where other systems keep array headers.
func foreignAtTail(tail []byte, size int64) bool {
	for _, from := range []int64{size&^0xffff - 0x10000, size&^0xfff - 0x2000} {
		at := from - (size - edge)
		if at >= 0 && at+4 <= edge && binary.LittleEndian.Uint32(tail[at:]) == 0xa92b4efc {
			return true
		}
	}
	return bytes.HasPrefix(tail[edge-512:], []byte("\xde\x11\xde\x11"))
}

// ends are buffers for the head and the tail of a disk.
var ends = sync.Pool{New: func() any { return new([2 * edge]byte) }}

var zeros [4096]byte

func firstNonZero(b []byte) int {
	i := 0
	for len(b)-i >= len(zeros) && bytes.Equal(b[i:i+len(zeros)], zeros[:]) {
		i += len(zeros)
	}
	for ; i < len(b); i++ {
		if b[i] != 0 {
			return i
		}
	}
	return -1
}

// ReadRecord reads all copies of a member record and returns the newest valid one; nil and nil when there is no trace
// of any. The last copy is at the end of the disk, which the others remember in case the disk has since grown.
func ReadRecord(d Disk) (*record.Record, error) {
	var best *record.Record
	var damage error
	try := func(off int64) {
		buf := make([]byte, record.Block)
		if off < 0 || d.ReadAt(buf, off) != nil {
			return
		}
		if n := record.Length(buf); n > len(buf) {
			if buf = make([]byte, n); d.ReadAt(buf, off) != nil {
				return
			}
		}
		r, err := record.Decode(buf)
		switch {
		case err == nil:
			if best == nil || r.Epoch > best.Epoch || r.Epoch == best.Epoch && r.Generation > best.Generation {
				best = r
			}
		case err != record.ErrAbsent && damage == nil:
			damage = fmt.Errorf("%s: %w", d.Identity(), err)
		}
	}
	for _, off := range RecordCopies(d.Size()) {
		try(off)
	}
	if best != nil && best.Place.Size < d.Size() {
		try(TailRecord(best.Place.Size))
	}
	if best != nil {
		if best.Place.Size > d.Size() {
			return nil, fmt.Errorf("%s: is a member of %q, but has %d bytes where its record says %d", d.Identity(), best.Name, d.Size(), best.Place.Size)
		}
		return best, nil
	}
	return nil, damage
}

// RecordCopies is where the copies of the record lie on a disk of the given size.
func RecordCopies(size int64) [3]int64 { return [3]int64{0, record.SecondCopy, TailRecord(size)} }

// TailRecord is where the last copy of the record lies on a disk of the given size.
func TailRecord(size int64) int64 { return size&^(record.Block-1) - record.Size }

// Wipe overwrites the head and the tail of a disk with zeros, so that it is blank.
func Wipe(d Disk) error {
	blank := make([]byte, edge)
	if err := d.WriteAt(blank, 0); err != nil {
		return err
	}
	if err := d.WriteAt(blank, d.Size()-edge); err != nil {
		return err
	}
	if r, _ := ReadRecord(d); r != nil {
		if err := d.WriteAt(blank[:record.Size], TailRecord(r.Place.Size)); err != nil {
			return err
		}
	}
	return d.Sync()
}
