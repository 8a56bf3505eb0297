package nbd

import (
	"fmt"
	"net"

	"golang.org/x/sys/unix"
)

// processOf names the process at the other end of a Unix socket.
func processOf(nc *net.UnixConn) string {
	raw, err := nc.SyscallConn()
	if err != nil {
		return "local"
	}
	peer := "local"
	_ = raw.Control(func(fd uintptr) {
		if c, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			peer = fmt.Sprintf("process %d", c.Pid)
		}
	})
	return peer
}
