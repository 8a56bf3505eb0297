package service

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/disk"
	"nidalo/internal/history"
	"nidalo/internal/service/disks"
)

// What follows from disks that come, go, move and age, once a second.

// wake makes lookLoop look at once.
func (s *Service) wake() {
	select {
	case s.poke <- struct{}{}:
	default:
	}
}

// lookLoop notices disks that appear, move, vanish or come back, and does what follows from that.
func (s *Service) lookLoop() {
	tick := time.NewTicker(disks.Every)
	defer tick.Stop()
	minute, day := time.Time{}, time.Time{}
	var places places
	defer places.end()
	s.takeBackAll()
	for {
		select {
		case <-s.done:
			return
		case <-tick.C:
		case <-s.poke:
		}
		s.looked.Store(time.Now().UnixNano())
		for _, r := range s.running() {
			r.Probe()
		}
		if err := s.seen.Look(false); err != nil {
			// What is known of them stays; what follows from that is still to be done.
			s.once("look", "", err.Error(), event.Event{Kind: event.DisksNotListed, Detail: err.Error()})
		} else {
			s.once("look", "", "", event.Event{Kind: event.DisksListed})
		}
		s.retries()
		s.greet()
		s.muster()
		s.letGoMissing()
		s.adopt()
		s.growByThemselves()
		s.goLeaving()
		s.goWaiting()
		s.goHandings()
		s.goEmptying()
		s.conditions()
		s.checkAfter()
		s.health()
		s.rest()
		s.beat()
		s.goExchanges()
		s.stepIn()
		s.goRounds()
		s.applyPaces()
		places.look(s.running())
		s.minds()
		if time.Since(minute) > time.Minute {
			minute = time.Now()
			s.takeReadings()
			s.forgetGrowth()
			for _, r := range s.running() {
				r.GoOn()
			}
		}
		if s.opt.Now().Sub(day) > 24*time.Hour {
			day = s.opt.Now()
			s.chron.Forget(day.AddDate(0, 0, -cmp.Or(s.config().History.Days, keepDays)))
		}
	}
}

// stuckLook is when a service that has not looked round counts as stuck; one hung disk after the other may take a while.
const stuckLook = time.Minute

// Alive answers the watchdog: the lists can be read, and the service still looks round after its disks.
func (s *Service) Alive() error {
	s.Names()
	if d := time.Since(time.Unix(0, s.looked.Load())); d > stuckLook {
		return fmt.Errorf("the service has not looked after its disks for %s", d.Round(time.Second))
	}
	return nil
}

// greet looks at disks that were not there before.
func (s *Service) greet() {
	for _, src := range s.seen.Changed() {
		f, there := s.seen.At(src)
		switch {
		case !there || f.Mark == "":
			s.event(event.Event{Kind: event.DiskGone, Disk: src.String()})
		case s.inService(f.Info.Identity):
		case f.Record != nil:
			s.event(event.Event{Kind: event.DiskAppeared, Disk: f.Info.Identity.String(), Detail: s.present(f).Holds[0]})
			s.takeBack(src, f)
		default:
			s.event(event.Event{Kind: event.DiskAppeared, Disk: f.Info.Identity.String(), Detail: strings.Join(append([]string{string(f.Info.State)}, f.Info.Holds...), ": ")})
		}
	}
}

// takeBackAll looks, at the start of the service, for members that came back while none ran.
func (s *Service) takeBackAll() {
	if !s.unasked() {
		return
	}
	defer s.admin.Unlock()
	s.takeBackOf(uuid.Nil)
}

// takeBackOf looks for members of one array, or with uuid.Nil of all, that are here and not in service. admin is held.
func (s *Service) takeBackOf(id uuid.UUID) {
	order, known := s.seen.Seen()
	for _, src := range order {
		if f := known[src]; f.Record != nil && (id == uuid.Nil || f.Record.Array == id) && !s.inService(f.Info.Identity) {
			s.takeBackHeld(src, f)
		}
	}
}

// takeBack lets a member that was away catch up.
func (s *Service) takeBack(src disks.Source, f disks.Found) {
	if !s.unasked() {
		return
	}
	defer s.admin.Unlock()
	s.takeBackHeld(src, f)
}

func (s *Service) takeBackHeld(src disks.Source, f disks.Found) {
	for _, r := range s.running() {
		if r.ID() != f.Record.Array || r.Failure() != nil {
			continue
		}
		slot, err := r.Awaits(f.Record, false)
		if why := s.ambiguous(f); err == nil && why != nil {
			if twice, ok := why.(errTwice); ok {
				s.tellTwice(twice)
			}
			s.seen.Again(src)
			return
		}
		if err != nil {
			if !s.replaced(f.Record) {
				s.event(event.Event{Kind: event.MemberStale, Array: r.Name(), Disk: f.Info.Identity.String(), Detail: err.Error()})
			}
			return
		}
		r.LetGo(slot)
		d, err := s.seen.Open(src)
		if err != nil {
			// Something of it may still be under way from before, or another program looks at it: that ends.
			s.opt.Log.Info("disk cannot be opened yet; it is tried again", "disk", src.String(), "reason", err)
			s.seen.Again(src)
			return
		}
		own, _ := disk.ReadRecord(d)
		if own == nil {
			_ = d.Close()
			s.seen.Again(src)
			return
		}
		if err := r.Return(d, own, false); err != nil {
			_ = d.Close()
			if !errors.Is(err, roster.ErrStale) {
				s.opt.Log.Info("the member cannot come back yet; it is tried again", "disk", src.String(), "reason", err)
				s.seen.Again(src)
				return
			}
			s.event(event.Event{Kind: event.MemberStale, Array: r.Name(), Disk: f.Info.Identity.String(), Detail: err.Error()})
		}
	}
}

// retries takes back members that could not be taken back before; that they are there is not news.
func (s *Service) retries() {
	for _, src := range s.seen.Retries() {
		if f, there := s.seen.At(src); there && f.Record != nil && !s.inService(f.Info.Identity) {
			s.takeBack(src, f)
		}
	}
}

// adopt lets blank disks take the place of members that were lost from the same bays, where the configuration says so: also those that
// came while no service ran. When it does not, it says why, once.
func (s *Service) adopt() {
	if s.config().Adopt != AdoptSameBay {
		return
	}
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			lost := m.Condition == record.Failed || m.Condition == record.Missing
			if lost && m.Disk.Bay != "" && r.Failure() == nil && r.Layout().Redundant() && partNumber(m.Disk) == 0 && !s.exchanging(r, m.Slot) {
				s.adoptFor(r, m)
			}
		}
	}
}

// adoptFor is adopt for one member.
func (s *Service) adoptFor(r *running, m array.MemberState) {
	order, known := s.seen.Seen()
	for _, src := range order {
		f := known[src]
		if f.Info.Bay != m.Disk.Bay || f.Info.Name() == m.Disk.Name() || f.Info.State == state.DiskEmpty || partNumber(f.Info.Identity) > 0 {
			continue
		}
		why, kind := s.notAdopted(r, m, f)
		if why == "" {
			if why = s.takeIn(r, m, src, f); why == "" {
				return
			}
		}
		s.once("adopt", r.Name()+"/"+f.Info.Name(), why, event.Event{Kind: kind, Array: r.Name(), Disk: f.Info.Identity.String(), Detail: why})
	}
}

// notAdopted says why a disk cannot take the place of a member; empty: it can.
func (s *Service) notAdopted(r *running, m array.MemberState, f disks.Found) (why string, kind event.Kind) {
	of := fmt.Sprintf("it does not take the place of %s by itself: ", m.Disk)
	info := s.present(f)
	need := r.NeedSize(m.Slot)
	switch {
	case info.State == state.DiskSpare:
		return of + "it is a spare", event.DiskNotAdopted
	case info.State != state.DiskBlank:
		return of + "it is " + strings.Join(append([]string{string(info.State)}, info.Holds...), ": "), event.DiskNotAdopted
	case info.Bad != "":
		return of + info.Bad, event.DiskNotAdopted
	case info.Size < need:
		return fmt.Sprintf("it has %s (%d bytes); the place of %s needs %s (%d bytes)", say.Size(info.Size), info.Size, m.Disk, say.Size(need), need), event.DiskTooSmall
	}
	return "", event.DiskNotAdopted
}

// takeIn puts a disk in the place of a member, and says why when it does not work.
func (s *Service) takeIn(r *running, m array.MemberState, src disks.Source, f disks.Found) string {
	if !s.unasked() {
		return ""
	}
	defer s.admin.Unlock()
	d, err := s.seen.Open(src)
	if err != nil {
		return "it cannot be opened: " + err.Error()
	}
	if why := s.doubt(d); why != "" {
		_ = d.Close()
		return why
	}
	if err := quietly([]disk.Disk{d}, func() error { return r.StandIn(m.Slot, d) }); err != nil {
		_ = d.Close()
		return "it cannot take the place of " + m.Disk.String() + ": " + err.Error()
	}
	s.event(event.Event{Kind: event.DiskAdopted, Array: r.Name(), Disk: f.Info.Identity.String(), Detail: fmt.Sprintf("it takes the place of %s, which was in the same bay", m.Disk)})
	return ""
}

// letGoMissing closes the devices of members that are gone, so that the kernel can give their names again.
func (s *Service) letGoMissing() {
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			if m.Condition == record.Missing && m.Disk.OnDevice() {
				r.LetGo(m.Slot)
			}
		}
	}
}

// takeReadings notes what changes slowly, for the history.
func (s *Service) takeReadings() {
	now := s.opt.Now()
	var out []history.Reading
	for _, r := range s.running() {
		if r.Failure() != nil {
			continue
		}
		out = append(out, history.Reading{Time: now, Of: r.Name(), Name: "used_bytes", Value: float64(r.Used())})
		for _, m := range seated(r.MemberStates()) {
			of := m.Disk.Name()
			out = append(out, history.Reading{Time: now, Of: of, Name: "errors", Value: float64(m.Errors.Total())})
			if h, err := r.Health(m.Slot); err == nil && h.Temperature != nil {
				out = append(out, history.Reading{Time: now, Of: of, Name: "temperature", Value: *h.Temperature})
			}
		}
	}
	s.chron.Readings(out)
}
