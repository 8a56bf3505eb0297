// Package service is everything in use on this host: it finds disks, starts the arrays they carry, and does what
// commands ask for. There is one implementation; package api carries its interface to other processes.
package service

import (
	"errors"
	"time"

	"nidalo/internal/disk"
)

// Control is what commands can ask of a service, their own or one that runs elsewhere. All types in it are plain data
// that survive JSON.
type Control interface {
	Disks() ([]DiskInfo, error)
	Status(name string) (*Status, error)
	Create(CreateRequest) (*ArrayStatus, error)
	Fail(FailRequest) error
	Replace(ReplaceRequest) (*ReplaceReply, error)
	Check(CheckRequest) error
	Erase(EraseRequest) (*DiskInfo, error)
	Dissolve(DissolveRequest) error
	Close() error
}

// Disk states.
const (
	DiskBlank  = "blank"  // may be taken
	DiskInUse  = "in use" // holds something, or belongs to an array
	DiskEmpty  = "empty"  // a bay without a disk
	DiskBroken = "broken" // cannot be read
)

// DiskInfo is one disk, or an empty bay.
type DiskInfo struct {
	disk.Identity
	Size   int64    `json:"size_bytes"`
	State  string   `json:"state"`
	Holds  []string `json:"holds,omitempty"` // what was found on it, in words
	Array  string   `json:"array,omitempty"`
	Slot   *int     `json:"slot,omitempty"`
	Member string   `json:"member,omitempty"` // condition, when it is a member of an array in service
}

// Status is all arrays, or one.
type Status struct {
	Time    time.Time     `json:"time"`
	Serving bool          `json:"serving"` // by a service that stays
	Socket  string        `json:"socket,omitempty"`
	Arrays  []ArrayStatus `json:"arrays"`
	Next    []string      `json:"next"`
}

// ArrayStatus is one array.
type ArrayStatus struct {
	Name       string         `json:"name"`
	ID         string         `json:"id"`
	Level      string         `json:"level"`
	Condition  string         `json:"condition"`
	Reason     string         `json:"reason,omitempty"` // why it is failed or not started
	Margin     int            `json:"margin"`
	MarginBest int            `json:"margin_best"`
	Capacity   int64          `json:"capacity_bytes"`
	Used       int64          `json:"used_bytes"`
	Strip      int64          `json:"strip_bytes"`
	Groups     int            `json:"groups"`
	Epoch      uint64         `json:"epoch"`
	Created    time.Time      `json:"created"`
	Export     string         `json:"export,omitempty"`
	Members    []MemberStatus `json:"members"`
	Tasks      []TaskStatus   `json:"tasks"`
	LastCheck  *CheckStatus   `json:"last_check,omitempty"`
	// Counters since the array was started: bytes unless the name says otherwise.
	Counters map[string]int64 `json:"counters,omitempty"`
	Next     []string         `json:"next"`
}

// MemberStatus is one slot of an array.
type MemberStatus struct {
	Slot           int        `json:"slot"`
	Bay            string     `json:"bay"`
	Model          string     `json:"model"`
	Serial         string     `json:"serial"`
	Path           string     `json:"path"`
	Condition      string     `json:"condition"`
	Size           int64      `json:"size_bytes"`
	Errors         uint64     `json:"errors"`
	ReadErrors     uint64     `json:"read_errors"`
	WriteErrors    uint64     `json:"write_errors"`
	ChecksumErrors uint64     `json:"checksum_errors"`
	Since          *time.Time `json:"since,omitempty"`
	NeedSize       int64      `json:"need_bytes,omitempty"` // of a replacement, when one is wanted
}

// TaskStatus is one task of an array.
type TaskStatus struct {
	Kind    string       `json:"kind"`
	Slot    *int         `json:"slot,omitempty"`
	State   string       `json:"state"`
	Percent float64      `json:"percent"`
	Done    int64        `json:"done_bytes"`
	Total   int64        `json:"total_bytes"`
	Rate    float64      `json:"bytes_per_second"`
	ETA     *float64     `json:"eta_seconds"` // null when not known
	Started time.Time    `json:"started"`
	Ended   *time.Time   `json:"ended,omitempty"`
	Error   string       `json:"error,omitempty"`
	Check   *CheckStatus `json:"check,omitempty"`
}

// CheckStatus is what a consistency check found, or has found so far.
type CheckStatus struct {
	Mismatches   int64      `json:"mismatches"`
	Repaired     int64      `json:"repaired"`
	Unrepairable int64      `json:"unrepairable"`
	Repair       bool       `json:"repair"`
	Started      time.Time  `json:"started"`
	Ended        *time.Time `json:"ended,omitempty"`
	Places       []Place    `json:"places,omitempty"`
}

// Place is one mismatch.
type Place struct {
	Slot   int    `json:"slot"`
	Disk   string `json:"disk"`
	Stripe int64  `json:"stripe"`
	Offset int64  `json:"offset_bytes"` // within the member's data
	What   string `json:"what"`
}

// CreateRequest asks for a new array.
type CreateRequest struct {
	Name   string   `json:"name"`
	Level  string   `json:"level"`
	Strip  int64    `json:"strip_bytes"`
	Groups int      `json:"groups"`
	Disks  []string `json:"disks"`
	DryRun bool     `json:"dry_run"` // check everything and say what it would be
}

// FailRequest declares a member failed.
type FailRequest struct {
	Array, Disk string
	Force       bool // although the array fails with it
	DryRun      bool
}

// ReplaceRequest puts a new disk in the place of a member.
type ReplaceRequest struct {
	Array, Old, New string
	Force           bool // although the member still works
}

// ReplaceReply says what is going on now.
type ReplaceReply struct {
	Slot   int      `json:"slot"`
	Disk   DiskInfo `json:"disk"`
	Stays  bool     `json:"stays"` // the service goes on by itself
	Member string   `json:"member"`
}

// CheckRequest starts a consistency check.
type CheckRequest struct {
	Array  string
	Repair bool
}

// EraseRequest makes a disk blank.
type EraseRequest struct {
	Disk   string
	DryRun bool
}

// DissolveRequest ends an array.
type DissolveRequest struct {
	Array  string
	DryRun bool
}

// Error is an error for people: one line, and hints what to do.
type Error struct {
	What  string   `json:"error"`
	Hints []string `json:"hints,omitempty"`
	Fatal bool     `json:"fatal,omitempty"` // would put data out of reach; Force does it all the same
}

func (e *Error) Error() string { return e.What }

// ErrHomeBusy says that another process serves this home and does not answer.
var ErrHomeBusy = errors.New("another process is using this home")
