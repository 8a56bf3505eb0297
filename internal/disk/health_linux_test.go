package disk

import (
	"os"
	"path/filepath"
	"testing"
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
