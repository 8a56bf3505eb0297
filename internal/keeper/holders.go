//go:build linux

package keeper

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Held is why a device cannot be detached.
type Held struct {
	Device string
	By     []string
}

func (h *Held) Error() string {
	by := "something that cannot be seen from here"
	if len(h.By) > 0 {
		by = strings.Join(h.By, ", ")
	}
	return fmt.Sprintf("%s is in use: %s", h.Device, by)
}

// Holders names the users of a block device or a partition of it: mounts, swap, devices on top of it, processes that have it open.
func Holders(path string) (out []string) {
	base := filepath.Base(path)
	out = append(out, holdersOf(base)...)
	parts, _ := filepath.Glob("/sys/block/" + base + "/" + base + "p*/partition")
	for _, p := range parts {
		out = append(out, holdersOf(filepath.Base(filepath.Dir(p)))...)
	}
	return out
}

func holdersOf(name string) (out []string) {
	raw, err := os.ReadFile("/sys/class/block/" + name + "/dev")
	if err != nil {
		return nil
	}
	number := strings.TrimSpace(string(raw))
	for _, at := range mountsOf(number) {
		out = append(out, "mounted at "+at)
	}
	swaps, _ := os.ReadFile("/proc/swaps")
	for _, line := range strings.Split(string(swaps), "\n") {
		if f := strings.Fields(line); len(f) > 0 && f[0] == "/dev/"+name {
			out = append(out, "used as swap")
		}
	}
	on, _ := os.ReadDir("/sys/class/block/" + name + "/holders")
	for _, h := range on {
		out = append(out, h.Name()+" is made of it")
	}
	if len(out) == 0 {
		out = openers(number)
	}
	return out
}

// mountsOf lists where a device is mounted, in the namespaces of all processes that we may look at.
func mountsOf(number string) (out []string) {
	seen := map[string]bool{} // namespaces
	tables, _ := filepath.Glob("/proc/[0-9]*/mountinfo")
	for _, table := range append([]string{"/proc/self/mountinfo"}, tables...) {
		space, err := os.Readlink(filepath.Join(filepath.Dir(table), "ns/mnt"))
		if err == nil && seen[space] {
			continue
		}
		seen[space] = true
		raw, err := os.ReadFile(table)
		if err != nil {
			continue
		}
		for _, line := range strings.Split(string(raw), "\n") {
			if f := strings.Fields(line); len(f) > 4 && f[2] == number {
				if at := unescape(f[4]); !slices.Contains(out, at) {
					out = append(out, at)
				}
			}
		}
	}
	return out
}

// unescape undoes the octal numbers in the kernel's list of mounts.
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// openers lists the processes besides this one that have a device open.
func openers(number string) (out []string) {
	major, minor, _ := strings.Cut(number, ":")
	ma, _ := strconv.ParseUint(major, 10, 32)
	mi, _ := strconv.ParseUint(minor, 10, 32)
	want := unix.Mkdev(uint32(ma), uint32(mi))
	folders, _ := filepath.Glob("/proc/[0-9]*/fd")
	for _, folder := range folders {
		pid := filepath.Base(filepath.Dir(folder))
		if pid == strconv.Itoa(os.Getpid()) {
			continue
		}
		fds, _ := os.ReadDir(folder)
		for _, fd := range fds {
			var st unix.Stat_t
			if unix.Stat(filepath.Join(folder, fd.Name()), &st) == nil && st.Mode&unix.S_IFMT == unix.S_IFBLK && st.Rdev == want {
				comm, _ := os.ReadFile("/proc/" + pid + "/comm")
				out = append(out, fmt.Sprintf("open in process %s (%s)", pid, strings.TrimSpace(string(comm))))
				break
			}
		}
	}
	return out
}

// HostStops says whether the whole system is shutting down, as systemd says.
func HostStops() bool {
	if _, err := os.Stat("/run/systemd/system"); err != nil {
		return false
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	out, _ := exec.CommandContext(ctx, "systemctl", "is-system-running").Output() // its status is that of an error for all but "running"
	return strings.TrimSpace(string(out)) == "stopping"
}
