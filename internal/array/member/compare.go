package member

import (
	"fmt"
	"slices"
	"time"

	"nidalo/internal/disk"
	"nidalo/internal/env"
)

// Compare compares the time that members take for an operation, window by window. members are those among which reads and writes are
// spread evenly.
func (j *Judge) Compare(stop <-chan struct{}, members func() []*Member) {
	slow := j.limits.Slow
	if slow.Windows < 0 {
		return
	}
	c := comparison{strikes: map[*Member]int{}, before: map[*Member]disk.Load{}}
	for env.Wait(slow.Window, stop) != 0 {
		now := map[*Member]disk.Load{}
		for _, m := range members() {
			if m.Patient != nil && m.Full() {
				now[m] = m.Patient.Load()
			}
		}
		for _, v := range c.window(now, slow) {
			j.roll.Decline(v.m, v.why)
		}
	}
}

// comparison is what is known of members' speed from one window to the next.
type comparison struct {
	strikes map[*Member]int
	before  map[*Member]disk.Load
}

type verdict struct {
	m   *Member
	why string
}

// enoughOperations makes the mean of a window worth comparing.
const enoughOperations = 8

// window takes what members did so far, and names those that were too slow once too often.
func (c *comparison) window(now map[*Member]disk.Load, rule Slow) (out []verdict) {
	means := map[*Member]time.Duration{}
	for m, load := range now {
		if n := load.Operations - c.before[m].Operations; n >= enoughOperations {
			means[m] = (load.Time - c.before[m].Time) / time.Duration(n)
		}
	}
	c.before = now
	for m, mine := range means {
		var peers []time.Duration
		for other, mean := range means {
			if other != m && sameWay(other, m) {
				peers = append(peers, mean)
			}
		}
		if len(peers) == 0 {
			continue
		}
		slices.Sort(peers)
		median := peers[len(peers)/2]
		if mine < rule.Least || float64(mine) < rule.Factor*float64(median) {
			c.strikes[m] = 0
			continue
		}
		if c.strikes[m]++; c.strikes[m] == rule.Windows {
			out = append(out, verdict{m, fmt.Sprintf("it takes %s for an operation, its peers %s", round(mine), round(median))})
		}
	}
	return out
}

// sameWay says whether two members are reached the same way: a disk on another host is slower by its link, which is no fault of it.
func sameWay(x, y *Member) bool {
	return x.Patient == nil || y.Patient == nil || x.Patient.Identity().Host == y.Patient.Identity().Host
}

func round(d time.Duration) time.Duration {
	if d > 10*time.Millisecond {
		return d.Round(time.Millisecond)
	}
	return d.Round(10 * time.Microsecond)
}
