package service

import (
	"cmp"
	"slices"
	"time"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/rounds"
	"nidalo/core/state"
	"nidalo/internal/control"
)

// Rounds: checks of arrays and readings of spares that nobody asked for, in their hours, one at a time.

// roundAt is what is remembered of a round from one start of the service to the next.
type roundAt struct {
	Begun time.Time `json:"begun"`          // zero: it is not under way, or an administrator took it over
	Held  bool      `json:"held,omitempty"` // until its hours come again
	Pace  string    `json:"pace,omitempty"` // in force for it
	Since time.Time `json:"since"`          // of a spare: when it was first seen as one
	After time.Time `json:"after"`          // it was cut short: not again before
	Last  time.Time `json:"last"`           // of a check: when one was last done to its end, which the array's record forgets with the next
}

// firstRound is how soon something that is new, or another than it was, is looked through: in the night after.
const firstRound = 12 * time.Hour

// round is one thing that is done regularly.
type round struct {
	id    string // of the array, or name of the disk
	name  string // for people
	rule  rounds.Rule
	array *running // or nil: a spare
	last  *time.Time
	check *control.CheckStatus // what the last check found
	found string               // what the last reading found
	bad   bool                 // of what was found, something is not repaired
	due   time.Time
	state state.TaskState // of the work, whoever began it; empty: there is none
	whole bool            // what ended last came to its end
	why   string          // why it does not begin although it is due, in words
}

// rules are the rules for regular work of the configuration.
func (s *Service) rules() []rounds.Rule {
	rules, err := s.config().rules()
	if err != nil {
		return nil // it was checked when it was read
	}
	return rules
}

// allRounds is everything that is done regularly, arrays first.
func (s *Service) allRounds() (out []round) {
	rules := s.rules()
	for _, r := range s.running() {
		out = append(out, s.roundOf(r, rules))
	}
	if len(s.spares()) == 0 {
		return out
	}
	order, known := s.seen.Seen() // looking anew each second would keep disks from sleeping
	for _, src := range order {
		p, ok := s.spareOf(known[src].Info)
		if !ok {
			continue
		}
		if d := s.present(known[src]); d.State == state.DiskSpare {
			out = append(out, s.roundOfSpare(d, p, rules))
		}
	}
	return out
}

// roundOf is the regular check of an array.
func (s *Service) roundOf(r *running, rules []rounds.Rule) round {
	rec, c := r.Record(), r.LastCheck()
	out := round{id: rec.Array.String(), name: rec.Name, array: r, rule: rounds.For(rules, rounds.Check, rec.Name)}
	last := rec.Created
	if at := s.roundAt(out.id).Last; at.After(last) {
		last, out.last = at, &at
	}
	if c.Kind == record.Check && !c.Ended.IsZero() {
		out.whole = c.Cursor >= r.Layout().Stripes()
		if out.whole {
			last, out.last = c.Ended, &c.Ended
			out.check, out.bad = checkStatus(c), c.Mismatches > c.Repaired
		}
	}
	out.due = out.rule.Due(last)
	for _, m := range r.MemberStates() {
		soon := m.Since.Add(firstRound)
		if m.Since.After(last) && m.Since.Sub(rec.Created) > time.Second && out.rule.Every > 0 && soon.Before(out.due) {
			out.due = soon
		}
	}
	for _, t := range r.TaskStates() {
		if !t.Ended.IsZero() {
			continue
		}
		if t.Kind == state.TaskCheck {
			out.state = t.State
		} else {
			out.why = "the " + t.Kind.Noun() + " comes first"
		}
	}
	switch {
	case r.Failure() != nil:
		out.why = "the array has failed"
	case r.Condition() != state.Healthy:
		out.why = cmp.Or(out.why, "the array has not its full margin")
	case r.Used() == 0:
		out.why = cmp.Or(out.why, "nothing is written yet")
	}
	return out
}

// roundOfSpare is the regular reading of a spare.
func (s *Service) roundOfSpare(d control.DiskInfo, p Spare, rules []rounds.Rule) round {
	out := round{id: d.Name(), name: d.Identity.String(), rule: rounds.For(rules, rounds.Read, p.Arrays...)}
	out.due = s.roundAt(out.id).Since.Add(firstRound)
	if t, known := s.surfaceOf(out.id); known && t.Size == d.Size {
		if t.Ended.IsZero() {
			out.state = state.TaskPaused // also one that could not be resumed after a start of the service
			if s.surfaceRuns.Of(out.id) != nil {
				out.state = t.State
			}
		} else if out.whole = t.State == state.TaskDone; out.whole {
			out.last, out.found, out.bad = &t.Ended, t.Result, t.Bad > 0
			out.due = out.rule.Due(t.Ended)
		}
	}
	if out.rule.Every == 0 {
		out.due = time.Time{}
	}
	if s.roundAt(out.id).Since.IsZero() {
		out.due = time.Time{} // goRounds has yet to see it
	}
	return out
}

func (s *Service) roundAt(id string) roundAt {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mem.Rounds[id]
}

// noteRound remembers a round; the zero value is forgotten.
func (s *Service) noteRound(id string, at roundAt) {
	s.note(func(m *memory) {
		if m.Rounds == nil {
			m.Rounds = map[string]roundAt{}
		}
		if m.Rounds[id] = at; at == (roundAt{}) {
			delete(m.Rounds, id)
		}
	})
}

// goRounds begins what is due, holds what its hours are over for, and tells of what is late.
func (s *Service) goRounds() {
	now, busy := s.opt.Now(), false
	all := s.allRounds()
	for _, r := range all {
		at := s.roundAt(r.id)
		switch {
		case r.array == nil && at.Since.IsZero():
			at.Since = now
			s.noteRound(r.id, at)
		case r.array != nil && r.last != nil && !at.Last.Equal(*r.last):
			at.Last = *r.last
			s.noteRound(r.id, at)
		}
		if !at.Begun.IsZero() {
			busy = s.attend(r, at, now) || busy
		}
		s.tellLate(r, now)
	}
	if busy {
		return
	}
	all = slices.DeleteFunc(all, func(r round) bool {
		return r.state != "" || r.why != "" || r.due.IsZero() || r.due.After(now) || !r.rule.Window.Open(now) || s.roundAt(r.id).After.After(now) || s.cutShort(r, now)
	})
	if len(all) > 0 {
		s.beginRound(slices.MinFunc(all, func(x, y round) int { return x.due.Compare(y.due) }), now)
	}
}

// cutShort says whether a check was ended early in the hours that are open now: somebody wanted none.
func (s *Service) cutShort(r round, now time.Time) bool {
	if r.array == nil || r.whole {
		return false
	}
	c := r.array.LastCheck()
	return !c.Ended.IsZero() && r.rule.Window.End(c.Ended).After(now)
}

// attend sees to a round that was begun. It is true while that works.
func (s *Service) attend(r round, at roundAt, now time.Time) bool {
	open := r.rule.Window.Open(now)
	switch {
	case r.state == "":
		s.noteRound(r.id, roundAt{Since: at.Since, Last: at.Last, After: after(r, now)})
		return false
	case !open && !at.Held:
		at.Held = true
		s.noteRound(r.id, at)
		s.holdRound(r, true)
	case open && r.why == "" && (at.Held || r.array == nil && r.state == state.TaskPaused):
		if !s.holdRound(r, false) {
			return false // it is tried again; meanwhile others have their turn
		}
		at.Held = false
		s.noteRound(r.id, at)
	case at.Held && r.array != nil && r.state == state.TaskRunning: // it was resumed by a start of the service
		_ = r.array.Steer(state.TaskCheck, -1, state.TaskPaused) // which is no news
	}
	return open && !at.Held
}

// after is until when a round that was begun and is over is not begun anew.
func after(r round, now time.Time) time.Time {
	if !r.whole && r.rule.Window.Open(now) {
		return r.rule.Window.End(now)
	}
	return time.Time{}
}

// beginRound begins a check or the reading of a spare.
func (s *Service) beginRound(r round, now time.Time) {
	if !s.unasked() {
		return
	}
	defer s.admin.Unlock()
	at := s.roundAt(r.id)
	at.Begun, at.Held, at.Pace, at.After = now, false, r.rule.Pace, time.Time{}
	s.noteRound(r.id, at)
	s.applyPaces()
	var err error
	if r.array != nil {
		err = r.array.StartCheck(r.rule.Repair)
	} else {
		_, err = s.surface(control.SurfaceRequest{Disk: r.id})
	}
	if err != nil {
		s.opt.Log.Warn("regular work could not begin", "of", r.name, "reason", err)
		s.noteRound(r.id, roundAt{Since: at.Since, Last: at.Last, After: r.rule.Window.End(now)})
	}
}

// holdRound holds what is under way, or lets it go on, and says whether that worked.
func (s *Service) holdRound(r round, hold bool) bool {
	if !s.unasked() {
		return false
	}
	defer s.admin.Unlock()
	to, told := state.TaskRunning, event.Continued
	if hold {
		to, told = state.TaskPaused, state.TaskPaused
	}
	detail := "its hours are over; it goes on in the next"
	if !hold {
		detail = "its hours have come"
	}
	switch run := s.surfaceRuns.Of(r.id); {
	case r.array != nil:
		if r.array.Steer(state.TaskCheck, -1, to) != nil {
			return false
		}
		s.event(event.Event{Kind: event.OfTask(state.TaskCheck, told), Array: r.name, Detail: detail})
	case hold && run != nil:
		run.End()
		s.event(event.Event{Kind: event.OfTask(state.TaskSurface, told), Disk: r.name, Detail: detail})
	case !hold && run == nil:
		if _, err := s.surface(control.SurfaceRequest{Disk: r.id}); err != nil {
			s.opt.Log.Info("the reading of a spare cannot go on yet", "disk", r.name, "reason", err)
			return false
		}
	}
	return true
}

// letRoundGo leaves a round to the administrator, who has just said what becomes of it.
func (s *Service) letRoundGo(id string) {
	if at := s.roundAt(id); !at.Begun.IsZero() {
		s.noteRound(id, roundAt{Since: at.Since, Last: at.Last})
	}
}

// tellLate tells of regular work that was not done for far too long.
func (s *Service) tellLate(r round, now time.Time) {
	kind, e := "round", event.Event{Kind: event.RoundLate, Array: r.name}
	if r.array == nil {
		e = event.Event{Kind: event.RoundLate, Disk: r.name}
	}
	e.Detail = r.lateWhy(now)
	if e.Detail == "" || s.chron.Told(kind+"/"+r.id+r.due.String()) {
		return
	}
	s.once(kind, r.id+r.due.String(), "late", e)
}

// late says whether a round is overdue.
func (r round) late(now time.Time) bool {
	return !r.due.IsZero() && r.state == "" && now.After(r.due.Add(r.rule.Grace())) && (r.array == nil || r.array.Failure() == nil && r.array.Used() > 0)
}

// lateWhy is what is wrong with a round that is overdue, in words; empty: it is not.
func (r round) lateWhy(now time.Time) string {
	if !r.late(now) {
		return ""
	}
	what := "the reading of this spare"
	if r.array != nil {
		what = "the check of this array"
	}
	return what + " was due on " + r.due.Local().Format("Jan 2") + cmp.Or(prefixed("; ", r.why), ", and is not done")
}

func prefixed(with, text string) string {
	if text == "" {
		return ""
	}
	return with + text
}

// next is when a round begins, or goes on; zero: never.
func (r round) next(now time.Time, at roundAt) time.Time {
	if r.due.IsZero() {
		return r.due
	}
	from := r.due
	for _, t := range []time.Time{now, at.After} {
		if t.After(from) {
			from = t
		}
	}
	return r.rule.Window.Next(from.In(now.Location()))
}

// nextCheck is when the next check of an array begins by itself; nil: none does, or one is under way.
func (s *Service) nextCheck(r *running) *time.Time {
	if !s.opt.Stays || r.Failure() != nil {
		return nil
	}
	of := s.roundOf(r, s.rules())
	next := of.next(s.opt.Now(), s.roundAt(of.id))
	if next.IsZero() || of.state != "" || of.why != "" {
		return nil
	}
	return &next
}

// Rounds lists what is done regularly.
func (s *Service) Rounds() ([]control.Round, error) {
	now, out := s.opt.Now(), []control.Round{}
	for _, r := range s.allRounds() {
		at := s.roundAt(r.id)
		c := control.Round{What: r.rule.What, Of: r.name, Every: int(r.rule.Every), Hours: r.rule.Hours, Weekdays: r.rule.On, Last: r.last, Check: r.check, Found: r.found, Bad: r.bad, Waits: r.why, Late: r.late(now)}
		switch next := r.next(now, at); {
		case r.state != "" && !at.Begun.IsZero() && at.Held:
			c.State, c.Next = state.TaskPaused, &next
		case r.state != "":
			c.State = r.state
		case !next.IsZero() && s.opt.Stays:
			c.Next = &next
		}
		out = append(out, c)
	}
	return out, nil
}
