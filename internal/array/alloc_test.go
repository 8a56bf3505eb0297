package array_test

import (
	"os"
	"syscall"
)

// allocated is what a file takes on the file system, in bytes.
func allocated(info os.FileInfo) int64 { return info.Sys().(*syscall.Stat_t).Blocks * 512 }
