package record

import (
	"hash/crc32"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// Blocks are summed four at a time where they can be: each comes out as it does alone, and a wrong one is found wherever it is.
func TestBlocksSummedTogetherAreAsEachAlone(t *testing.T) {
	src := rand.New(rand.NewPCG(1, 2))
	for n := range 10 {
		buf := make([]byte, n*Block)
		for i := range buf {
			buf[i] = byte(src.Uint32())
		}
		sums := SumsOf(buf)
		require.Len(t, sums, n)
		for i, s := range sums {
			require.Equal(t, crc32.Checksum(buf[i*Block:][:Block], Castagnoli), s)
			require.Equal(t, Sum(buf[i*Block:][:Block]), s)
		}
		require.True(t, Holds(buf, sums))
		for i := range n {
			at := i*Block + src.IntN(Block)
			buf[at] ^= 1 << src.IntN(8)
			require.False(t, Holds(buf, sums), "block %d of %d", i, n)
			require.NotEqual(t, sums, SumsOf(buf))
			sum := sums[i]
			for _, special := range []uint32{SumLost, SumDoubt} {
				sums[i] = special
				require.False(t, Holds(buf, sums))
			}
			sums[i] = SumNever
			require.True(t, Holds(buf, sums), "nothing was ever written there")
			require.Equal(t, make([]byte, Block), buf[i*Block:][:Block], "and so it reads")
			sums[i] = Sum(buf[i*Block:][:Block])
			require.NotEqual(t, sum, sums[i])
		}
	}
}

// Without the instruction the sums are the same.
func TestSumsDoNotDependOnTheProcessor(t *testing.T) {
	buf := make([]byte, 4*Block)
	for i := range buf {
		buf[i] = byte(i * i >> 7)
	}
	var with, without quad
	crcQuad(buf, &with)
	crcEach(buf, &without)
	require.Equal(t, without, with)
}
