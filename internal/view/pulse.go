package view

import (
	"fmt"
	"strings"
	"time"

	"nidalo/core/say"
	"nidalo/internal/control"
)

// pulse is what members did lately, from one look to the next.
type pulse map[string][]beat

// beat is the counters of a member at one moment.
type beat struct {
	at                time.Time
	moved, operations int64
	busy              float64
}

const (
	beatEvery = time.Second // looks in between count for nothing
	beats     = 9           // that are kept: a history of one less
)

// note takes what a look has seen.
func (p pulse) note(at time.Time, arrays []control.ArrayStatus) {
	for _, a := range arrays {
		for _, m := range a.Members {
			key := pulseKey(a, m)
			b := p[key]
			if n := len(b); n > 0 && m.Moved < b[n-1].moved {
				b = nil // it was opened anew
			}
			if n := len(b); n > 0 && at.Sub(b[n-1].at) < beatEvery*9/10 {
				continue
			}
			p[key] = append(b, beat{at, m.Moved, m.Operations, m.Busy})
			if len(p[key]) > beats {
				p[key] = p[key][1:]
			}
		}
	}
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

// latency is the mean time of an operation in the last beats, empty when there was none.
func (p pulse) latency(a control.ArrayStatus, m control.MemberStatus) string {
	b := p[pulseKey(a, m)]
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
