package roster

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/disk"
)

// named is a disk of which only the name is asked.
type named struct {
	disk.Disk
	name string
}

func (n named) Identity() state.Identity { return state.Identity{Bay: n.name} }

// history makes the records of an array of level 5 of three, as the members have them, and changes of its roster.
type history struct{ now [3]*record.Record }

func newHistory() *history {
	rec := &record.Record{Array: uuid.New(), Name: "tides", Created: time.Unix(1, 0), Level: layout.Parity1, Strip: layout.MinStrip, Epoch: 1, EpochID: uuid.New()}
	for range 3 {
		rec.Roster = append(rec.Roster, record.Entry{ID: uuid.New(), Condition: record.Active, Size: 16 << 20, DataSize: 8 << 20})
	}
	h := &history{}
	h.write(rec, 0, 1, 2)
	return h
}

// write puts a record on some members.
func (h *history) write(rec *record.Record, on ...int) {
	for _, slot := range on {
		own := rec.Clone()
		own.Slot, own.Member = slot, rec.Roster[slot].ID
		h.now[slot] = own
	}
}

// leave takes a member out of the roster that another has, and writes that on some members.
func (h *history) leave(of, slot int, on ...int) {
	rec := h.now[of].Clone()
	leaves(rec, slot, record.Missing, time.Unix(2, 0), h.now[slot].State(), h.now[slot].State(), h.now[slot].Epoch)
	rec.Before, rec.EpochID = record.Short(rec.EpochID), uuid.New()
	rec.Epoch++
	h.write(rec, on...)
}

func (h *history) judge(slots ...int) Set {
	var c []Candidate
	for _, slot := range slots {
		c = append(c, Candidate{named{name: string(rune('A' + slot))}, h.now[slot]})
	}
	return Judge(c)
}

func current(s Set) (out []int) {
	for slot, c := range s.Current {
		if c.Disk != nil {
			out = append(out, slot)
		}
	}
	return out
}

func TestMembersOfOneStateBelong(t *testing.T) {
	s := newHistory().judge(0, 1, 2)
	require.NoError(t, s.Doubt)
	require.Equal(t, []int{0, 1, 2}, current(s))
	require.Equal(t, 1, s.Margin())
}

func TestAChangeThatACrashCutShortLeavesNobodyBehind(t *testing.T) {
	h := newHistory()
	h.leave(0, 2, 0) // 1 did not get it
	s := h.judge(0, 1)
	require.NoError(t, s.Doubt)
	require.Equal(t, []int{0, 1}, current(s))
	require.Equal(t, 0, s.Margin())
	lay, err := s.Newest.Layout()
	require.NoError(t, err)
	require.Equal(t, state.Exposed, s.Condition(lay))
}

func TestWhoLeftIsStaleAndDecidesNothing(t *testing.T) {
	h := newHistory()
	h.leave(0, 2, 0, 1)
	s := h.judge(0, 1, 2)
	require.NoError(t, s.Doubt)
	require.Equal(t, []int{0, 1}, current(s))
	require.Len(t, s.Stale, 1)
	require.Empty(t, s.Strangers)
}

func TestAMemberThatWasSetBackIsAStranger(t *testing.T) {
	h := newHistory()
	first := h.now[1]
	h.leave(0, 2, 0, 1)
	for range 2 { // two more changes that say nothing new
		rec := h.now[0].Clone()
		rec.Before, rec.EpochID = record.Short(rec.EpochID), uuid.New()
		rec.Epoch++
		h.write(rec, 0, 1)
	}
	h.now[1] = first
	s := h.judge(0, 1)
	require.Len(t, s.Strangers, 1)
	require.ErrorIs(t, s.Doubt, ErrDoubt, "one member cannot serve, and the other contradicts it")
}

func TestTwoSidesThatWentOnWithoutEachOtherAreInDoubt(t *testing.T) {
	h := newHistory()
	apart := *h
	h.leave(0, 2, 0, 1)
	apart.leave(1, 0, 1, 2)
	h.now[2] = apart.now[2] // 2 went on with a 1 that has since been overwritten
	s := h.judge(0, 1, 2)
	require.NoError(t, s.Doubt, "0 and 1 can serve, 2 alone cannot")
	require.Equal(t, []int{0, 1}, current(s))
	require.Len(t, s.Strangers, 1)

	s = h.judge(0, 2)
	require.ErrorIs(t, s.Doubt, ErrDoubt)
}

func TestAnEpochThatTheOthersContradictDecidesNothing(t *testing.T) {
	h := newHistory()
	forged := h.now[0].Clone()
	forged.Epoch, forged.EpochID, forged.Before = 99, uuid.New(), 1
	h.now[0] = forged
	s := h.judge(0, 1, 2)
	require.NoError(t, s.Doubt)
	require.EqualValues(t, 1, s.Newest.Epoch, "1 and 2 could have served without it")
	require.Equal(t, []int{1, 2}, current(s))
	require.Len(t, s.Strangers, 1)
}

func TestTooFewMembersAreNamed(t *testing.T) {
	s := newHistory().judge(1)
	require.Negative(t, s.Margin())
	require.Contains(t, s.Shortage(), "slot 0")
	require.Contains(t, s.Shortage(), "slot 2")
}

func TestARecordOfAnotherCreationIsNotBelieved(t *testing.T) {
	h := newHistory()
	forged := h.now[2].Clone()
	forged.Created, forged.Epoch = time.Unix(7, 0), 99
	h.now[2] = forged
	s := h.judge(0, 1, 2)
	require.NoError(t, s.Doubt)
	require.Equal(t, []int{0, 1}, current(s))
	require.Contains(t, s.Strangers[0].Why, "another time")
}

func TestStatesOfARescueAreTheNewestFirst(t *testing.T) {
	h := newHistory()
	h.leave(0, 2, 0, 1)
	var found []Candidate
	for slot, r := range h.now {
		found = append(found, Candidate{named{name: string(rune('A' + slot))}, r})
	}
	states := States(found)
	require.Len(t, states, 1, "what left has nothing that the newest does not use")
	require.True(t, states[0].Use[2].Stale)
	_, err := states[0].Readmits()
	require.ErrorIs(t, err, ErrNoReadmission)
	states = States(found[1:])
	slots, err := states[0].Readmits()
	require.NoError(t, err)
	require.Equal(t, []int{2}, slots)
}
