package say

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
)

// Size writes bytes for people, such as 244MiB.
func Size(n int64) string {
	if n < 0 {
		return "-" + Size(-n)
	}
	return strings.ReplaceAll(humanize.IBytes(uint64(n)), " ", "")
}

// ParseSize reads sizes such as 64KiB, 256MiB, 4TB or plain bytes.
func ParseSize(s string) (int64, error) {
	n, err := humanize.ParseBytes(s)
	if err != nil || n > 1<<60 {
		return 0, fmt.Errorf("%q is not a size; write for example 64KiB, 256MiB or 4TB", s)
	}
	return int64(n), nil
}
