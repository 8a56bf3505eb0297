package view

import (
	"fmt"
	"strings"
	"time"

	"nidalo/core/say"
	"nidalo/internal/control"
)

// pulse is what members and clients did lately, from one look to the next.
type pulse map[string][]beat

// beat is the counters of a member, or of the clients of an array, at one moment.
type beat struct {
	at                time.Time
	moved, operations int64
	busy              float64
	written           int64 // of moved, by clients
}

const (
	beatEvery = time.Second // looks in between count for nothing
	beats     = 9           // that are kept: a history of one less
)

// note takes what a look has seen.
func (p pulse) note(at time.Time, arrays []control.ArrayStatus) {
	for _, a := range arrays {
		c := a.Counters
		p.add(clientsKey(a), beat{at, c["client_read_bytes"] + c["client_written_bytes"], c["client_operations"], float64(c["client_busy_microseconds"]) / 1e6, c["client_written_bytes"]})
		for _, m := range a.Members {
			p.add(pulseKey(a, m), beat{at, m.Moved, m.Operations, m.Busy, 0})
		}
	}
}

func (p pulse) add(key string, now beat) {
	b := p[key]
	if n := len(b); n > 0 && now.moved < b[n-1].moved {
		b = nil // it was opened anew
	}
	if n := len(b); n > 0 && now.at.Sub(b[n-1].at) < beatEvery*9/10 {
		return
	}
	p[key] = append(b, now)
	if len(p[key]) > beats {
		p[key] = p[key][1:]
	}
}

func clientsKey(a control.ArrayStatus) string { return a.ID + "/clients" }

// clients is what the clients of an array do at the moment; empty when they do nothing, or it is not known yet.
func (p pulse) clients(a control.ArrayStatus) string {
	b := p[clientsKey(a)]
	if len(b) < 2 {
		return ""
	}
	first, last := b[max(0, len(b)-4)], b[len(b)-1]
	span := last.at.Sub(first.at).Seconds()
	wrote := float64(last.written-first.written) / span
	read := float64(last.moved-first.moved)/span - wrote
	if read+wrote == 0 && last.operations == first.operations {
		return ""
	}
	out := fmt.Sprintf("clients read %s/s, write %s/s", say.Size(int64(read)), say.Size(int64(wrote)))
	if took := p.mean(clientsKey(a)); took != "" {
		out += ", " + took + " each"
	}
	return out
}

func pulseKey(a control.ArrayStatus, m control.MemberStatus) string {
	return fmt.Sprint(a.ID, "/", m.Slot, "/", m.Serial)
}

// rates are bytes a second between beats, oldest first.
func rates(b []beat) (out []float64) {
	for i := 1; i < len(b); i++ {
		out = append(out, float64(b[i].moved-b[i-1].moved)/b[i].at.Sub(b[i-1].at).Seconds())
	}
	return out
}

// leastTop is the rate up to which bars go at least, so that next to nothing does not look like much.
const leastTop = 1 << 20

// top is the highest rate of any member of an array.
func (p pulse) top(a control.ArrayStatus) (most float64) {
	most = leastTop
	for _, m := range a.Members {
		for _, r := range rates(p[pulseKey(a, m)]) {
			most = max(most, r)
		}
	}
	return most
}

// rate is the last rate of a member in words, and its history as bars up to the highest rate of all.
func (p pulse) rate(a control.ArrayStatus, m control.MemberStatus, top float64) (now, history string) {
	all := rates(p[pulseKey(a, m)])
	if len(all) == 0 {
		return "", ""
	}
	var bars strings.Builder
	for _, r := range all {
		step := min(int(r/top*8), 7)
		if r <= 0 {
			bars.WriteRune('·')
			continue
		}
		bars.WriteRune([]rune("▁▂▃▄▅▆▇█")[step])
	}
	return say.Size(int64(all[len(all)-1])) + "/s", strings.Repeat(" ", beats-1-len(all)) + bars.String()
}

// latency is the mean time of an operation of a member in the last beats, empty when there was none.
func (p pulse) latency(a control.ArrayStatus, m control.MemberStatus) string {
	return p.mean(pulseKey(a, m))
}

func (p pulse) mean(key string) string {
	b := p[key]
	if len(b) < 2 {
		return ""
	}
	first, last := b[max(0, len(b)-4)], b[len(b)-1]
	if n := last.operations - first.operations; n > 0 {
		if ms := (last.busy - first.busy) / float64(n) * 1000; ms >= 0.05 {
			return fmt.Sprintf("%.1f ms", ms)
		}
		return "<0.1 ms"
	}
	return ""
}

// Pulse is what clients of arrays do, from one look to the next.
type Pulse struct{ of pulse }

// NewPulse begins to look.
func NewPulse() Pulse { return Pulse{pulse{}} }

// Note takes what a look has seen.
func (p Pulse) Note(at time.Time, arrays []control.ArrayStatus) { p.of.note(at, arrays) }

// Clients says what the clients of each array that has any do; empty after one look.
func (p Pulse) Clients(arrays []control.ArrayStatus) (lines []string) {
	for _, a := range arrays {
		if text := p.of.clients(a); text != "" {
			lines = append(lines, a.Name+": "+text)
		}
	}
	return lines
}
