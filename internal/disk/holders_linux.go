package disk

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nidalo/core/state"

	"golang.org/x/sys/unix"
)

// Holders names the users of a disk besides this program: file systems mounted from it or from its partitions, swap
// space, and devices that were made of it. It asks the system and does not open the disk: an exclusive open would tell of all of them,
// but the mount that comes in that moment, when a host starts, would fail.
func Holders(path string) (out []string) {
	var st unix.Stat_t
	if path == "" || unix.Stat(path, &st) != nil {
		return nil
	}
	if st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return fileHolders(path)
	}
	devices := family(fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev)))
	for _, m := range mounts() {
		if slices.Contains(devices, m.device) {
			out = append(out, fmt.Sprintf("mounted at %s", m.at))
		}
	}
	for _, swap := range swaps() {
		var on unix.Stat_t
		if unix.Stat(swap, &on) == nil && on.Mode&unix.S_IFMT == unix.S_IFBLK && slices.Contains(devices, fmt.Sprintf("%d:%d", unix.Major(on.Rdev), unix.Minor(on.Rdev))) {
			out = append(out, "in use as swap space")
		}
	}
	for _, d := range devices {
		entries, _ := os.ReadDir(filepath.Join("/sys/dev/block", d, "holders"))
		for _, e := range entries {
			name := state.Printable(e.Name())
			if mapped, err := os.ReadFile(filepath.Join("/sys/class/block", e.Name(), "dm/name")); err == nil {
				name = fmt.Sprintf("%s (%s)", state.Printable(strings.TrimSpace(string(mapped))), name)
			}
			out = append(out, "held by "+name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// mostProcesses bounds how many processes are asked what they have open.
const mostProcesses = 20000

// programs names the other processes that have a device open.
func programs(path string) (out []string) {
	var device unix.Stat_t
	if unix.Stat(path, &device) != nil || device.Mode&unix.S_IFMT != unix.S_IFBLK {
		return nil
	}
	entries, _ := os.ReadDir("/proc")
	own := fmt.Sprint(os.Getpid())
	for i, e := range entries {
		pid := e.Name()
		if i == mostProcesses || pid == own || pid[0] < '0' || pid[0] > '9' {
			continue
		}
		open, _ := os.ReadDir(filepath.Join("/proc", pid, "fd"))
		for _, f := range open {
			var st unix.Stat_t
			if unix.Stat(filepath.Join("/proc", pid, "fd", f.Name()), &st) == nil && st.Mode&unix.S_IFMT == unix.S_IFBLK && st.Rdev == device.Rdev {
				name, _ := os.ReadFile(filepath.Join("/proc", pid, "comm"))
				out = append(out, fmt.Sprintf("held by process %s (%s)", pid, state.Printable(strings.TrimSpace(string(name)))))
				break
			}
		}
	}
	return out
}

// WritersOf names the possible writers of a device: file systems that are mounted from it and not read-only, swap space, and
// devices made of it.
func WritersOf(path string) (out []string) {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil || st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return nil
	}
	device := fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
	for _, m := range mounts() {
		if m.device == device && !m.readOnly {
			out = append(out, "mounted at "+m.at)
		}
	}
	for _, h := range Holders(path) {
		if !strings.HasPrefix(h, "mounted at ") {
			out = append(out, h)
		}
	}
	return out
}

// fileHolders are the loop devices made of a file.
func fileHolders(path string) (out []string) {
	backing, _ := filepath.Glob("/sys/block/loop*/loop/backing_file")
	for _, b := range backing {
		if to, err := os.ReadFile(b); err == nil && strings.TrimSuffix(string(to), "\n") == path {
			out = append(out, "held by "+filepath.Base(filepath.Dir(filepath.Dir(b))))
		}
	}
	return out
}

// family is a device with its partitions, or with the others of its whole disk, and everything made of them.
func family(device string) []string {
	out := []string{device}
	for i := 0; i < len(out) && len(out) < 256; i++ {
		dir, err := filepath.EvalSymlinks(filepath.Join("/sys/dev/block", out[i]))
		if err != nil {
			continue
		}
		var next []string
		if parts, err := filepath.Glob(filepath.Join(dir, "*", "partition")); err == nil {
			for _, p := range parts {
				next = append(next, filepath.Dir(p))
			}
		}
		if held, err := filepath.Glob(filepath.Join(dir, "holders", "*")); err == nil {
			next = append(next, held...)
		}
		for _, n := range next {
			if number, err := os.ReadFile(filepath.Join(n, "dev")); err == nil {
				if d := strings.TrimSpace(string(number)); !slices.Contains(out, d) {
					out = append(out, d)
				}
			}
		}
	}
	return out
}

type mount struct {
	device, at string
	readOnly   bool
}

func mounts() (out []mount) {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if fields := strings.Fields(lines.Text()); len(fields) > 5 {
			out = append(out, mount{fields[2], state.Printable(fields[4]), slices.Contains(strings.Split(fields[5], ","), "ro")})
		}
	}
	return out
}

func swaps() (out []string) {
	buf, err := os.ReadFile("/proc/swaps")
	if err != nil {
		return nil
	}
	for i, line := range strings.Split(string(buf), "\n") {
		if fields := strings.Fields(line); i > 0 && len(fields) > 0 {
			out = append(out, fields[0])
		}
	}
	return out
}
