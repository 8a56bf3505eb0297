package disk

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// Many more operations than the ring has room for, each on a place of its own: all that was written is read, whichever way each took.
func TestTheRingReadsWhatItWrote(t *testing.T) {
	if theRing() == nil {
		t.Skip("this kernel has no io_uring for us")
	}
	f, err := os.Create(filepath.Join(t.TempDir(), "disk"))
	require.NoError(t, err)
	defer f.Close()
	const places, size = 2000, 8192
	block := func(i, round int) []byte { return bytes.Repeat([]byte(fmt.Sprintf("%04d%04d", i, round)), size/8) }
	for round := range 3 {
		var wg sync.WaitGroup
		for i := range places {
			wg.Go(func() {
				b := block(i, round)
				cut := 512 * (1 + rand.IntN(15))
				n, err := deviceWritev(int(f.Fd()), [][]byte{b[:cut], {}, b[cut:]}, int64(i*size))
				if err != nil || n != size {
					t.Errorf("place %d: wrote %d: %v", i, n, err)
				}
				got := make([]byte, size)
				n, err = deviceReadv(int(f.Fd()), [][]byte{got[:cut], got[cut:]}, int64(i*size))
				if err != nil || n != size || !bytes.Equal(got, b) {
					t.Errorf("place %d: read %d: %v", i, n, err)
				}
			})
		}
		wg.Wait()
	}
	all, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	for i := range places {
		require.True(t, bytes.Equal(all[i*size:][:size], block(i, 2)), "place %d", i)
	}
}

// Its errors are those of the plain calls, and it goes on after them.
func TestTheRingTellsOfErrors(t *testing.T) {
	r := theRing()
	if r == nil {
		t.Skip("this kernel has no io_uring for us")
	}
	f, err := os.Create(filepath.Join(t.TempDir(), "disk"))
	require.NoError(t, err)
	defer f.Close()
	buf := [][]byte{make([]byte, 4096)}
	_, ok, err := r.do(ringReadv, 1<<20, buf, 0)
	require.True(t, ok)
	require.ErrorIs(t, err, syscall.EBADF)
	n, ok, err := r.do(ringReadv, int(f.Fd()), buf, 0)
	require.True(t, ok)
	require.NoError(t, err)
	require.Zero(t, n, "the file is empty")
	_, ok, _ = r.do(ringReadv, int(f.Fd()), [][]byte{make([]byte, ringMost+512)}, 0)
	require.False(t, ok, "large ones take the plain call")
	n, ok, err = r.do(ringWritev, int(f.Fd()), buf, 0)
	require.True(t, ok)
	require.NoError(t, err)
	require.Equal(t, 4096, n)
}

// When the kernel refuses the ring, what was put in takes the plain calls, and so does all that follows.
func TestARingThatTheKernelRefusesIsGivenUp(t *testing.T) {
	r := newRing()
	if r == nil {
		t.Skip("this kernel has no io_uring for us")
	}
	require.NoError(t, syscall.Close(r.fd))
	f, err := os.Create(filepath.Join(t.TempDir(), "disk"))
	require.NoError(t, err)
	defer f.Close()
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			if _, ok, err := r.do(ringWritev, int(f.Fd()), [][]byte{make([]byte, 512)}, 0); ok || err != nil {
				t.Errorf("ok %v: %v", ok, err)
			}
		})
	}
	wg.Wait()
	require.Len(t, r.free, len(r.ops), "all places are free again")
}
