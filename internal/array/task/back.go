package task

import (
	"errors"
	"fmt"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/internal/probe"
)

// How a change of layout goes back.
//
// Up to the end, everything is still in one of the two layouts. The change from the new one to the old one goes the other way (layout.Turn.Back), and has a
// boundary where this one has it. There the record alone has to change: the map in force stays the same, and no client waits.
//
// Journal entries name a boundary in the direction in which they were written. So a checkpoint comes first, after which none of them is needed, and then the
// record names the other direction. No window is moved in between: that takes the same lock.

// GoBack has a change of layout go back to the old one, from the next boundary on at which it can. ErrNone means that none is under way.
func (w *Works) GoBack() error {
	w.joins.Lock()
	defer w.joins.Unlock()
	rec := w.host.Roster.View()
	switch {
	case rec.Turn == nil:
		return ErrNone
	case rec.Turn.Way != record.Onward:
		return errors.New("the conversion goes back already")
	}
	turn, err := rec.Turns()
	if err != nil {
		return err
	}
	if err := w.mayTurn(turn); err != nil {
		return fmt.Errorf("the conversion cannot go back, only be paused: %w", err)
	}
	return w.host.Roster.Update(func(r *record.Record) { r.Turn.Way = record.TurnsYet })
}

// turnBack has the change go back if that is wanted and there is a boundary of both ways here. The task ends then: another goes on. What joins is held.
func (m *moving) turnBack() error {
	if m.w.host.Roster.View().Turn.Way != record.TurnsYet {
		return nil
	}
	back, err := m.turn.Back()
	if err != nil {
		return err
	}
	rest := m.turn.Old.Capacity() - m.moved
	if back.Floor(rest) != rest {
		return nil
	}
	if !probe.TurnedWithEntries.On() {
		if err := m.w.host.Journal.Checkpoint(); err != nil {
			return err
		}
	}
	err = m.w.host.Journal.Between(func(uint64) error { return m.w.host.Roster.TurnBack(rest, m.w.host.Remap) })
	if err != nil {
		return err
	}
	m.turned = true
	probe.TurnedBack.Seen()
	m.w.host.Say(event.ArrayConverting, "", fmt.Sprintf("back to level %s", back.New.Level))
	return ErrCancelled
}
