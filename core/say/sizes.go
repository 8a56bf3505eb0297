package say

import (
	"fmt"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/dustin/go-humanize"
)

// Binary has all amounts written in powers of 1024.
var Binary atomic.Bool

// Size writes bytes for people: from a gigabyte on as on the label of a disk, with three digits, such as 12.0TB; less as 244MiB.
func Size(n int64) string {
	switch {
	case n < 0:
		return "-" + Size(-n)
	case n < 1e9 || Binary.Load():
		return strings.ReplaceAll(humanize.IBytes(uint64(n)), " ", "")
	}
	value, units := float64(n)/1e9, []string{"GB", "TB", "PB", "EB"}
	for value >= 999.5 && len(units) > 1 {
		value, units = value/1000, units[1:]
	}
	digits := 0
	switch {
	case value < 9.995:
		digits = 2
	case value < 99.95:
		digits = 1
	}
	return strconv.FormatFloat(value, 'f', digits, 64) + units[0]
}

// ParseSize reads sizes such as 64KiB, 256MiB, 4TB or plain bytes.
func ParseSize(s string) (int64, error) {
	n, err := humanize.ParseBytes(s)
	if err != nil || n > 1<<60 {
		return 0, fmt.Errorf("%q is not a size; write for example 64KiB, 256MiB or 4TB", s)
	}
	return int64(n), nil
}
