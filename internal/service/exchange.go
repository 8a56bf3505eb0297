package service

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/exchange"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
)

// Exchanges of disks: core/exchange says what is to be done, and this does it.

// exchangesKept is how many exchanges that are over are remembered.
const exchangesKept = 50

// Exchanges lists all exchanges, those under way and the last that are over.
func (s *Service) Exchanges() ([]exchange.Exchange, error) { return s.exchanges(), nil }

func (s *Service) exchanges() []exchange.Exchange {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]exchange.Exchange{}, s.mem.Exchanges...)
}

// Exchange begins an exchange, or goes on with it, or ends it early.
func (s *Service) Exchange(req control.ExchangeRequest) (*exchange.Exchange, error) {
	s.exchangeTurn.Lock()
	id, slot, err := s.changeExchange(req)
	s.exchangeTurn.Unlock()
	if err != nil {
		return nil, err
	}
	s.goExchanges()
	all := s.exchanges()
	for i := len(all) - 1; i >= 0; i-- {
		if all[i].Array == id && all[i].Slot == slot {
			return &all[i], nil
		}
	}
	return nil, &control.Error{What: "the exchange is not known any more"}
}

func (s *Service) changeExchange(req control.ExchangeRequest) (id string, slot int, err error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	for _, x := range s.exchanges() {
		if x.Step.Over() || x.Name != req.Array && x.Array != req.Array || !x.Old.Matches(req.Disk) && !x.New.Matches(req.Disk) && strconv.Itoa(x.Slot) != req.Disk {
			continue
		}
		if req.Stop {
			x.Step, x.Ended, x.Result, x.Says = exchange.Left, s.opt.Now(), "ended early by the administrator", ""
			if err := s.change(keepExchange(x)); err != nil {
				return "", 0, err
			}
			s.lightFor(x.Old, false)
			s.event(event.Event{Kind: event.ExchangeLeft, Array: x.Name, Disk: x.Old.String(), Detail: x.Result})
			return x.Array, x.Slot, nil
		}
		return x.Array, x.Slot, nil // it goes on
	}
	r, err := s.find(req.Array)
	if err != nil {
		return "", 0, err
	}
	if slot, err = s.slot(r, req.Disk); err != nil {
		return "", 0, err
	}
	return r.ID().String(), slot, s.mayExchange(req, r, slot)
}

// mayExchange begins an exchange if that may be.
func (s *Service) mayExchange(req control.ExchangeRequest, r *running, slot int) error {
	m := r.member(slot)
	switch {
	case req.Stop:
		return &control.Error{What: fmt.Sprintf("no exchange of %s is under way", m.Disk), Hints: []string{"nidalo exchange   lists those that are"}}
	case !s.opt.Stays:
		return &control.Error{What: "an exchange is followed by a service, and none is running here", Hints: []string{"nidalo serve   runs it"}}
	case !r.Layout().Redundant():
		return &control.Error{What: fmt.Sprintf("level %s has no redundancy: what is on %s cannot be rebuilt", r.Layout().Level, m.Disk),
			Hints: []string{"nidalo retire " + r.Name() + " " + strconv.Itoa(slot) + "   copies it onto another disk"}}
	case partNumber(m.Disk) > 0:
		whole := say.Quote(state.Physical(m.Disk.Serial))
		return &control.Error{What: fmt.Sprintf("%s is a partition: the disk is exchanged with everything that arrays have on it", m.Disk),
			Hints: []string{"nidalo may-pull " + whole + "   says what it means", "nidalo replace " + whole + " DISK   puts another disk in its place"}}
	case m.Condition == record.Rebuilding:
		return &control.Error{What: fmt.Sprintf("%s is being rebuilt", m.Disk), Hints: []string{"nidalo status " + r.Name() + "   shows how far it is"}}
	case m.Condition.TakesPart() && r.WouldFail(slot):
		return &control.Error{What: fmt.Sprintf("array %q would fail without %s: its margin is 0", r.Name(), m.Disk), Hints: []string{"nidalo next   shows how it gets its margin back; only then can this disk leave"}}
	case m.Condition.TakesPart() && !req.Sure:
		return s.exchangeCosts(r, slot)
	}
	return s.beginExchange(req, r, slot)
}

// exchangeCosts says what it means to exchange a disk that works.
func (s *Service) exchangeCosts(r *running, slot int) error {
	states := r.MemberStates()
	m := states[slot]
	before, _ := r.Margin()
	after, _ := r.Layout().Margin(func(other int) bool { return other == slot || !states[other].Condition.Counts() })
	what := fmt.Sprintf("%s works: from when it leaves until the new disk is rebuilt the margin of array %q is %d instead of %d", m.Disk, r.Name(), after, before)
	if after == 0 {
		what += "; is the backup fresh?"
	} else {
		what += "."
	}
	out := &control.Error{Fatal: true, What: what, Hints: []string{"-yes begins it"}}
	if snap, err := s.snapshot(); err == nil {
		if fit := advice.Fit(snap.Disks, r.NeedSize(slot), "", m.Disk.OnDevice()); fit != nil {
			out.What += fmt.Sprintf(" A blank disk that fits is here: nidalo retire %s %s %s copies it instead, and the margin does not drop", r.Name(), say.Argument(m.Disk), say.Argument(fit.Identity))
		}
	}
	return out
}

func (s *Service) beginExchange(req control.ExchangeRequest, r *running, slot int) error {
	m := r.member(slot)
	x := exchange.Exchange{Array: r.ID().String(), Name: r.Name(), Slot: slot, Old: m.Disk, Step: exchange.TakeOut, First: req.First, Quick: req.Vet, Skip: req.NoCheck, Bad: req.AlthoughBad,
		Started: s.opt.Now()}
	if !m.Condition.TakesPart() {
		x.Exposed = m.Since
	} else if req.First {
		x.Step = exchange.CheckFirst
	}
	if m.Disk.Bay == "" {
		order, known := s.seen.Seen()
		for _, src := range order {
			x.Known = append(x.Known, known[src].Info.Name())
		}
	}
	if err := s.change(keepExchange(x)); err != nil {
		return err
	}
	s.event(event.Event{Kind: event.ExchangeStarted, Array: r.Name(), Disk: m.Disk.String()})
	if !m.Condition.TakesPart() {
		s.lightFor(m.Disk, true)
	}
	return nil
}

// keepExchange has the memory tell how far an exchange is.
func keepExchange(x exchange.Exchange) func(*memory) {
	return func(m *memory) {
		i := slices.IndexFunc(m.Exchanges, func(o exchange.Exchange) bool {
			return o.Array == x.Array && o.Slot == x.Slot && o.Started.Equal(x.Started)
		})
		if i >= 0 {
			m.Exchanges[i] = x
			return
		}
		if len(m.Exchanges) >= exchangesKept {
			over := slices.IndexFunc(m.Exchanges, func(o exchange.Exchange) bool { return o.Step.Over() })
			m.Exchanges = slices.Delete(m.Exchanges, max(over, 0), max(over, 0)+1)
		}
		m.Exchanges = append(m.Exchanges, x)
	}
}

// spareWaits is how long spares leave an exchange alone; a longer one was left.
const spareWaits = time.Hour

// exchanging says whether an exchange is under way of the member in a slot: then no spare steps in, as long as the array has a margin and
// not for too long.
func (s *Service) exchanging(r *running, slot int) bool {
	if certain, _ := r.Margin(); certain < 1 {
		return false
	}
	return slices.ContainsFunc(s.exchanges(), func(x exchange.Exchange) bool {
		return x.Array == r.ID().String() && x.Slot == slot && !x.Step.Over() && (x.Exposed.IsZero() || s.opt.Now().Sub(x.Exposed) < spareWaits)
	})
}

// goExchanges does what the exchanges under way ask for.
func (s *Service) goExchanges() {
	s.exchangeTurn.Lock()
	defer s.exchangeTurn.Unlock()
	for _, x := range s.exchanges() {
		if !x.Step.Over() {
			s.goExchange(x)
		}
	}
}

// actionsAtOnce bounds what one exchange does in one round.
const actionsAtOnce = 4

// goExchange takes as many steps as can be taken, and writes down where it is then. A service that dies in between sees by the array how far
// it was.
func (s *Service) goExchange(x exchange.Exchange) {
	before := x
	for range actionsAtOnce {
		action := x.Next(s.sightOf(x))
		if action == exchange.Nothing {
			break
		}
		if why := s.act(&x, action); why != nil {
			x.Says = why.Error()
			break
		}
	}
	if x.Step == before.Step && x.Says == before.Says && x.Ended.Equal(before.Ended) && x.Exposed.Equal(before.Exposed) {
		return
	}
	s.note(keepExchange(x))
}

// sightOf is what an exchange looks at.
func (s *Service) sightOf(x exchange.Exchange) exchange.Sight {
	see := exchange.Sight{Now: s.opt.Now()}
	var r *running
	for _, o := range s.running() {
		if o.ID().String() == x.Array && o.Failure() == nil {
			r = o
		}
	}
	if r == nil || x.Slot >= len(r.MemberStates()) {
		return see
	}
	m := r.member(x.Slot)
	see.Array, see.Condition, see.Disk, see.Reason, see.Need = true, m.Condition, m.Disk, plainReason(m), r.NeedSize(x.Slot)
	order, known := s.seen.Seen()
	for _, src := range order {
		d := s.present(known[src])
		if d.State == state.DiskEmpty {
			continue
		}
		see.Disks = append(see.Disks, exchange.Disk{Identity: d.Identity, State: d.State, Size: d.Size, Holds: d.Holds, Bad: d.Bad})
	}
	if v, ok := s.vetting(x.New.Name()); ok && x.New.Path != "" && !v.Started.Before(x.Started) {
		see.Vetted = verdict(!v.Ended.IsZero(), v.Errors == 0 && len(v.Failing) == 0 && v.State == state.TaskDone)
	}
	for _, t := range r.TaskStates() {
		if t.Ended.IsZero() && t.Slot == x.Slot && t.State != state.TaskRunning {
			see.Stopped = fmt.Sprintf("the %s is %s", t.Kind.Noun(), t.State)
			if t.Waits != "" {
				see.Stopped = "the " + t.Kind.Noun() + " " + t.Waits
			}
		}
	}
	s.lookAtCheck(x, r, &see)
	return see
}

func verdict(ended, good bool) exchange.Verdict {
	switch {
	case !ended:
		return exchange.Pending
	case good:
		return exchange.Passed
	}
	return exchange.Refused
}

// lookAtCheck finds how the check of the present step is.
func (s *Service) lookAtCheck(x exchange.Exchange, r *running, see *exchange.Sight) {
	since := x.Started
	if x.Step == exchange.Check || x.Step == exchange.Rebuild {
		since = x.Rebuilt
	}
	var found *task.State
	for _, t := range r.TaskStates() {
		if t.Kind == state.TaskCheck && (t.Ended.IsZero() || !t.Started.Before(since)) {
			found = &t
		}
	}
	c := r.LastCheck()
	switch {
	case found != nil && found.Ended.IsZero():
		see.Checked = exchange.Pending
	case c.Kind == record.Check && !c.Ended.IsZero() && !c.Ended.Before(since) && !since.IsZero():
		see.Wrong = c.Mismatches
		see.Checked = verdict(true, c.Unrepairable == 0 && c.Mismatches <= c.Repaired)
		if see.Read = r.Used(); found != nil {
			see.Read = found.Done
		}
	}
}

// act does what an exchange asks for.
func (s *Service) act(x *exchange.Exchange, what exchange.Action) error {
	if what == exchange.CloseDown {
		s.lightFor(x.Old, false)
		kind := event.ExchangeDone
		if x.Step == exchange.Left {
			kind = event.ExchangeLeft
		}
		s.event(event.Event{Kind: kind, Array: x.Name, Disk: x.Old.String(), Detail: x.Result})
		return nil
	}
	slot := strconv.Itoa(x.Slot)
	switch what {
	case exchange.DeclareFail:
		if err := s.Fail(control.FailRequest{Array: x.Name, Disk: slot, Sure: true}); err != nil {
			return err
		}
		x.Exposed = s.opt.Now()
		s.lightFor(x.Old, true)
	case exchange.BeginVet:
		_, err := s.Vet(control.VetRequest{Disk: x.New.Name(), Quick: true, Again: true})
		return err
	case exchange.PutNew:
		if _, err := s.Replace(control.ReplaceRequest{Array: x.Name, Old: slot, New: x.New.Name(), AlthoughBad: x.Bad}); err != nil {
			return err
		}
		x.In, x.Step = s.opt.Now(), exchange.Rebuild
	case exchange.BeginCheck:
		return s.Check(control.CheckRequest{Array: x.Name, Repair: true})
	}
	return nil
}

// lightFor lights the bay of a disk, or has it dark.
func (s *Service) lightFor(id state.Identity, on bool) {
	order, known := s.seen.Seen()
	for _, src := range order {
		if d := known[src].Info; id.Bay != "" && d.Bay == id.Bay || id.Bay == "" && d.Name() == id.Name() {
			if err := s.light(d, on); err != nil {
				s.opt.Log.Info("the light of a bay cannot be switched", "bay", id.Bay, "reason", err)
			}
		}
	}
}
