package main

import (
	"cmp"
	"fmt"
	"log"
	"os"
	"runtime"
	"strings"
	"time"
)

// prose is where the words begin that explain the figures. They are written by hand.
const prose = "## How to read this"

const heads = "| where | work | Nidalo | peer | ratio | rounds | target | what limits it | on |\n|---|---|---|---|---|---|---|---|---|\n"

// chapter is a table of its own in the report, behind the rows.
type chapter struct{ title, text string }

var chapters []chapter

// writeReport brings what was measured so far into the report. What was not stays there, with its day.
func writeReport() {
	if *report == "" {
		return
	}
	before, _ := os.ReadFile(*report) // there may be none yet
	if err := os.WriteFile(*report, []byte(renew(string(before), time.Now().Format("2006-01-02"))), 0o644); err != nil {
		log.Fatal(err)
	}
}

// renew is a report with the figures of this run in the place of those that it has for the same work.
func renew(before, today string) string {
	measured, words := before, ""
	if at := strings.Index(before, prose); at >= 0 {
		measured, words = before[:at], before[at:]
	}
	parts := strings.Split("\n"+measured, "\n## ")
	var b strings.Builder
	fmt.Fprintf(&b, "# Performance\n\nWritten by `make bench`. Each row is the median of its rounds, in which both sides took turns on the same storage, and says on which day that was.\n")
	fmt.Fprintf(&b, "Checksums and journal are on, as always. The machine of %s: %s, %d CPUs, %s; client, server and members share them.\n\n", today, cpuModel(), runtime.NumCPU(), runtime.Version())
	b.WriteString(heads)
	lines, fresh := rowsOf(parts[0]), map[string]string{}
	for _, r := range rows {
		line := r.line(today)
		if key := keyOf(line); fresh[key] == "" {
			fresh[key] = line
		} else { // of several peers
			fresh[key] += line
		}
	}
	for _, old := range lines {
		key := keyOf(old)
		b.WriteString(cmp.Or(fresh[key], old))
		delete(fresh, key)
	}
	for _, r := range rows {
		key := keyOf(r.line(today))
		b.WriteString(fresh[key])
		delete(fresh, key)
	}
	for _, part := range parts[1:] {
		title, text, _ := strings.Cut(part, "\n")
		for _, s := range chapters {
			if s.title == title {
				text = "\n" + s.text
			}
		}
		fmt.Fprintf(&b, "\n## %s\n%s\n", title, strings.TrimRight(text, "\n"))
	}
	for _, s := range chapters {
		if !strings.Contains(measured, "\n## "+s.title+"\n") {
			fmt.Fprintf(&b, "\n## %s\n\n%s\n", s.title, strings.TrimRight(s.text, "\n"))
		}
	}
	if words != "" {
		b.WriteString("\n" + words)
	}
	return b.String()
}

// rowsOf are the rows of a table, without its heads.
func rowsOf(text string) (out []string) {
	for _, line := range strings.SplitAfter(text, "\n") {
		if strings.HasPrefix(line, "| ") && !strings.HasPrefix(line, "| where ") {
			out = append(out, strings.TrimRight(line, "\n")+"\n")
		}
	}
	return out
}

// keyOf is where and of which work a row is.
func keyOf(line string) string {
	cells := strings.SplitN(line, " | ", 3)
	return strings.Join(cells[:min(2, len(cells))], " | ")
}

func (r row) line(day string) string {
	sign, mark := "≥", "met"
	if r.AtMost {
		sign = "≤"
	}
	if !r.met() {
		mark = "**missed**"
	}
	target := fmt.Sprintf("%s %.2f, %s", sign, r.Target, mark)
	if r.Target == 0 {
		target = "none"
	}
	return fmt.Sprintf("| %s | %s | %.0f %s | %s %.0f | %.2f | %s | %s | %s | %s |\n", r.Place, r.Name, r.Ours, r.Unit, r.Peer, r.Theirs, r.ratio(), r.spread(), target, r.Limit, day)
}
