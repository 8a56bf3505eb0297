package control

import (
	"time"

	"nidalo/core/state"
)

// SurfaceRequest starts, continues or holds the surface test of a disk, or heals what it found. Without a disk it only asks for all.
type SurfaceRequest struct {
	Disk  string
	Again bool // begin anew
	Stop  bool // hold it
	Heal  bool // at its end, restore from redundancy what cannot be read, where the disk is a member
}

// Surface is the surface test of one disk, as it is remembered from one start to the next.
type Surface struct {
	Disk    string          `json:"disk"` // serial or path
	Name    string          `json:"name"` // for people
	Size    int64           `json:"size_bytes"`
	State   state.TaskState `json:"state"` // as of tasks
	Cursor  int64           `json:"cursor_bytes"`
	Percent float64         `json:"percent"`
	Rate    float64         `json:"bytes_per_second"`
	ETA     *float64        `json:"eta_seconds"` // null when not known
	Bad     int64           `json:"unreadable_bytes"`
	Places  []BadPlace      `json:"unreadable,omitempty"` // the first of them
	Slow    int64           `json:"slow_pieces"`          // pieces of 1 MiB that took far longer than most
	SlowAt  []int64         `json:"slow_at_bytes,omitempty"`
	Heal    bool            `json:"heal"`
	Healed  int64           `json:"healed_blocks"`
	Lost    int64           `json:"lost_blocks"` // that could not be restored
	Started time.Time       `json:"started"`
	Ended   time.Time       `json:"ended"`
	Result  string          `json:"result,omitempty"`
}

// BadPlace is a stretch of a disk that could not be read.
type BadPlace struct {
	Offset int64       `json:"offset_bytes"`
	Length int64       `json:"length_bytes"`
	Mended bool        `json:"mended,omitempty"` // it can be read again
	Uses   []state.Use `json:"uses,omitempty"`   // what it is for, where the disk was a member
}
