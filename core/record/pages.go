package record

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"github.com/google/uuid"
)

// Pages are the 4 KiB blocks of the checksum table, the written map and the witness table. A page is eight sectors of 512
// bytes, since only a sector never tears, each with a head of its own:
//
//	0  4  checksum of the kind, tag, page and sector number, and of bytes 4…511 of the sector; what strayed from elsewhere
//	      does not match
//	4  6  number of the checkpoint that wrote it
//	10 6  in the first sector of a checksum page: the epoch in which the page was changed last
//
// So a page that was torn by a crash is a mix of whole sectors, older and newer, and counts as its newest: what the older ones
// lack is still in the journal.
//
// A checksum page then holds one 32-bit sum for each of SumsPerPage blocks of data. Three values are not checksums: SumNever,
// SumLost and SumDoubt. A map page holds one bit for each checksum page, set once that page has anything but SumNever in it;
// while the bit is clear the checksum page is never read. A witness page holds, for each of WitnessesPerPage pages of another
// member, which checkpoint wrote it last and the checksum it had then.
const (
	sectorSize  = 512
	sectorHead  = 16
	sectorRoom  = sectorSize - sectorHead
	sectors     = Block / sectorSize
	sumsInOne   = sectorRoom / 4
	SumsPerPage = sectors * sumsInOne      // 992 blocks, a little under 4 MiB of data
	BitsPerPage = sectors * sectorRoom * 8 // 31744 pages, about 120 GiB of data

	witnessTag       = 8 // bytes before the witnesses of a sector: the tag of the member they are about
	witnessSize      = 12
	witnessesInOne   = (sectorRoom - witnessTag) / witnessSize
	WitnessesPerPage = sectors * witnessesInOne // 320 pages, about 1.2 GiB of data
)

// Special values of a block's sum.
const (
	SumNever uint32 = 0 // never written, or trimmed: it reads as zeros and its bytes mean nothing
	SumLost  uint32 = 1 // its contents are not known, and must come from redundancy
	SumDoubt uint32 = 2 // its sum is not to be believed, so redundancy has to say what its contents are
)

// Unknown says that a sum does not tell what a block holds: it is lost or in doubt.
func Unknown(sum uint32) bool { return sum == SumLost || sum == SumDoubt }

// givenUp is what a block holds whose contents were lost, and with which the parity of its stripe was worked out again, so that the others in the stripe are
// protected. It reads as an error until it is written. SumGivenUp is its sum.
var (
	givenUp    = bytes.Repeat([]byte("the contents of this place were lost, and it was given up. \n\n\n\n\n"), Block/64)
	SumGivenUp = Sum(givenUp)
)

// GiveUp makes a block one that was given up.
func GiveUp(block []byte) { copy(block, givenUp) }

// GivenUp says whether a block is one.
func GivenUp(block []byte) bool { return bytes.Equal(block, givenUp) }

// Readable says whether blocks with some sums can be read as they are.
func Readable(sums []uint32) bool {
	for _, s := range sums {
		if Unknown(s) || s == SumGivenUp {
			return false
		}
	}
	return true
}

// PageKind tells the kinds of page apart.
type PageKind uint8

// The kinds of page.
const (
	SumPage PageKind = iota
	MapPage
	WitnessPage
)

var pageMagic = [...]uint32{SumPage: 0x334d5553, MapPage: 0x3350414d, WitnessPage: 0x33544957}

// Tag is a short form of a member's identity that its pages and journal entries carry.
func (r *Record) Tag() uint64 { return TagOf(r.Member) }

// TagOf is Tag for a member's identity.
func TagOf(member uuid.UUID) uint64 { return binary.LittleEndian.Uint64(member[:]) }

// sectorSum is the checksum of a sector of a page.
func sectorSum(buf []byte, kind PageKind, tag uint64, page int64, sector int) uint32 {
	var seed [24]byte
	binary.LittleEndian.PutUint32(seed[:], pageMagic[kind])
	binary.LittleEndian.PutUint32(seed[4:], uint32(sector))
	binary.LittleEndian.PutUint64(seed[8:], tag)
	binary.LittleEndian.PutUint64(seed[16:], uint64(page))
	s := buf[sector*sectorSize:][:sectorSize]
	return crc32.Update(crc32.Checksum(seed[:], Castagnoli), Castagnoli, s[4:])
}

// SealPage writes the heads of a page: it is written by the given checkpoint.
func SealPage(buf []byte, kind PageKind, tag uint64, page int64, checkpoint uint64) {
	for i := range sectors {
		put48(buf[i*sectorSize+4:], checkpoint)
		binary.LittleEndian.PutUint32(buf[i*sectorSize:], sectorSum(buf, kind, tag, page, i))
	}
}

// CheckPage verifies the heads of a page read from a member, and returns the numbers of the checkpoints that wrote its newest
// and its oldest sector. They differ where the power went in the middle of a write.
func CheckPage(buf []byte, kind PageKind, tag uint64, page int64) (newest, oldest uint64, err error) {
	if len(buf) != Block {
		return 0, 0, fmt.Errorf("page %d of %d bytes: %w", page, len(buf), ErrFormat)
	}
	for i := range sectors {
		if binary.LittleEndian.Uint32(buf[i*sectorSize:]) != sectorSum(buf, kind, tag, page, i) {
			return 0, 0, fmt.Errorf("page %d: wrong checksum: %w", page, ErrFormat)
		}
		of := get48(buf[i*sectorSize+4:])
		if newest = max(newest, of); i == 0 {
			oldest = of
		}
		oldest = min(oldest, of)
	}
	return newest, oldest, nil
}

// PageSumOf is the checksum of a page as a whole, as its witness has it.
func PageSumOf(buf []byte) uint32 { return crc32.Checksum(buf, Castagnoli) }

func put48(b []byte, v uint64) {
	binary.LittleEndian.PutUint32(b, uint32(v))
	binary.LittleEndian.PutUint16(b[4:], uint16(v>>32))
}

func get48(b []byte) uint64 {
	return uint64(binary.LittleEndian.Uint32(b)) | uint64(binary.LittleEndian.Uint16(b[4:]))<<32
}

// MaxCheckpoint is the highest number a checkpoint can have.
const MaxCheckpoint = 1<<48 - 1

func sumAt(i int) int { return i/sumsInOne*sectorSize + sectorHead + 4*(i%sumsInOne) }

// PageSum returns entry i of a checksum page.
func PageSum(buf []byte, i int) uint32 { return binary.LittleEndian.Uint32(buf[sumAt(i):]) }

// PageSums fills out with the entries from i on.
func PageSums(buf []byte, i int, out []uint32) {
	for len(out) > 0 {
		at, n := sumAt(i), min(len(out), sumsInOne-i%sumsInOne)
		for j := range n {
			out[j] = binary.LittleEndian.Uint32(buf[at+4*j:])
		}
		out, i = out[n:], i+n
	}
}

// SetPageSum sets entry i of a checksum page.
func SetPageSum(buf []byte, i int, sum uint32) { binary.LittleEndian.PutUint32(buf[sumAt(i):], sum) }

// PageEpoch is the epoch in which a checksum page was changed last.
func PageEpoch(buf []byte) uint64 { return get48(buf[10:]) }

// SetPageEpoch notes the epoch of a change.
func SetPageEpoch(buf []byte, epoch uint64) { put48(buf[10:], epoch) }

func bitAt(i int) (at int, mask byte) {
	return i/8/sectorRoom*sectorSize + sectorHead + i/8%sectorRoom, 1 << (i % 8)
}

// PageBit returns bit i of a map page.
func PageBit(buf []byte, i int) bool {
	at, mask := bitAt(i)
	return buf[at]&mask != 0
}

// SetPageBit sets or clears bit i of a map page.
func SetPageBit(buf []byte, i int, on bool) {
	at, mask := bitAt(i)
	if on {
		buf[at] |= mask
	} else {
		buf[at] &^= mask
	}
}

// NextPageBit is the first bit from i on that is set, below end; end when there is none.
func NextPageBit(buf []byte, i, end int) int {
	for i < end {
		at, mask := bitAt(i)
		if mask == 1 && buf[at] == 0 {
			i += 8
			continue
		}
		if buf[at]&mask != 0 {
			return i
		}
		i++
	}
	return end
}

// Witness is what is known of a page of another member.
type Witness struct {
	Checkpoint uint64 // that wrote it last; 0: nothing is known
	Sum        uint32 // of the page then, see PageSumOf
}

// PageWitness returns entry i of a witness page that is about the member with a tag; zero when it is about another.
func PageWitness(buf []byte, tag uint64, i int) Witness {
	s := buf[i/witnessesInOne*sectorSize+sectorHead:][:sectorRoom]
	if binary.LittleEndian.Uint64(s) != tag {
		return Witness{}
	}
	e := s[witnessTag+witnessSize*(i%witnessesInOne):]
	return Witness{get48(e), binary.LittleEndian.Uint32(e[6:])}
}

// SetPageWitness sets entry i of a witness page. What was known of another member in that sector is dropped.
func SetPageWitness(buf []byte, tag uint64, i int, w Witness) {
	s := buf[i/witnessesInOne*sectorSize+sectorHead:][:sectorRoom]
	if binary.LittleEndian.Uint64(s) != tag {
		clear(s)
		binary.LittleEndian.PutUint64(s, tag)
	}
	e := s[witnessTag+witnessSize*(i%witnessesInOne):]
	put48(e, w.Checkpoint)
	binary.LittleEndian.PutUint32(e[6:], w.Sum)
}

// AllAre says whether all of some sums have one value.
func AllAre(sums []uint32, value uint32) bool {
	for _, v := range sums {
		if v != value {
			return false
		}
	}
	return true
}
