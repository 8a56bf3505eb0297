// Package parity computes and solves the redundancy of one stripe.
//
// # Theory
//
// A stripe has k data strips D[0] … D[k-1] of equal length and m parity strips. Every byte position is a code of its
// own over the field GF(2^8) with the polynomial x^8+x^4+x^3+x^2+1 (0x11d), in which g = 2 generates all 255 non-zero
// elements. Addition is XOR. Parity row j (0 = P, 1 = Q, 2 = R) is
//
//	S[j] = Σ g^(j·i) · D[i]      so  P = Σ D[i],  Q = Σ g^i · D[i],  R = Σ g^2i · D[i]
//
// Any m of the k+m strips can be lost when m ≤ 3 and k ≤ 255: the equations left over for the lost data strips are rows
// of 1, x, x² at distinct x = g^i, and every square part of those that can arise has a non-zero determinant
// (H. P. Anvin, "The mathematics of RAID-6", 2004, for two rows; the third row is the same argument with x²).
//
// With k = 1 every coefficient is g^0 = 1, so each parity strip is a copy of the data: mirrors of any number of copies
// are this code with one data strip, and nothing above this package needs to treat them apart.
//
// # Kernels
//
// Encode evaluates the sums by Horner's rule, Q = D[0] + g·(D[1] + g·(D[2] + …)), so the only field operation is
// "times g" on a whole vector. kernel_generic.go has the plain version, eight bytes at a time; kernel_amd64.s has the
// same loops for AVX2 and AVX-512, and kernel_gfni_amd64.s those for processors with an instruction for it. The tests
// hold them all to a version written with logarithm tables.
package parity

import (
	"crypto/subtle"
	"errors"
	"fmt"
	"sync"
)

// MaxData is the largest number of data strips: the number of distinct powers of g.
const MaxData = 255

// MaxParity is the largest number of parity strips when there is more than one data strip.
const MaxParity = 3

// ErrTooManyLost is returned by Recover when more strips are lost than there are intact parity strips.
var ErrTooManyLost = errors.New("parity: more strips lost than parity can restore")

// piece bounds how much of each strip is worked on at a time, so that the accumulators stay in the first-level cache.
const piece = 8 << 10

// Encode sets parity[j] to row j over data. A nil parity strip is not wanted; a nil data strip counts as zeros. All
// others must have the same length. Parity strips must not overlap data strips.
func Encode(parity, data [][]byte) {
	size := stripSize(parity, data)
	if len(data) == 1 {
		for _, p := range parity {
			switch {
			case p == nil:
			case data[0] == nil:
				clear(p)
			default:
				copy(p, data[0])
			}
		}
		return
	}
	var row [MaxParity][]byte
	copy(row[:], parity)
	var hold [64][]byte
	window := hold[:0]
	for at := 0; at < size; at += piece {
		end := min(at+piece, size)
		window = window[:0]
		for _, d := range data {
			if d != nil {
				d = d[at:end]
			}
			window = append(window, d)
		}
		encodePiece(cut(row[0], at, end), cut(row[1], at, end), cut(row[2], at, end), window)
	}
}

func cut(b []byte, at, end int) []byte {
	if b == nil {
		return nil
	}
	return b[at:end]
}

func stripSize(sets ...[][]byte) int {
	for _, set := range sets {
		for _, b := range set {
			if b != nil {
				return len(b)
			}
		}
	}
	return 0
}

// encodeP uses the standard library's XOR, which is vectorised on every platform we build for.
func encodeP(p []byte, data [][]byte) {
	started := false
	for i := 0; i < len(data); i++ {
		switch {
		case data[i] == nil:
		case !started:
			next := i + 1
			for next < len(data) && data[next] == nil {
				next++
			}
			if next == len(data) {
				copy(p, data[i])
				return
			}
			subtle.XORBytes(p, data[i], data[next])
			i, started = next, true
		default:
			subtle.XORBytes(p, p, data[i])
		}
	}
	if !started {
		clear(p)
	}
}

// Update folds a change of data strip index into the parity strips: delta is old XOR new. Nil parity strips are
// skipped. k is the number of data strips of the stripe (with k = 1 the parity strips are copies).
func Update(parity [][]byte, index int, delta []byte) {
	for j, p := range parity {
		if p != nil {
			mulXor(p, delta, Coefficient(j, index))
		}
	}
}

// Coefficient is the weight of data strip index in parity row j: g^(j·index).
func Coefficient(j, index int) byte { return exp[(j*index)%255] }

// Recover restores the lost strips of one stripe in place. strips holds k data strips and then the parity strips, all of
// the same length; a data strip that is nil, and not lost, counts as zeros. lost lists the indexes whose contents are not known. A lost strip whose buffer is nil is not wanted
// and not computed; a lost parity strip can only be computed when every lost data strip has a buffer. It returns
// ErrTooManyLost when the rest does not determine the lost strips.
func Recover(strips [][]byte, k int, lost []int) error {
	m := len(strips) - k
	var gone [MaxData + 64]bool
	for _, i := range lost {
		gone[i] = true
	}
	if k == 1 {
		return recoverCopy(strips, lost, gone[:len(strips)])
	}
	if m > MaxParity {
		return fmt.Errorf("parity: %d parity strips over %d data strips: at most %d", m, k, MaxParity)
	}
	var unknown []int
	for i := 0; i < k; i++ {
		if gone[i] {
			unknown = append(unknown, i)
		}
	}
	if len(unknown) > 0 {
		if err := solve(strips, k, unknown, gone[:len(strips)]); err != nil {
			return err
		}
	}
	var rows [MaxParity][]byte
	wanted := false
	for _, i := range lost {
		if i >= k && strips[i] != nil {
			rows[i-k], wanted = strips[i], true
		}
	}
	if wanted {
		Encode(rows[:m], strips[:k])
	}
	return nil
}

func recoverCopy(strips [][]byte, lost []int, gone []bool) error {
	for i := range strips {
		if gone[i] {
			continue
		}
		for _, j := range lost {
			copy(strips[j], strips[i])
		}
		return nil
	}
	if len(lost) == 0 {
		return nil
	}
	return ErrTooManyLost
}

var scratches = sync.Pool{New: func() any { return new([MaxParity * piece]byte) }}

// solve computes the unknown data strips: the sums over the known ones are taken out of as many intact parity rows as
// there are unknowns, and the small system that is left is inverted.
func solve(strips [][]byte, k int, unknown []int, gone []bool) error {
	s, err := newSystem(len(strips)-k, k, unknown, gone)
	if err != nil {
		return err
	}
	for _, i := range unknown {
		s.whole = s.whole && strips[i] != nil
	}
	size := stripSize(strips)
	known := make([][]byte, k)
	hold := scratches.Get().(*[MaxParity * piece]byte)
	defer scratches.Put(hold)
	for at := 0; at < size; at += piece {
		end := min(at+piece, size)
		for i := range known {
			known[i] = nil
			if !gone[i] {
				known[i] = cut(strips[i], at, end)
			}
		}
		if u := s.unknown; s.plain() && recoverPQ(strips[u[0]][at:end], strips[u[1]][at:end], strips[k][at:end], strips[k+1][at:end],
			known, s.inverse[0][0], s.inverse[0][1]) {
			continue
		}
		var acc [MaxParity][]byte
		for a, j := range s.rows {
			acc[j] = hold[a*piece:][:end-at]
		}
		encodePiece(acc[0], acc[1], acc[2], known)
		s.piece(strips, acc, at, end)
	}
	return nil
}

// system is the equations that give the unknown data strips: as many rows of parity as there are unknown strips.
type system struct {
	k       int // data strips
	unknown []int
	rows    []int
	inverse [MaxParity][MaxParity]byte
	whole   bool // all unknown strips are wanted
}

func newSystem(parity, k int, unknown []int, gone []bool) (*system, error) {
	n := len(unknown)
	s := &system{k: k, unknown: unknown, whole: true}
	for j := 0; j < parity && len(s.rows) < n; j++ {
		if !gone[k+j] {
			s.rows = append(s.rows, j)
		}
	}
	if len(s.rows) < n {
		return nil, ErrTooManyLost
	}
	var matrix [MaxParity][MaxParity]byte
	for a, j := range s.rows {
		for b, i := range unknown {
			matrix[a][b] = Coefficient(j, i)
		}
	}
	var ok bool
	if s.inverse, ok = invert(matrix, n); !ok {
		return nil, ErrTooManyLost
	}
	return s, nil
}

// plain says that it is the usual one: two unknown strips, both wanted, and P and Q.
func (s *system) plain() bool {
	return len(s.unknown) == 2 && s.rows[0] == 0 && s.rows[1] == 1 && s.whole
}

// piece gives bytes at to end of the unknown strips; acc has the sums of the known ones, by row.
func (s *system) piece(strips [][]byte, acc [MaxParity][]byte, at, end int) {
	n, k, unknown, rows := len(s.unknown), s.k, s.unknown, s.rows
	if s.plain() &&
		solvePQ(strips[unknown[0]][at:end], strips[unknown[1]][at:end], acc[0], strips[k][at:end], acc[1], strips[k+1][at:end], s.inverse[0][0], s.inverse[0][1]) {
		return
	}
	for _, j := range rows {
		subtle.XORBytes(acc[j], acc[j], strips[k+j][at:end])
	}
	for b, i := range unknown {
		if strips[i] == nil {
			continue
		}
		out := strips[i][at:end]
		if b == n-1 && n > 1 && rows[0] == 0 && s.whole {
			// P says the unknown strips add up to its sum: the last one needs no multiplication.
			subtle.XORBytes(out, acc[0], strips[unknown[0]][at:end])
			for _, other := range unknown[1:b] {
				subtle.XORBytes(out, out, strips[other][at:end])
			}
			continue
		}
		mulSet(out, acc[rows[0]], s.inverse[b][0])
		for a := 1; a < n; a++ {
			mulXor(out, acc[rows[a]], s.inverse[b][a])
		}
	}
}

// invert is Gauss-Jordan elimination over the field, for the n×n upper left part of m.
func invert(m [MaxParity][MaxParity]byte, n int) (inv [MaxParity][MaxParity]byte, ok bool) {
	for i := 0; i < n; i++ {
		inv[i][i] = 1
	}
	for col := 0; col < n; col++ {
		pivot := col
		for pivot < n && m[pivot][col] == 0 {
			pivot++
		}
		if pivot == n {
			return inv, false
		}
		m[col], m[pivot] = m[pivot], m[col]
		inv[col], inv[pivot] = inv[pivot], inv[col]
		scale := reciprocal(m[col][col])
		for x := 0; x < n; x++ {
			m[col][x] = Mul(m[col][x], scale)
			inv[col][x] = Mul(inv[col][x], scale)
		}
		for row := 0; row < n; row++ {
			factor := m[row][col]
			if row == col || factor == 0 {
				continue
			}
			for x := 0; x < n; x++ {
				m[row][x] ^= Mul(factor, m[col][x])
				inv[row][x] ^= Mul(factor, inv[col][x])
			}
		}
	}
	return inv, true
}
