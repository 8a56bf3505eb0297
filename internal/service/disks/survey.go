// Package disks surveys the disks of a host: which there are, what they are, and what they carry. What was seen counts as read this
// moment only for a little while, and disks that come, go or change are noticed.
package disks

import (
	"cmp"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/lab"
	"nidalo/internal/remote"
	"nidalo/internal/survey"
)

const (
	// Every is how soon a disk that appears, moves or vanishes is noticed.
	Every = time.Second
	// Patience is how long one disk may keep a survey waiting.
	Patience = 2 * time.Second
	// fresh is how long what was read of a disk outside of all arrays counts as read this moment.
	fresh = 500 * time.Millisecond
	// hungRest is the same of a disk that hangs.
	hungRest = 10 * time.Second
	// atOnce is how many disks are looked at at the same time.
	atOnce = 16
)

// Host is what the survey needs of the service.
type Host struct {
	Lab     *lab.Lab
	List    string                            // the file of the disks to look at that are neither the lab's nor devices: an absolute path a line
	Stays   bool                              // the service stays, so the kernel tells of changes
	Devices func() bool                       // the devices of the host are looked at
	Paths   func() (paths, patterns []string) // of the configuration
	Serves  func(state.Identity) bool         // a disk is a live member of an array in service
	Log     *slog.Logger
	Once    func(of, state string, e event.Event) // tells when a state changes
	Far     *remote.Hosts                         // that lend to this one
	Token   func(Source) uint64                   // with which a disk of another host is opened
	Hosts   func() []remote.Address               // of those, the ones that are asked for all their disks
	Lent    func(state.Identity) string           // to which hosts a disk of this one is lent
	Shared  func(state.Identity) bool             // other hosts are attached to a disk as well
	// Overtaken is told, before it is refused, of a write that a disk refuses because another host has it.
	Overtaken func(path string)
}

// Source is a place where a disk may be.
type Source struct {
	Bay  string // of the lab
	Path string // or the address of a disk that another host lends
}

// Far is the address of a disk that another host lends.
func (src Source) Far() (remote.Address, bool) {
	if !remote.Is(src.Path) {
		return remote.Address{}, false
	}
	a, err := remote.ParseAddress(src.Path)
	return a, err == nil
}

func (src Source) String() string { return cmp.Or(src.Bay, src.Path) }

// Found is what was last seen in a source. It says nothing of arrays in service, which change by themselves.
type Found struct {
	Mark    string // changes when another disk is there; empty: there is none
	Info    control.DiskInfo
	Record  *record.Record // of the member that it carries
	at      time.Time
	hung    bool
	starved bool // it could not be looked at, for want of descriptors
}

// holds is how long what was found counts as read this moment.
func (f Found) holds() time.Duration {
	if f.hung {
		return hungRest
	}
	return fresh
}

// Survey is the view of all sources, kept up to date by Look.
type Survey struct {
	host    Host
	devices devices
	looking sync.Mutex  // one look at a time
	short   atomic.Bool // the last look ran out of descriptors
	mu      sync.Mutex
	order   []Source
	known   map[Source]Found // is replaced, never changed
	changed []Source         // whose disk is another than before, until Changed was asked
	retry   []Source         // to be looked at once more
}

// New makes a survey that has seen nothing yet.
func New(host Host) *Survey {
	if host.Shared == nil {
		host.Shared = func(state.Identity) bool { return false }
	}
	return &Survey{host: host}
}

// Seen is all that was found, in order.
func (s *Survey) Seen() ([]Source, map[Source]Found) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.order, s.known
}

// At is what was found in a source.
func (s *Survey) At(src Source) (Found, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, ok := s.known[src]
	return f, ok
}

// Changed lists the sources whose disk is another than the last time.
func (s *Survey) Changed() []Source {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.changed
	s.changed = nil
	return out
}

// Again has a source looked at once more, see Retries.
func (s *Survey) Again(src Source) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !slices.Contains(s.retry, src) {
		s.retry = append(s.retry, src)
	}
}

// Retries lists the sources that were given to Again since the last time.
func (s *Survey) Retries() []Source {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.retry
	s.retry = nil
	return out
}

// Look brings the survey up to date: disks that changed are read, and with anew all that are not members of an array in service as
// well.
func (s *Survey) Look(anew bool) error {
	s.looking.Lock()
	defer s.looking.Unlock()
	sources, err := s.Sources(anew)
	if err != nil {
		return err
	}
	_, before := s.Seen()
	var changed []Source
	var wait sync.WaitGroup
	looks := make([]Found, len(sources))
	limit := make(chan struct{}, atOnce)
	var starved atomic.Bool
	for i, src := range sources {
		mark := s.mark(src)
		old, ok := before[src]
		same := ok && old.Mark == mark
		if !same {
			changed = append(changed, src)
		}
		if same && (mark == "" || !anew && !s.usedElsewhere(src, old) || time.Since(old.at) < old.holds() || s.host.Serves(old.Info.Identity)) {
			looks[i] = old
			continue
		}
		limit <- struct{}{}
		wait.Go(func() {
			defer func() { <-limit }()
			if looks[i] = s.examine(src, mark); looks[i].starved {
				starved.Store(true)
				if ok {
					looks[i] = old // nothing is known of it that was not before
				}
			}
		})
	}
	wait.Wait()
	s.tellStarved(starved.Load())
	for src := range before {
		if !slices.Contains(sources, src) {
			changed = append(changed, src)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	known := make(map[Source]Found, len(sources))
	for i, src := range sources {
		known[src] = looks[i]
		if later, ok := s.known[src]; ok && later.Mark == looks[i].Mark && later.at.After(looks[i].at) {
			known[src] = later // by LookAt, while this look was under way
		}
	}
	s.order, s.known = sources, known
	for _, src := range changed {
		if before != nil && !slices.Contains(s.changed, src) { // at the start nothing is news
			s.changed = append(s.changed, src)
		}
	}
	return nil
}

// again is how often a disk is looked at that another host uses: it changes, and nothing tells so here. seldom is how often once it is known
// which array it belongs to.
const again, seldom = 3 * time.Second, time.Minute

// usedElsewhere says whether it is time to look again at a disk that another host uses, or used when it was looked at last.
func (s *Survey) usedElsewhere(src Source, old Found) bool {
	at, far := src.Far()
	age := time.Since(old.at)
	if !far {
		return s.host.Shared(old.Info.Identity) && (age > seldom || old.Record == nil && age > again)
	}
	users := s.host.Far.Users(at)
	switch {
	case !slices.Equal(users, old.Info.Held):
		return age > again
	case old.Record != nil:
		return len(users) > 0 && age > seldom
	}
	return len(users) > 0 && age > again
}

func (s *Survey) tellStarved(is bool) {
	e := event.Event{Kind: event.DescriptorsFree, Detail: "disks can be looked at again"}
	if is {
		e = event.Event{Kind: event.DescriptorsShort, Detail: "this process may not open more files; disks cannot be looked at until it may"}
	}
	if was := s.short.Swap(is); is || was {
		s.host.Once("descriptors", string(e.Kind), e)
	}
}

// LookAnew reads all disks that no array in service has, whenever they were read last.
func (s *Survey) LookAnew() error {
	s.Expire()
	return s.Look(true)
}

// Expire has nothing count as read this moment any more: what was blank may be a member by now.
func (s *Survey) Expire() {
	s.mu.Lock()
	known := make(map[Source]Found, len(s.known))
	for src, f := range s.known {
		f.at = time.Time{}
		known[src] = f
	}
	s.known = known
	s.mu.Unlock()
}

// LookAt reads one source anew.
func (s *Survey) LookAt(src Source) Found {
	f := s.examine(src, s.mark(src))
	s.mu.Lock()
	defer s.mu.Unlock()
	known := maps.Clone(s.known)
	if known == nil {
		known = map[Source]Found{}
	}
	if _, ok := known[src]; !ok {
		s.order = append(slices.Clone(s.order), src)
	}
	known[src] = f
	s.known = known
	return f
}

// Open opens a disk for good. One that is held is tried for a moment: an operation on a handle that was closed just now may still be
// under way.
func (s *Survey) Open(src Source) (d disk.Disk, err error) {
	for try := 0; ; try++ {
		switch at, far := src.Far(); {
		case src.Bay != "":
			d, err = s.host.Lab.Open(src.Bay)
		case far:
			d, err = s.host.Far.Open(at, s.host.Token(src))
		default:
			d, err = s.openHere(src.Path)
		}
		if try == openTries || !errors.Is(err, disk.ErrInUse) {
			return d, err
		}
		time.Sleep(openRest)
	}
}

func (s *Survey) openHere(path string) (disk.Disk, error) {
	d, err := disk.Open(path)
	if err != nil {
		return nil, err
	}
	if tell := s.host.Overtaken; tell != nil {
		d.Overtaken(func() { tell(path) })
	}
	return d, nil
}

const (
	openTries = 10
	openRest  = 50 * time.Millisecond
)

// Peek opens a disk to read it, whatever else has it.
func (s *Survey) Peek(src Source) (disk.Disk, error) {
	if src.Bay != "" {
		return s.host.Lab.OpenReadOnly(src.Bay)
	}
	if at, far := src.Far(); far {
		return s.host.Far.Look(at)
	}
	return disk.OpenReadOnly(src.Path)
}

// devices is the block devices that the kernel had when it was asked last.
type devices struct {
	mu      sync.Mutex
	host    survey.Host
	at      time.Time
	changed atomic.Bool     // since then
	events  <-chan struct{} // of the kernel; nil where it does not tell
}
