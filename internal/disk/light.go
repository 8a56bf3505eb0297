package disk

import (
	"errors"
	"os"
	"path/filepath"
)

// ErrNoLight says that the bay of a disk has no light that can be reached.
var ErrNoLight = errors.New("the system knows no light of its bay")

// Light switches the locate light of the bay a block device is in, by the kernel's enclosure files:
// /sys/class/enclosure/ENCLOSURE/BAY/locate beside …/device/block/NAME.
func Light(path string, on bool) error {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	bays, _ := filepath.Glob("/sys/class/enclosure/*/*/device/block/" + filepath.Base(real))
	if len(bays) == 0 {
		return ErrNoLight
	}
	value := "0"
	if on {
		value = "1"
	}
	return os.WriteFile(filepath.Join(bays[0], "../../..", "locate"), []byte(value), 0)
}
