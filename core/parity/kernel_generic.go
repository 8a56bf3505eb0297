package parity

import (
	"crypto/subtle"
	"encoding/binary"
)

// The plain kernels. Vectors of any length; eight bytes at a time, the rest one by one.

const (
	highBits = 0x8080808080808080
	lowSeven = 0x7f7f7f7f7f7f7f7f
)

// double multiplies eight field elements by g: shift each byte left and fold the bit that fell out with 0x1d.
func double(x uint64) uint64 {
	return (x&lowSeven)<<1 ^ (x&highBits)>>7*0x1d
}

func double1(x byte) byte {
	return x<<1 ^ (x>>7)*0x1d
}

// hornerGeneric sets acc to Σ g^(shift·i)·data[i], with shift doublings per step.
func hornerGeneric(acc []byte, data [][]byte, shift int) {
	clear(acc)
	for i := len(data) - 1; i >= 0; i-- {
		d := data[i]
		at := 0
		for ; at+8 <= len(acc); at += 8 {
			x := binary.LittleEndian.Uint64(acc[at:])
			for s := 0; s < shift; s++ {
				x = double(x)
			}
			if d != nil {
				x ^= binary.LittleEndian.Uint64(d[at:])
			}
			binary.LittleEndian.PutUint64(acc[at:], x)
		}
		for ; at < len(acc); at++ {
			x := acc[at]
			for s := 0; s < shift; s++ {
				x = double1(x)
			}
			if d != nil {
				x ^= d[at]
			}
			acc[at] = x
		}
	}
}

func mulSetGeneric(dst, src []byte, c byte) {
	low, high := nibble[c][:16], nibble[c][16:]
	for i, x := range src {
		dst[i] = low[x&15] ^ high[x>>4]
	}
}

func mulXorGeneric(dst, src []byte, c byte) {
	if c == 1 {
		subtle.XORBytes(dst, dst, src)
		return
	}
	low, high := nibble[c][:16], nibble[c][16:]
	for i, x := range src {
		dst[i] ^= low[x&15] ^ high[x>>4]
	}
}
