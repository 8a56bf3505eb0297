//go:build linux

package keeper

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Own names the attached array that something is on: a device, a partition of it, what is made of it, or a file in a file system there.
// It is empty when that is none.
func Own(path string) string {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		if unix.Stat(filepath.Dir(path), &st) != nil { // it is about to be made
			return ""
		}
	}
	number := uint64(st.Dev)
	if st.Mode&unix.S_IFMT == unix.S_IFBLK {
		number = uint64(st.Rdev)
	}
	return ownNumber(number, 8)
}

func ownNumber(number uint64, depth int) string {
	at, err := filepath.EvalSymlinks(fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(number), unix.Minor(number)))
	if err != nil || depth == 0 {
		return ""
	}
	return ownDevice(at, depth)
}

func ownDevice(at string, depth int) string {
	if _, err := os.Stat(filepath.Join(at, "partition")); err == nil {
		at = filepath.Dir(at)
	}
	if name := OwnName(filepath.Base(at)); name != "" {
		return name
	}
	if depth == 0 {
		return ""
	}
	if file, err := os.ReadFile(filepath.Join(at, "loop/backing_file")); err == nil {
		var st unix.Stat_t
		if unix.Stat(strings.TrimSpace(string(file)), &st) == nil {
			return ownNumber(uint64(st.Dev), depth-1)
		}
	}
	below, _ := os.ReadDir(filepath.Join(at, "slaves"))
	for _, d := range below {
		to, err := filepath.EvalSymlinks(filepath.Join(at, "slaves", d.Name()))
		if err != nil {
			continue
		}
		if name := ownDevice(to, depth-1); name != "" {
			return name
		}
	}
	return ""
}

// OwnName names the array that a device of this name, such as nbd0, is attached as; empty when there is none.
func OwnName(device string) string {
	raw, err := os.ReadFile(filepath.Join(RunFolder(), "devices", device))
	if err != nil {
		return ""
	}
	for _, line := range strings.Split(string(raw), "\n") {
		if name, ok := strings.CutPrefix(line, "NIDALO_NAME="); ok {
			return name
		}
	}
	return ""
}
