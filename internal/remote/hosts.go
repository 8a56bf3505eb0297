package remote

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"nidalo/core/state"
	"nidalo/internal/nbd"
)

const (
	// every is how often a host is asked what it lends, and how it is.
	every = time.Second
	// answerIn is how long it may take to answer before it counts as out of touch.
	answerIn = 5 * time.Second
	// firstIn is how long a list of disks waits for a host that has not answered yet.
	firstIn = 3 * time.Second
	// DefaultPatience is how long a host may be out of touch before its disks count as missing.
	DefaultPatience = 30 * time.Second
)

// Settings are how this host asks for disks of others.
type Settings struct {
	Owner    string        // the name of this host
	Instance string        // names this run of its service
	TLS      *tls.Config   // nil: only plain addresses are reached
	Patience time.Duration // how long a host may be out of touch; 0: DefaultPatience
	// Touch tells when a host comes out of touch, for which reason, and when it is back (nil). It must not block.
	Touch func(host string, why error)
	// Overtaken tells that a lender refused a disk, by its address, because a later owner has it. It must not block.
	Overtaken func(address string)
}

// Hosts are the hosts that lend to this one.
type Hosts struct {
	set  Settings
	ctx  context.Context
	end  context.CancelFunc
	wait sync.WaitGroup

	mu    sync.Mutex
	hosts map[Address]*Host
}

// NewHosts knows no host yet.
func NewHosts(set Settings) *Hosts {
	set.Patience = cmp.Or(set.Patience, DefaultPatience)
	h := &Hosts{set: set, hosts: map[Address]*Host{}}
	h.ctx, h.end = context.WithCancel(context.Background())
	return h
}

// Close ends all questions. Disks that are open go on by themselves.
func (h *Hosts) Close() {
	h.end()
	h.wait.Wait()
}

// Host is one lender.
type Host struct {
	all   *Hosts
	at    Address
	first chan struct{} // closed when it was asked once

	mu    sync.Mutex
	about About
	said  time.Time      // when it answered last
	why   error          // it is out of touch
	disks []*Disk        // that are open
	ended map[string]int // how many sessions with a disk came to an end by themselves
}

// At is the lender at an address, which is asked from then on.
func (h *Hosts) At(server Address) *Host {
	server = server.Server()
	h.mu.Lock()
	defer h.mu.Unlock()
	one := h.hosts[server]
	if one == nil {
		one = &Host{all: h, at: server, first: make(chan struct{}), ended: map[string]int{}}
		h.hosts[server] = one
		if h.ctx.Err() == nil {
			h.wait.Go(one.ask)
		} else {
			one.why = net.ErrClosed
			close(one.first)
		}
	}
	return one
}

// dial asks the lender for an export.
func (h *Host) dial(name string, patience time.Duration) (*nbd.Client, error) {
	d := nbd.Dialer{Network: "tcp", Address: h.at.Host, Patience: patience}
	d.Control.KeepAliveConfig = net.KeepAliveConfig{Enable: true, Idle: 5 * time.Second, Interval: 5 * time.Second, Count: 3}
	if !h.at.Plain {
		if h.all.set.TLS == nil {
			return nil, errors.New("this host has no certificate to show: remote.cert, remote.key and remote.ca in nidalo.toml name it")
		}
		settings := h.all.set.TLS.Clone()
		settings.ServerName, _, _ = net.SplitHostPort(h.at.Host)
		d.TLS = settings
	}
	return d.Dial(name)
}

// ask asks the lender again and again how it is.
func (h *Host) ask() {
	var link *nbd.Client
	defer func() {
		if link != nil {
			link.Abandon()
		}
	}()
	tick := time.NewTicker(every)
	defer tick.Stop()
	var once sync.Once
	for {
		about, err := h.question(&link)
		if h.all.ctx.Err() != nil {
			err = net.ErrClosed
		}
		h.answer(about, err)
		once.Do(func() { close(h.first) })
		select {
		case <-h.all.ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// question has one answer within answerIn.
func (h *Host) question(link **nbd.Client) (a About, err error) {
	if *link == nil {
		if *link, err = h.dial(Wish{What: Everything, Owner: h.all.set.Owner}.String(), firstIn); err != nil {
			*link = nil
			return a, err
		}
	}
	c := *link
	late := time.AfterFunc(answerIn, c.Abandon)
	defer late.Stop()
	defer func() {
		if err != nil {
			c.Abandon()
			*link = nil
		}
	}()
	if c.Size() != AboutSize {
		return a, errors.New("that is no lender of disks")
	}
	buf := make([]byte, aboutStart)
	if err = c.ReadAt(buf, 0); err == nil && buf[aboutStart-1] != ' ' { // it is longer
		buf = make([]byte, AboutSize)
		err = c.ReadAt(buf, 0)
	}
	if err != nil {
		return a, err
	}
	return DecodeAbout(buf)
}

// answer notes what came. Sessions of a host that does not answer are begun anew.
func (h *Host) answer(about About, err error) {
	h.mu.Lock()
	was := h.why
	first := h.said.IsZero() && was == nil
	if h.why = err; err == nil {
		h.about, h.said = about, time.Now()
	}
	disks := slices.Clone(h.disks)
	h.mu.Unlock()
	for _, d := range disks {
		there := slices.ContainsFunc(about.Disks, func(l Lent) bool { return l.Name == d.wish.What && l.Incarnation == d.wish.Incarnation })
		if err != nil && was == nil || err == nil && !there {
			d.doubt()
		}
	}
	if tell := h.all.set.Touch; tell != nil && h.all.ctx.Err() == nil && ((err == nil) != (was == nil) || first && err != nil) {
		tell(h.Name(), err)
	}
}

// Name is what the host calls itself; its address, as long as it has not said so.
func (h *Host) Name() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return cmp.Or(h.about.Host, h.at.Host)
}

// Seen is what the host said last, when, and why it is out of touch, if it is. Before its first answer that is waited for, for a while.
func (h *Host) Seen() (About, time.Time, error) {
	select {
	case <-h.first:
	case <-time.After(firstIn + answerIn):
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	why := h.why
	if why == nil && h.said.IsZero() {
		why = errors.New("it has not answered yet")
	}
	return h.about, h.said, why
}

// Disks are the addresses of all disks that the host lends to this one, as it said last.
func (h *Host) Disks() (out []Address) {
	about, _, _ := h.Seen()
	for _, d := range about.Disks {
		out = append(out, h.at.Of(d.Name))
	}
	return out
}

// lent is what the host said of a disk last.
func (h *Host) lent(name string) (Lent, bool) {
	about, _, _ := h.Seen()
	for _, d := range about.Disks {
		if d.Name == name || d.Serial == name && name != "" {
			return d, true
		}
	}
	return Lent{}, false
}

// Lent is what its host said of a disk last, and why the host is out of touch, if it is.
func (h *Hosts) Lent(at Address) (l Lent, known bool, why error) {
	one := h.At(at)
	l, known = one.lent(at.Disk)
	_, _, why = one.Seen()
	return l, known, why
}

// Users is the other host that has a session on the disk at an address, in words; empty: none has.
func (h *Hosts) Users(at Address) []string {
	if l, known := h.At(at).lent(at.Disk); known && l.User != "" && l.User != h.set.Owner {
		return []string{"host " + l.User + " uses it"}
	}
	return nil
}

// Mark names what is at an address: it is another one when another disk is there, or writes that were not flushed may be lost. Empty: it is
// not there. Of a disk that is open here it stays the same until that is over.
func (h *Hosts) Mark(at Address) string {
	one := h.At(at)
	if d := one.open(at.Disk); d != nil {
		return one.mark(d.wish.What, d.wish.Incarnation)
	}
	l, ok, why := h.Lent(at)
	if !ok || why != nil || l.Incarnation == "" {
		return ""
	}
	return one.mark(l.Name, l.Incarnation)
}

// mark is another one after each session that ended by itself: a disk may be lost and there again between two looks.
func (h *Host) mark(name, incarnation string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return fmt.Sprint(incarnation, "/", h.ended[name])
}

// closed notes that a session is over, by itself or because its user had enough.
func (h *Host) closed(d *Disk, itself bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if itself {
		h.ended[d.wish.What]++
	}
	h.disks = slices.DeleteFunc(h.disks, func(o *Disk) bool { return o == d })
}

// Identity names the disk at an address as well as its host has told.
func (h *Hosts) Identity(at Address) state.Identity {
	one := h.At(at)
	l, _ := one.lent(at.Disk)
	return one.identity(at.Disk, l)
}

func (h *Host) identity(name string, l Lent) state.Identity {
	host := h.Name()
	id := state.Identity{Path: h.at.Of(cmp.Or(l.Name, name)).String(), Model: l.Model, Serial: l.Serial, Host: host}
	if l.Bay != "" {
		id.Bay = host + ":" + l.Bay
	}
	return id
}

// open is the disk of a name that is open, if one is.
func (h *Host) open(name string) *Disk {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, d := range h.disks {
		if d.wish.What == name || d.identity.Serial == name && name != "" {
			return d
		}
	}
	return nil
}

// Away is since when the lender of a disk that is open here is out of touch; zero: it is not, or the disk is not open.
func (h *Hosts) Away(at Address) time.Time {
	if d := h.At(at).open(at.Disk); d != nil {
		return d.away()
	}
	return time.Time{}
}

// Open begins a session with a lender, in which its disk may be written. token is that of the array's ownership.
func (h *Hosts) Open(at Address, token uint64) (*Disk, error) {
	return h.begin(at, token, h.set.Instance)
}

// Look is a disk that is only read, whoever has it.
func (h *Hosts) Look(at Address) (*Disk, error) { return h.begin(at, 0, "") }

func (h *Hosts) begin(at Address, token uint64, instance string) (*Disk, error) {
	one := h.At(at)
	l, known := one.lent(at.Disk)
	switch _, _, why := one.Seen(); {
	case why != nil:
		return nil, fmt.Errorf("%s: host %s is out of touch: %w", at, one.Name(), why)
	case !known:
		return nil, fmt.Errorf("%s: %s lends no such disk to %s", at, one.Name(), h.set.Owner)
	case l.Incarnation == "":
		return nil, fmt.Errorf("%s: %s has it no more: %s", at, one.Name(), l.Why)
	}
	d := &Disk{host: one, identity: one.identity(at.Disk, l), size: l.Size, patience: h.set.Patience, news: make(chan struct{}),
		wish: Wish{What: l.Name, Owner: h.set.Owner, Instance: instance, Token: token, Incarnation: l.Incarnation}}
	if instance == "" {
		d.patience = answerIn
	}
	if err := d.dial(answerIn); err != nil {
		return nil, fmt.Errorf("%s: %w", at, err)
	}
	if instance != "" {
		one.mu.Lock()
		one.disks = append(one.disks, d)
		one.mu.Unlock()
	}
	return d, nil
}
