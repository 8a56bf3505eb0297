package disk_test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/disk"
)

// In the first moments after a device was pulled the kernel gives it a size of 0 and answers writes with "no space": that is
// a disk that is gone, and no full file system.
func TestADeviceWithoutASizeIsGone(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("loop devices need root")
	}
	image := filepath.Join(t.TempDir(), "image")
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 8<<20))
	out, err := exec.Command("losetup", "-f", "--show", image).Output()
	require.NoError(t, err)
	loop := strings.TrimSpace(string(out))
	defer func() { _ = exec.Command("losetup", "-d", loop).Run() }()
	d, err := disk.Open(loop)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.WriteAt(make([]byte, 4096), 0))
	require.NoError(t, d.Present())
	require.Empty(t, d.Lacks())
	require.NoError(t, os.Truncate(image, 4<<20))
	require.NoError(t, exec.Command("losetup", "-c", loop).Run())
	require.NoError(t, d.Present())
	require.Equal(t, "it has become smaller: 4.0MiB, where it had 8.0MiB", d.Lacks())
	require.NoError(t, os.Truncate(image, 0))
	require.NoError(t, exec.Command("losetup", "-c", loop).Run())
	require.ErrorIs(t, d.Present(), disk.ErrGone)
	require.ErrorIs(t, d.WriteAt(make([]byte, 4096), 4096), disk.ErrGone)
	require.ErrorIs(t, d.ReadAt(make([]byte, 4096), 1<<20), disk.ErrGone)
	err = d.WriteVec([][]byte{make([]byte, 4096), make([]byte, 4096)}, 8192)
	require.ErrorIs(t, err, disk.ErrGone)
	require.False(t, errors.Is(err, disk.ErrFull))
}

// A path means what it meant where it was written, so one that depends on a folder is not taken.
func TestARelativePathIsNotOpened(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("disk", make([]byte, 4<<20), 0o600))
	_, err := disk.Open("disk")
	require.ErrorContains(t, err, "not an absolute path")
	_, err = disk.OpenReadOnly("./disk")
	require.ErrorContains(t, err, "not an absolute path")
}
