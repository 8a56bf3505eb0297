package buffer

import "golang.org/x/sys/unix"

// singlePages keeps the kernel from backing one dirty block with a huge page.
func singlePages(mem []byte) { _ = unix.Madvise(mem, unix.MADV_NOHUGEPAGE) }

// giveBack takes the memory from a buffer. The service has its memory locked, so that it is not swapped out; kernels before 5.18 give back
// only what is not.
func giveBack(b []byte) {
	if unix.Madvise(b, unix.MADV_DONTNEED_LOCKED) == nil || unix.Madvise(b, unix.MADV_DONTNEED) == nil {
		return
	}
	if unix.Munlock(b) == nil {
		_ = unix.Madvise(b, unix.MADV_DONTNEED)
	}
}
