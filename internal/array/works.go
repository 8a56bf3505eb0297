package array

import (
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// What follows is that of task.Works.

// Replace puts a disk in the place of the member in slot, whatever the disk holds, and starts to rebuild onto it.
func (a *Array) Replace(slot int, d disk.Disk) error { return a.works.Replace(slot, d) }

// StandIn is Replace for a member that is lost.
func (a *Array) StandIn(slot int, d disk.Disk) error { return a.works.StandIn(slot, d) }

// NeedSize is the smallest disk that can take the place of the member in slot, in bytes.
func (a *Array) NeedSize(slot int) int64 { return a.works.NeedSize(slot) }

// Retire copies a member that can still be read onto another disk and then lets it go.
func (a *Array) Retire(slot int, d disk.Disk) error { return a.works.Retire(slot, d) }

// Onto is the disk a member is being copied onto, if it is.
func (a *Array) Onto(slot int) (state.Identity, bool) { return a.works.Onto(slot) }

// Return takes a member back that was away.
func (a *Array) Return(d disk.Disk, own *record.Record, failed bool) error {
	return a.works.Return(d, own, failed)
}

// LetGo closes the disk of a member that no longer takes part, so that it can be opened anew.
func (a *Array) LetGo(slot int) { a.works.LetGo(slot) }

// Fail declares the member in slot failed.
func (a *Array) Fail(slot int, force bool) error { return a.works.Fail(slot, force) }

// StartCheck starts a consistency check of all that was ever written.
func (a *Array) StartCheck(repair bool) error { return a.works.StartCheck(repair) }

// StartCheckBlaming is StartCheck with a slot to blame where nothing shows which of several blocks is wrong.
func (a *Array) StartCheckBlaming(repair bool, blame int) error {
	return a.works.StartCheckBlaming(repair, blame)
}

// CheckNow checks in the caller's goroutine.
func (a *Array) CheckNow(repair bool) (task.CheckResult, error) { return a.works.CheckNow(repair) }

// LastCheck is the state of the last consistency check, as the record holds it.
func (a *Array) LastCheck() record.Task { return a.works.LastCheck() }

// GiveUp puts a blank disk in the place of a lost one that nothing can restore, see task.Works.
func (a *Array) GiveUp(slot int, d disk.Disk) error { return a.works.GiveUp(slot, d) }

// Empty starts to empty the volume of a slot, see task.Works.
func (a *Array) Empty(slot int) error { return a.works.Empty(slot) }

// GoOn starts rebuilds again that ended in an error and are still to be done, such as for want of room on a file system.
func (a *Array) GoOn() { a.works.GoOn() }
