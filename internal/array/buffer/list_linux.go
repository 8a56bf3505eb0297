package buffer

import "golang.org/x/sys/unix"

// singlePages keeps the kernel from backing one dirty block with a huge page.
func singlePages(mem []byte) { _ = unix.Madvise(mem, unix.MADV_NOHUGEPAGE) }
