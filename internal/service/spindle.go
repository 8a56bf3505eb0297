package service

import (
	"cmp"
	"os"
	"path/filepath"
	"strings"

	"nidalo/core/state"
)

// spindle names the whole disk that something is on: by its serial where it has one, since a path may mean another disk by now.
func spindle(i state.Identity) string {
	return cmp.Or(state.SpindleOf(i.Model, i.Serial), spindleOfPath(i.Path))
}

// sharing lists the other members of the same physical disk among some identities, by index.
func sharing(of []state.Identity) map[string][]int {
	out := map[string][]int{}
	for i, id := range of {
		if id.Serial != "" || id.Path != "" {
			out[spindle(id)] = append(out[spindle(id)], i)
		}
	}
	for k, list := range out {
		if len(list) < 2 {
			delete(out, k)
		}
	}
	return out
}

// spindleOfPath names the whole disk behind a path: partitions of one disk share it, and loop devices their file.
func spindleOfPath(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return path
	}
	if !strings.HasPrefix(real, "/dev/") {
		return real
	}
	// /sys/class/block/loop0p1 is a link to …/loop0/loop0p1, which has a file "partition".
	node, err := filepath.EvalSymlinks("/sys/class/block/" + filepath.Base(real))
	if err != nil {
		return real
	}
	if _, err := os.Stat(filepath.Join(node, "partition")); err == nil {
		node = filepath.Dir(node)
	}
	if backing, err := os.ReadFile(filepath.Join(node, "loop/backing_file")); err == nil {
		return strings.TrimSpace(string(backing)) // two loop devices on one file are one disk
	}
	return "/dev/" + filepath.Base(node)
}
