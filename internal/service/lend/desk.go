// Package lend serves disks of this host to owners of arrays on other hosts, over the network block protocol.
//
//	desk.go     which disks are lent to whom; what owners are told
//	session.go  one owner's use of a disk
//
// A disk that is lent is open here for as long as it is there, and nobody else on this host uses it.
package lend

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/health"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/disk"
	"nidalo/internal/nbd"
	"nidalo/internal/remote"
)

// Loan is a disk that is lent, as the home remembers it.
type Loan struct {
	Disk  string   `json:"disk"`            // its serial, or its path
	To    []string `json:"to"`              // hosts, by the names in their certificates
	Token uint64   `json:"token,omitempty"` // the highest with which it was used
}

// Host is what lending needs of the service.
type Host struct {
	Name  func() string                         // of this host
	Noted func() []Loan                         // what the home remembers
	Token func(disk string, token uint64) error // remembers a token, durably
	Open  func(disk string) (disk.Disk, error)  // opens it for good
	Log   *slog.Logger
}

// Desk lends.
type Desk struct {
	host Host
	mu   sync.Mutex
	lent map[string]*lent // by name
}

// New makes a desk that has opened nothing yet.
func New(host Host) *Desk { return &Desk{host: host, lent: map[string]*lent{}} }

// lent is one disk that is lent.
type lent struct {
	desk    *Desk
	opening sync.Mutex // of a session, one at a time

	copies      atomic.Bool // what is read is copied, since to send it without a copy failed
	mu          sync.Mutex
	loan        Loan
	d           disk.Disk
	why         error // it is not open
	incarnation string
	session     *session // or nil
	readings    *health.Readings
	asked       time.Time
}

// healthEvery is how long what a disk said of itself is told on.
const healthEvery = time.Minute

// Tend opens the disks that are lent and not open, and closes those that are lent no more. It is to be called now and then.
func (k *Desk) Tend() {
	loans := k.host.Noted()
	k.mu.Lock()
	var gone []*lent
	for name, l := range k.lent {
		if !slices.ContainsFunc(loans, func(loan Loan) bool { return loan.Disk == name }) {
			gone = append(gone, l)
			delete(k.lent, name)
		}
	}
	var all []*lent
	for _, loan := range loans {
		l := k.lent[loan.Disk]
		if l == nil {
			l = &lent{desk: k, loan: loan}
			k.lent[loan.Disk] = l
		}
		l.mu.Lock()
		l.loan.To, l.loan.Token = loan.To, max(l.loan.Token, loan.Token)
		if s := l.session; s != nil && !slices.Contains(loan.To, s.wish.Owner) {
			l.session = nil
			go s.end(remote.NotLent)
		}
		l.mu.Unlock()
		all = append(all, l)
	}
	k.mu.Unlock()
	for _, l := range gone {
		l.close(remote.NotLent)
	}
	for _, l := range all {
		l.open()
	}
}

// Close ends all sessions once what they have asked for is done.
func (k *Desk) Close() {
	k.mu.Lock()
	all := k.lent
	k.lent = map[string]*lent{}
	k.mu.Unlock()
	for _, l := range all {
		l.close(nbd.ErrShutdown)
	}
}

// open opens the disk, if it is not, and asks it how it is now and then.
func (l *lent) open() {
	l.mu.Lock()
	d, name, asked := l.d, l.loan.Disk, l.asked
	l.mu.Unlock()
	if d != nil {
		if p, ok := d.(interface{ Present() error }); ok {
			if err := p.Present(); err != nil {
				l.spoil(d, err)
				return
			}
		}
		if time.Since(asked) > healthEvery {
			l.ask(d)
		}
		return
	}
	d, err := l.desk.host.Open(name)
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil {
		l.why = err
		return
	}
	var random [8]byte
	_, _ = rand.Read(random[:])
	l.d, l.why, l.incarnation, l.asked = d, nil, hex.EncodeToString(random[:]), time.Time{}
	l.desk.host.Log.Info("lent disk opened", "disk", d.Identity().String(), "to", strings.Join(l.loan.To, " "))
}

// ask has the disk say how it is.
func (l *lent) ask(d disk.Disk) {
	p := disk.NewPatient(d, disk.DefaultPatience, func() bool { return true })
	r, err := p.Health()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.asked = time.Now(); err == nil {
		l.readings = &r
	} else {
		l.readings = nil
	}
}

// spoil has what was written and not flushed count as lost: the disk is closed, and opened anew as another incarnation.
func (l *lent) spoil(d disk.Disk, why error) {
	l.mu.Lock()
	if l.d != d {
		l.mu.Unlock()
		return
	}
	l.d, l.why, l.incarnation = nil, why, ""
	s := l.session
	l.session = nil
	l.mu.Unlock()
	l.desk.host.Log.Warn("lent disk closed", "disk", d.Identity().String(), "reason", why)
	go func() { // a request that is on its way may take long
		if s != nil {
			s.end(remote.NotThere)
		}
		_ = d.Close()
	}()
}

// close ends the use of the disk.
func (l *lent) close(why error) {
	l.opening.Lock()
	defer l.opening.Unlock()
	l.mu.Lock()
	d, s := l.d, l.session
	l.d, l.session, l.why, l.incarnation = nil, nil, why, ""
	l.mu.Unlock()
	if s != nil {
		s.end(why)
	}
	if d != nil {
		_ = d.Close()
	}
}

// Tell is what is said of a disk that is lent.
type Tell struct {
	Loan
	Identity state.Identity
	Size     int64
	There    bool
	Why      string    // it is not there
	User     string    // the host that has a session on it
	Since    time.Time // when that began
	Read     int64     // bytes, in this session
	Written  int64
	Flushes  int64
	Token    uint64 // of the session
}

// Tell lists the disks that are lent, by name.
func (k *Desk) Tell() (out []Tell) {
	k.mu.Lock()
	all := make([]*lent, 0, len(k.lent))
	for _, l := range k.lent {
		all = append(all, l)
	}
	k.mu.Unlock()
	for _, l := range all {
		out = append(out, l.tell())
	}
	slices.SortFunc(out, func(x, y Tell) int { return strings.Compare(x.Disk, y.Disk) })
	return out
}

func (l *lent) tell() Tell {
	l.mu.Lock()
	defer l.mu.Unlock()
	t := Tell{Loan: l.loan, There: l.d != nil, Identity: state.Identity{Path: l.loan.Disk}}
	if l.d != nil {
		t.Identity, t.Size = l.d.Identity(), l.d.Size()
	} else if l.why != nil {
		t.Why = l.why.Error()
	}
	if s := l.session; s != nil && s.connected() {
		t.User, t.Since, t.Token = s.wish.Owner, s.began, s.wish.Token
		t.Read, t.Written, t.Flushes = s.read.Load(), s.written.Load(), s.flushes.Load()
	}
	return t
}

// Names lists nothing: only owners are told what there is.
func (k *Desk) Names() []string { return nil }

// Open gives an owner what it wishes.
func (k *Desk) Open(name, peer string) (nbd.Export, func(), error) {
	w, err := remote.ParseWish(name)
	if err != nil {
		return nil, nil, err
	}
	if who, shown := nbd.Certified(peer); shown && who != w.Owner {
		return nil, nil, fmt.Errorf("%w: the certificate is for %s, not for %s", remote.NotLent, say.Quote(who), say.Quote(w.Owner))
	}
	if w.What == remote.Everything {
		return about{k, w.Owner}, func() {}, nil
	}
	l := k.find(w.What, w.Owner)
	if l == nil {
		return nil, nil, remote.NotLent
	}
	if w.Instance == "" {
		return l.look()
	}
	return l.begin(w)
}

// find is the disk of a name or serial that is lent to a host.
func (k *Desk) find(what, owner string) *lent {
	k.mu.Lock()
	defer k.mu.Unlock()
	for name, l := range k.lent {
		l.mu.Lock()
		means := name == what || l.d != nil && l.d.Identity().Serial == what
		may := slices.Contains(l.loan.To, owner)
		l.mu.Unlock()
		if means && may {
			return l
		}
	}
	return nil
}

// Of says to whom a disk is lent; empty: to nobody.
func (k *Desk) Of(id state.Identity) string {
	for _, loan := range k.host.Noted() {
		if loan.Disk == id.Serial && id.Serial != "" || loan.Disk == id.Path {
			return say.List(loan.To)
		}
	}
	return ""
}

// about is what an owner is told of all disks that are lent to it.
type about struct {
	desk  *Desk
	owner string
}

func (a about) ReadOnly()   {}
func (a about) Size() int64 { return remote.AboutSize }

func (a about) Read(p []byte, off int64) ([]nbd.Hole, error) {
	buf, err := a.desk.about(a.owner).Encode()
	if err == nil {
		copy(p, buf[off:])
	}
	return nil, err
}

func (a about) Write([]byte, int64) error     { return errors.ErrUnsupported }
func (a about) Flush() error                  { return errors.ErrUnsupported }
func (a about) FlushRange(int64, int64) error { return errors.ErrUnsupported }
func (a about) Zero(int64, int64) error       { return errors.ErrUnsupported }
func (a about) Extents(_, n int64, _ int) ([]nbd.Extent, error) {
	return []nbd.Extent{{Length: n, Written: true}}, nil
}

// about is all that is lent to an owner.
func (k *Desk) about(owner string) remote.About {
	out := remote.About{Host: k.host.Name(), Disks: []remote.Lent{}}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, l := range k.lent {
		l.mu.Lock()
		if slices.Contains(l.loan.To, owner) {
			one := remote.Lent{Name: l.loan.Disk, Incarnation: l.incarnation, Health: l.readings}
			if l.d != nil {
				id := l.d.Identity()
				one.Serial, one.Model, one.Bay, one.Size = id.Serial, id.Model, id.Bay, l.d.Size()
			} else if l.why != nil {
				one.Why = l.why.Error()
			}
			if l.session != nil && l.session.connected() {
				one.User = l.session.wish.Owner
			}
			out.Disks = append(out.Disks, one)
		}
		l.mu.Unlock()
	}
	slices.SortFunc(out.Disks, func(x, y remote.Lent) int {
		return cmp.Or(strings.Compare(x.Bay, y.Bay), strings.Compare(x.Name, y.Name))
	})
	return out
}
