package history_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/internal/history"
)

func TestWhatIsAddedIsFoundByEveryFilter(t *testing.T) {
	path := filepath.Join(t.TempDir(), "history.db")
	s, err := history.Open(path)
	require.NoError(t, err)
	at := time.Unix(1_700_000_000, 0)
	for i, e := range []event.Event{
		{Kind: "member-failed", Array: "tides", Disk: "A3 (Quern QN-12 QRN-0207)", Severity: "critical"},
		{Kind: "member-returned", Array: "tides", Disk: "A4 (Tamarack TK-4000 TMK-0214)", Severity: "info"},
		{Kind: "check-done", Array: "sonar", Severity: "info"},
	} {
		e.Time = at.Add(time.Duration(i) * time.Hour)
		_, err := s.AddEvent(e)
		require.NoError(t, err)
	}
	count := func(f history.Filter) int {
		out, err := s.Events(f)
		require.NoError(t, err)
		all, err := s.Events(history.Filter{})
		require.NoError(t, err)
		require.Equal(t, out, slices.DeleteFunc(all, func(e event.Event) bool { return !f.Event(e) }), "what is not written yet is chosen in the same way")
		return len(out)
	}
	require.Equal(t, 3, count(history.Filter{}))
	require.Equal(t, 2, count(history.Filter{Array: "tides"}))
	require.Equal(t, 1, count(history.Filter{Disk: "QRN-0207"}))
	require.Equal(t, 2, count(history.Filter{Kind: "member"}))
	require.Zero(t, count(history.Filter{Kind: "member%x"}))
	require.Zero(t, count(history.Filter{Kind: "m_mber"}), "no patterns from outside")
	require.Equal(t, 2, count(history.Filter{Since: at.Add(time.Minute)}))
	require.Equal(t, 1, count(history.Filter{Until: at.Add(time.Minute)}))
	newest, err := s.Events(history.Filter{Limit: 2})
	require.NoError(t, err)
	require.Equal(t, []event.Kind{"member-returned", "check-done"}, []event.Kind{newest[0].Kind, newest[1].Kind}, "the newest two, in order")

	require.NoError(t, s.AddTask(history.Task{Array: "tides", Kind: "rebuild", Started: at, Ended: at.Add(time.Minute), State: "done", Bytes: 60, Rate: 1}))
	require.NoError(t, s.AddReadings([]history.Reading{{Time: at, Of: "QRN-0207", Name: "temperature", Value: 31}, {Time: at.Add(time.Hour), Of: "QRN-0207", Name: "temperature", Value: 33}}))
	require.NoError(t, s.Close())

	s, err = history.Open(path) // it is all there the next time
	require.NoError(t, err)
	defer s.Close()
	tasks, err := s.Tasks(history.Filter{Array: "tides"})
	require.NoError(t, err)
	require.Len(t, tasks, 1)
	require.Equal(t, time.Minute, tasks[0].Ended.Sub(tasks[0].Started))
	readings, err := s.Readings("QRN-0207", "temperature", at.Add(time.Minute), 0)
	require.NoError(t, err)
	require.Equal(t, 33.0, readings[0].Value)
	require.NoError(t, s.AddReadings([]history.Reading{{Time: at.Add(time.Hour + time.Second), Of: "QRN-0207", Name: "temperature", Value: 32}}))
	readings, err = s.Readings("QRN-0207", "temperature", at.Add(-time.Minute), 0)
	require.NoError(t, err)
	require.Len(t, readings, 3)
	readings, err = s.Readings("QRN-0207", "temperature", at.Add(-time.Minute), 1)
	require.NoError(t, err)
	require.LessOrEqual(t, len(readings), 2, "stretches begin at round times")
	require.Equal(t, 33.0, readings[len(readings)-1].Value, "the highest")
	require.NoError(t, s.Forget(at.Add(90*time.Minute)))
	require.Equal(t, 1, count(history.Filter{}))
}

func TestAFileThatIsNoHistoryIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "history.db")
	require.NoError(t, os.WriteFile(path, []byte("this is not a database, and it is long enough to be looked at as one ............"), 0o600))
	_, err := history.Open(path)
	require.Error(t, err)
}
