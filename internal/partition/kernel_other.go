//go:build !linux

package partition

import (
	"errors"

	"nidalo/internal/disk"
)

// Tell makes the kernel know the partitions of a table.
func Tell(*disk.File, *Table, *Table) error { return errors.ErrUnsupported }
