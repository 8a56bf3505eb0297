package service

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"nidalo/core/advice"
	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/history"
	"nidalo/internal/service/chronicle"
)

// A home that cannot be written, most often because its file system is full. Arrays do not need it; what happens is kept in memory meanwhile.

// trouble is why something has not been possible since a moment.
type trouble struct {
	why   error
	since time.Time
}

// homeTrouble is what cannot be written into the home; nil: nothing.
func (s *Service) homeTrouble() *advice.Home {
	u, t := s.chron.Unwritten(), s.unnoted.Load()
	if u.Why == nil && t == nil {
		return nil
	}
	out := &advice.Home{Path: s.opt.Home, Notes: t != nil, Events: len(u.Events) + len(u.Tasks), Lost: u.Lost, Since: u.Since}
	why := u.Why
	if t != nil {
		why = t.why
		if u.Why == nil || t.since.Before(u.Since) {
			out.Since = t.since
		}
	}
	out.Why = inWords(why)
	return out
}

// minds tells when the home cannot be written, and when it can again.
func (s *Service) minds() {
	s.writeAgain()
	s.chron.CatchUp()
	h := s.homeTrouble()
	switch {
	case h != nil:
		s.once("home", "", "not written", event.Event{Kind: event.HomeNotWritten, Detail: fmt.Sprintf("%s: %s", h.Path, h.Why)})
		s.lost = h.Lost
	case s.chron.Told("home/"):
		e := event.Event{Kind: event.HomeWritten}
		if s.lost > 0 {
			e.Detail = say.Count(s.lost, "event or task", "events and tasks") + " of the time before are not in the history: there were too many"
		}
		s.once("home", "", "written", e)
		s.lost = 0
	}
}

// forgotten says, at the end, what could not be written and is forgotten now; nil: nothing. A service only logs it: what it was to do is done.
func (s *Service) forgotten() error {
	h := s.homeTrouble()
	if h == nil || s.opt.Looks || !h.Notes && h.Events+h.Lost == 0 {
		return nil
	}
	if s.opt.Stays {
		s.opt.Log.Error("what could not be written into the home is forgotten", "home", h.Path, "reason", h.Why, "notes", h.Notes, "events", h.Events+h.Lost)
		return nil
	}
	return &control.Error{What: fmt.Sprintf("what was done is not noted: nothing can be written to %s: %s", h.Path, h.Why),
		Hints: []string{"make room there, or mend its file system; nidalo status shows how things are"}}
}

// withUnwritten adds to an answer from the history what was not in it before it was asked.
func withUnwritten(reply *control.HistoryReply, u chronicle.Unwritten, f history.Filter) *control.HistoryReply {
	if u.Why == nil {
		return reply
	}
	reply.Unwritten = inWords(u.Why)
	for _, e := range u.Events {
		written := func(o event.Event) bool {
			return o.Time.Equal(e.Time) && o.Kind == e.Kind && o.Array == e.Array && o.Disk == e.Disk
		}
		if f.Event(e) && !slices.ContainsFunc(reply.Events, written) {
			reply.Events = append(reply.Events, e)
		}
	}
	for _, t := range u.Tasks {
		written := func(o history.Task) bool {
			return o.Ended.Equal(t.Ended) && o.Kind == t.Kind && o.Array == t.Array && o.Disk == t.Disk
		}
		if f.Task(t) && !slices.ContainsFunc(reply.Tasks, written) {
			reply.Tasks = append(reply.Tasks, t)
		}
	}
	most := cmp.Or(f.Limit, history.Usual)
	reply.Events = slices.Delete(reply.Events, 0, max(0, len(reply.Events)-most))
	reply.Tasks = slices.Delete(reply.Tasks, 0, max(0, len(reply.Tasks)-most))
	return reply
}

// inWords is why something cannot be written, as people say it.
func inWords(err error) string {
	if history.Full(err) {
		return "the file system is full"
	}
	return err.Error()
}
