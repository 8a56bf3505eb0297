package view

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/control"
)

func TestTheWatchScreenShowsWhatMembersDidLately(t *testing.T) {
	member := control.MemberStatus{Bay: "A1", Model: "Tamarack TK-4000", Serial: "TMK-0193", Condition: "active"}
	a := control.ArrayStatus{ID: "x", Name: "tides", Members: []control.MemberStatus{member}}
	w := watch{style: styles(false), width: 80, height: 24, pulse: pulse{}}
	at := time.Unix(1000, 0)
	look := func(seconds float64, moved, operations int64, busy float64) {
		m := &a.Members[0]
		m.Moved, m.Operations, m.Busy = moved, operations, busy
		next, _ := w.Update(Sight{At: at.Add(time.Duration(seconds * float64(time.Second))), Status: &control.Status{Arrays: []control.ArrayStatus{a}}, Next: &control.NextReply{}})
		w = next.(watch)
	}
	line := func() string { return w.memberLines(a)[0] }
	look(0, 0, 0, 0)
	require.NotContains(t, line(), "/s", "nothing is known yet")
	look(0.5, 1<<20, 10, 0.02)
	require.NotContains(t, line(), "/s", "a look in between counts for nothing")
	look(1, 4<<20, 20, 0.1)
	require.Contains(t, line(), "4.0MiB/s  ")
	require.Contains(t, line(), "5.0 ms")
	look(3, 8<<20, 24, 0.5)
	require.Contains(t, line(), "2.0MiB/s  ")
	require.Contains(t, line(), "█▅")
	look(4, 8<<20, 24, 0.5)
	require.Contains(t, line(), "0B/s")
	require.Contains(t, line(), "█▅·")
	look(5, 1<<20, 1, 0)
	require.NotContains(t, line(), "/s", "its disk was opened anew")
	require.NotContains(t, line(), "Tamarack", "there is no room for the model")
	w.width = 120
	require.Contains(t, line(), "A1   Tamarack TK-4000   TMK-0193   active")
}
