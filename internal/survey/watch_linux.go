package survey

import (
	"bytes"
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Watch tells when block devices come, go or change, until done is closed: at least once after the last of several changes. What
// changed has to be looked up, so a message that the kernel lost is made good by the next look. It is nil where the kernel does
// not tell.
func Watch(done <-chan struct{}) <-chan struct{} {
	f, err := listen()
	if err != nil {
		return nil
	}
	out := make(chan struct{}, 1)
	go func() {
		<-done
		_ = f.Close()
	}()
	go follow(f, out)
	return out
}

// listen opens the kernel's announcements.
func listen() (*os.File, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return nil, err
	}
	const kernelEvents = 1
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: kernelEvents}); err != nil {
		_ = unix.Close(fd)
		return nil, err
	}
	return os.NewFile(uintptr(fd), "kernel events"), nil // non-blocking, so that Close ends a Read
}

// follow passes on what concerns block devices, until the file is closed.
func follow(f *os.File, out chan<- struct{}) {
	buf := make([]byte, 64<<10)
	for {
		n, err := f.Read(buf)
		if errors.Is(err, os.ErrClosed) {
			return
		}
		// With ENOBUFS some were lost, which may have been about disks.
		if err == nil && !bytes.Contains(buf[:n], []byte("\x00SUBSYSTEM=block\x00")) {
			continue
		}
		if err != nil && !errors.Is(err, unix.ENOBUFS) {
			return
		}
		select {
		case out <- struct{}{}:
		default:
		}
	}
}
