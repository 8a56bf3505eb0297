package disk

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nidalo/core/fence"
)

// Takes disks as a later owner on another host would, without aborting anything: the guest runs this against the program.
func TestSeizeDisks(t *testing.T) {
	paths := strings.Fields(os.Getenv("NIDALO_SEIZE"))
	if len(paths) == 0 {
		t.Skip("the guest does it")
	}
	const preempt = fence.Action(4)
	for _, path := range paths {
		d, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
		require.NoError(t, err)
		p, key := scsiPath{d.Fd()}, fence.Key(fence.MaxToken-1)
		h, err := p.held()
		require.NoError(t, err)
		require.NotZero(t, h.Holder)
		require.NoError(t, p.do(fence.Register, key, 0))
		command, data := fence.SCSI(preempt, key, h.Holder, false)
		require.NoError(t, p.send(command, data, sgToDevice))
		h, err = p.held()
		require.NoError(t, err)
		require.True(t, h.Only(key), "%+v", h)
		require.NoError(t, d.Close())
	}
}

// What has no reservations says so, and a partition, or a name that is nothing, is refused too.
func TestFilesCannotBeFenced(t *testing.T) {
	path := t.TempDir() + "/disk"
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	require.ErrorIs(t, Fence(path, 7), ErrNoFence)
	require.ErrorIs(t, Unfence(path, 7), ErrNoFence)
	_, err := FencedBy(path)
	require.ErrorIs(t, err, ErrNoFence)
	require.ErrorIs(t, Fence(path+".not", 7), os.ErrNotExist)
}
