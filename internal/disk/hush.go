package disk

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// udev looks at a device whenever one that was open for writing is closed, or when it appears. It leaves a disk alone for as long as
// a process has a lock on the node of the whole disk, and so do programs that change partition tables.

// Node is the path of the whole disk that a device is, or is a partition of; empty for a file.
func (d *File) Node() string {
	if !d.device {
		return ""
	}
	at, ok := surveyed(d.raw)
	switch {
	case !ok:
		return ""
	case at.Whole():
		return nodeOf(at.Name)
	}
	return nodeOf(at.Disk)
}

func nodeOf(name string) string { return filepath.Join("/dev", strings.ReplaceAll(name, "!", "/")) }

// Hush takes the lock of a whole disk, so that no program looks at what is half written. It waits for others that have the lock, for
// some seconds, and then fails with ErrInUse.
func Hush(node string) (release func(), err error) {
	f, err := os.OpenFile(node, os.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	raw, err := f.SyscallConn()
	if err == nil {
		err = lock(raw)
	}
	if err != nil {
		_ = f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			return nil, fmt.Errorf("%s: %w (locked; %s)", node, ErrInUse, holder(node))
		}
		return nil, fmt.Errorf("%s: %w", node, err)
	}
	return func() { _ = f.Close() }, nil
}

// lock waits for the lock of an open file, 5 s at most.
func lock(raw syscall.RawConn) (err error) {
	for range 100 {
		gone := raw.Control(func(fd uintptr) { err = unix.Flock(int(fd), unix.LOCK_EX|unix.LOCK_NB) })
		if gone != nil {
			return os.ErrClosed
		}
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
	return err
}
