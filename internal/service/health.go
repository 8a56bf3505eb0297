package service

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"nidalo/core/health"
	"nidalo/internal/disk"
)

// healthEvery is how often disks are asked how they are.
const healthEvery = 5 * time.Second

// trendOver is how far back readings are compared with: a day, or since the service began.
const trendOver = 24 * time.Hour

// watched is what is known of one disk's health.
type watched struct {
	first   health.Readings
	since   time.Time
	verdict health.Verdict
}

// health asks members how they are, declares failing what will fail, and tells of heat and bad links. Only lookLoop calls
// it.
func (s *Service) health() {
	if time.Since(s.asked) < healthEvery {
		return
	}
	s.asked = time.Now()
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			now, err := r.Health(m.Slot)
			if err != nil {
				continue
			}
			of := cmp.Or(m.Disk.Serial, m.Disk.Path)
			w, known := s.healths[of]
			if !known || time.Since(w.since) > trendOver {
				w.first, w.since = now, time.Now()
			}
			w.verdict = health.Judge(now, w.first, health.DefaultRules)
			s.healths[of] = w
			if w.verdict.Grade != health.Fine {
				r.Foretell(m.Slot, "it says of itself: "+strings.Join(w.verdict.Reasons, "; "))
			}
			s.tellHealth(r.Name(), m.Disk, of, w.verdict, now)
		}
	}
}

func (s *Service) tellHealth(name string, id disk.Identity, of string, v health.Verdict, now health.Readings) {
	hot := Event{Kind: "disk-cool", Severity: Info, Array: name, Disk: id.String(), Detail: "it is no longer hot"}
	if v.Hot {
		hot = Event{Kind: "disk-hot", Severity: Warning, Array: name, Disk: id.String(), Detail: fmt.Sprintf("%.0f °C; from %.0f on disks age fast: look at fans and filters", *now.Temperature, health.DefaultRules.Hot)}
	}
	s.chron.mu.Lock()
	_, told := s.chron.told["heat/"+of]
	s.chron.mu.Unlock()
	if told || v.Hot {
		s.once("heat", of, fmt.Sprint(v.Hot), hot)
	}
	for _, n := range v.Notes {
		if strings.Contains(n, "cable") {
			s.once("link", of, n, Event{Kind: "disk-link", Severity: Warning, Array: name, Disk: id.String(), Detail: n})
		}
	}
}
