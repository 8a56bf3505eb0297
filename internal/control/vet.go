package control

import (
	"time"

	"nidalo/core/health"
	"nidalo/core/state"
)

// Vetting is the vet of one disk, as it is remembered from one start to the next.
type Vetting struct {
	Disk    string           `json:"disk"` // serial or path
	Name    string           `json:"name"` // for people
	Size    int64            `json:"size_bytes"`
	Quick   bool             `json:"quick"` // samples instead of the whole disk
	State   state.TaskState  `json:"state"` // as of tasks
	Pass    int              `json:"pass"`  // 0 a pattern is written, 1 it is read back, 2 zeros are written
	Cursor  int64            `json:"cursor_bytes"`
	Percent float64          `json:"percent"`
	Rate    float64          `json:"bytes_per_second"`
	Errors  int64            `json:"errors"`                    // pieces of 1 MiB that could not be written, read, or came back different
	Places  []string         `json:"places,omitempty"`          // the first of them
	Worse   []string         `json:"worse,omitempty"`           // what the disk says of itself that grew from the beginning to the end
	Failing []string         `json:"failing,omitempty"`         // why it will fail, by what it says of itself at the end
	Slow    int64            `json:"slow"`                      // pieces that took far longer than most
	Before  *health.Readings `json:"readings_before,omitempty"` // what it said of itself; nil when it says nothing
	After   *health.Readings `json:"readings_after,omitempty"`
	Started time.Time        `json:"started"`
	Ended   time.Time        `json:"ended"`
	Result  string           `json:"result,omitempty"`
}
