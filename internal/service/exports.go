package service

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"nidalo/internal/array"
	"nidalo/internal/clock"
	"nidalo/internal/disk"
	"nidalo/internal/nbd"
	"nidalo/internal/ownership"
	"nidalo/internal/service/attach"
	"nidalo/internal/service/rescue"
)

// Arrays as clients see them.

// Names lists the exports.
func (s *Service) Names() []string {
	s.mu.Lock()
	var out []string
	for _, name := range s.names() {
		if volumes := s.arrays[name].volumes(); len(volumes) > 0 {
			for _, v := range volumes {
				out = append(out, name+"/"+v.name)
			}
		} else {
			out = append(out, name)
		}
	}
	s.mu.Unlock()
	out = append(out, s.rescues.Served()...)
	slices.Sort(out)
	return out
}

// exportURI is where a client finds an export.
func (s *Service) exportURI(name string) string {
	return "nbd+unix:///" + name + "?socket=" + filepath.Join(s.opt.Home, "nbd.sock")
}

// Open gives a client the array by its name, or what is rescued of it. Connections of one peer are one client: what one of
// them wrote another may flush.
func (s *Service) Open(name, peer string) (nbd.Export, func(), error) {
	if of, yes := strings.CutPrefix(name, rescue.Prefix); yes {
		return s.openRescue(of)
	}
	if of, yes := strings.CutPrefix(name, attach.Prefix); yes {
		return s.openAttached(of, peer)
	}
	of, volume, _ := strings.Cut(name, "/")
	if where := s.elsewhere(of); where != "" {
		return nil, nil, errors.New(where)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.arrays[of]
	if r == nil {
		return nil, nil, nbd.ErrNoExport
	}
	slot, ok := r.volumeNamed(volume)
	if !ok || s.leaves(r, slot) {
		return nil, nil, nbd.ErrNoExport
	}
	at := r.seat(slot)
	r.clients++
	at.clients++
	p := r.peers[peer]
	if p == nil || peer == "" {
		p = &connected{Client: r.NewClient()}
		r.peers[peer] = p
	}
	p.connections++
	all := export{r.Array, p.Client, &r.served}
	_, attached := s.mem.Attached[attachID(r, slot)]
	var out nbd.Export = all
	switch {
	case slot >= 0 && attached:
		out = readableVolume{ofVolume{all, slot}}
	case slot >= 0:
		out = ofVolume{all, slot}
	case attached:
		out = readable{all}
	}
	return out, func() {
		s.mu.Lock()
		r.clients--
		at.clients--
		if p.connections--; p.connections == 0 && r.peers[peer] == p {
			delete(r.peers, peer)
		}
		s.mu.Unlock()
	}, nil
}

// connected is the client that some connections of one peer are.
type connected struct {
	*array.Client
	connections int
}

// export is an array as the block protocol sees it.
type export struct {
	a  *array.Array
	c  *array.Client
	to *served
}

// served counts what clients asked for since the array was started.
type served struct {
	claim      atomic.Pointer[ownership.Claim] // nil: no other host could have it
	growing    sync.RWMutex                    // requests to volumes hold it, whose places in the set move when that grows
	operations atomic.Int64
	busy       atomic.Int64 // ns that they waited for them, altogether
}

// since counts an operation that began at a moment.
func (s *served) since(began clock.Moment) {
	s.operations.Add(1)
	s.busy.Add(int64(clock.Since(began)))
}

func (e export) Size() int64 { return e.a.Capacity() }

func (e export) Read(p []byte, off int64) ([]nbd.Hole, error) {
	defer e.to.since(clock.Now())
	holes, err := e.a.ReadSparse(p, off)
	if err == nil { // what is read without a lease may have been overwritten by another host
		err = e.to.stillOwned()
	}
	if err != nil || len(holes) == 0 {
		return nil, translate(err)
	}
	out := make([]nbd.Hole, len(holes))
	for i, h := range holes {
		out[i] = nbd.Hole(h)
	}
	return out, nil
}

func (e export) Waits() int64 { return e.a.ReadWaits() }

func (e export) Write(p []byte, off int64) error {
	defer e.to.since(clock.Now())
	return translate(e.c.WriteAt(p, off))
}

func (e export) Receive(off, length int64, fill func([]byte) error) error {
	if err := e.c.Receive(off, length, fill); !errors.Is(err, array.ErrNotTaken) {
		return err
	}
	return nbd.ErrNotTaken
}

func (e export) Flush() error {
	defer e.to.since(clock.Now())
	return translate(cmp.Or(e.c.Flush(), e.to.stillOwned()))
}

func (e export) FlushRange(off, length int64) error {
	defer e.to.since(clock.Now())
	return translate(cmp.Or(e.c.FlushRange(off, length), e.to.stillOwned()))
}

func (e export) Zero(off, length int64) error { return translate(e.c.Zero(off, length)) }

func (e export) Extents(off, n int64, limit int) ([]nbd.Extent, error) {
	found, err := e.a.Extents(off, n, limit)
	out := make([]nbd.Extent, len(found))
	for i, x := range found {
		out[i] = nbd.Extent(x)
	}
	return out, translate(err)
}

func translate(err error) error {
	switch {
	case errors.Is(err, disk.ErrFull):
		return fmt.Errorf("%w: %w", nbd.ErrNoSpace, err)
	case errors.Is(err, array.ErrStopped):
		return fmt.Errorf("%w: %w", nbd.ErrShutdown, err)
	}
	return err
}
