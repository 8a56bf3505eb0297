package task

import (
	"sync/atomic"
	"time"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/buffer"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/stripe"
	"nidalo/internal/array/table"
	"nidalo/internal/env"
)

// Works is the long work on an array, and what begins and ends it: which disk takes the place of which, rebuilding, copying, checking.
type Works struct {
	host    Site
	tasks   *List
	joins   env.Mutex // one disk at a time becomes a member; never taken while another lock is held
	company company
	regions atomic.Int64 // identities of regions up to this one were given out in this start; what the cache has is found by them
}

// Site is what the works take from outside.
type Site struct {
	Slots      *member.Slots
	Tables     *table.Tables
	Journal    *journal.Journal
	Roster     *roster.Roster
	Stripes    *stripe.Stripes
	Judge      *member.Judge
	Scratch    *buffer.Scratch
	Layout     func() *layout.Map
	Now        func() time.Time
	Alive      func() error // why nothing may be written any more, or nil
	Say        func(kind event.Kind, disk, text string)
	Healed     func(blocks int, stripe int64) // so many blocks of a stripe were wrong, perhaps none, and are rewritten
	Zero       func(off, length int64) error  // makes a stretch of the logical space never-written
	Flush      func() error                   // brings all that was written before to the members
	Go         func(func())                   // runs until the array is closed
	Unreadable *atomic.Int64                  // counts blocks that redundancy could not restore

	// Hold keeps clients from a stretch of the logical space, until what it returns is called; Settle brings what the cache has of it to the
	// members; Remap puts another map in force.
	Hold   func(off, length int64) (release func())
	Settle func(off, length int64) error
	Remap  func(*layout.Map)
	Piece  int64 // how much a change of layout moves at once, bytes; 0: the usual
}

// NewWorks makes the works of an array.
func NewWorks(host Site, tasks *List) *Works {
	w := &Works{host: host, tasks: tasks}
	env.Ranked(&w.joins, env.RankJoin)
	return w
}

// Still does something while no disk becomes a member and no change of layout moves anything.
func (w *Works) Still(do func() error) error {
	w.joins.Lock()
	defer w.joins.Unlock()
	return do()
}

// GoOn starts rebuilds again that ended in an error and are still to be done, such as for want of room on a file system.
func (w *Works) GoOn() {
	if w.host.Alive() != nil {
		return
	}
	w.joins.Lock()
	defer w.joins.Unlock()
	for slot := range w.host.Slots.Len() {
		if m := w.host.Slots.At(slot); m.Condition() == record.Rebuilding && m.Live() && !w.tasks.Busy(slot) {
			_, _ = w.startRebuild(slot)
		}
	}
	if w.host.Roster.View().Turn != nil && !w.tasks.Running(state.TaskConvert) {
		_, _ = w.startTurn()
	}
}

// Resume goes on with what the record says was under way.
func (w *Works) Resume() {
	for slot := range w.host.Slots.Len() {
		if w.host.Slots.At(slot).Condition() == record.Rebuilding {
			_, _ = w.startRebuild(slot)
		}
	}
	for _, m := range w.host.Slots.Copies() {
		_, _ = w.startRetire(m.Slot)
	}
	if t := w.host.Roster.View().Task; t.Kind == record.Check && t.Ended.IsZero() {
		_, _ = w.startCheck(How{t.Repair, t.Blame - 1}, true)
	}
	if w.host.Roster.View().Turn != nil { // after a check, which counts stripes by the map there is
		_, _ = w.startTurn()
	}
}
