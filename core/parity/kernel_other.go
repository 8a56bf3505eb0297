//go:build !amd64

package parity

// Kernel names the kernels in use on this machine.
func Kernel() string { return "plain" }

// encodePiece sets the rows that are not nil; no vector is longer than piece.
func encodePiece(p, q, r []byte, data [][]byte) {
	if p != nil {
		encodeP(p, data)
	}
	if q != nil {
		hornerGeneric(q, data, 1)
	}
	if r != nil {
		hornerGeneric(r, data, 2)
	}
}

func mulSet(dst, src []byte, c byte) { mulSetGeneric(dst, src, c) }
func mulXor(dst, src []byte, c byte) { mulXorGeneric(dst, src, c) }

func solvePQ(x, y, sp, p, sq, q []byte, c0, c1 byte) bool { return false }

func recoverPQ(x, y, p, q []byte, known [][]byte, c0, c1 byte) bool { return false }
