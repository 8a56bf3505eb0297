// Package content tells where what lies on a volume ends, as far as its first bytes tell: so that a volume is not made smaller than a file system on it.
package content

import "encoding/binary"

// Head is how many bytes of the beginning of a volume are looked at.
const Head = 4096

// FileSystem is a file system that takes up a volume from its beginning on.
type FileSystem struct {
	Kind    string // "ext4" for all of its family, or "XFS"
	End     int64  // the byte behind it
	Shrinks string // the command that makes it smaller, to be followed by the device and the size; empty: nothing does
	Grows   string // the command that makes it as large as the volume, to be followed by the device, or by where it is mounted
	Mounted bool   // the latter
}

// Find finds a file system by the first Head bytes of a volume; ok is false where none is known. What the bytes claim is kept within the range of an int64.
// The formats are those of the kernel's documentation: ext4 (super block at byte 1024, little-endian) and XFS (at byte 0, big-endian).
func Find(head []byte) (fs FileSystem, ok bool) {
	if len(head) < Head {
		return fs, false
	}
	if end, ok := ext(head[1024:]); ok {
		return FileSystem{Kind: "ext4", End: end, Shrinks: "resize2fs", Grows: "resize2fs"}, true
	}
	if end, ok := xfs(head); ok {
		return FileSystem{Kind: "XFS", End: end, Grows: "xfs_growfs", Mounted: true}, true
	}
	return fs, false
}

func ext(super []byte) (end int64, ok bool) {
	const manyBlocks = 0x80 // of the incompatible features: the count of blocks has 64 bits
	if binary.LittleEndian.Uint16(super[0x38:]) != 0xef53 {
		return 0, false
	}
	blocks := uint64(binary.LittleEndian.Uint32(super[4:]))
	if binary.LittleEndian.Uint32(super[0x60:])&manyBlocks != 0 {
		blocks |= uint64(binary.LittleEndian.Uint32(super[0x150:])) << 32
	}
	return product(blocks, binary.LittleEndian.Uint32(super[0x18:]), 10)
}

func xfs(super []byte) (end int64, ok bool) {
	if string(super[:4]) != "XFSB" {
		return 0, false
	}
	return product(binary.BigEndian.Uint64(super[8:]), uint32(super[124]), 0)
}

// product is so many blocks of 2^(log+base) bytes.
func product(blocks uint64, log uint32, base uint32) (int64, bool) {
	if log > 20 || blocks > 1<<62>>(log+base) {
		return 0, false
	}
	return int64(blocks << (log + base)), true
}
