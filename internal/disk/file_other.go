//go:build !linux

package disk

import (
	"os"

	"golang.org/x/sys/unix"
)

func preadv(fd int, bufs [][]byte, off int64) (int, error)  { return unix.Pread(fd, bufs[0], off) }
func pwritev(fd int, bufs [][]byte, off int64) (int, error) { return unix.Pwrite(fd, bufs[0], off) }

func datasync(f *os.File) error { return f.Sync() }
