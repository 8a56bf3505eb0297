//go:build !linux

package buffer

import "golang.org/x/sys/unix"

func singlePages([]byte) {}

func giveBack(b []byte) {
	_ = unix.Madvise(b, unix.MADV_DONTNEED)
}
