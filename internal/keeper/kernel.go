//go:build linux

package keeper

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/mdlayher/genetlink"
	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"nidalo/internal/nbd"
)

// The kernel's own client of the block protocol, driven by generic netlink (linux/nbd-netlink.h). A device of it belongs to no
// process: it stays when the connections break, holds its requests, and goes on with new ones.

const (
	cmdConnect     = 1
	cmdDisconnect  = 2
	cmdReconfigure = 3

	attrIndex       = 1
	attrSize        = 2
	attrBlockSize   = 3
	attrTimeout     = 4
	attrServerFlags = 5
	attrSockets     = 7
	attrDeadTimeout = 8
	attrBackend     = 10

	socketItem = 1
	socketFD   = 1
)

const (
	// requestTimeout is when the kernel gives up one of several connections that does not answer a request, and sends that again over
	// another: longer than a service takes to stop and to start. A single connection is never given up.
	requestTimeout = 120 // s
	// lookAgain is how often the kernel looks whether the connection over which a request was sent is still the same, and sends it again
	// when it is not: how long what was under way waits after a keeper was killed.
	lookAgain = 10 * time.Second
	// deadTimeout is how long a device without any connection holds its requests before they fail.
	deadTimeout = 24 * 60 * 60 // s
)

// command sends one command to the kernel's client, over a socket of its own: one that was used before may hold old replies.
func command(cmd uint8, attributes func(*netlink.AttributeEncoder)) error {
	c, err := genetlink.Dial(nil)
	if err != nil {
		return err
	}
	defer c.Close()
	family, err := c.GetFamily("nbd")
	if errors.Is(err, os.ErrNotExist) {
		return errNoClient
	}
	if err != nil {
		return err
	}
	e := netlink.NewAttributeEncoder()
	attributes(e)
	data, err := e.Encode()
	if err != nil {
		return err
	}
	_, err = c.Execute(genetlink.Message{Header: genetlink.Header{Command: cmd, Version: family.Version}, Data: data}, family.ID, netlink.Request|netlink.Acknowledge)
	var op *netlink.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	return err
}

var errNoClient = errors.New("the kernel has no client of the block protocol: its module nbd is not there, or not loaded")

// haveKernelClient loads the module if it can be.
func haveKernelClient() error {
	if _, err := os.Stat("/sys/module/nbd"); err == nil {
		return nil
	}
	if out, err := exec.Command("modprobe", "nbd").CombinedOutput(); err != nil {
		return fmt.Errorf("%w (modprobe nbd: %s)", errNoClient, cmp.Or(strings.TrimSpace(string(out)), err.Error()))
	}
	return nil
}

// pairs makes connected sockets, for the kernel and for us.
func pairs(n int) (theirs []*os.File, ours []net.Conn, err error) {
	for range n {
		fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			return theirs, ours, err
		}
		theirs = append(theirs, os.NewFile(uintptr(fds[0]), "kernel"))
		mine := os.NewFile(uintptr(fds[1]), "device")
		nc, err := net.FileConn(mine)
		_ = mine.Close()
		if err != nil {
			return theirs, ours, err
		}
		ours = append(ours, nc)
	}
	return theirs, ours, nil
}

func encodeSockets(e *netlink.AttributeEncoder, files []*os.File) {
	e.Nested(attrSockets, func(list *netlink.AttributeEncoder) error {
		for _, f := range files {
			list.Nested(socketItem, func(item *netlink.AttributeEncoder) error {
				item.Uint32(socketFD, uint32(f.Fd()))
				return nil
			})
		}
		return nil
	})
}

// connectKernel makes a device with the given number; unix.EBUSY means that it is taken.
func connectKernel(index int, size int64, backend string, sockets []*os.File) error {
	err := command(cmdConnect, func(e *netlink.AttributeEncoder) {
		e.Uint32(attrIndex, uint32(index))
		e.Uint64(attrSize, uint64(size))
		e.Uint64(attrBlockSize, BlockSize)
		e.Uint64(attrTimeout, timeoutOf(len(sockets)))
		e.Uint64(attrDeadTimeout, deadTimeout)
		e.Uint64(attrServerFlags, nbd.DeviceFlags)
		e.String(attrBackend, backend)
		encodeSockets(e, sockets)
	})
	if err == nil && len(sockets) == 1 {
		_ = os.WriteFile(fmt.Sprintf("/sys/block/nbd%d/queue/io_timeout", index), fmt.Appendf(nil, "%d", lookAgain.Milliseconds()), 0)
	}
	return err
}

// timeoutOf is what to tell the kernel as the time for a request, in s; 0: a connection is not given up however long it takes.
func timeoutOf(connections int) uint64 {
	if connections > 1 {
		return requestTimeout
	}
	return 0
}

// reconnectKernel gives a device a new connection in the place of one that is dead.
func reconnectKernel(index int, backend string, sockets []*os.File) error {
	return command(cmdReconfigure, func(e *netlink.AttributeEncoder) {
		e.Uint32(attrIndex, uint32(index))
		e.String(attrBackend, backend)
		encodeSockets(e, sockets)
	})
}

// resizeKernel tells a device how large it is.
func resizeKernel(index int, backend string, size int64) error {
	return command(cmdReconfigure, func(e *netlink.AttributeEncoder) {
		e.Uint32(attrIndex, uint32(index))
		e.String(attrBackend, backend)
		e.Uint64(attrSize, uint64(size))
	})
}

func disconnectKernel(index int) error {
	return command(cmdDisconnect, func(e *netlink.AttributeEncoder) { e.Uint32(attrIndex, uint32(index)) })
}

// backendOf is the identity that a device was given; empty when it is connected to nothing.
func backendOf(index int) string {
	raw, err := os.ReadFile(fmt.Sprintf("/sys/block/nbd%d/backend", index))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(raw))
}

// freeKernel lists the numbers of devices that are connected to nothing.
func freeKernel() (out []int) {
	found, _ := filepath.Glob("/sys/block/nbd*")
	most := -1
	taken := map[int]bool{}
	for _, path := range found {
		index, err := strconv.Atoi(strings.TrimPrefix(filepath.Base(path), "nbd"))
		if err != nil {
			continue
		}
		most = max(most, index)
		if _, err := os.Stat(filepath.Join(path, "pid")); err == nil {
			taken[index] = true
		}
	}
	for i := range most + 2 {
		if !taken[i] {
			out = append(out, i)
		}
	}
	return out
}
