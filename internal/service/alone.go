package service

import (
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/google/uuid"

	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array/roster"
	"nidalo/internal/service/disks"
)

// Arrays with disks that other hosts lend, where no etcd says who has them. A lender says which host has a session on a disk. And whoever has such an
// array in service writes its records again and again, without any change but their number: the beat. An array that was not stopped in order, and whose
// records another host wrote last, is started when its beat has not moved for a while.

const (
	beatEvery = 3 * time.Second
	watchBeat = 3 * beatEvery
	answerAge = 3 * time.Second // what a lender said last may be as old as that
)

// heard is what was seen of the beat of an array that may be in use.
type heard struct {
	beat  map[uuid.UUID]uint64 // the number of the record of each member
	since time.Time            // when it moved last, or was seen first
}

// errElsewhere is why an array is not started that another host seems to have.
type errElsewhere struct{ why string }

func (e errElsewhere) Error() string { return e.why }

// errWatched is why an array is not in service yet.
type errWatched struct{ until time.Time }

func (e errWatched) Error() string {
	return fmt.Sprintf("another host had it last, and did not stop it: its records are watched until %s, and it starts if nobody writes them", e.until.Local().Format("15:04:05"))
}

// alone fails with errElsewhere when another host has an array, or with errWatched when that is not known yet. It does not wait.
func (s *Service) alone(id string, sources []disks.Source) error {
	var lent []disks.Source
	for _, src := range sources {
		if _, far := src.Far(); far {
			lent = append(lent, src)
		}
	}
	if len(lent) == 0 || s.opt.Looks || s.shared(sources) {
		return nil
	}
	for _, src := range lent {
		at, _ := src.Far()
		for _, user := range s.far.Users(at) {
			return errElsewhere{fmt.Sprintf("%s: %s", user, s.identityAt(src))}
		}
	}
	found := s.peeked(lent, id)
	defer letGo(found)
	beat, open := map[uuid.UUID]uint64{}, false
	for _, c := range found {
		beat[c.Record.Member] = c.Record.Generation
		open = open || !c.Record.Clean && c.Record.Writer != record.WriterOf(s.hostName())
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !open {
		delete(s.beats, id)
		return nil
	}
	was, known := s.beats[id]
	switch {
	case !known:
		was = heard{beat, time.Now()}
		s.beats[id] = was
	case !maps.Equal(was.beat, beat):
		s.beats[id] = heard{beat, time.Now()}
		return errElsewhere{"another host has it: that one writes its records"}
	case time.Since(was.since) >= watchBeat:
		return nil
	}
	return errWatched{was.since.Add(watchBeat)}
}

// identityAt names the disk in a source, as it was seen last.
func (s *Service) identityAt(src disks.Source) state.Identity {
	f, _ := s.seen.At(src)
	return f.Info.Identity
}

// letGo closes the disks of candidates.
func letGo(found []roster.Candidate) {
	for _, c := range found {
		_ = c.Disk.Close()
	}
}

// becomeAlone is alone that waits until it is known.
func (s *Service) becomeAlone(id string, sources []disks.Source) error {
	told, began := false, time.Now()
	for {
		err := s.alone(id, sources)
		switch {
		case err == nil:
			return nil
		case errors.As(err, &errElsewhere{}):
			if time.Since(began) > answerAge {
				return err
			}
		case !told:
			told = true
			s.opt.Log.Info("the records of an array are watched", "array", id, "reason", err)
		}
		select {
		case <-s.done:
			return err
		case <-time.After(beatEvery / 6):
		}
	}
}

// aloneAtStart is what is known when the service begins: one that stays does not wait.
func (s *Service) aloneAtStart(id string, sources []disks.Source) error {
	if s.opt.Stays {
		return s.alone(id, sources)
	}
	return s.becomeAlone(id, sources)
}

// beat writes the records of arrays with lent disks again, where no etcd says who has them.
func (s *Service) beat() {
	for _, r := range s.running() {
		if s.owning != nil || time.Since(r.beaten) < beatEvery || !r.beating.CompareAndSwap(false, true) {
			continue
		}
		r.beaten = time.Now()
		go func() {
			defer r.beating.Store(false)
			_ = r.Beat() // what went wrong was told as a fault of a member, or of the array
		}()
	}
}
