package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/say"
	"nidalo/core/state"
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
