// Package view turns what a service says into what people read.
package view

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"nidalo/core/advice"
	"nidalo/core/layout"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Screen is where output goes and what it can show.
type Screen struct {
	Out      io.Writer // for people
	raw      io.Writer
	Terminal bool // moves the cursor, and a user watches it
	Colour   bool
	Width    int
	All      bool // members of large arrays are listed one by one
	blank    bool // what was printed last is an empty line
}

// NewScreen looks at a file. NO_COLOR is respected.
func NewScreen(f *os.File) *Screen {
	s := &Screen{Out: guard{f}, raw: f, Terminal: term.IsTerminal(int(f.Fd())), Width: 120}
	if s.Terminal {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 20 {
			s.Width = w
		}
		s.Colour = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	}
	return s
}

// Printf writes to the screen.
func (s *Screen) Printf(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	s.blank = line == "\n"
	_, _ = io.WriteString(s.Out, line)
}

// JSON is where JSON goes: it must stay what it is.
func (s *Screen) JSON() io.Writer { return plainJSON{s.raw} }

// attention is dark on yellow: yellow letters cannot be read on a light ground.
var attention = text.Colors{text.BgYellow, text.FgBlack}

var conditionColours = map[string]text.Colors{
	"healthy": {text.FgGreen}, "active": {text.FgGreen}, "blank": {text.FgGreen}, "spare": {text.FgCyan}, "retired": {text.Faint},
	"degraded": attention, "rebuilding": attention, "failing": attention,
	"exposed": {text.FgRed, text.Bold}, "partial": {text.FgRed, text.Bold}, "failed": {text.FgRed, text.Bold}, "missing": {text.FgRed}, "broken": {text.FgRed},
}

func (s *Screen) paint(word string) string {
	if c, ok := conditionColours[word]; ok && s.Colour {
		return c.Sprint(word)
	}
	return word
}

func (s *Screen) strong(t string) string {
	if s.Colour {
		return text.Bold.Sprint(t)
	}
	return t
}

// listing is a table whose last column is as wide as the terminal leaves room for. Models of disks are left out when that is too little.
type listing struct {
	table.Writer
	s       *Screen
	columns []table.ColumnConfig
	rows    []table.Row // with the header
	hidden  int         // number of the column that is left out; 0: none
}

// leastWide is how many characters the last column has at least.
const leastWide = 24

// between is how many characters are between two columns.
const between = 3

// AppendRow adds a row.
func (l *listing) AppendRow(row table.Row, config ...table.RowConfig) {
	l.rows = append(l.rows, row)
	l.Writer.AppendRow(row, config...)
}

// room is how wide the last column is by itself, and how many characters there are for it.
func (l *listing) room() (natural, room int) {
	last := len(l.rows[0]) - 1
	room = l.s.Width - between // a coloured header is as wide as its columns, with what is behind the last
	for i := range last + 1 {
		wide := 0
		for _, row := range l.rows {
			if i < len(row) {
				wide = max(wide, text.StringWidthWithoutEscSequences(fmt.Sprint(row[i])))
			}
		}
		switch {
		case i == last:
			natural = wide
		case i != l.hidden-1:
			room -= wide + between
		}
	}
	return natural, room
}

// Render prints the table.
func (l *listing) Render() string {
	natural, room := l.room()
	if l.s.Terminal && natural > room {
		if at := slices.Index(l.rows[0], any("model")); at >= 0 && room < leastWide {
			l.hidden = at + 1
			l.columns = append(l.columns, table.ColumnConfig{Number: l.hidden, Hidden: true})
			_, room = l.room()
		}
		l.SetColumnConfigs(append(l.columns, table.ColumnConfig{Number: len(l.rows[0]), WidthMax: max(room, leastWide), WidthMaxEnforcer: text.WrapSoft}))
	}
	return l.Writer.Render()
}

func (s *Screen) table(header table.Row, right ...int) *listing {
	t := table.NewWriter()
	t.SetOutputMirror(s.Out)
	t.AppendHeader(header)
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", strings.Repeat(" ", between)
	style.Format.Header = text.FormatDefault
	if s.Colour {
		style.Color.Header = text.Colors{text.Faint}
	}
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	var columns []table.ColumnConfig
	for _, n := range right {
		columns = append(columns, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	return &listing{Writer: t, s: s, columns: columns, rows: []table.Row{header}}
}

// Next prints what to do next.
func (s *Screen) Next(steps []string) {
	for i, step := range steps {
		head := "      "
		if i == 0 {
			head = s.strong("Next: ")
		}
		s.Printf("%s%s\n", head, s.folded(step))
	}
}

// folded is a step on as many lines as a terminal needs: the command stays whole, what it does goes below it.
func (s *Screen) folded(step string) string {
	room := s.Width - 9
	if !s.Terminal || room < 30 || text.StringWidthWithoutEscSequences(step) <= room+3 {
		return step
	}
	command, does, ok := strings.Cut(step, "   ")
	if !ok {
		command, does, _ = strings.Cut(text.WrapSoft(step, room+3), "\n")
		does = strings.ReplaceAll(does, "\n", " ")
	}
	for _, line := range strings.Split(text.WrapSoft(does, room), "\n") {
		command += "\n         " + strings.TrimRight(line, " ")
	}
	return command
}

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// VetLine is one line about a vet under way.
func (s *Screen) VetLine(v control.Vetting) string {
	line := fmt.Sprintf("vet of %s  %5.1f%%  %s/s", v.Name, v.Percent, say.Size(int64(v.Rate)))
	if v.Rate > 0 && !v.Quick {
		const passes = 3
		left := float64(passes*v.Size) * (1 - v.Percent/100) / v.Rate
		line += fmt.Sprintf("  %s left, until %s", Duration(left), say.End(time.Now(), left, 0.1))
	}
	return line
}

// Vettings lists vets of disks.
func (s *Screen) Vettings(all []control.Vetting) {
	if len(all) == 0 {
		s.Printf("No disk was ever vetted here.\n")
		s.Next([]string{"nidalo vet DISK   tests one before it is trusted"})
		return
	}
	t := s.table(table.Row{"disk", "size", "state", "done", "rate", "wrong", "slow", "result"}, 2, 4, 5, 6, 7)
	for _, v := range all {
		state := v.State
		if v.Quick {
			state += ", quick"
		}
		t.AppendRow(table.Row{v.Name, say.Size(v.Size), state, fmt.Sprintf("%.1f%%", v.Percent), say.Size(int64(v.Rate)) + "/s", v.Errors, v.Slow, v.Result})
	}
	t.Render()
	for _, v := range all {
		for _, p := range v.Places {
			s.Printf("  %s: %s\n", v.Name, p)
		}
	}
}

// Unreached says that what follows is read from the disks although a process has the home.
func (s *Screen) Unreached(who string) {
	s.Printf("%s\n", wrap("What follows is read from the disks, and may not be how things are: "+who+", has this home and cannot be reached. It is just starting or stopping, or its sockets were removed; then a restart makes them anew.", s.Width, ""))
}

// Status prints arrays in full.
func (s *Screen) Status(st *control.Status) {
	if len(st.Arrays) == 0 {
		s.Printf("No arrays.\n")
	}
	for i, a := range st.Arrays {
		if i > 0 && !s.blank {
			s.Printf("\n")
		}
		s.array(a)
		if st.Serving && a.Export != "" && a.Condition != "failed" {
			s.Printf("Served as %s\n", a.Export)
		}
		if a.Device != nil {
			s.Printf("Attached as %s\n", DeviceLine(a.Device))
		}
		s.Next(a.Next)
	}
	for _, t := range st.Disks {
		if t.State != "done" {
			s.Printf("\nReplacement of %s\n", DiskTaskLine(t))
		}
	}
	if st.AllEnd != nil {
		s.Printf("\nAll tasks together end %s\n", say.End(time.Now(), *st.AllEnd, 1))
	}
	s.Next(st.Next)
	if len(st.Arrays) > 0 && !st.Serving && st.Held == "" {
		s.Printf("No service is running here, so this is read from the disks. Clients cannot connect, and tasks rest. Start it with: nidalo serve\n")
	}
}

func (s *Screen) hosts(a control.ArrayStatus) {
	if a.Owned != nil {
		s.Printf("%s\n", wrap("This host, "+a.Owned.Host+", has it; another one that stands by takes it over when this one is lost.", s.Width, ""))
		if n := a.Owned.Fenced; n > 0 {
			s.Printf("%s\n", wrap(say.Count(n, "disk that other hosts are attached to takes", "disks that other hosts are attached to take")+" writes from this host only.", s.Width, ""))
		}
		if n := a.Owned.Unfenced; n > 0 {
			s.Printf("%s\n", wrap(say.Count(n, "disk that other hosts are attached to cannot be fenced", "disks that other hosts are attached to cannot be fenced")+": if this host is paused for longer than its lease, it could write there afterwards.", s.Width, ""))
		}
	}
	if line := advice.HostLine(a.Hosts); line != "" && !a.Out {
		s.Printf("%s\n", wrap(line, s.Width, ""))
	}
}

func (s *Screen) array(a control.ArrayStatus) {
	s.Printf("%s   %s, %s", s.strong(a.Name), LevelOf(a.Level), s.paint(string(a.Condition)))
	if a.Condition != "failed" {
		if names := declining(a); len(names) > 0 {
			link := "and"
			if a.Condition == state.Healthy {
				link = "but"
			}
			s.Printf(", %s %s will fail", link, say.Ranges(names))
		}
		s.Printf(", %s", Survives(a))
	}
	if a.Out {
		s.Printf(", not in service")
	}
	s.Printf("\n")
	if a.Reason != "" {
		s.Printf("%s\n", wrap(capital(a.Reason), s.Width, ""))
	}
	if a.Trouble != "" {
		s.Printf("%s\n", wrap(capital(a.Trouble), s.Width, ""))
	}
	s.capacity(a)
	s.Printf("\n\n")
	s.members(a)
	s.Printf("\n")
	s.layers(a)
	s.volumes(a)
	if a.SpinDown > 0 && !a.Out {
		s.Printf("%s\n", wrap("Disks sleep "+Sleeps(a)+".", s.Width, ""))
	}
	if a.Together != "" && len(a.Says) == 0 {
		s.Printf("%s\n", wrap(capital(a.Together)+".", s.Width, ""))
	}
	s.hosts(a)
	if len(a.Says) > 0 {
		s.Printf("What its disks say:\n")
		for _, line := range a.Says {
			s.Printf("   %s\n", line)
		}
	}
	s.change(a)
	for _, task := range a.Tasks {
		if task.Ended == nil || task.State == "failed" {
			s.Printf("%s\n", s.Task(task))
		}
	}
	if len(a.Spares) > 0 {
		s.Printf("%s\n", wrap("Spares that stand ready: "+strings.Join(a.Spares, ", "), s.Width, ""))
	}
	if c := a.LastCheck; c != nil && c.Ended != nil {
		s.Printf("Last consistency check %s: %s\n", c.Ended.Local().Format("Jan 2 15:04"), CheckSummary(*c))
	}
	if a.NextCheck != nil {
		s.Printf("The next check begins by itself on %s\n", a.NextCheck.Local().Format("Jan 2 at 15:04"))
	}
}

func (s *Screen) capacity(a control.ArrayStatus) {
	s.Printf("%s usable", say.Size(a.Capacity))
	if !a.Out && a.Condition != "failed" {
		if a.Used == 0 {
			s.Printf(", nothing of it written yet")
		} else {
			s.Printf(", at most %s of it written", say.Size(a.Used))
		}
	}
	s.Printf(", strips of %s", say.Size(a.Strip))
	if a.Groups > 1 && a.Level != "concat" {
		s.Printf(", %d groups", a.Groups)
	}
}

// manyMembers is how many members are listed one by one; of more only those that something is the matter with.
const manyMembers = 16

// members prints a line for each member of an array. Of many, those that are as they should be are one line for each group.
func (s *Screen) members(a control.ArrayStatus) {
	listed, sound := a.Members, []control.MemberStatus(nil)
	if !s.All {
		listed, sound = apart(a)
	}
	if len(listed) > 0 {
		s.memberTable(a, listed)
	}
	if len(sound) == 0 {
		return
	}
	if len(listed) > 0 {
		s.Printf("\n")
	}
	s.sound(a, sound)
}

// sound lists members that are active and without errors, those of each group in a line.
func (s *Screen) sound(a control.ArrayStatus, sound []control.MemberStatus) {
	what := "active, without errors"
	if len(sound) == len(a.Members) {
		what = "all " + what
	}
	s.Printf("%s:\n", capital(say.Count(int64(len(sound)), "member", "members")+" "+what))
	for group := 1; group <= max(a.Groups, 1); group++ {
		bays := baysOf(sound, group, a)
		if len(bays) == 0 {
			continue
		}
		head := "   "
		if grouped(a) {
			head = fmt.Sprintf("   %s %d: ", groupWord(a), group)
		}
		s.Printf("%s%s\n", head, wrap(say.Ranges(bays), s.Width-len(head), strings.Repeat(" ", len(head))))
	}
	s.Printf("   nidalo status -all %s lists each of them\n", say.Quote(a.Name))
}

// apart tells the members of a large array with which something is the matter from those that are as they should be; of others all are
// listed.
func apart(a control.ArrayStatus) (listed, sound []control.MemberStatus) {
	if len(a.Members) <= manyMembers {
		return a.Members, nil
	}
	for _, m := range a.Members {
		if m.Condition == "active" && (m.Health == "fine" || m.Health == "") && m.Errors == 0 && !busy(a, m.Slot) {
			sound = append(sound, m)
		} else {
			listed = append(listed, m)
		}
	}
	return listed, sound
}

// baysOf names the members of a group, or all where groups mean nothing.
func baysOf(members []control.MemberStatus, group int, a control.ArrayStatus) (bays []string) {
	for _, m := range members {
		if m.Group == group || !grouped(a) && group == 1 {
			bays = append(bays, or(or(m.Bay, m.Serial), m.Path))
		}
	}
	return bays
}

// grouped says whether some members of an array protect each other, and not the others.
func grouped(a control.ArrayStatus) bool { return a.Groups > 1 && a.Level != "concat" }

func groupWord(a control.ArrayStatus) string {
	if a.Level == "10" {
		return "mirror"
	}
	return "group"
}

func busy(a control.ArrayStatus, slot int) bool {
	return slices.ContainsFunc(a.Tasks, func(t control.TaskStatus) bool { return t.Ended == nil && t.Slot != nil && *t.Slot == slot })
}

func (s *Screen) memberTable(a control.ArrayStatus, listed []control.MemberStatus) {
	// Where there is no room for all, what the disk is goes first: its bay and serial name it.
	narrow := s.Terminal && s.Width < 100
	columns := []struct {
		name  string
		right bool
		shown bool
	}{{"slot", true, true}, {groupWord(a), true, grouped(a)}, {"volume", false, len(a.Volumes) > 0}, {"bay", false, true}, {"model", false, !narrow}, {"serial", false, true}, {"size", true, !narrow || !grouped(a)},
		{"condition", false, true}, {"health", false, true}, {"errors", true, true}}
	var header table.Row
	var right []int
	for _, c := range columns {
		if c.shown {
			header = append(header, c.name)
		}
		if c.shown && c.right {
			right = append(right, len(header))
		}
	}
	shown := func(row ...any) (out table.Row) {
		for i, c := range columns {
			if c.shown {
				out = append(out, row[i])
			}
		}
		return out
	}
	t := s.table(header, right...)
	for _, m := range listed {
		where := m.Bay
		if gone := m.Condition == "missing" || m.Condition == "failed"; where == "" && !(gone && strings.HasPrefix(m.Path, "/dev/")) {
			where = m.Path // where it was tells nothing: another disk may have that name by now
		}
		t.AppendRow(shown(m.Slot, m.Group, roleOf(a, m.Slot), or(where, "-"), or(m.Model, "-"), or(m.Serial, "-"), say.Size(m.Size), s.memberCondition(a, m), or(m.Health, "-"), m.Errors))
	}
	t.Render()
}

// memberCondition is how a member is, with what is done about it, or since when.
func (s *Screen) memberCondition(a control.ArrayStatus, m control.MemberStatus) string {
	out := s.paint(m.Condition)
	for _, task := range a.Tasks {
		if task.Ended != nil || task.Slot == nil || *task.Slot != m.Slot {
			continue
		}
		if task.Kind == state.TaskRetire {
			out += ", being copied onto " + task.Onto
		} else {
			out += fmt.Sprintf(" %.0f%%", task.Percent)
		}
	}
	if m.Sleeps {
		out += ", asleep"
	}
	if m.Away != nil {
		out += ", out of touch for " + say.Span(time.Since(*m.Away).Round(time.Second))
	}
	if m.Since != nil && (m.Condition == "failed" || m.Condition == "missing") {
		out += " since " + m.Since.Local().Format("Jan 2 15:04")
	}
	return out
}

// Survives is the margin of an array, or that its level has none.
func Survives(a control.ArrayStatus) string {
	if l := layout.Level(a.Level); l == layout.Striped || l == layout.Concat {
		return "without redundancy"
	}
	return "margin " + Margin(a.Margin, a.MarginBest)
}

// Margin says how many further losses are survived.
func Margin(certain, best int) string {
	if best > certain {
		return fmt.Sprintf("%d (up to %d with luck)", certain, best)
	}
	return fmt.Sprint(certain)
}

// CheckSummary is the result of a check in words.
func CheckSummary(c control.CheckStatus) string {
	early := ""
	if c.Partial {
		early = "ended early: "
	}
	if c.Mismatches == 0 {
		return early + "no mismatches"
	}
	out := early + fmt.Sprintf("%s, %d repaired", say.Count(c.Mismatches, "mismatch", "mismatches"), c.Repaired)
	if c.Unrepairable > 0 {
		out += fmt.Sprintf(", %d beyond repair", c.Unrepairable)
	}
	return out
}

// Task is one line about a task.
func (s *Screen) Task(t control.TaskStatus) string {
	what := string(t.Kind)
	switch {
	case t.Disk != "":
		what += " of " + t.Disk
	case t.Slot != nil:
		what += fmt.Sprintf(" of slot %d", *t.Slot)
	}
	if t.State == "waiting" {
		line := what + "  " + t.Waits
		if t.ETA != nil {
			line += "; ends " + say.End(time.Now(), *t.ETA, t.Unsure)
		}
		return line
	}
	if t.State != "running" {
		line := fmt.Sprintf("%s %s", what, t.State)
		if t.Ended == nil {
			line += fmt.Sprintf(" at %.1f%%", t.Percent)
		}
		if t.Error != "" {
			line += ": " + t.Error
		} else if t.Waits != "" {
			line += ", " + t.Waits
		}
		return line
	}
	line := fmt.Sprintf("%s  %5.1f%%  %s of %s  %s/s", what, t.Percent, say.Size(t.Done), say.Size(t.Total), say.Size(int64(t.Rate)))
	if t.ETA == nil {
		return line + "  time left not known yet"
	}
	return line + fmt.Sprintf("  %s left, until %s", Duration(*t.ETA), say.End(time.Now(), *t.ETA, t.Unsure))
}

// Duration writes seconds for people.
func Duration(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1fs", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%ds", int(d.Seconds()+0.5))
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd%02dh", int(d.Hours())/24, int(d.Hours())%24)
}

// Progress draws a line that is redrawn on a terminal, and now and then a new one elsewhere.
type Progress struct {
	s    *Screen
	last time.Time
	open bool
}

// NewProgress starts one.
func (s *Screen) NewProgress() *Progress { return &Progress{s: s, last: time.Now()} }

// progressEvery is how often progress is told where it cannot be drawn in place.
const progressEvery = 5 * time.Second

// Show shows the present state of a task.
func (p *Progress) Show(t control.TaskStatus) { p.Line(t.Percent, p.s.Task(t)) }

// Line shows how much of something is done, and a line about it.
func (p *Progress) Line(percent float64, line string) {
	if p.s.Terminal {
		const cells = 24
		full := int(percent / 100 * cells)
		line = "[" + strings.Repeat("=", full) + strings.Repeat(" ", cells-full) + "] " + line
		if r := []rune(line); len(r) > p.s.Width-1 {
			line = string(r[:p.s.Width-1])
		}
		_, _ = io.WriteString(p.s.raw, "\r\x1b[K")
		p.s.Printf("%s", line)
		p.open = true
		return
	}
	if time.Since(p.last) >= progressEvery { // what is over before that needs no telling
		p.last = time.Now()
		p.s.Printf("%s\n", line)
	}
}

// End leaves the line behind.
func (p *Progress) End() {
	if p.open {
		p.s.Printf("\n")
	}
}
