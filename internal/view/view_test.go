package view_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

func screen() (*view.Screen, *strings.Builder) {
	var b strings.Builder
	return &view.Screen{Out: &b, Width: 80}, &b
}

func TestStepsAreNumberedAndFitTheScreen(t *testing.T) {
	s, b := screen()
	s.Steps(&control.NextReply{Steps: []advice.Step{
		{Array: "tides", Urgency: advice.Now, Why: "no further loss is survived until redundancy is back", Do: "back up what is not backed up yet"},
		{Array: "tides", Urgency: advice.Soon, Why: strings.Repeat("a long reason ", 12), Do: "replace it", Command: "nidalo replace tides A3 A7", Disk: "A3 (Quern QN-12 QRN-0207)"},
	}})
	text := b.String()
	for _, line := range strings.Split(text, "\n") {
		require.LessOrEqual(t, len(line), 80, line)
		require.Equal(t, strings.TrimRight(line, " "), line)
	}
	require.Contains(t, text, "1  now  tides\n   Back up what is not backed up yet. No further loss")
	require.Contains(t, text, "2  soon  tides, A3 (Quern QN-12 QRN-0207)")
	require.Contains(t, text, "\n      nidalo replace tides A3 A7\n")
	s, b = screen()
	s.Steps(&control.NextReply{Again: time.Date(2026, 12, 28, 9, 0, 0, 0, time.Local)})
	require.Equal(t, "Nothing to do. Look again when an alert comes, or on Mon Dec 28 for a consistency check.\n", b.String())
}

func TestNextStepsFitATerminal(t *testing.T) {
	s, b := screen()
	long := "nidalo replace tides A3 A7   " + strings.Repeat("put it in its place ", 8)
	s.Next([]string{long})
	require.Equal(t, "Next: "+long+"\n", b.String(), "a pipe gets one line a step")
	s, b = screen()
	s.Terminal = true
	s.Next([]string{long, "nidalo status"})
	text := strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
	require.Contains(t, text[0], "nidalo replace tides A3 A7", "the command stays whole")
	for _, line := range text {
		require.LessOrEqual(t, len(line), 80, line)
	}
	require.Equal(t, "      nidalo status", text[len(text)-1])
}

func TestATaskInOneLineSaysWhatIsKnown(t *testing.T) {
	s, _ := screen()
	slot, left := 2, 90.0
	task := control.TaskStatus{Kind: "rebuild", Slot: &slot, State: "running", Percent: 43.21, Done: 100 << 20, Total: 230 << 20, Rate: 20 << 20}
	require.Equal(t, "rebuild of slot 2   43.2%  100MiB of 230MiB  20MiB/s  time left not known yet", s.Task(task))
	task.ETA, task.Unsure = &left, 1
	require.Contains(t, s.Task(task), "1m30s left, until about")
	require.Contains(t, s.Task(task), "a first guess")
	task.State, task.Waits = "waiting", "waits for the check of array tides, which uses the same disks"
	require.Contains(t, s.Task(task), "waits for the check of array tides, which uses the same disks; ends about")
	task.ETA = nil
	require.Equal(t, "rebuild of slot 2  waits for the check of array tides, which uses the same disks", s.Task(task))
	task.State, task.Waits = "paused", ""
	require.Equal(t, "rebuild of slot 2 paused at 43.2%", s.Task(task))
	task.Waits = "until Nov 3 01:00"
	require.Equal(t, "rebuild of slot 2 paused at 43.2%, until Nov 3 01:00", s.Task(task))
}

func TestDurations(t *testing.T) {
	for seconds, want := range map[float64]string{0.25: "0.2s", 9.96: "10.0s", 42: "42s", 61: "1m01s", 3600: "1h00m", 200000: "2d07h"} {
		require.Equal(t, want, view.Duration(seconds))
	}
}

func TestMayPullNamesTheReasons(t *testing.T) {
	s, b := screen()
	when := time.Now().Add(time.Minute)
	s.MayPull(&control.PullReply{Disks: []control.DiskInfo{{Identity: state.Identity{Bay: "A7", Model: "Orrery OR-8T", Serial: "ORR-0242"}}}, When: &when,
		Reasons: []string{"it is being rebuilt for array \"tides\", which is degraded until then"}, Next: []string{"nidalo watch"}})
	require.True(t, strings.HasPrefix(b.String(), "no   A7 (Orrery OR-8T ORR-0242)\n     It is being rebuilt"), b.String())
	require.Contains(t, b.String(), "It may leave when that copy ends, about "+when.Format("15:04:05"))
}

func TestMargins(t *testing.T) {
	require.Equal(t, "1", view.Margin(1, 1))
	require.Equal(t, "1 (up to 4 with luck)", view.Margin(1, 4))
	require.Equal(t, "no mismatches", view.CheckSummary(control.CheckStatus{}))
	require.Equal(t, "1 mismatch, 0 repaired, 1 beyond repair", view.CheckSummary(control.CheckStatus{Mismatches: 1, Unrepairable: 1}))
}

// Lists of events and disks fit a narrow terminal with nothing cut off; elsewhere they are tables, whatever their width.
func TestListsFitATerminal(t *testing.T) {
	slot := 1
	h := &control.HistoryReply{Events: []event.Event{
		{Kind: event.MemberMissing, Severity: event.Warning, Array: "tides", Disk: "A2 (Orrery OR-8T ORR-0200)", Detail: "the disk is gone: pulled out of its bay, after it had answered three times that it could not read what it holds"},
		{Kind: event.Healthy, Severity: event.Info, Array: "tides", Detail: "margin 1"}}}
	disks := []control.DiskInfo{{Identity: state.Identity{Bay: "A2", Model: "Orrery OR-8T", Serial: "ORR-0200", Path: "/lab/A2"}, Size: 8e12, State: state.DiskInUse, Array: "tides", Slot: &slot, Member: "active"},
		{Identity: state.Identity{Bay: "A3", Model: "Quern QN-12", Serial: "QRN-0207", Path: "/lab/A3"}, Size: 8e12, State: state.DiskInUse, Holds: []string{"a former or stale member of array \"sonar\" (slot 0, epoch 1): slot 0 is active"}}}
	for _, width := range []int{64, 80, 100, 120, 200} {
		for _, terminal := range []bool{true, false} {
			s, out := screen()
			s.Terminal, s.Width = terminal, width
			s.History(h, false)
			s.Disks(disks, nil)
			said := strings.Join(strings.Fields(out.String()), " ")
			for _, line := range strings.Split(out.String(), "\n") {
				if terminal {
					require.LessOrEqual(t, len([]rune(strings.TrimRight(line, " "))), max(width, 68), "%s", out)
				}
			}
			if terminal && width <= 80 {
				require.Contains(t, said, "member-missing tides A2 (Orrery OR-8T ORR-0200): the disk is gone: pulled out of its bay, after it had answered three times")
				require.NotContains(t, said, "Quern QN-12")
			} else {
				require.Contains(t, said, "Quern QN-12")
			}
			if !terminal {
				require.Contains(t, said, h.Events[0].Detail)
				require.Contains(t, said, disks[1].Holds[0])
			}
		}
	}
}
