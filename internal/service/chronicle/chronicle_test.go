package chronicle_test

import (
	"bytes"
	"database/sql"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/history"
	"nidalo/internal/service/chronicle"
)

var at = time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC)

// begin is a chronicle in a folder, what it logged, and what was done because of it.
func begin(t *testing.T, folder string, looks bool) (c *chronicle.Chronicle, log *bytes.Buffer, reacted *[]event.Kind) {
	log, reacted = &bytes.Buffer{}, &[]event.Kind{}
	var mu sync.Mutex
	c = chronicle.New(chronicle.Host{Log: slog.New(slog.NewTextHandler(log, nil)), Now: func() time.Time { return at }, Path: filepath.Join(folder, "history.db"), Looks: looks,
		React: func(e event.Event) {
			mu.Lock()
			defer mu.Unlock()
			*reacted = append(*reacted, e.Kind)
		},
		Quiet: func(event.Event) bool { return false }, Next: func(string) []string { return nil }})
	return c, log, reacted
}

func TestEverythingToldIsKeptInOrder(t *testing.T) {
	folder := t.TempDir()
	c, log, reacted := begin(t, folder, false)
	for range 100 {
		c.Tell(event.Event{Kind: event.MemberFailed, Array: "tides", Disk: "A3", Detail: "too many errors"}, nil)
		c.Tell(event.Event{Kind: event.SpareUsed, Array: "tides", Disk: "A5"}, nil)
	}
	c.Tell(event.Event{Kind: event.OfTask(state.TaskCheck, state.TaskDone), Array: "tides"},
		&task.State{Kind: state.TaskCheck, State: state.TaskDone, Started: at, Ended: at.Add(time.Minute), Done: 60 << 20, Check: &task.CheckResult{Mismatches: 2, Repaired: 2}})
	c.Readings([]history.Reading{{Time: at, Of: "tides", Name: "used_bytes", Value: 7}})
	c.Task(history.Task{Kind: state.TaskVet, Disk: "A7", Started: at, Ended: at, State: state.TaskDone})
	c.Close()

	require.Len(t, *reacted, 202)
	require.Equal(t, []event.Kind{event.MemberFailed, event.SpareUsed, event.MemberFailed}, (*reacted)[:3])
	require.Equal(t, []event.Kind{"check-done", event.Mismatches}, (*reacted)[200:], "a check that found something is worth an event of its own")
	require.Contains(t, log.String(), `level=WARN msg=member-failed array=tides disk=A3 detail="too many errors"`)
	require.Contains(t, log.String(), `detail="60MiB in 1m0s; 2 mismatches, 2 repaired, 0 beyond repair"`)

	again, _, _ := begin(t, folder, true)
	defer again.Close()
	h := again.History()
	events, err := h.Events(history.Filter{Limit: 1000})
	require.NoError(t, err)
	require.Len(t, events, 202)
	require.Equal(t, event.Warning, events[0].Severity)
	require.Equal(t, at, events[0].Time.UTC())
	tasks, err := h.Tasks(history.Filter{})
	require.NoError(t, err)
	require.Len(t, tasks, 2)
	readings, err := h.Readings("tides", "used_bytes", time.Time{}, 0)
	require.NoError(t, err)
	require.Len(t, readings, 1)
}

func TestAStateIsToldWhenItChanges(t *testing.T) {
	c, _, reacted := begin(t, t.TempDir(), false)
	require.False(t, c.Told("condition/tides"))
	for _, is := range []string{"healthy", "healthy", "degraded", "degraded", "healthy"} {
		c.Once("condition/tides", is, event.Event{Kind: event.Kind(is), Array: "tides"})
	}
	c.Once("condition/sonar", "healthy", event.Event{Kind: event.Healthy, Array: "sonar"})
	require.True(t, c.Told("condition/tides"))
	c.Close()
	require.Equal(t, []event.Kind{event.Healthy, event.Degraded, event.Healthy, event.Healthy}, *reacted)
}

func TestWithoutAHistoryEverythingElseGoesOn(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(folder, "history.db"), 0o700))
	c, log, reacted := begin(t, folder, false)
	c.Tell(event.Event{Kind: event.MemberFailed}, nil)
	c.Tell(event.Event{Kind: event.MemberFailed}, nil)
	c.Close()
	require.Len(t, *reacted, 2)
	require.Equal(t, 1, bytes.Count(log.Bytes(), []byte("there is no history")), "it is not tried, or said, again and again")
}

func TestACommandThatOnlyLooksLeavesNoTrace(t *testing.T) {
	folder := t.TempDir()
	c, log, reacted := begin(t, folder, true)
	c.Tell(event.Event{Kind: event.MemberFailed}, nil)
	require.Nil(t, c.History())
	c.Close()
	require.Empty(t, *reacted)
	require.Empty(t, log.String())
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Empty(t, left)
}

// What cannot be written waits, the newest of it at least, and is written once and in order as soon as it can be.
func TestWhatCannotBeWrittenWaits(t *testing.T) {
	folder := t.TempDir()
	c, log, _ := begin(t, folder, false)
	c.Tell(event.Event{Kind: event.ArrayStarted, Array: "tides"}, nil)
	require.Eventually(t, func() bool { return len(events(t, c)) == 1 }, time.Minute, time.Millisecond)
	db, err := sql.Open("sqlite", filepath.Join(folder, "history.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TRIGGER no_events BEFORE INSERT ON events BEGIN SELECT RAISE(FAIL, 'no room'); END; CREATE TRIGGER no_tasks BEFORE INSERT ON tasks BEGIN SELECT RAISE(FAIL, 'no room'); END")
	require.NoError(t, err)

	for i := range 4100 {
		c.Tell(event.Event{Kind: event.MemberFailed, Array: "tides", Detail: strconv.Itoa(i)}, nil)
	}
	c.Task(history.Task{Kind: state.TaskVet, Disk: "A7", Started: at, Ended: at, State: state.TaskDone})
	require.Eventually(t, func() bool { return len(c.Unwritten().Tasks) == 1 }, time.Minute, time.Millisecond)
	u := c.Unwritten()
	require.ErrorContains(t, u.Why, "no room")
	require.Equal(t, at, u.Since)
	require.Len(t, u.Events, 4095)
	require.Equal(t, 5, u.Lost)
	require.Equal(t, []string{"5", "4099"}, []string{u.Events[0].Detail, u.Events[4094].Detail})
	require.Len(t, events(t, c), 1)

	_, err = db.Exec("DROP TRIGGER no_events; DROP TRIGGER no_tasks")
	require.NoError(t, err)
	c.CatchUp()
	require.Eventually(t, func() bool { return len(c.Unwritten().Tasks) == 0 }, time.Minute, time.Millisecond)
	require.NoError(t, c.Unwritten().Why)
	list := events(t, c)
	require.Len(t, list, 4096)
	for i, e := range list[1:] {
		require.Equal(t, strconv.Itoa(i+5), e.Detail)
	}
	c.Close()
	require.Equal(t, 1, strings.Count(log.String(), "cannot be written"), "it is said once")
	require.Contains(t, log.String(), `msg="the history is written again" lost=5`)
}

func events(t *testing.T, c *chronicle.Chronicle) []event.Event {
	list, err := c.History().Events(history.Filter{Limit: 1 << 20})
	require.NoError(t, err)
	return list
}

// A history that is spoiled is kept under another name, and nothing that happens is lost.
func TestADamagedHistoryIsSetAside(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "history.db")
	spoil := func() { require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte("spoiled "), 4096), 0o600)) }
	spoil()
	c, _, reacted := begin(t, folder, false)
	c.Tell(event.Event{Kind: event.MemberFailed, Array: "tides"}, nil)
	c.Close()
	require.Equal(t, []event.Kind{event.MemberFailed, event.HistorySetAside}, *reacted)
	kept, err := filepath.Glob(filepath.Join(folder, "history-damaged-*.db"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	was, err := os.ReadFile(kept[0])
	require.NoError(t, err)
	require.Equal(t, bytes.Repeat([]byte("spoiled "), 4096), was)

	c, _, _ = begin(t, folder, false)
	require.Len(t, events(t, c), 2)
	require.Contains(t, events(t, c)[1].Detail, kept[0])
	c.Close()
}
