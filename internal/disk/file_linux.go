package disk

import (
	"os"

	"golang.org/x/sys/unix"
)

func preadv(fd int, bufs [][]byte, off int64) (int, error)  { return unix.Preadv(fd, bufs, off) }
func pwritev(fd int, bufs [][]byte, off int64) (int, error) { return unix.Pwritev(fd, bufs, off) }

// datasync leaves out times and the like, which nobody needs to read the data back; a changed size is included.
func datasync(f *os.File) error {
	for {
		if err := unix.Fdatasync(int(f.Fd())); err != unix.EINTR {
			return err
		}
	}
}
