package service

import (
	"fmt"
	"strings"
	"time"

	"nidalo/core/event"
	"nidalo/core/health"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/service/disks"
)

// healthEvery is how often disks are asked how they are.
const healthEvery = 5 * time.Second

// trendOver is how far back readings are compared with: a day, or since the service began.
const trendOver = 24 * time.Hour

// watched is what is known of one disk's health.
type watched struct {
	first   health.Readings
	since   time.Time
	now     health.Readings
	asked   time.Time
	verdict health.Verdict
}

// Health is what the members' disks said of themselves when they were last asked. A service that does not stay asks now.
func (s *Service) Health() ([]control.DiskHealth, error) {
	if !s.opt.Stays {
		s.askHealth()
	}
	out := []control.DiskHealth{}
	for _, r := range s.running() {
		for _, m := range seated(r.MemberStates()) {
			if m.Condition == record.Failed || m.Condition == record.Missing {
				continue // what it said when it was there is no news
			}
			s.mu.Lock()
			w, known := s.healths[m.Disk.Name()]
			s.mu.Unlock()
			if known {
				out = append(out, control.DiskHealth{Identity: m.Disk, Array: r.Name(), Slot: m.Slot, Time: w.asked, Verdict: w.verdict, Readings: w.now})
			}
		}
	}
	return out, nil
}

// memberHealth is healthWord of a member: as it was asked last by a service that stays, or now.
func (s *Service) memberHealth(r *running, m array.MemberState) string {
	s.mu.Lock()
	w, known := s.healths[m.Disk.Name()]
	s.mu.Unlock()
	if known {
		return disks.WordFor(w.verdict)
	}
	if s.opt.Stays {
		return ""
	}
	return disks.HealthWord(r.Health(m.Slot))
}

// memberTemperature is how hot a member's disk was when it was asked last; nil: it was not, or does not say.
func (s *Service) memberTemperature(m array.MemberState) *float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.healths[m.Disk.Name()].now.Temperature
}

// foretold is what a member that works says of itself when it will fail; empty when it does not, or when a service that stays asks the
// members now and then and has them count as failing.
func (s *Service) foretold(r *running, m array.MemberState) string {
	if s.opt.Stays || m.Condition != record.Active {
		return ""
	}
	now, err := r.Health(m.Slot)
	if err != nil {
		return ""
	}
	v := health.Judge(now, now, health.DefaultRules)
	if v.Grade == health.Fine {
		return ""
	}
	return "it says of itself: " + strings.Join(v.Reasons, "; ")
}

// health asks members how they are, now and then. Only lookLoop calls it.
func (s *Service) health() {
	if time.Since(s.asked) < healthEvery {
		return
	}
	s.asked = time.Now()
	s.askHealth()
	s.askSpares()
}

// heard keeps what a disk said of itself, and judges it.
func (s *Service) heard(of string, now health.Readings) watched {
	s.mu.Lock()
	defer s.mu.Unlock()
	w, known := s.healths[of]
	if !known || s.opt.Now().Sub(w.since) > trendOver {
		w.first, w.since = now, s.opt.Now()
	}
	w.verdict = health.Judge(now, w.first, health.DefaultRules)
	w.now, w.asked = now, time.Now()
	s.healths[of] = w
	return w
}

// doubt is badBecause of a disk that is open, which is asked how it is at this moment.
func (s *Service) doubt(d disk.Disk) string {
	id := d.Identity()
	if now, err := disk.NewPatient(d, disk.DefaultPatience, func() bool { return false }).Health(); err == nil {
		s.heard(id.Name(), now)
	}
	return s.badBecause(id)
}

// doubtAt is doubt of a disk that is not open.
func (s *Service) doubtAt(src disks.Source, id state.Identity) string {
	d, err := s.seen.Peek(src)
	if err != nil {
		return s.badBecause(id)
	}
	defer d.Close()
	return s.doubt(d)
}

// askSpares asks spares how they are, and tells of those that cannot be relied on any more.
func (s *Service) askSpares() {
	if len(s.spares()) == 0 {
		return
	}
	order, known := s.seen.Seen()
	for _, src := range order {
		p, spare := s.spareOf(known[src].Info)
		if !spare {
			continue
		}
		info := s.present(known[src])
		if info.State != state.DiskSpare {
			continue
		}
		why := s.doubtAt(src, info.Identity)
		if p.AlthoughBad || why == "" && !s.chron.Told("spare-bad/"+info.Name()) {
			continue
		}
		e := event.Event{Kind: event.SpareBad, Disk: info.Identity.String(), Detail: "it does not step in: " + why}
		if why == "" {
			e = event.Event{Kind: event.SpareFree, Disk: info.Identity.String(), Detail: "nothing speaks against it any more"}
		}
		s.once("spare-bad", info.Name(), why, e)
	}
}

// askHealth asks members how they are, declares failing what will fail, and tells of heat and bad links.
func (s *Service) askHealth() {
	for _, r := range s.running() {
		for _, m := range seated(r.MemberStates()) {
			now, err := r.Health(m.Slot)
			if err != nil {
				continue
			}
			of := m.Disk.Name()
			w := s.heard(of, now)
			if w.verdict.Grade != health.Fine {
				r.Foretell(m.Slot, "it says of itself: "+strings.Join(w.verdict.Reasons, "; "))
			}
			s.tellHealth(r.Name(), m.Disk, of, w.verdict, now)
		}
	}
}

func (s *Service) tellHealth(name string, id state.Identity, of string, v health.Verdict, now health.Readings) {
	hot := event.Event{Kind: event.DiskCool, Array: name, Disk: id.String(), Detail: "it is no longer hot"}
	if v.Hot {
		hot = event.Event{Kind: event.DiskHot, Array: name, Disk: id.String(), Detail: fmt.Sprintf("%.0f °C; from %.0f on disks age fast: look at fans and filters", *now.Temperature, health.DefaultRules.Hot)}
	}
	if v.Hot || s.chron.Told("heat/"+of) {
		s.once("heat", of, fmt.Sprint(v.Hot), hot)
	}
	for _, n := range v.Notes {
		if strings.Contains(n, "cable") {
			s.once("link", of, n, event.Event{Kind: event.DiskLink, Array: name, Disk: id.String(), Detail: n})
		}
	}
}
