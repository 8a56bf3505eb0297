package record

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
)

// Pages are the 4 KiB blocks of the checksum table and the written map. Both carry a head of 24 bytes:
//
//	0  4  checksum of bytes 4…4095
//	4  4  kind: 'S','U','M','1' or 'M','A','P','1'
//	8  8  tag: the member's, XOR the page's number; a page that strayed from elsewhere does not match
//	16 8  epoch in which a checksum page was changed last: what a member that was away has missed carries a later one
//
// A checksum page then holds one 32-bit sum for each of SumsPerPage blocks of data. Two values are not checksums:
// SumNever (the block was never written, or trimmed: it reads as zeros and its bytes mean nothing) and SumLost (its
// content is not known and must come from redundancy). A map page holds one bit for each checksum page, set once that
// page has anything but SumNever in it; while the bit is clear the checksum page is never read.
const (
	pageHead    = 24
	SumsPerPage = (Block - pageHead) / 4 // 1018 blocks, a little under 4 MiB of data
	BitsPerPage = (Block - pageHead) * 8 // 32576 pages, about 126 GiB of data
)

// Special values of a block's sum.
const (
	SumNever uint32 = 0
	SumLost  uint32 = 1
)

// Sum is the checksum of one block of data: CRC-32C, moved out of the way of the two special values.
func Sum(block []byte) uint32 {
	c := crc32.Checksum(block, Castagnoli)
	if c <= SumLost {
		c += 2
	}
	return c
}

// PageKind tells the two kinds of page apart.
type PageKind uint8

// The kinds of page.
const (
	SumPage PageKind = iota
	MapPage
)

var pageMagic = [...]uint32{SumPage: 0x314d5553, MapPage: 0x3150414d}

// Tag is a short form of a member's identity that its pages and journal entries carry.
func (r *Record) Tag() uint64 { return binary.LittleEndian.Uint64(r.Member[:]) }

// SealPage writes the head of a page.
func SealPage(buf []byte, kind PageKind, tag uint64, number int64) {
	binary.LittleEndian.PutUint32(buf[4:], pageMagic[kind])
	binary.LittleEndian.PutUint64(buf[8:], tag^uint64(number))
	binary.LittleEndian.PutUint32(buf, crc32.Checksum(buf[4:Block], Castagnoli))
}

// CheckPage verifies the head of a page read from a member.
func CheckPage(buf []byte, kind PageKind, tag uint64, number int64) error {
	switch {
	case len(buf) != Block || binary.LittleEndian.Uint32(buf) != crc32.Checksum(buf[4:], Castagnoli):
		return fmt.Errorf("page %d: wrong checksum: %w", number, ErrFormat)
	case binary.LittleEndian.Uint32(buf[4:]) != pageMagic[kind]:
		return fmt.Errorf("page %d: of another kind: %w", number, ErrFormat)
	case binary.LittleEndian.Uint64(buf[8:]) != tag^uint64(number):
		return fmt.Errorf("page %d: belongs elsewhere: %w", number, ErrFormat)
	}
	return nil
}

// PageSum returns entry i of a checksum page.
func PageSum(buf []byte, i int) uint32 {
	return binary.LittleEndian.Uint32(buf[pageHead+4*i:])
}

// SetPageSum sets entry i of a checksum page.
func SetPageSum(buf []byte, i int, sum uint32) {
	binary.LittleEndian.PutUint32(buf[pageHead+4*i:], sum)
}

// PageEpoch is the epoch in which a checksum page was changed last.
func PageEpoch(buf []byte) uint64 { return binary.LittleEndian.Uint64(buf[16:]) }

// SetPageEpoch notes the epoch of a change.
func SetPageEpoch(buf []byte, epoch uint64) { binary.LittleEndian.PutUint64(buf[16:], epoch) }

// PageBit returns bit i of a map page.
func PageBit(buf []byte, i int) bool { return buf[pageHead+i/8]>>(i%8)&1 == 1 }

// SetPageBit sets or clears bit i of a map page.
func SetPageBit(buf []byte, i int, on bool) {
	if on {
		buf[pageHead+i/8] |= 1 << (i % 8)
	} else {
		buf[pageHead+i/8] &^= 1 << (i % 8)
	}
}

// PageBits is the bits of a map page as bytes, lowest bit first.
func PageBits(buf []byte) []byte { return buf[pageHead:Block] }
