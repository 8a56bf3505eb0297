package control

import (
	"time"

	"nidalo/core/state"
)

// LendRequest lends disks to other hosts, takes them back, or without any only asks.
type LendRequest struct {
	Disks []string `json:"disks,omitempty"`
	To    []string `json:"to,omitempty"` // hosts, by the names in their certificates
	End   bool     `json:"end,omitempty"`
	Force bool     `json:"force,omitempty"` // take back what another host uses
}

// LendReply is the disks that were asked for, or all that are lent.
type LendReply struct {
	Host      string     `json:"host"`              // what other hosts know this one by
	Address   string     `json:"address,omitempty"` // where they are lent; empty: nowhere, until the configuration says it
	Encrypted bool       `json:"encrypted"`
	Runs      bool       `json:"runs"` // a service lends them at this moment
	Disks     []LentDisk `json:"disks"`
}

// LentDisk is a disk that is lent.
type LentDisk struct {
	state.Identity
	Name    string     `json:"name"` // by which it is asked for
	Size    int64      `json:"size_bytes"`
	To      []string   `json:"to"`
	There   bool       `json:"there"`
	Why     string     `json:"why,omitempty"`   // it is not there
	User    string     `json:"user,omitempty"`  // the host that uses it
	Since   *time.Time `json:"since,omitempty"` // when it began to
	Token   uint64     `json:"token,omitempty"` // with which it uses it
	Read    int64      `json:"read_bytes"`      // since then
	Written int64      `json:"written_bytes"`
	Flushes int64      `json:"flushes"`
}
