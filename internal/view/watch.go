package view

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/internal/control"
)

// Sight is all that the watch screen shows, asked in one go.
type Sight struct {
	At     time.Time
	Status *control.Status
	Next   *control.NextReply
	Events []event.Event
	Err    error
}

// refreshEvery is how old what is shown may get.
const refreshEvery = 500 * time.Millisecond

// Watch shows a live view until q is pressed. look is called again and again, never twice at a time.
func Watch(look func() Sight, keys *os.File, colour bool) error {
	m := watch{look: look, style: styles(colour), width: 80, height: 24, pulse: pulse{}}
	_, err := tea.NewProgram(m, tea.WithAltScreen(), tea.WithInput(&untilQuit{File: keys})).Run()
	return err
}

// untilQuit reads what is typed up to the key that ends the view: what comes after it is for the shell.
type untilQuit struct {
	*os.File
	over bool
}

// Read reads one key.
func (u *untilQuit) Read(p []byte) (int, error) {
	if u.over || len(p) == 0 {
		return 0, io.EOF
	}
	n, err := u.File.Read(p[:1])
	if n == 1 && (p[0] == 'q' || p[0] == 'Q' || p[0] == 3) {
		u.over = true
	}
	if n == 1 && p[0] == 27 { // the rest of an arrow key follows at once
		for n < min(len(p), 8) {
			if m, err := u.File.Read(p[n : n+1]); m == 0 || err != nil {
				break
			}
			n++
			u.over = n == 2 && (p[1] == 'q' || p[1] == 'Q')
			if n > 2 && p[n-1] >= 0x40 && p[n-1] <= 0x7e || n == 2 && p[1] != '[' && p[1] != 'O' {
				break
			}
		}
	}
	return n, err
}

type watch struct {
	look          func() Sight
	seen          Sight
	width, height int
	style         map[string]lipgloss.Style
	pulse         pulse
	above         int // lines that are scrolled away
	all, help     bool
}

func styles(colour bool) map[string]lipgloss.Style {
	plain := lipgloss.NewStyle()
	s := map[string]lipgloss.Style{"": plain}
	if !colour {
		return s
	}
	good, warn, bad := plain.Foreground(lipgloss.Color("2")), plain.Background(lipgloss.Color("3")).Foreground(lipgloss.Color("0")), plain.Foreground(lipgloss.Color("1")).Bold(true)
	for word, style := range map[string]lipgloss.Style{
		"healthy": good, "active": good, "degraded": warn, "rebuilding": warn, "failing": warn, "warning": warn, "soon": warn,
		"exposed": bad, "failed": bad, "missing": bad, "critical": bad, "now": bad, "title": plain.Bold(true), "bar": plain.Foreground(lipgloss.Color("3")), "faint": plain.Faint(true),
	} {
		s[word] = style
	}
	return s
}

func (w watch) paint(as, text string) string { return w.style[as].Render(text) }

func (w watch) ask() tea.Msg { return w.look() }

// Init, Update and View are the terminal library's.
func (w watch) Init() tea.Cmd { return w.ask }

func (w watch) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.KeyMsg:
		return w.key(m.String())
	case tea.WindowSizeMsg:
		w.width, w.height = m.Width, m.Height
	case Sight:
		if m.Err != nil {
			m.Status, m.Next, m.Events = w.seen.Status, w.seen.Next, w.seen.Events
			m.At = w.seen.At
		} else {
			w.pulse.note(m.At, m.Status.Arrays)
		}
		w.seen = m
		return w, tea.Tick(refreshEvery, func(time.Time) tea.Msg { return w.ask() })
	}
	return w, nil
}

func (w watch) View() string {
	if w.seen.Status == nil {
		if w.seen.Err != nil {
			return w.seen.Err.Error() + "\n\nq quits\n"
		}
		return "asking the service…\n"
	}
	head := w.paint("title", "nidalo watch") + "   " + w.seen.At.Local().Format("Mon Jan 2 15:04:05")
	if w.seen.Err != nil {
		head += "   " + w.paint("failed", fmt.Sprintf("no answer since %s: %v", Duration(time.Since(w.seen.At).Seconds()), w.seen.Err))
	}
	if w.help {
		return strings.Join(w.fitted(append([]string{head, ""}, watchHelp...), "any key goes back"), "\n")
	}
	next := w.next()
	top := append([]string{head, ""}, w.arrays(w.height-len(next)-leastEvents-4)...)
	room := w.height - len(top) - len(next) - 4
	events := w.events(max(leastEvents, min(room, 12)))
	lines := slices.Concat(top, events, []string{""}, next)
	foot := "q quits   ? help"
	if over := len(lines) - (w.height - 1); over > 0 {
		above := min(w.above, over)
		lines = slices.Concat(lines[:2], lines[2+above:])
		foot += fmt.Sprintf("   ↑ ↓ scroll: %d lines above, %d below", above, over-above)
	}
	return strings.Join(w.fitted(lines, foot), "\n")
}

// fitted is some lines made to fill the window, with the last one at its foot. What is cut is marked.
func (w watch) fitted(lines []string, foot string) []string {
	lines = lines[:min(len(lines), max(w.height-1, 0))]
	for len(lines) < w.height-1 {
		lines = append(lines, "")
	}
	lines = append(lines, w.paint("faint", foot))
	for i, l := range lines {
		lines[i] = ansi.Truncate(l, w.width, "…")
	}
	return lines
}

var watchHelp = []string{
	"q             quits",
	"↑ ↓ PgUp PgDn scroll, when there is more than fits",
	"a             lists all members of large arrays, or folds those that are as they should be",
	"?             this help",
	"",
	"Of each member: bay, model, serial, condition, health, temperature, what it moves a second now and in",
	"the last eight seconds, how long an operation takes it, and since when it is away or its errors.",
	"Of each array: what its clients read and write a second, and how long an operation takes them.",
	"",
	"nidalo next      says what to do, in order, with the reasons",
	"nidalo history   lists what happened",
}

// key does what a key is for.
func (w watch) key(name string) (tea.Model, tea.Cmd) {
	page := max(1, w.height-4)
	switch {
	case slices.Contains([]string{"q", "Q", "alt+q", "alt+Q", "ctrl+c"}, name):
		return w, tea.Quit
	case w.help:
		w.help = false
		return w, nil
	}
	switch name {
	case "?", "h":
		w.help = true
	case "a":
		w.all = !w.all
	case "up", "k":
		w.above--
	case "down", "j":
		w.above++
	case "pgup":
		w.above -= page
	case "pgdown", " ":
		w.above += page
	case "home":
		w.above = 0
	}
	w.above = max(0, min(w.above, mostAbove))
	return w, nil
}

// mostAbove bounds how far can be scrolled.
const mostAbove = 500

// leastEvents is how many of them are shown however low the window is.
const leastEvents = 2

// arrays are all arrays, with a line for each member where there is room for so many lines, and else with all members in one.
func (w watch) arrays(room int) []string {
	if len(w.seen.Status.Arrays) == 0 {
		return []string{"No arrays."}
	}
	var out []string
	ways := []func(control.ArrayStatus) []string{w.memberLines, w.memberCells}
	if w.all {
		ways = ways[:1]
	}
	for _, members := range ways {
		out = nil
		for _, a := range w.seen.Status.Arrays {
			out = append(out, w.array(a, members(a))...)
		}
		if len(out) <= room {
			break
		}
	}
	return out
}

// array is one array: its state, its members, its tasks.
func (w watch) array(a control.ArrayStatus, members []string) []string {
	head := fmt.Sprintf("%s  %s  %s", w.paint("title", a.Name), LevelOf(a.Level), w.paint(string(a.Condition), string(a.Condition)))
	if a.Condition != "failed" {
		head += fmt.Sprintf("  %s  %s usable", Survives(a), say.Size(a.Capacity))
	}
	if clients := w.pulse.clients(a); clients != "" && a.Condition != "failed" {
		head += "  " + clients
	}
	out := append([]string{head}, members...)
	for _, t := range a.Tasks {
		if t.Ended == nil {
			out = append(out, w.task(a, t))
		}
	}
	return append(out, "")
}

// memberLines is a line for each member.
func (w watch) memberLines(a control.ArrayStatus) (out []string) {
	listed, sound := a.Members, []control.MemberStatus(nil)
	if !w.all {
		listed, sound = apart(a)
	}
	cells, top := make([][]string, len(listed)), w.pulse.top(a)
	place := func(m control.MemberStatus) string { return or(or(m.Bay, m.Path), fmt.Sprintf("slot %d", m.Slot)) }
	widest := 0
	for _, m := range listed {
		widest = max(widest, utf8.RuneCountInString(place(m)))
	}
	for i, m := range listed {
		name := place(m)
		if role := roleOf(a, m.Slot); role != "" {
			name += strings.Repeat(" ", widest-utf8.RuneCountInString(name)+2) + role
		}
		more := ""
		now, history := w.pulse.rate(a, m, top)
		if !hasPulse(m) {
			now, history = "", ""
		}
		switch {
		case m.Since != nil && (m.Condition == "failed" || m.Condition == "missing"):
			more = "since " + m.Since.Local().Format("Jan 2 15:04")
		case m.Errors > 0:
			more = say.Count(int64(m.Errors), "error", "errors")
		}
		cells[i] = []string{name, m.Model, m.Serial, m.Condition, m.Health, degrees(m), now, history, w.pulse.latency(a, m), more}
	}
	wide := []int{3: len("rebuilding"), 6: len("1023.9MiB/s"), 7: beats - 1, 8: len("100.0 ms"), 9: 0} // so that arrays stand below each other
	for _, row := range cells {
		for i, cell := range row {
			wide[i] = max(wide[i], utf8.RuneCountInString(cell))
		}
	}
	// Where there is no room for all, what the disk is goes first: its bay and serial name it.
	if total := 2 + 2*len(wide); total+sum(wide) > w.width {
		wide[1] = 0
	}
	for _, row := range cells {
		line := " "
		for i, cell := range row {
			if wide[i] > 0 {
				pad := strings.Repeat(" ", wide[i]-utf8.RuneCountInString(cell))
				switch i {
				case 3, 4:
					line += " " + w.paint(cell, cell) + pad + "  "
				case 5, 6, 8: // numbers stand below each other
					line += " " + pad + cell + " "
				case 7:
					line += " " + w.paint("bar", cell) + pad + " "
				default:
					line += " " + cell + pad + "  "
				}
			}
		}
		out = append(out, strings.TrimRight(line, " "))
	}
	return append(out, w.soundLines(a, sound)...)
}

// soundLines is the members of a large array that are as they should be, those of each group in a line.
func (w watch) soundLines(a control.ArrayStatus, sound []control.MemberStatus) (out []string) {
	for group := 1; group <= max(a.Groups, 1) && len(sound) > 0; group++ {
		if bays := baysOf(sound, group, a); len(bays) > 0 {
			line := "  active "
			if grouped(a) {
				line += fmt.Sprintf("in %s %d ", groupWord(a), group)
			}
			out = append(out, w.paint("active", line)+" "+say.Ranges(bays))
		}
	}
	return out
}

// degrees is how hot a member is.
func degrees(m control.MemberStatus) string {
	if m.Celsius == nil || !hasPulse(m) {
		return ""
	}
	return fmt.Sprintf("%.0f °C", *m.Celsius)
}

func sum(of []int) (total int) {
	for _, n := range of {
		total += n
	}
	return total
}

// hasPulse says whether a member takes part.
func hasPulse(m control.MemberStatus) bool {
	return m.Condition != "failed" && m.Condition != "missing"
}

// memberCells is all members one behind the other.
func (w watch) memberCells(a control.ArrayStatus) (out []string) {
	line, at := "  ", 2
	for _, m := range a.Members {
		name := or(or(m.Bay, m.Serial), m.Path)
		if i := strings.LastIndexByte(name, '/'); i >= 0 {
			name = name[i+1:]
		}
		cell := name
		if m.Condition != "active" {
			cell += " " + m.Condition
		}
		if at+len(cell)+3 > w.width && at > 2 {
			out = append(out, line)
			line, at = "  ", 2
		}
		line += w.paint(m.Condition, cell) + "   "
		at += len(cell) + 3
	}
	return append(out, line)
}

func (w watch) task(a control.ArrayStatus, t control.TaskStatus) string {
	what := string(t.Kind)
	for _, m := range a.Members {
		if t.Slot != nil && m.Slot == *t.Slot {
			what += " " + or(or(m.Bay, m.Serial), fmt.Sprintf("slot %d", m.Slot))
		}
	}
	switch t.State {
	case "waiting":
		out := "  " + what + "  " + t.Waits
		if t.ETA != nil {
			out += "; ends " + say.End(time.Now(), *t.ETA, t.Unsure)
		}
		return out
	case "paused":
		out := fmt.Sprintf("  %s  paused at %.1f%%", what, t.Percent)
		if t.Waits != "" {
			out += ", " + t.Waits
		}
		return out
	}
	tail := fmt.Sprintf(" %5.1f%%  %s/s", t.Percent, say.Size(int64(t.Rate)))
	if t.ETA != nil {
		tail += "  " + Duration(*t.ETA) + " left, ends " + say.End(time.Now(), *t.ETA, t.Unsure)
	}
	cells := max(8, min(40, w.width-len(what)-len(tail)-8))
	full := int(t.Percent / 100 * float64(cells))
	return "  " + what + "  " + w.paint("bar", strings.Repeat("█", full)) + w.paint("faint", strings.Repeat("·", cells-full)) + tail
}

func (w watch) events(n int) []string {
	out := []string{w.paint("title", "Lately")}
	events := w.seen.Events
	if len(events) > n {
		events = events[len(events)-n:]
	}
	for _, e := range events {
		line := fmt.Sprintf("  %s  %s", e.Time.Local().Format("15:04:05"), w.paint(string(e.Severity), string(e.Kind)))
		for _, part := range []string{e.Array, e.Disk, e.Detail} {
			if part != "" {
				line += "  " + part
			}
		}
		out = append(out, line)
	}
	if len(events) == 0 {
		out = append(out, "  nothing")
	}
	return out
}

func (w watch) next() []string {
	out := []string{w.paint("title", "What to do")}
	if len(w.seen.Next.Steps) == 0 {
		return append(out, "  Nothing.")
	}
	for i, st := range w.seen.Next.Steps {
		if i == 3 {
			return append(out, fmt.Sprintf("  and %d more: nidalo next", len(w.seen.Next.Steps)-3))
		}
		text := st.Command
		if text == "" || st.Urgency == advice.Wait {
			text = st.Do
		}
		out = append(out, fmt.Sprintf("  %s  %s   %s", w.paint(string(st.Urgency), string(st.Urgency)), text, w.paint("faint", or(st.Array, st.Disk)+": "+st.Why)))
	}
	return out
}
