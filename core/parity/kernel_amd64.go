package parity

import "golang.org/x/sys/cpu"

// The kernels for amd64 work on columns of 64 bytes, those for AVX-512 on two at a time, those for GFNI on two or four; what is left over at the
// end goes through the plain ones.
const column = 64

//go:noescape
func encodeQAVX2(p, q *byte, data **byte, k, n int)

//go:noescape
func encodeQRAVX2(p, q, r *byte, data **byte, k, n int)

//go:noescape
func encodeQAVX512(p, q *byte, data **byte, k, n int)

//go:noescape
func encodeQRAVX512(p, q, r *byte, data **byte, k, n int)

//go:noescape
func encodeQGFNI(p, q *byte, data **byte, k, n int, by2 uint64)

//go:noescape
func encodeQRGFNI(p, q, r *byte, data **byte, k, n int, by2, by4 uint64)

//go:noescape
func mulGFNI(dst, src *byte, c uint64, n int, add bool)

//go:noescape
func recoverPQGFNI(x, y, p, q *byte, data **byte, k, n int, by2, c0, c1 uint64)

//go:noescape
func mulAVX2(dst, src *byte, table *[32]byte, n int, add bool)

//go:noescape
func solvePQAVX2(x, y, sp, p, sq, q *byte, tables *[64]byte, n int)

var (
	useAVX2   = cpu.X86.HasAVX2
	useAVX512 = cpu.X86.HasAVX512F && cpu.X86.HasAVX512BW
	useGFNI   = useAVX512 && cpu.X86.HasAVX512GFNI
	zeros     [piece]byte
)

// Kernel names the kernels in use on this machine.
func Kernel() string {
	switch {
	case useGFNI:
		return "gfni"
	case useAVX512:
		return "avx512"
	case useAVX2:
		return "avx2"
	}
	return "plain"
}

// fused runs one of the kernels that compute P along with the other rows, over the part of the vectors that is whole
// columns, and returns that length. Rows that are not wanted go to a scratch vector.
func fused(p, q, r []byte, data [][]byte) int {
	size := max(len(q), len(r))
	whole := size &^ (column - 1)
	switch {
	case useGFNI:
		whole = size &^ (4*column - 1)
	case useAVX512:
		whole = size &^ (2*column - 1)
	}
	if !useAVX2 || whole == 0 || len(data) == 0 {
		return 0
	}
	var hold [64]*byte
	pointers := begins(hold[:0], data)
	var unwanted *byte
	if p == nil || q == nil {
		scratch := scratches.Get().(*[MaxParity * piece]byte) // not on the stack, where it would be cleared first
		defer scratches.Put(scratch)
		unwanted = &scratch[0]
	}
	at := func(row []byte) *byte {
		if row == nil {
			return unwanted
		}
		return &row[0]
	}
	switch {
	case r == nil && useGFNI:
		encodeQGFNI(at(p), at(q), &pointers[0], len(data), whole, affine[2])
	case useGFNI:
		encodeQRGFNI(at(p), at(q), at(r), &pointers[0], len(data), whole, affine[2], affine[4])
	case r == nil && useAVX512:
		encodeQAVX512(at(p), at(q), &pointers[0], len(data), whole)
	case r == nil:
		encodeQAVX2(at(p), at(q), &pointers[0], len(data), whole)
	case useAVX512:
		encodeQRAVX512(at(p), at(q), at(r), &pointers[0], len(data), whole)
	default:
		encodeQRAVX2(at(p), at(q), at(r), &pointers[0], len(data), whole)
	}
	return whole
}

// begins are where the strips begin; those that are not there are zeros.
func begins(pointers []*byte, data [][]byte) []*byte {
	for _, d := range data {
		if d == nil {
			d = zeros[:]
		}
		pointers = append(pointers, &d[0])
	}
	return pointers
}

func encodePiece(p, q, r []byte, data [][]byte) {
	if q == nil && r == nil {
		if p != nil {
			encodeP(p, data)
		}
		return
	}
	if done := fused(p, q, r, data); done < max(len(q), len(r)) {
		tail := make([][]byte, len(data))
		for i, d := range data {
			if d != nil {
				tail[i] = d[done:]
			}
		}
		if p != nil {
			encodeP(p[done:], tail)
		}
		if q != nil {
			hornerGeneric(q[done:], tail, 1)
		}
		if r != nil {
			hornerGeneric(r[done:], tail, 2)
		}
	}
}

func mulSet(dst, src []byte, c byte) {
	whole := mulWhole(dst, src, c, false)
	mulSetGeneric(dst[whole:], src[whole:], c)
}

// mulWhole multiplies the part of a vector that is whole columns, and returns its length. With add the products are XORed into dst.
func mulWhole(dst, src []byte, c byte, add bool) (whole int) {
	if useGFNI {
		if whole = len(src) &^ (2*column - 1); whole > 0 {
			mulGFNI(&dst[0], &src[0], affine[c], whole, add)
		}
	} else if useAVX2 {
		if whole = len(src) &^ (column - 1); whole > 0 {
			mulAVX2(&dst[0], &src[0], &nibble[c], whole, add)
		}
	}
	return whole
}

func mulXor(dst, src []byte, c byte) {
	whole := 0
	if c != 1 {
		whole = mulWhole(dst, src, c, true)
	}
	mulXorGeneric(dst[whole:], src[whole:], c)
}

// solvePQ sets x and y to the two unknown data strips whose sums over the known strips are sp and sq, where P and Q are
// stored as p and q, and (c0, c1) is the first row of the inverted system. It reports false when it cannot.
func solvePQ(x, y, sp, p, sq, q []byte, c0, c1 byte) bool {
	if !useAVX2 || len(x) == 0 || len(x)%column != 0 {
		return false
	}
	var tables [64]byte
	copy(tables[:32], nibble[c0][:])
	copy(tables[32:], nibble[c1][:])
	solvePQAVX2(&x[0], &y[0], &sp[0], &p[0], &sq[0], &q[0], &tables, len(x))
	return true
}

// recoverPQ is what encodePiece and solvePQ do together, in one pass. It reports false when it cannot.
func recoverPQ(x, y, p, q []byte, known [][]byte, c0, c1 byte) bool {
	if !useGFNI || len(x) == 0 || len(x)%(4*column) != 0 {
		return false
	}
	var hold [64]*byte
	pointers := begins(hold[:0], known)
	recoverPQGFNI(&x[0], &y[0], &p[0], &q[0], &pointers[0], len(known), len(x), affine[2], affine[c0], affine[c1])
	return true
}
