package disk

import (
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// directFlag opens a device past the system's memory.
func directFlag(device bool) int {
	if device {
		return unix.O_DIRECT
	}
	return 0
}

func rereadPartitions(raw syscall.RawConn) (err error) {
	gone := raw.Control(func(fd uintptr) {
		// udev may be looking at it just now, which ends.
		for range 50 {
			if err = unix.IoctlSetInt(int(fd), unix.BLKRRPART, 0); err != unix.EBUSY {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		if err == unix.EINVAL || err == unix.ENOTTY {
			err = nil // it is of a kind that has no partitions
		}
	})
	if gone != nil {
		return os.ErrClosed
	}
	return err
}

// deviceNumber is "major:minor" of an open block device.
func deviceNumber(raw syscall.RawConn) (number string) {
	_ = raw.Control(func(fd uintptr) {
		var st unix.Stat_t
		if unix.Fstat(int(fd), &st) == nil && st.Mode&unix.S_IFMT == unix.S_IFBLK {
			number = fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
		}
	})
	return number
}

func preadv(fd int, bufs [][]byte, off int64) (int, error)  { return unix.Preadv(fd, bufs, off) }
func pwritev(fd int, bufs [][]byte, off int64) (int, error) { return unix.Pwritev(fd, bufs, off) }

// datasync leaves out times and the like, which are not needed to read the data back; a changed size is included.
func datasync(_ *os.File, raw syscall.RawConn) error {
	for {
		if _, err := onFile(raw, fdatasync, nil, 0); err != unix.EINTR {
			return err
		}
	}
}

func fdatasync(fd int, _ [][]byte, _ int64) (int, error) { return 0, unix.Fdatasync(fd) }

// room is what the file system has left, in bytes.
func room(raw syscall.RawConn) (bytes int64) {
	_ = raw.Control(func(fd uintptr) {
		var s unix.Statfs_t
		if unix.Fstatfs(int(fd), &s) == nil {
			bytes = int64(s.Bavail) * s.Bsize
		}
	})
	return bytes
}

// allocate gives a stretch of a file its room; what it holds stays. Not every file system can.
func allocate(raw syscall.RawConn, off, n int64) (err error) {
	gone := raw.Control(func(fd uintptr) {
		for {
			if err = unix.Fallocate(int(fd), unix.FALLOC_FL_KEEP_SIZE, off, n); err != unix.EINTR {
				return
			}
		}
	})
	switch {
	case gone != nil:
		return os.ErrClosed
	case err == unix.EOPNOTSUPP || err == unix.ENOSYS:
		return nil
	}
	return err
}

// punch makes a hole in a file.
func punch(raw syscall.RawConn, off, n int64) (err error) {
	gone := raw.Control(func(fd uintptr) {
		for {
			if err = unix.Fallocate(int(fd), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n); err != unix.EINTR {
				return
			}
		}
	})
	if gone != nil {
		return os.ErrClosed
	}
	return err
}

// discardDevice has a device forget a stretch.
func discardDevice(raw syscall.RawConn, off, n int64) (err error) {
	gone := raw.Control(func(fd uintptr) {
		span := [2]uint64{uint64(off), uint64(n)}
		err = ioctl(fd, unix.BLKDISCARD, unsafe.Pointer(&span[0]))
	})
	if gone != nil {
		return os.ErrClosed
	}
	return err
}

func inMemory(raw syscall.RawConn) (yes bool) {
	_ = raw.Control(func(fd uintptr) {
		var s unix.Statfs_t
		yes = unix.Fstatfs(int(fd), &s) == nil && (s.Type == unix.TMPFS_MAGIC || s.Type == unix.RAMFS_MAGIC)
	})
	return yes
}

func readCached(raw syscall.RawConn, bufs [][]byte, off int64) int {
	n, err := onFile(raw, preadNow, bufs[:min(len(bufs), maxVector)], off)
	if err != nil {
		return 0
	}
	return n
}

func preadNow(fd int, bufs [][]byte, off int64) (int, error) {
	return unix.Preadv2(fd, bufs, off, unix.RWF_NOWAIT)
}

func refresh(raw syscall.RawConn, off, n int64) {
	_ = raw.Control(func(fd uintptr) {
		if unix.Fadvise(int(fd), off, n, unix.FADV_DONTNEED) == nil {
			_ = unix.Fadvise(int(fd), off, n, unix.FADV_WILLNEED)
		}
	})
}

// leaving says whether the kernel is about to take a device away: by the state of its SCSI device or NVMe controller.
func leaving(at string) bool {
	state, err := os.ReadFile(at + "device/state")
	if err != nil {
		state, _ = os.ReadFile(at + "../device/state") // of a partition
	}
	switch strings.TrimSpace(string(state)) {
	case "cancel", "deleted", "deleting", "deleting (no IO)", "dead":
		return true
	}
	return false
}

// present asks sysfs whether the kernel still has the device: a read could be answered from memory.
func present(_ *os.File, raw syscall.RawConn) (err error) {
	gone := raw.Control(func(fd uintptr) {
		var st unix.Stat_t
		if err = unix.Fstat(int(fd), &st); err != nil || st.Mode&unix.S_IFMT != unix.S_IFBLK {
			return
		}
		at := fmt.Sprintf("/sys/dev/block/%d:%d/", unix.Major(st.Rdev), unix.Minor(st.Rdev))
		if _, missing := os.Stat(at); os.IsNotExist(missing) || leaving(at) {
			err = unix.ENODEV
			return
		}
		// Before it is gone from there its size becomes 0.
		if size, bad := unix.Seek(int(fd), 0, io.SeekEnd); bad != nil || size == 0 {
			err = unix.ENODEV
		}
	})
	if gone != nil {
		return os.ErrClosed
	}
	return err
}
