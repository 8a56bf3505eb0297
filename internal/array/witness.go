package array

import (
	"fmt"

	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/array/task"
)

// seeAgain has the witness of every page of a member say what the page is on that member, after the disk that keeps them, or
// the member itself, is another. The next checkpoint makes it count.
func (a *Array) seeAgain(t *task.Task, m *member.Member) error {
	for number := range m.Place.MapPages {
		if !m.Live() {
			return nil // the others tell of that
		}
		if err := a.tables.SeeAgain(m, record.MapPage, number); err != nil {
			return err
		}
	}
	for number := int64(0); number < m.Place.SumPages; number++ {
		if number%seenPages == 0 {
			if err := t.Point(seenPages * Block); err != nil {
				return err
			}
		}
		next, ok := a.tables.NextBit(m, number, m.Place.SumPages-1)
		if !ok || next >= m.Place.SumPages {
			return nil
		}
		number = next
		if err := a.tables.SeeAgain(m, record.SumPage, number); err != nil {
			return err
		}
	}
	return nil
}

// seenPages is how many pages are looked at between two points of a task.
const seenPages = 256

// seeAgainAround is seeAgain for the members whose witnesses a slot keeps, and with own for the one in it.
func (a *Array) seeAgainAround(t *task.Task, slot int, own bool) error {
	for s, e := range a.roster.Now().Roster {
		if m := a.slots.At(s); m.Live() && (e.Witness == slot || own && s == slot) {
			if err := a.seeAgain(t, m); err != nil {
				return err
			}
		}
	}
	return nil
}

// missed sees to a change that could not be entered since a table of a member cannot be read. One that the array cannot do without,
// because it only hangs, would be taken for what it held before once the journals are emptied: so nothing more is written, and the next start enters it from them.
func (a *Array) missed(m *member.Member, err error) {
	if a.slots.IsCopy(m) {
		a.roster.Fail(m, record.Failed, err)
		return
	}
	a.fail(fmt.Errorf("the checksum table of %w; start the array again when the disk answers", err))
}
