package advice

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
)

func TestMain(m *testing.M) {
	time.Local = time.UTC
	os.Exit(m.Run())
}

const member = 4 << 40 // bytes of a member's disk

var now = time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC)

// host makes a snapshot from lines such as these:
//
//	array tides 5 A1 A2 A3 A4    in service since a month, with a disk in each of these bays
//	A2 missing it was pulled     since an hour; its bay is empty then. failed, failing, rebuilding leave it there
//	heron:A1 away                its host does not answer; bays of other hosts are written like this everywhere
//	A2 catches-up                it is away, and what it holds still counts
//	A2 onto B1, A2 for TMK-09    it is being copied; it stands in for another
//	twins A2                     two disks claim to be this member
//	task tides rebuild A2 running 40 2h
//	blank B1 4TiB, spare B1 4TiB [ARRAY...], empty B1, other B1 TEXT, unread B1, closed B1
//	hold A1 TEXT, bad B1 TEXT, retired B1, read-only B1, carries B1 tides
//	checked tides 40d mismatches repaired unrepairable, unused tides, broken tides TEXT
//	idle charts out|stranger|waits|cannot TEXT
//	home TEXT                    it cannot be written
type host struct {
	Snapshot
	t require.TestingT
}

func (h *host) disk(bay string) *Disk {
	for i := range h.Disks {
		if h.Disks[i].Bay == bay {
			return &h.Disks[i]
		}
	}
	id := state.Identity{Bay: bay, Model: "Tamarack TK-4000", Serial: "TMK-" + bay, Path: "/lab/" + bay}
	if host, in, far := strings.Cut(bay, ":"); far {
		id.Host, id.Path, id.Serial = host, "nbds://"+host+"/"+in, "TMK-"+host+"-"+in
	}
	h.Disks = append(h.Disks, Disk{Identity: id, Spindle: "TMK-" + bay, Lab: true, Size: member, State: state.DiskInUse})
	return &h.Disks[len(h.Disks)-1]
}

func (h *host) array(name string) *Array {
	for i := range h.Arrays {
		if h.Arrays[i].Name == name {
			return &h.Arrays[i]
		}
	}
	require.Fail(h.t, "no array "+name)
	return nil
}

func (h *host) member(bay string) *Member {
	for i := range h.Arrays {
		for j := range h.Arrays[i].Members {
			if m := &h.Arrays[i].Members[j]; m.Disk.Bay == bay {
				return m
			}
		}
	}
	require.Fail(h.t, "no member in "+bay)
	return nil
}

func (h *host) line(text string) {
	w := strings.Fields(text)
	rest := func(from int) string { return strings.Join(w[min(from, len(w)):], " ") }
	switch w[0] {
	case "array":
		groups := 0
		if level := layout.Level(w[2]); level == "50" || level == "60" || level == "10" {
			groups = 2
		}
		lay, err := layout.New(layout.Level(w[2]), 64<<10, groups, slices.Repeat([]int64{member}, len(w)-3))
		require.NoError(h.t, err)
		a := Array{ID: "id-" + w[1], Name: w[1], Map: lay, Used: 1 << 30, Created: now.AddDate(0, -1, 0)}
		for slot, bay := range w[3:] {
			d := h.disk(bay)
			a.Members = append(a.Members, Member{Slot: slot, Condition: record.Active, Disk: d.Identity, Spindle: d.Spindle, Since: a.Created, Need: member})
		}
		h.Arrays = append(h.Arrays, a)
	case "task":
		kind, percent, left := state.TaskKind(w[2]), 0.0, time.Duration(-1)
		t := Task{Kind: kind, Slot: -1, State: state.TaskState(w[4]), Spread: 0.1, Waits: "it waits for another"}
		if w[3] != "-" {
			t.Slot = h.member(w[3]).Slot
		}
		if len(w) > 5 {
			percent, _ = strconv.ParseFloat(w[5], 64)
		}
		if len(w) > 6 {
			left, _ = time.ParseDuration(w[6])
		}
		t.Percent, t.Left = percent, left
		a := h.array(w[1])
		a.Tasks = append(a.Tasks, t)
	case "blank", "spare":
		d := h.disk(w[1])
		if d.State == state.DiskEmpty || d.State == state.DiskInUse && d.Holds != nil {
			*d = Disk{Identity: state.Identity{Bay: w[1], Model: "Orrery OR-8T", Serial: "ORR-" + w[1], Path: "/lab/" + w[1]}, Spindle: "ORR-" + w[1], Lab: true}
		}
		size, err := say.ParseSize(w[2])
		require.NoError(h.t, err)
		d.Size, d.State, d.Serves = size, state.DiskState(w[0]), w[3:]
	case "empty":
		*h.disk(w[1]) = Disk{Identity: state.Identity{Bay: w[1], Path: "/lab/" + w[1]}, Lab: true, State: state.DiskEmpty}
	case "other":
		d := h.disk(w[1])
		d.Serial, d.Spindle, d.State, d.Holds = "QRN-"+w[1], "QRN-"+w[1], state.DiskInUse, []string{rest(2)}
	case "retired":
		h.disk(w[1]).State = state.DiskRetired
	case "carries":
		h.disk(w[1]).Carries = "id-" + w[2]
	case "read-only":
		h.disk(w[1]).State = state.DiskReadOnly
	case "unread":
		h.disk(w[1]).State, h.disk(w[1]).Holds = state.DiskBroken, []string{"input/output error"}
	case "closed":
		h.disk(w[1]).State = state.DiskClosed
	case "hold":
		h.disk(w[1]).Held = []string{rest(2)}
	case "bad":
		h.disk(w[1]).Bad = rest(2)
	case "checked":
		days, err := strconv.Atoi(strings.TrimSuffix(w[2], "d"))
		require.NoError(h.t, err)
		c := Check{Ended: now.AddDate(0, 0, -days)}
		_, _ = fmt.Sscan(rest(3), &c.Mismatches, &c.Repaired, &c.Unrepairable)
		h.array(w[1]).Check = c
	case "unused":
		h.array(w[1]).Used = 0
	case "broken":
		h.array(w[1]).Failure = rest(2)
	case "device":
		h.array(w[1]).Device = &Device{Path: strings.TrimPrefix(w[2], "-"), Reason: rest(3)}
	case "twins":
		h.member(w[1]).Twins = []Twin{{Why: "the disks in A2 and B9 both claim to be it", Example: "B9"}}
	case "home":
		h.Home = &Home{Path: "/var/lib/nidalo", Why: rest(1), Since: now.Add(-time.Hour), Notes: true, Events: 2, Lost: 1}
	case "idle":
		h.Idle = append(h.Idle, Idle{ID: "id-" + w[1], Name: w[1], Reason: rest(3), Why: map[string]IdleKind{"out": TakenOut, "stranger": Stranger, "waits": Waits, "elsewhere": Elsewhere, "cannot": CannotStart}[w[2]]})
	default:
		h.about(h.member(w[0]), w, rest)
	}
}

func (h *host) about(m *Member, w []string, rest func(int) string) {
	switch w[1] {
	case "missing":
		m.Condition = record.Missing
		if m.Disk.Host == "" {
			h.line("empty " + w[0])
		}
	case "away":
		m.Away = now.Add(-12 * time.Second)
		return
	case "failed":
		m.Condition = record.Failed
	case "failing":
		m.Condition = record.Failing
	case "active":
		m.Condition = record.Active
	case "rebuilding":
		m.Condition = record.Rebuilding
	case "foretold":
		m.Foretold = true
	case "catches-up":
		m.CatchesUp = true
		return
	case "onto":
		d := h.disk(w[2])
		m.Onto = &Copy{d.Identity, d.Spindle}
		return
	case "for":
		m.StandsFor = w[2]
		return
	default:
		require.Fail(h.t, "a member cannot be "+w[1])
	}
	m.Since, m.Reason = now.Add(-time.Hour), rest(2)
}

// settle works out what follows from the members.
func (h *host) settle() *Snapshot {
	h.Now, h.Host = now, "gull"
	for i := range h.Arrays {
		a := &h.Arrays[i]
		a.Margin, _ = a.without(func(Member) bool { return false })
		a.Condition = a.Map.Condition(a.spindles(), func(slot int) bool { return !a.Members[slot].Condition.Counts() })
	}
	return &h.Snapshot
}

// TestAdvice gives advice in the situations in testdata/situations. After a change that is meant,
//
//	go test ./core/advice -rewrite
//
// writes down what is said now; read the difference.
func TestAdvice(t *testing.T) {
	datadriven.Walk(t, "testdata/situations", func(t *testing.T, path string) {
		h := &host{t: t}
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			var out strings.Builder
			h.t = t
			bays := func() (disks []Disk) {
				for _, a := range d.CmdArgs {
					disks = append(disks, *h.disk(a.Key))
				}
				return disks
			}
			switch d.Cmd {
			case "host":
				h = &host{t: t}
				fallthrough
			case "then":
				for _, line := range strings.Split(d.Input, "\n") {
					h.line(line)
				}
				return ""
			case "next":
				for _, st := range Next(h.settle()).Steps() {
					fmt.Fprintf(&out, "%s: %s %s\n  %s\n  because %s\n  %s\n", st.Urgency, st.Array, st.Disk, st.Do, st.Why, st.Command)
				}
			case "may-pull":
				p := MayPull(h.settle(), bays())
				fmt.Fprintf(&out, "%v\n  %s\n", p.Yes, strings.Join(p.Reasons, "\n  "))
				if p.When != nil {
					fmt.Fprintf(&out, "yes at %s\n", p.When.Format("15:04"))
				}
				for _, n := range p.Next {
					fmt.Fprintf(&out, "-> %s\n", n)
				}
			case "lose":
				lost := map[string]bool{}
				for _, disk := range bays() {
					lost[disk.Spindle] = true
				}
				for i := range h.settle().Arrays {
					if l := Lose(&h.Arrays[i], lost); len(l.Lost) > 0 {
						fmt.Fprintf(&out, "%s: %s -> %s, margin %d (with luck %d)\n  lost %v\n  then survived %v\n  then fatal %v\n  %s\n", l.Array, l.Before, l.After, l.Margin, l.Best, l.Lost, l.Survived, l.Fatal, strings.Join(l.Notes, "\n  "))
					}
				}
			default:
				t.Fatalf("no such command: %s", d.Cmd)
			}
			var lines []string
			for _, line := range strings.Split(strings.TrimSpace(out.String()), "\n") {
				lines = append(lines, strings.TrimRight(line, " "))
			}
			return strings.Join(lines, "\n") + "\n"
		})
	})
}

// drawHost is a host in any situation: arrays of several levels with members in all conditions, and disks beside them.
func drawHost(rt *rapid.T) *host {
	h, bay := &host{t: rt}, 0
	next := func() string { bay++; return fmt.Sprintf("A%d", bay) }
	for i := range rapid.IntRange(0, 3).Draw(rt, "arrays") {
		level := rapid.SampledFrom([]string{"0", "1", "5", "6", "10", "60"}).Draw(rt, "level")
		name, line, mine := fmt.Sprintf("a%d", i), "", []string{}
		for range map[string]int{"0": 2, "1": 2, "5": 4, "6": 5, "10": 4, "60": 8}[level] {
			mine = append(mine, next())
		}
		line = "array " + name + " " + level + " " + strings.Join(mine, " ")
		h.line(line)
		for _, b := range mine {
			switch rapid.IntRange(0, 12).Draw(rt, "condition") {
			case 0:
				h.line(b + " missing it was pulled")
			case 1:
				h.line(b + " failed it has too many errors")
			case 2:
				h.line(b + " failing it had errors")
			case 3:
				h.line(b + " rebuilding")
				h.line("task " + name + " rebuild " + b + " running 10 1h")
			case 4:
				h.line(b + " missing it was pulled")
				h.line(b + " catches-up")
			case 5:
				to := next()
				h.line("blank " + to + " 4TiB")
				h.disk(to).State = state.DiskInUse
				h.line(b + " onto " + to)
				h.line("task " + name + " retire " + b + " running 10 1h")
			}
		}
		if h.settle().Arrays[i].Margin < 0 {
			h.line("broken " + name + " too many members are lost")
		}
	}
	for range rapid.IntRange(0, 4).Draw(rt, "disks") {
		h.line(rapid.SampledFrom([]string{"blank", "spare"}).Draw(rt, "state") + " " + next() + " " + rapid.SampledFrom([]string{"1TiB", "4TiB", "8TiB"}).Draw(rt, "size"))
	}
	return h
}

func TestAdviceHoldsInAnySituation(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		h := drawHost(rt)
		s := h.settle()
		plan := Next(s)
		taken := map[string]string{}
		for _, st := range plan.Steps() {
			require.NotEmpty(rt, st.Do)
			require.NotEmpty(rt, st.Why)
			require.Contains(rt, urgencies, st.Urgency)
			words := strings.Fields(st.Command)
			if len(words) != 5 || words[1] != "replace" && words[1] != "retire" {
				continue
			}
			a, target := h.array(words[2]), words[4]
			onto := h.disk(target)
			if onto.State == state.DiskBlank {
				require.Empty(rt, taken[target], "%s is wanted twice", target)
				taken[target] = st.Command
				require.GreaterOrEqual(rt, onto.Size, int64(member), "too small: %s", st.Command)
			}
			m := a.Members[slices.IndexFunc(a.Members, func(m Member) bool { return s.argument(m) == words[3] })]
			require.Equal(rt, words[1] == "retire", m.Condition.Counts(), "%s, which is %s", st.Command, m.Condition)
		}
		for _, a := range s.Arrays {
			for _, m := range a.Members {
				covered := slices.ContainsFunc(plan.Of(a.ID), func(st Step) bool { return st.Disk == m.Disk.String() })
				if a.Failure == "" && a.Map.Redundant() && m.Condition != record.Active {
					require.True(rt, covered, "no step is about %s, which is %s", m.Disk, m.Condition)
				}
			}
		}
		for _, d := range s.Disks {
			if d.State == state.DiskEmpty {
				continue
			}
			if answer := MayPull(s, []Disk{d}); answer.Yes {
				for i := range s.Arrays {
					a := &s.Arrays[i]
					after, _ := a.without(func(m Member) bool { return m.Spindle == d.Spindle })
					require.Equal(rt, a.Margin, after, "%s may be pulled, and %s loses by it", d.Bay, a.Name)
				}
				require.False(rt, slices.ContainsFunc(s.Arrays, func(a Array) bool {
					return slices.ContainsFunc(a.Members, func(m Member) bool { return m.Onto != nil && m.Onto.Spindle == d.Spindle })
				}), "%s is being copied onto", d.Bay)
			} else {
				for _, n := range answer.Next {
					words := strings.Fields(n)
					if words[1] == "retire" && taken[words[4]] != "" {
						require.True(rt, strings.HasPrefix(n, taken[words[4]]), "%s: a more urgent step wants that disk", n)
					}
				}
			}
		}
	})
}

// follow does a step as an administrator would, and says whether anything came of it.
func (h *host) follow(st Step) bool {
	w := append(strings.Fields(st.Command), "", "", "", "", "")
	switch w[1] {
	case "replace", "retire":
		a := h.array(w[2])
		m := &a.Members[slices.IndexFunc(a.Members, func(m Member) bool { return h.argument(m) == w[3] })]
		target := w[4]
		if target == "" || target == "DISK" {
			target = fmt.Sprintf("N%d", len(h.Disks))
		}
		if d := h.disk(target); d.State != state.DiskBlank && d.State != state.DiskSpare {
			h.line("empty " + target)
			h.line("blank " + target + " " + fmt.Sprint(m.Need))
		}
		old := m.Disk.Path
		h.move(m, h.disk(target))
		for i := range h.Disks {
			if h.Disks[i].Path == old && w[1] == "retire" {
				h.Disks[i].State = state.DiskRetired
			}
		}
	case "watch":
		a := h.array(st.Array)
		for _, t := range a.Tasks {
			switch m := &a.Members[max(t.Slot, 0)]; {
			case t.Kind == state.TaskRetire:
				h.move(m, h.disk(m.Onto.Disk.Bay))
			case t.Slot >= 0:
				m.Condition, m.Since = record.Active, now
			}
		}
		a.Tasks = nil
	case "start":
		a := h.array(w[2])
		a.Failure = ""
		for i := range a.Members {
			a.Members[i].Condition, a.Members[i].Since = record.Active, now
		}
	case "check":
		h.array(w[2]).Check = Check{Ended: now.Add(time.Minute)}
	default:
		return false
	}
	return true
}

func (h *host) move(m *Member, to *Disk) {
	to.State = state.DiskInUse
	*m = Member{Slot: m.Slot, Condition: record.Active, Disk: to.Identity, Spindle: to.Spindle, Since: now, Need: m.Need}
}

func TestFollowingTheAdviceLosesNothingAndEnds(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		h := drawHost(rt)
		for range 100 {
			s := h.settle()
			before := map[string]int{}
			for _, a := range s.Arrays {
				before[a.Name] = a.Margin
			}
			steps := Next(s).Steps()
			at := slices.IndexFunc(steps, h.follow)
			if at < 0 {
				for _, a := range s.Arrays {
					full, _ := a.Map.Margin(func(int) bool { return false })
					require.Equal(rt, full, a.Margin, "nothing is left to do, and %s lacks margin", a.Name)
				}
				return
			}
			for _, a := range h.settle().Arrays {
				require.GreaterOrEqual(rt, a.Margin, before[a.Name], "%s lost margin by: %s", a.Name, steps[at].Command)
			}
		}
		rt.Fatal("it does not come to an end")
	})
}

func TestAStepSaysWhatItIsAbout(t *testing.T) {
	require.Equal(t, "tides, A3", Step{Array: "tides", Disk: "A3"}.About())
	require.Equal(t, "A3", Step{Disk: "A3"}.About())
	require.Equal(t, "tides", Step{Array: "tides"}.About())
	require.Empty(t, Step{}.About())
}
