package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/health"
	"nidalo/core/record"
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

// a5 is a level 5 array of the first three bays.
func a5(t *testing.T, s *Service) *running {
	_, err := s.Create(control.CreateRequest{Name: "tides", Level: "5", Disks: []string{"A1", "A2", "A3"}})
	require.NoError(t, err)
	r, err := s.named("tides")
	require.NoError(t, err)
	return r
}

func TestATaskThatDoesNotMoveIsTold(t *testing.T) {
	now := at("03:00")
	s := home(t, 4, &now)
	r := a5(t, s)
	require.NoError(t, r.WriteAt(make([]byte, 20<<20), 0))
	require.NoError(t, r.Flush())
	r.SetPace(task.Pace{Rate: 1 << 10})
	require.NoError(t, r.Fail(0, false))
	_, err := s.Replace(control.ReplaceRequest{Array: "tides", Old: "A1", New: "A4"})
	require.NoError(t, err)
	done := func() int64 { return r.TaskStates()[0].Done }
	require.Eventually(t, func() bool { return r.TaskStates()[0].State == state.TaskRunning && done() > 0 }, 10*time.Second, time.Millisecond)
	s.conditions()
	now = now.Add(stuckAfter - time.Second)
	s.conditions()
	require.False(t, s.chron.Told("stuck/tides/rebuild/0"), "not yet")
	before := done()
	now = now.Add(2 * time.Second)
	s.conditions()
	require.Equal(t, before, done(), "at this pace the next piece is a quarter of an hour away")
	require.True(t, s.chron.Told("stuck/tides/rebuild/0"))
	require.Eventually(t, func() bool {
		found, err := s.History(control.HistoryRequest{Kind: string(event.TaskStuck)})
		return err == nil && len(found.Events) == 1
	}, 5*time.Second, time.Millisecond)
}

func TestSectorsThatGoInOneDayAreATrend(t *testing.T) {
	for days, failing := range map[int]bool{0: true, 2: false} {
		now := at("03:00")
		s := home(t, 3, &now)
		r := a5(t, s)
		sectors := func(n int64) {
			require.NoError(t, s.lab.SetHealth("A2", func(h *health.Readings) { h.Reallocated = &n }))
			s.askHealth()
		}
		sectors(0)
		for n := int64(1); n <= 2*health.DefaultRules.Grown; n += health.DefaultRules.Grown - 1 {
			now = now.Add(time.Duration(days) * 24 * time.Hour)
			s.askHealth()
			sectors(n)
		}
		require.Equal(t, failing, r.MemberStates()[1].Condition == record.Failing, "%d days between", days)
	}
}

// A member that is named to be freed leaves by a copy after the change, and the next change waits for that.
func TestAChangeWaitsForAMemberThatStillLeaves(t *testing.T) {
	now := at("03:00")
	s := home(t, 4, &now)
	_, err := s.Create(control.CreateRequest{Name: "tides", Level: "5", Disks: []string{"A1", "A2", "A3", "A4"}})
	require.NoError(t, err)
	_, err = s.Change(control.ChangeRequest{Array: "tides", Free: []string{"A1"}})
	require.NoError(t, err)
	r, err := s.named("tides")
	require.NoError(t, err)
	r.WaitTasks()
	add := control.ChangeRequest{Array: "tides", Grow: true, Disks: []string{"A1"}, DryRun: true}
	_, err = s.Change(control.ChangeRequest{Array: "tides", Level: "1", Free: []string{"A2"}, DryRun: true})
	require.ErrorContains(t, err, "A1 (")
	require.ErrorContains(t, err, "is still to be copied onto")
	require.Eventually(t, func() bool {
		s.goLeaving()
		_, err = s.Change(add)
		return err == nil
	}, 20*time.Second, 10*time.Millisecond, "%v", err)
	require.Equal(t, []string{"A4", "A2", "A3"}, bays(r), "its disk is blank, and the last one has its place")
}

func bays(r *running) (out []string) {
	for _, m := range r.MemberStates() {
		out = append(out, m.Disk.Bay)
	}
	return out
}
