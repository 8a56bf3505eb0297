package array

import (
	"errors"
	"fmt"

	"nidalo/core/record"
	"nidalo/internal/array/journal"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/table"
	"nidalo/internal/disk"
	"nidalo/internal/probe"
)

// LetGo closes the disk of a member that no longer takes part, so that it can be opened anew.
func (a *Array) LetGo(slot int) {
	if m := a.slots.At(slot); !m.Live() {
		m.Released()
	}
}

// Return takes a member back that was away: it catches up what changed meanwhile, and what was on its way to it when it
// went. The disk belongs to the array when nil is returned. The error wraps ErrStale when it must be rebuilt from nothing.
//
//	1  in its own tables, what its journal names is marked lost     a crash leaves a member that is away, as before
//	2  its journal is emptied                                       the same: nothing in it is needed after 1
//	3  the roster names it                                          a crash leaves it rebuilding, from the first row
func (a *Array) Return(d disk.Disk, own *record.Record, failed bool) error {
	a.joins.Lock()
	defer a.joins.Unlock()
	slot, err := a.roster.Awaits(own, failed)
	if err != nil {
		return err
	}
	if d.Size() < own.Place.Size {
		return fmt.Errorf("%w: the disk is smaller than it was", roster.ErrStale)
	}
	a.clearSlot(slot)
	old := a.slots.At(slot)
	m := member.New(a.judge, member.Known{Slot: slot, Disk: d, Identity: own.Member, Place: own.Place, Condition: record.Missing,
		Base: a.roster.View().Roster[slot].Base, Errors: old.Errors()})
	unsettled, err := journal.LeftoverOf(m)
	if err != nil {
		return err
	}
	if probe.OwnJournalForgotten.On() {
		unsettled.Runs = nil
	}
	if err := a.loseRuns(m, unsettled.Runs, own.Epoch); err != nil {
		return err
	}
	// Everything the others have in their journals gets into place, so that the rings need not agree.
	if err := a.journal.Checkpoint(); err != nil {
		return err
	}
	m.Ring.Sequence = unsettled.Sequence
	if err := a.journal.Empty(m); err != nil {
		return err
	}
	if err := a.roster.Join(m); err != nil {
		return err
	}
	old.Release()
	a.event("member-returned", m.Name(), "it catches up what it missed since epoch %d", m.Base)
	a.resumeRebuild(slot)
	return nil
}

// loseRuns marks the blocks of some runs, ascending, as lost in a member's own tables, on the member.
func (a *Array) loseRuns(m *member.Member, runs []record.Run, epoch uint64) error {
	if len(runs) == 0 {
		return nil
	}
	number, err := a.journal.NextCheckpoint()
	if err != nil {
		return err
	}
	if err = a.tables.Lose(m, runs, epoch, number); errors.Is(err, table.ErrDamaged) {
		return fmt.Errorf("%w: %w", roster.ErrStale, err)
	}
	return err
}
