package disk

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"nidalo/core/fence"
)

// Takes disks as a later owner on another host would, without aborting anything: the guest runs this against the program.
func TestSeizeDisks(t *testing.T) {
	paths := strings.Fields(os.Getenv("NIDALO_SEIZE"))
	if len(paths) == 0 {
		t.Skip("the guest does it")
	}
	for _, path := range paths {
		d, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
		require.NoError(t, err)
		p, key := scsiPath{fd: d.Fd()}, fence.Key(fence.MaxToken-1)
		h, err := p.held()
		require.NoError(t, err)
		require.NotZero(t, h.Holder)
		require.NoError(t, p.do(fence.Register, key, 0))
		command, data := fence.SCSI(fence.Preempt, key, h.Holder, false)
		require.NoError(t, p.send(command, data, sgToDevice))
		h, err = p.held()
		require.NoError(t, err)
		require.True(t, h.Only(key), "%+v", h)
		require.NoError(t, d.Close())
	}
}

// fenceBlocks are places on a disk that the two tests below write and read, bytes.
const fenceBlocks, fenceBlock = 8, 64 << 10

func eachFenceBlock(do func(at int64) error) error {
	var all errgroup.Group
	for i := range int64(fenceBlocks) {
		all.Go(func() error { return do(i * fenceBlock) })
	}
	return all.Wait()
}

// An owner has writes under way that take long: the guest runs this on one host while another one takes the disk.
func TestOwnADisk(t *testing.T) {
	path := os.Getenv("NIDALO_OWN")
	if path == "" {
		t.Skip("the guest does it")
	}
	require.NoError(t, Fence(path, 5, false))
	d, err := os.OpenFile(path, os.O_RDWR|unix.O_DIRECT, 0)
	require.NoError(t, err)
	write := func(with byte) error {
		return eachFenceBlock(func(at int64) error {
			p := alignedBuffer(fenceBlock)
			copy(p, bytes.Repeat([]byte{with}, fenceBlock))
			_, err := d.WriteAt(p, at)
			return err
		})
	}
	require.NoError(t, write('1'))
	time.AfterFunc(time.Second, func() { _ = os.WriteFile(os.Getenv("NIDALO_UNDER_WAY"), nil, 0o600) })
	for err = write('2'); err == nil; { // until another host has it
		err = write('3')
	}
	require.ErrorIs(t, err, unix.EBADE)
}

// Once another owner has a disk, nothing changes on it any more.
func TestTakeADisk(t *testing.T) {
	path := os.Getenv("NIDALO_TAKE")
	if path == "" {
		t.Skip("the guest does it")
	}
	d, err := os.OpenFile(path, os.O_RDONLY|unix.O_DIRECT, 0)
	require.NoError(t, err)
	read := func() string {
		out := make([]byte, fenceBlocks)
		require.NoError(t, eachFenceBlock(func(at int64) error {
			p := alignedBuffer(fenceBlock)
			_, err := d.ReadAt(p, at)
			out[at/fenceBlock] = p[fenceBlock/2]
			return err
		}))
		return string(out)
	}
	began := time.Now()
	require.NoError(t, Fence(path, 9, false))
	took := time.Since(began)
	first := read()
	time.Sleep(8 * time.Second)
	require.Equal(t, first, read())
	require.NoError(t, Fence(path, 9, true))
	t.Logf("taken in %s, when the blocks held %s", took, first)
}

// What has no reservations says so, and a partition, or a name that is nothing, is refused too.
func TestFilesCannotBeFenced(t *testing.T) {
	path := t.TempDir() + "/disk"
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	require.ErrorIs(t, Fence(path, 7, false), ErrNoFence)
	require.ErrorIs(t, Unfence(path, 7), ErrNoFence)
	_, err := FencedBy(path)
	require.ErrorIs(t, err, ErrNoFence)
	require.ErrorIs(t, Fence(path+".not", 7, false), os.ErrNotExist)
}
