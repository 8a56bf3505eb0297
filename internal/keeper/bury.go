//go:build linux

package keeper

import (
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Bury frees a keeper that was killed and cannot end, because one of its threads waits in the kernel for a device in user space, which only
// that keeper would have answered. As long as it waits it holds its socket, and every program that opens its devices hangs.
func Bury(home, run string, log *slog.Logger) {
	pid, listens := listener(Socket(home))
	if !listens || !killed(pid) {
		return
	}
	log.Warn("an earlier keeper was killed and waits in the kernel for its own devices; they are aborted", "process", pid)
	for _, s := range specsOf(run, home) {
		if s.Kind == KindFuse {
			abort(s.folder(run))
		}
	}
	for range 100 {
		if _, listens := listener(Socket(home)); !listens {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// listener is the process that listens at a socket, as far as it can be seen from here.
func listener(path string) (pid int32, listens bool) {
	c, err := net.Dial("unix", path)
	if err != nil {
		return 0, false
	}
	defer c.Close()
	raw, err := c.(*net.UnixConn).SyscallConn()
	if err != nil {
		return 0, true
	}
	_ = raw.Control(func(fd uintptr) {
		if who, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			pid = who.Pid
		}
	})
	return pid, true
}

// killed says whether a process was killed and is not gone.
func killed(pid int32) bool {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return false
	}
	for _, line := range strings.Split(string(raw), "\n") {
		name, value, _ := strings.Cut(line, ":")
		value = strings.TrimSpace(value)
		switch name {
		case "State":
			if value[:min(1, len(value))] == "Z" { // its first thread is gone
				return true
			}
		case "SigPnd", "ShdPnd":
			var signals uint64
			if _, err := fmt.Sscanf(value, "%x", &signals); err == nil && signals&(1<<(unix.SIGKILL-1)) != 0 {
				return true
			}
		}
	}
	return false
}
