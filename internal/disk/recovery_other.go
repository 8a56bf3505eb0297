//go:build !linux

package disk

import (
	"errors"
	"time"
)

// ErrNotSaid is returned by Recovery when a disk does not tell.
var ErrNotSaid = errors.New("the disk does not say")

// Recovery knows nothing here.
func Recovery(string) (time.Duration, error) { return 0, ErrNotSaid }

// KernelTimeout knows nothing here.
func KernelTimeout(string) time.Duration { return 0 }

// Cache knows nothing here.
func Cache(string) (bool, string) { return true, "" }

// FlushTime knows nothing here.
func FlushTime(string, int) (time.Duration, error) { return 0, ErrNotSaid }
