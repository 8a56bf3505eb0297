// Package disk is the one interface through which everything above it reaches storage. Behind it are plain files and
// block devices (file.go) and, in package lab, simulated disks. The engine sees only Disk, so that a test can give it a
// disk that loses power.
package disk

import (
	"errors"
	"strings"

	"nidalo/core/state"
)

// ErrGone is wrapped by every operation on a disk that is no longer there: pulled, or its device vanished. All others
// are errors of the place that was read or written.
var ErrGone = errors.New("the disk is gone")

// Plain is a reason without "the disk is gone", where it also says how it went.
func Plain(reason string) string { return strings.Replace(reason, ErrGone.Error()+": ", "", 1) }

// ErrInUse is wrapped by Open when another process holds the disk.
var ErrInUse = errors.New("in use by another process")

// ErrReadOnly is wrapped by Open for writing when the device takes no writes.
var ErrReadOnly = errors.New("it is read-only")

// ErrFull is wrapped by writes that failed because the file system below a member file has no space left.
var ErrFull = errors.New("no space left on the file system that holds the disk")

// Disk is a thing that stores blocks. Reads and writes are whole or an error; they may run concurrently and at any
// depth. A write is durable once a Sync that began after it returned has returned nil; until then a crash may keep any
// part of it, in units of 4 KiB.
type Disk interface {
	ReadAt(p []byte, off int64) error
	WriteAt(p []byte, off int64) error
	// ReadVec and WriteVec read and write one stretch of the disk from and to several buffers, in order.
	ReadVec(bufs [][]byte, off int64) error
	WriteVec(bufs [][]byte, off int64) error
	Sync() error
	Size() int64
	Identity() state.Identity
	Close() error
}

// Reserver is implemented by disks for which room may have to be found before they can be written.
type Reserver interface {
	// Reserve makes sure that a stretch can be written without more room being needed. It fails with ErrFull.
	Reserve(off, n int64) error
}

// Discarder is implemented by disks that can forget what a stretch holds, so that it takes no room. What it reads as then is not
// said.
type Discarder interface {
	// Discard forgets a stretch. It fails with errors.ErrUnsupported where the disk has no use for that.
	Discard(off, n int64) error
}

// Sleeper is implemented by disks that stop turning when they are told to. Whatever is asked of one that sleeps wakes it, but for these.
type Sleeper interface {
	// Standby puts the disk to sleep; errors.ErrUnsupported when it cannot be.
	Standby() error
	// Asleep says whether it has to wake up before it can do anything.
	Asleep() bool
}

// Measurer is implemented by disks that may have become larger since they were opened.
type Measurer interface {
	// Measure finds out the size in bytes, which Size returns from then on.
	Measure() (int64, error)
}

// Length is the total of the buffers in bytes.
func Length(bufs [][]byte) int {
	n := 0
	for _, b := range bufs {
		n += len(b)
	}
	return n
}
