package parity

// Tables of GF(2^8) with polynomial 0x11d and generator 2. exp is doubled so that sums of two logarithms need no
// reduction.
var (
	exp [510]byte
	log [256]byte
	// nibble[c] holds c·x for the low and the high four bits of x: sixteen products each, as byte shuffles want them.
	nibble [256][32]byte
	// affine[c] is multiplying by c as a matrix over the bits: its byte 7-i has the bits of x that go into bit i of c·x.
	affine [256]uint64
)

func init() {
	x := 1
	for i := 0; i < 255; i++ {
		exp[i], exp[i+255] = byte(x), byte(x)
		log[x] = byte(i)
		x <<= 1
		if x&0x100 != 0 {
			x ^= 0x11d
		}
	}
	for c := range nibble {
		for v := 0; v < 16; v++ {
			nibble[c][v] = Mul(byte(c), byte(v))
			nibble[c][16+v] = Mul(byte(c), byte(v<<4))
		}
		for j := range 8 {
			product := Mul(byte(c), 1<<j)
			for i := range 8 {
				affine[c] |= uint64(product>>i&1) << (8*(7-i) + j)
			}
		}
	}
}

// Mul multiplies two field elements.
func Mul(a, b byte) byte {
	if a == 0 || b == 0 {
		return 0
	}
	return exp[int(log[a])+int(log[b])]
}

func reciprocal(a byte) byte { return exp[255-int(log[a])] }
