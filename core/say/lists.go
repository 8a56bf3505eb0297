package say

import (
	"fmt"
	"strings"
)

// Count is a number of things, such as "1 disk" or "3 disks".
func Count[N int | int64](n N, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

// List is names as a sentence has them: "A1", "A1 and A2", "A1, A2 and A3".
func List(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	last := len(names) - 1
	return strings.Join(names[:last], ", ") + " and " + names[last]
}
