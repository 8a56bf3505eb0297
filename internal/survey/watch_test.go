//go:build linux

package survey

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Events of other devices are none of our business, unless so many came that some were lost.
func TestLostEventsHaveTheDevicesLookedUp(t *testing.T) {
	const device = "/sys/class/mem/null/uevent" // no block device
	announce := func() error { return os.WriteFile(device, []byte("change"), 0) }
	if err := announce(); err != nil {
		t.Skip("the kernel cannot be asked to announce anything here: ", err)
	}
	told := func(events int) bool {
		f, err := listen()
		require.NoError(t, err)
		defer f.Close()
		raw, err := f.SyscallConn()
		require.NoError(t, err)
		require.NoError(t, raw.Control(func(fd uintptr) { err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUF, 4096) }))
		require.NoError(t, err)
		for range events {
			require.NoError(t, announce())
		}
		out := make(chan struct{}, 1)
		go follow(f, out)
		select {
		case <-out:
			return true
		case <-time.After(time.Second):
			return false
		}
	}
	require.True(t, told(1000))
	require.Eventually(t, func() bool { return !told(1) }, 10*time.Second, time.Millisecond) // a block device may come just then
}
