package parity

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// rowByLogarithms is the definition, byte by byte: what every kernel must equal.
func rowByLogarithms(j int, data [][]byte, size int) []byte {
	out := make([]byte, size)
	for i, d := range data {
		for b := range d {
			out[b] ^= Mul(Coefficient(j, i), d[b])
		}
	}
	return out
}

func random(seed uint64, n, size int) [][]byte {
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), byte(seed >> 16), byte(seed >> 24)})
	out := make([][]byte, n)
	for i := range out {
		out[i] = make([]byte, size)
		_, _ = r.Read(out[i])
	}
	return out
}

// eachKernel runs f with every kernel this machine has.
func eachKernel(t *testing.T, f func(t *testing.T)) {
	t.Run(Kernel(), f)
	forKernels(t, f)
}

func TestFieldIsAField(t *testing.T) {
	seen := map[byte]bool{}
	for i := 0; i < 255; i++ {
		require.False(t, seen[exp[i]], "g^%d repeats", i)
		seen[exp[i]] = true
		require.EqualValues(t, 1, Mul(exp[i], reciprocal(exp[i])))
	}
	require.EqualValues(t, 0x1d, Mul(0x80, 2), "the polynomial is 0x11d")
}

func TestKernelsEqualTheDefinition(t *testing.T) {
	eachKernel(t, func(t *testing.T) {
		for _, size := range []int{1, 7, 63, 64, 65, 4096, piece - 1, piece + 129} {
			for _, k := range []int{2, 3, 8, 61} {
				data := random(uint64(size*100+k), k, size)
				if k > 3 {
					data[2] = nil
				}
				for wanted := 1; wanted < 8; wanted++ {
					rows := make([][]byte, 3)
					for j := range rows {
						if wanted>>j&1 == 1 {
							rows[j] = make([]byte, size)
						}
					}
					Encode(rows, data)
					for j := range rows {
						if rows[j] != nil {
							require.True(t, bytes.Equal(rowByLogarithms(j, data, size), rows[j]),
								"size %d, k %d, row %d of %03b", size, k, j, wanted)
						}
					}
				}
			}
		}
	})
}

func TestUpdateEqualsEncode(t *testing.T) {
	eachKernel(t, func(t *testing.T) {
		data := random(1, 7, 4096)
		rows := random(2, 3, 4096)
		Encode(rows, data)
		fresh := random(3, 1, 4096)[0]
		delta := make([]byte, 4096)
		for i := range delta {
			delta[i] = data[4][i] ^ fresh[i]
		}
		Update(rows, 4, delta)
		data[4] = fresh
		for j := range rows {
			require.Equal(t, rowByLogarithms(j, data, 4096), rows[j])
		}
	})
}

func TestEveryLossUpToTheParityIsRecovered(t *testing.T) {
	eachKernel(t, func(t *testing.T) {
		for _, shape := range [][2]int{{1, 1}, {1, 4}, {2, 1}, {3, 1}, {2, 2}, {6, 2}, {2, 3}, {8, 3}} {
			for _, size := range []int{300, piece + 512} { // the second is whole columns of every kernel
				everyLoss(t, shape[0], shape[1], size)
			}
		}
	})
}

// everyLoss loses every set of strips, and wants those up to the parity back.
func everyLoss(t *testing.T, k, m, size int) {
	whole := random(uint64(k*10+m), k+m, size)
	Encode(whole[k:], whole[:k])
	for set := 0; set < 1<<(k+m); set++ {
		var lost []int
		strips := make([][]byte, k+m)
		for i := range strips {
			strips[i] = bytes.Clone(whole[i])
			if set>>i&1 == 1 {
				lost = append(lost, i)
				clear(strips[i])
			}
		}
		err := Recover(strips, k, lost)
		if len(lost) > m {
			if k > 1 || len(lost) == k+m {
				require.ErrorIs(t, err, ErrTooManyLost, "%d+%d, lost %v", k, m, lost)
			}
			continue
		}
		require.NoError(t, err)
		for i := range whole {
			require.True(t, bytes.Equal(whole[i], strips[i]), "%d+%d of %d bytes, lost %v: strip %d", k, m, size, lost, i)
		}
	}
}

func TestStripsWithoutBufferAreNeitherReadNorComputed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		k := rapid.IntRange(2, 10).Draw(t, "k")
		m := rapid.IntRange(2, 3).Draw(t, "m")
		whole := random(uint64(rapid.Uint32().Draw(t, "seed")), k+m, 64)
		Encode(whole[k:], whole[:k])
		wanted := rapid.IntRange(0, k-1).Draw(t, "wanted")
		unwanted := rapid.IntRange(0, k+m-1).Filter(func(i int) bool { return i != wanted }).Draw(t, "unwanted")
		strips := make([][]byte, k+m)
		for i := range strips {
			strips[i] = bytes.Clone(whole[i])
		}
		clear(strips[wanted])
		strips[unwanted] = nil
		require.NoError(t, Recover(strips, k, []int{wanted, unwanted}))
		require.Equal(t, whole[wanted], strips[wanted])
		require.Nil(t, strips[unwanted])
	})
}

func BenchmarkEncode(b *testing.B) {
	for _, shape := range [][2]int{{8, 1}, {8, 2}, {8, 3}} {
		b.Run(fmt.Sprintf("%d+%d", shape[0], shape[1]), func(b *testing.B) {
			strips := random(1, shape[0]+shape[1], 64<<10)
			b.SetBytes(int64(shape[0]) * 64 << 10)
			for b.Loop() {
				Encode(strips[shape[0]:], strips[:shape[0]])
			}
		})
	}
}

func BenchmarkRecoverTwo(b *testing.B) {
	strips := random(1, 10, 64<<10)
	Encode(strips[8:], strips[:8])
	b.SetBytes(8 * 64 << 10)
	for b.Loop() {
		_ = Recover(strips, 8, []int{1, 5})
	}
}
