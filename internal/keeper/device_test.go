//go:build linux

package keeper

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
)

// run runs a program that must succeed.
func run(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %s\n%s", name, strings.Join(args, " "), out)
	return string(out)
}

// A real device, by what this kernel has, with a file system in it: the array grows, the device with it, then the file system, and what
// was in it is still there. The guest runs this as well, where the kernel has a client of the block protocol.
func TestADeviceGrowsWhileMounted(t *testing.T) {
	if os.Geteuid() != 0 || haveKernelClient() != nil && haveFuse() != nil {
		t.Skip("no device can be made here")
	}
	s, mount := newStore(t, 32<<20), t.TempDir()
	k, err := Open(Options{Home: "/x", Run: s.run})
	require.NoError(t, err)
	id := uuid.New()
	s.id, s.carry = id, k.carryPath(id.String())
	a, err := k.Attach(AttachRequest{Array: id.String(), Name: "grows-" + id.String()[:8], Socket: s.socket, Export: "attached/x"})
	require.NoError(t, err)
	t.Log(a.Device, a.Kind)
	t.Cleanup(func() {
		_ = exec.Command("umount", mount).Run()
		_ = k.Detach(DetachRequest{Array: id.String(), Force: true})
	})
	size := func() (n int64) {
		n, err := sizeOf(a.Device)
		require.NoError(t, err)
		return n
	}
	require.EqualValues(t, 32<<20, size())
	run(t, "mke2fs", "-q", "-t", "ext4", a.Device)
	run(t, "mount", a.Device, mount)
	text := make([]byte, 4<<20)
	_, _ = rand.Read(text)
	require.NoError(t, os.WriteFile(filepath.Join(mount, "before"), text, 0o600))

	s.mu.Lock()
	for _, p := range []*[]byte{&s.now, &s.durable} {
		*p = append(*p, make([]byte, 32<<20)...)
	}
	s.mu.Unlock()
	require.NoError(t, k.refresh(RefreshRequest{Array: id.String()}))
	require.EqualValues(t, 64<<20, size(), "the device is as large as its array")
	if out, err := exec.Command("resize2fs", a.Device).CombinedOutput(); err != nil { // a container may not resize what is mounted
		require.Contains(t, string(out), "Permission denied to resize")
		run(t, "umount", mount)
		run(t, "e2fsck", "-fy", a.Device)
		run(t, "resize2fs", a.Device)
		run(t, "mount", a.Device, mount)
	}
	require.NoError(t, os.WriteFile(filepath.Join(mount, "after"), bytes.Repeat(text, 9), 0o600), "there is room for more than there was before")
	run(t, "umount", mount)
	run(t, "e2fsck", "-fn", a.Device)
	run(t, "mount", a.Device, mount)
	got, err := os.ReadFile(filepath.Join(mount, "before"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(text, got))
	run(t, "umount", mount)
	require.NoError(t, k.Detach(DetachRequest{Array: id.String()}))
	require.NoFileExists(t, fmt.Sprint("/dev/nidalo/grows-", id.String()[:8]))
}
