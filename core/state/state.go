// Package state is the conditions, kinds and places that the engine, the service and the views share: plain values, without I/O.
package state

import "slices"

// Condition is the condition of an array.
type Condition string

// The conditions of an array.
const (
	Healthy  Condition = "healthy"
	Degraded Condition = "degraded" // less than its full margin
	Exposed  Condition = "exposed"  // serving, with a margin of 0, where the level has redundancy
	Partial  Condition = "partial"  // of a guarded set: more disks are lost than it has parity, and the volumes on the others are served
	Failed   Condition = "failed"
)

// DiskState is what a disk of this host is, outside of any array: blank, or why it cannot be taken.
type DiskState string

// The states of a disk.
const (
	DiskBlank    DiskState = "blank"     // may be taken
	DiskInUse    DiskState = "in use"    // holds something, or belongs to an array
	DiskEmpty    DiskState = "empty"     // a bay without a disk
	DiskBroken   DiskState = "broken"    // cannot be read
	DiskReadOnly DiskState = "read-only" // blank, but takes no writes
	DiskClosed   DiskState = "closed"    // this user may not look at it
	DiskSpare    DiskState = "spare"     // waits for a member to fail
	DiskRetired  DiskState = "retired"   // was a member, and its place was taken by a copy of it
)

// TaskKind is a kind of long work.
type TaskKind string

// The kinds of task.
const (
	TaskRebuild TaskKind = "rebuild"
	TaskCatchUp TaskKind = "catch-up" // a rebuild of what a member missed while it was away
	TaskCheck   TaskKind = "check"
	TaskRetire  TaskKind = "retire"
	TaskVet     TaskKind = "vet"
	TaskSurface TaskKind = "surface test"
	TaskConvert TaskKind = "conversion" // of an array to another layout
	TaskEmpty   TaskKind = "emptying"   // of a volume of a guarded set whose disk is to be taken out
)

// Noun is the kind as a sentence names the task.
func (k TaskKind) Noun() string {
	if k == TaskRetire {
		return "retirement"
	}
	return string(k)
}

// TaskState is where a task stands.
type TaskState string

// The states of a task.
const (
	TaskWaiting   TaskState = "waiting" // for its turn
	TaskRunning   TaskState = "running"
	TaskPaused    TaskState = "paused"
	TaskDone      TaskState = "done"
	TaskFailed    TaskState = "failed"
	TaskStopped   TaskState = "stopped"   // goes on at the next start
	TaskCancelled TaskState = "cancelled" // does not
)

// A task runs from the moment that it is started. What it can become from then on:
var goes = map[TaskState][]TaskState{
	TaskRunning: {TaskWaiting, TaskPaused, TaskDone, TaskFailed, TaskStopped, TaskCancelled},
	TaskWaiting: {TaskRunning, TaskStopped},
	TaskPaused:  {TaskRunning, TaskWaiting, TaskStopped},
}

// Goes says whether a task in this state can be in another next.
func (s TaskState) Goes(to TaskState) bool { return slices.Contains(goes[s], to) }

// Use is what a stretch of a member's disk is for.
type Use struct {
	Offset, Length int64 // on the disk, bytes
	What           string
	Array          int64 // offset in the array of the data that lies there, bytes; -1 for everything else
}

// Span is a stretch of an array, in bytes.
type Span struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
	// Unsure: no remaining member records whether anything was ever written there.
	Unsure bool `json:"unsure,omitempty"`
}
