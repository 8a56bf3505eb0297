package control

import (
	"time"

	"nidalo/core/state"
)

// DiskTask is how far the replacement of a whole disk is.
type DiskTask struct {
	Old     string          `json:"old"`
	New     string          `json:"new"`
	State   state.TaskState `json:"state"` // as of tasks
	Done    int64           `json:"done_bytes"`
	Total   int64           `json:"total_bytes"`
	Percent float64         `json:"percent"`
	Rate    float64         `json:"bytes_per_second"`
	ETA     *float64        `json:"eta_seconds"`
	Ready   int             `json:"arrays_done"`
	Arrays  int             `json:"arrays"`
	Started time.Time       `json:"started"`
	Error   string          `json:"error,omitempty"`
}
