//go:build !linux

package disk

import (
	"errors"
	"unsafe"
)

// ErrAsleep is returned instead of the health of a disk that would have to wake up to tell.
var ErrAsleep = errors.New("the disk sleeps")

func ioctl(uintptr, uintptr, unsafe.Pointer) error { return errors.ErrUnsupported }
