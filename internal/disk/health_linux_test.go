package disk

import (
	"os"
	"path/filepath"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
)

// The kernel's headers fix the sizes; on a machine without such disks there is nothing to ask.
func TestHealthIsAskedInTheKernelsWords(t *testing.T) {
	require.Equal(t, uintptr(72), unsafe.Sizeof(nvmeCommand{}))
	require.Equal(t, uintptr(88), unsafe.Sizeof(sgHeader{}))
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	f, err := Open(path)
	require.NoError(t, err)
	_, err = f.Health()
	require.ErrorContains(t, err, "not a device")
	require.NoError(t, f.Close())
	f.told.at = time.Time{} // or it would be the answer of a moment ago
	_, err = f.Health()
	require.ErrorIs(t, err, os.ErrClosed)
	blocks, err := filepath.Glob("/sys/block/*")
	require.NoError(t, err)
	for _, b := range blocks { // whatever this machine has answers, or is an error
		d, err := OpenReadOnly("/dev/" + filepath.Base(b))
		if err != nil {
			continue
		}
		if r, err := d.Health(); err == nil {
			require.NotNil(t, r.Temperature, b)
		}
		require.NoError(t, d.Close())
	}
}

// TestAShadowKeepsWhatIsWrittenAndRefusesWhatIsBad holds a shadow with many ranges against a plain list of them.
func TestAShadowKeepsWhatIsWrittenAndRefusesWhatIsBad(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	f, err := OpenReadOnly(path)
	require.NoError(t, err)
	defer f.Close()
	ranges := []Range{{50_000, 10}, {8192, 4096}, {12288, 1}, {9000, 100}, {200_000, 50_000}, {0, 1}}
	s := NewShadow(f, ranges)
	p := make([]byte, 4096)
	for off := int64(0); off < 1<<20; off += 4096 {
		bad := false
		for _, r := range ranges {
			bad = bad || r.Offset < off+4096 && off < r.Offset+r.Length
		}
		require.Equal(t, bad, s.Bad(off), "%d", off)
		require.Equal(t, bad, s.ReadAt(p, off) != nil, "%d", off)
	}
	p[7] = 9
	require.NoError(t, s.WriteAt(p, 8192))
	require.False(t, s.Bad(8192), "it was written over")
	got := make([]byte, 4096)
	require.NoError(t, s.ReadAt(got, 8192))
	require.Equal(t, p, got)
	require.NoError(t, f.ReadAt(got, 8192))
	require.Zero(t, got[7], "nothing reaches the disk")
}
