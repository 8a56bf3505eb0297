package nbd

import (
	"fmt"
	"io"
	"net"
	"slices"

	"golang.org/x/sys/unix"
)

// canSend says whether sendFile is there.
const canSend = true

// sendFile sends a head and n bytes of a file, from at on, without a copy through this process. An error that wraps ErrSource is one of the file.
func sendFile(to *net.TCPConn, head []byte, file uintptr, at, n int64) error {
	raw, err := to.SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	err = raw.Write(func(fd uintptr) bool {
		for failed == nil && (len(head) > 0 || n > 0) {
			var sent int
			var err error
			data := len(head) == 0
			if data {
				sent, err = unix.Sendfile(int(fd), int(file), &at, int(n))
				n -= int64(max(sent, 0))
			} else {
				sent, err = unix.SendmsgN(int(fd), head, nil, nil, unix.MSG_MORE|unix.MSG_NOSIGNAL)
				head = head[max(sent, 0):]
			}
			switch {
			case err == unix.EAGAIN:
				return false
			case err == unix.EINTR:
			case err != nil && (!data || slices.Contains(socketErrors, err)):
				failed = err
			case err != nil:
				failed = fmt.Errorf("%w: %w", ErrSource, err)
			case data && sent == 0:
				failed = fmt.Errorf("%w: %w", ErrSource, io.ErrUnexpectedEOF)
			}
		}
		return true
	})
	if err != nil {
		return err
	}
	return failed
}

// socketErrors are those of a connection; all others that sendfile returns are of the file.
var socketErrors = []error{unix.EPIPE, unix.ECONNRESET, unix.ENOTCONN, unix.ESHUTDOWN, unix.ETIMEDOUT, unix.EHOSTUNREACH, unix.ENETUNREACH, unix.ENETDOWN, unix.ENOBUFS}
