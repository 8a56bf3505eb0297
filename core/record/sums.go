package record

import (
	"hash/crc32"
	"slices"
)

// Sum is the checksum of one block of data: its CRC-32C, or 3 more when that is one of the special values.
func Sum(block []byte) uint32 { return special(crc32.Checksum(block, Castagnoli)) }

// special moves what would be one of the special values behind them.
func special(c uint32) uint32 {
	if c <= SumDoubt {
		c += SumDoubt + 1
	}
	return c
}

// SumsOf are the checksums of the blocks of a buffer.
func SumsOf(buf []byte) []uint32 {
	out := make([]uint32, len(buf)/Block)
	Sums(out, buf)
	return out
}

// Sums fills out with the checksums of the blocks of a buffer.
func Sums(out []uint32, buf []byte) {
	for len(out) >= len(quad{}) {
		r := sumQuad(buf)
		copy(out, r[:])
		out, buf = out[len(r):], buf[len(r)*Block:]
	}
	for i := range out {
		out[i] = Sum(buf[i*Block:][:Block])
	}
}

// Holds says whether the blocks of a buffer are as their sums say. Those never written are cleared.
func Holds(buf []byte, sums []uint32) bool {
	for len(sums) >= len(quad{}) {
		want := quad(sums)
		if slices.Contains(want[:], SumNever) {
			if !holdsEach(buf, want[:]) {
				return false
			}
		} else if sumQuad(buf) != want {
			return false
		}
		sums, buf = sums[len(want):], buf[len(want)*Block:]
	}
	return holdsEach(buf, sums)
}

func holdsEach(buf []byte, sums []uint32) bool {
	for i, s := range sums {
		block := buf[i*Block:][:Block]
		if s == SumNever {
			clear(block)
		} else if Sum(block) != s {
			return false
		}
	}
	return true
}

// quad is the checksums of four neighbouring blocks, which are computed together. An instruction for CRC-32C can begin in every cycle, and takes three.
// Those of one block wait for one another, so a block alone takes three times as long, unless it is split into parts whose sums are combined. Reading in
// four places also keeps more transfers from memory under way.
type quad [4]uint32

// sumQuad sums the first four blocks of a buffer.
func sumQuad(buf []byte) (r quad) {
	crcQuad(buf[:len(r)*Block], &r)
	for i, c := range r {
		r[i] = special(c)
	}
	return r
}

// crcEach is crcQuad by the library.
func crcEach(buf []byte, out *quad) {
	for i := range out {
		out[i] = crc32.Checksum(buf[i*Block:][:Block], Castagnoli)
	}
}
