package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/lab"
)

func at(clock string) time.Time {
	t, err := time.ParseInLocation("2006-01-02 15:04", "2026-11-23 "+clock, time.Local)
	if err != nil {
		panic(err)
	}
	return t
}

func TestPacesByTheHour(t *testing.T) {
	for _, c := range []struct{ text, clock, want string }{
		{"gentle", "03:00", "gentle"},
		{"80MiB/s", "03:00", "80MiB/s"},
		{"08:00-18:00 gentle, else full", "07:59", "full"},
		{"08:00-18:00 gentle, else full", "08:00", "gentle"},
		{"08:00-18:00 gentle, else full", "17:59", "gentle"},
		{"08:00-18:00 gentle, else full", "18:00", "full"},
		{"22:00-06:00 full", "23:30", "full"},
		{"22:00-06:00 full", "05:59", "full"},
		{"22:00-06:00 full", "12:00", "normal"},
		{"08:00-12:00 gentle, 12:00-13:00 20MiB/s, else normal", "12:30", "20MiB/s"},
		{"18:00-24:00 full, else gentle", "23:59", "full"},
	} {
		s, err := ParseSchedule(c.text)
		require.NoError(t, err, c.text)
		require.Equal(t, c.want, paceText(s.At(at(c.clock))), "%s at %s", c.text, c.clock)
		require.Equal(t, c.text, s.String())
	}
	for _, wrong := range []string{"", "quick", "8-18 gentle", "08:00-08:00 full", "25:00-26:00 full", "08:00-18:00", "08:00-18:00 gentle full", "else full, else gentle", "1KiB/s", "-5MiB/s", "5MiB"} {
		_, err := ParseSchedule(wrong)
		require.Error(t, err, "%q", wrong)
	}
}

// home is a service of its own on a lab, with a clock that the test sets.
func home(t *testing.T, bays int, now *time.Time) *Service {
	dir := t.TempDir()
	require.NoError(t, lab.At(dir).New(bays, 32<<20))
	s, err := Open(Options{Home: dir, Now: func() time.Time { return *now }})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func TestTheHourIsPutInForce(t *testing.T) {
	now := at("07:00")
	s := home(t, 3, &now)
	_, err := s.Create(control.CreateRequest{Name: "tides", Level: "5", Disks: []string{"A1", "A2", "A3"}})
	require.NoError(t, err)
	r, err := s.named("tides")
	require.NoError(t, err)
	require.Equal(t, task.Normal, r.Pace().Mode, "where every array begins")
	_, err = s.SetPace(control.PaceRequest{Pace: "08:00-18:00 gentle, else full"})
	require.NoError(t, err)
	require.Equal(t, task.Full, r.Pace().Mode)
	now = at("08:01")
	s.applyPaces()
	require.Equal(t, task.Gentle, r.Pace().Mode)
	_, err = s.SetPace(control.PaceRequest{Array: "tides", Pace: "5MiB/s"})
	require.NoError(t, err)
	require.EqualValues(t, 5<<20, r.Pace().Rate)
	now = at("20:00")
	s.applyPaces()
	require.EqualValues(t, 5<<20, r.Pace().Rate, "its own has the word")
	_, err = s.SetPace(control.PaceRequest{Pace: "full"})
	require.NoError(t, err)
	require.Equal(t, task.Full, r.Pace().Mode, "for all means all")
	_, err = s.SetPace(control.PaceRequest{Array: "sonar", Pace: "full"})
	require.Error(t, err)
}

func TestTurnsInOrderOfDanger(t *testing.T) {
	now := time.Now()
	s := home(t, 8, &now)
	for _, c := range []control.CreateRequest{{Name: "tides", Level: "6", Disks: []string{"A1", "A2", "A3", "A4"}}, {Name: "sonar", Level: "5", Disks: []string{"A5", "A6", "A7"}}} {
		_, err := s.Create(c)
		require.NoError(t, err)
	}
	tides, err := s.named("tides")
	require.NoError(t, err)
	sonar, err := s.named("sonar")
	require.NoError(t, err)
	ref := func(r *running, kind state.TaskKind, slot int) array.TaskRef {
		return array.TaskRef{Array: r.Array, Kind: kind, Slot: slot}
	}
	q := newTurns()
	began := make(chan array.TaskRef, 8)
	said := make(chan string, 8)
	begin := func(t array.TaskRef) {
		go func() {
			if q.Begin(t, nil, func(why string) { said <- why }) {
				began <- t
			}
		}()
	}
	none := func(what string) {
		t.Helper()
		select {
		case r := <-began:
			t.Fatalf("%s: the %s began", what, r.Kind)
		case <-time.After(100 * time.Millisecond):
		}
	}
	check := ref(tides, state.TaskCheck, -1)
	begin(check)
	require.Equal(t, check, <-began)
	other := ref(sonar, state.TaskCheck, -1)
	begin(other)
	require.Equal(t, other, <-began, "other disks: at once")
	first, second := ref(tides, state.TaskRebuild, 1), ref(tides, state.TaskRebuild, 2)
	begin(first)
	require.Contains(t, <-said, "waits for the check of array tides")
	none("while the check has not given way")
	require.True(t, q.Yield(check), "a rebuild goes before a check")
	require.False(t, q.Yield(other))
	q.End(check)
	require.Equal(t, first, <-began)
	begin(second)
	require.Equal(t, second, <-began, "rebuilds of one array run together")
	begin(check)
	none("the check waits for both")
	q.End(first)
	none("and for the second")
	q.End(second)
	require.Equal(t, check, <-began)
	q.End(check)
	q.End(check) // twice is allowed

	// One that is stopped while it waits leaves the queue.
	begin(check)
	require.Equal(t, check, <-began)
	stop := make(chan struct{})
	gone := make(chan bool)
	go func() { gone <- q.Begin(first, stop, func(string) {}) }()
	time.Sleep(50 * time.Millisecond)
	close(stop)
	require.False(t, <-gone)
	require.Len(t, q.entries, 2)
}

func TestEndTimesSayHowSureTheyAre(t *testing.T) {
	now := at("12:00")
	require.Equal(t, "about 12:01:30, a first guess", say.End(now, 90, 1))
	require.Equal(t, "about 12:01:30 (±10%)", say.End(now, 90, 0.1))
	require.Equal(t, "about 12:01:30", say.End(now, 90, 0.01))
	require.Equal(t, "about 13:00", say.End(now, 3600, 0))
	require.Equal(t, "about Wed Nov 25 12:00", say.End(now, 48*3600, 0))
}

func TestWhatIsRememberedSurvivesAndGarbageIsNamed(t *testing.T) {
	now := time.Now()
	s := home(t, 4, &now)
	_, err := s.Create(control.CreateRequest{Name: "tides", Level: "5", Disks: []string{"A1", "A2", "A3"}})
	require.NoError(t, err)
	_, err = s.AssignSpare(control.SpareRequest{Disk: "A4"})
	require.NoError(t, err)
	id := s.mem.Arrays
	require.NoError(t, s.Close())
	again, err := Open(Options{Home: s.opt.Home})
	require.NoError(t, err)
	require.Equal(t, id, again.mem.Arrays)
	require.Len(t, again.spares(), 1)
	disks, err := again.Disks()
	require.NoError(t, err)
	require.Equal(t, state.DiskSpare, disks[3].State)
	require.NoError(t, again.Close())
}
