package control

import "nidalo/core/state"

// MapReply is where the data of an array lives.
type MapReply struct {
	Array     string      `json:"array"`
	Level     string      `json:"level"`
	Condition string      `json:"condition"`
	Margin    int         `json:"margin"`
	Strip     int64       `json:"strip_bytes"`
	Check     float64     `json:"check"` // how far a check under way is, as a share of the array; negative: none is
	Members   []MemberMap `json:"members"`
	Partners  []string    `json:"partners,omitempty"`
}

// MemberMap is one member of a map. Its data area is divided into equal parts from its first byte to its last.
type MemberMap struct {
	Slot      int            `json:"slot"`
	Disk      state.Identity `json:"disk"`
	Condition string         `json:"condition"`
	Data      int64          `json:"data_bytes"`
	Written   []bool         `json:"written,omitempty"` // by part: something in it was written
	Bad       []int          `json:"bad"`               // by part: blocks that the last check in this service's time found wrong, of those it located
	Cursor    float64        `json:"cursor"`            // the share that is rebuilt; negative: it is not being rebuilt
	Copied    float64        `json:"copied"`            // the share that is on the disk it is being copied onto; negative: it is not
	Strips    []string       `json:"strips"`            // what its first strips are: a number of the array's strips, P, Q, R and a stripe, = and a strip copied
}
