//go:build linux

package keeper

import (
	"fmt"
	"syscall"

	"golang.org/x/sys/unix"
)

// Steady makes this process fit to stand between the kernel's dirty memory and the disks: its memory is not swapped out, and it does
// not wait for writing that waits for it. It says in words what it may not do.
func Steady() (not []string) {
	if err := unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT); err != nil {
		not = append(not, fmt.Sprintf("its memory can be swapped out (%v): it needs CAP_IPC_LOCK, or a higher limit on locked memory", err))
	}
	// On every thread, and with that on those to come.
	if _, _, errno := syscall.AllThreadsSyscall(unix.SYS_PRCTL, unix.PR_SET_IO_FLUSHER, 1, 0); errno != 0 {
		not = append(not, fmt.Sprintf("it can be made to wait for memory that waits for it (%v): it needs CAP_SYS_RESOURCE", errno))
	}
	return not
}
