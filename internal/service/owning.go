package service

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"nidalo/core/event"
	"nidalo/core/record"
	"nidalo/core/say"
	"nidalo/internal/array"
	"nidalo/internal/array/roster"
	"nidalo/internal/control"
	"nidalo/internal/ownership"
	"nidalo/internal/remote"
	"nidalo/internal/service/disks"
)

// Arrays that several hosts could have: those with disks that other hosts lend, or are attached to as well, where the configuration names an etcd. Exactly
// one host owns each.

// Ownership is where that is decided.
type Ownership struct {
	Etcd  []string `toml:"etcd"`  // HOST:PORT, or URLs
	Lease Duration `toml:"lease"` // whole seconds; 0: ownership.DefaultLease
	// Shared are disks of this host that other hosts are attached to as well, by serial, path or bay.
	Shared []string `toml:"shared"`
	// Unfenced are arrays that are used on such disks although they cannot be fenced.
	Unfenced []string `toml:"unfenced"`
	Certificates
}

func (o Ownership) check() error {
	if err := o.Certificates.check("ownership"); err != nil {
		return err
	}
	if len(o.Etcd) == 0 && (o.Lease != 0 || o.Cert != "" || len(o.Shared)+len(o.Unfenced) > 0) {
		return wrongKey{"ownership.etcd", "is needed, for example [\"127.0.0.1:2379\"]"}
	}
	if l := time.Duration(o.Lease); l != 0 && (l < 2*time.Second || l%time.Second != 0 || l > 10*time.Minute) {
		return wrongKey{"ownership.lease", fmt.Sprintf("%s: whole seconds, from 2s to 10m", l)}
	}
	for _, named := range slices.Concat(o.Shared, o.Unfenced) {
		if named == "" {
			return wrongKey{"ownership.shared", "a name is empty"}
		}
	}
	for _, e := range o.Etcd {
		host := strings.TrimPrefix(strings.TrimPrefix(e, "http://"), "https://")
		h, _, err := net.SplitHostPort(host)
		if err != nil {
			return wrongKey{"ownership.etcd", fmt.Sprintf("%q: write HOST:PORT", e)}
		}
		if ip := net.ParseIP(h); o.Cert == "" && h != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return wrongKey{"ownership.etcd", fmt.Sprintf("%q: without a certificate only loopback addresses: whoever can write there can take arrays over", e)}
		}
	}
	return nil
}

// openOwnership begins to keep a lease, if the configuration names an etcd.
func (s *Service) openOwnership() error {
	o := s.config().Ownership
	if len(o.Etcd) == 0 || s.opt.Looks {
		return nil
	}
	settings, err := o.Load("ownership")
	if err != nil {
		return err
	}
	l := s.config().Listen
	s.owning, err = ownership.Open(ownership.Settings{Endpoints: o.Etcd, TLS: settings, Lease: time.Duration(o.Lease), Host: s.hostName(), Instance: s.instance, Log: s.opt.Log,
		Addresses: reachedAt(s.hostName(), l), Watched: watchedFrom(s.hostName(), s.config().Fleet)})
	return err
}

// reachedAt is where clients on other hosts reach this one.
func reachedAt(name string, l Listen) (out []string) {
	for _, x := range []struct{ scheme, address string }{{"nbds://", l.TLS.Address}, {"nbd://", l.TCP}} {
		if x.address != "" {
			out = append(out, x.scheme+seenFrom(name, x.address))
		}
	}
	return out
}

// seenFrom is the address at which others reach a listener: one at all addresses is reached by the host's name.
func seenFrom(name, address string) string {
	host, port, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err == nil && (host == "" || ip != nil && ip.IsUnspecified()) {
		return net.JoinHostPort(name, port)
	}
	return address
}

// share puts an array that was just created, on disks of other hosts as well, into service as one that only its owner has.
func (s *Service) share(a *array.Array) error {
	id, name := a.ID().String(), a.Name()
	if err := a.Close(); err != nil {
		return person(err)
	}
	if err := s.seen.LookAnew(); err != nil {
		return err
	}
	carriers := s.carriers(id)
	if err := s.claim(id, carriers, true); err != nil {
		return &control.Error{What: fmt.Sprintf("array %q is there, and not in service: %v", name, err), Hints: []string{"nidalo start " + name + "   starts it"}}
	}
	found, err := s.candidates(carriers, id)
	if err == nil {
		err = s.startOne(found, false)
	}
	if err != nil {
		s.unclaim(id, forOthers)
		return person(err)
	}
	s.own(id, name)
	return nil
}

// errOwned is why an array that another host has is not in service here.
type errOwned struct{ ownership.Owner }

func (e errOwned) Error() string {
	text := fmt.Sprintf("host %s has it since %s; this host stands by, and takes it over when that one is lost", e.Host, e.Since.Local().Format("Jan 2 15:04"))
	if len(e.Addresses) > 0 {
		text += ". Clients reach it at " + say.List(e.Addresses)
	}
	return text
}

// errUnowned is why this host could not be made the owner of an array that no other host is known to have.
type errUnowned struct{ error }

func (e errUnowned) Unwrap() error { return e.error }

// shared says whether an array whose disks are in some sources may be owned by other hosts.
func (s *Service) shared(sources []disks.Source) bool {
	return s.owning != nil && slices.ContainsFunc(sources, func(src disks.Source) bool { return remote.Is(src.Path) || s.sharedSource(src) })
}

// claim makes this host the owner of an array whose disks are in some sources, unless nobody else could have it. One that was taken out of service
// anywhere is left alone, unless it is to be started again.
func (s *Service) claim(id string, sources []disks.Source, again bool) error {
	if !s.shared(sources) {
		return s.becomeAlone(id, sources)
	}
	c, err := s.owning.Claim(id, again)
	var owned ownership.OwnedError
	switch {
	case errors.As(err, &owned):
		return errOwned{owned.Owner}
	case errors.As(err, &ownership.StoppedError{}):
		return err
	case err != nil:
		return errUnowned{fmt.Errorf("it is not known whether another host has it: %w", err)}
	}
	s.mu.Lock()
	known := s.claims[id] == c
	s.claims[id] = c
	s.mu.Unlock()
	if !known {
		s.wait.Go(func() { s.attendClaim(id, c) })
	}
	if err := s.fence(id, sources, c.Token()); err != nil { // before anything of it is read
		s.unclaim(id, forOthers)
		return errUnowned{err}
	}
	return nil
}

// attendClaim takes an array out of service when it is owned no more.
func (s *Service) attendClaim(id string, c *ownership.Claim) {
	select {
	case <-c.Done():
	case <-s.done:
		return
	}
	s.mu.Lock()
	if s.claims[id] == c {
		delete(s.claims, id)
	}
	s.mu.Unlock()
	s.oustNow(id, c.Why()) // at once: whoever holds admin may wait for a disk
	if !s.unasked() {
		return
	}
	defer s.admin.Unlock()
	s.mu.Lock()
	again := s.claims[id] != nil
	s.mu.Unlock()
	r := s.oustNow(id, c.Why()) // it may just have been started
	if r == nil || again {
		return
	}
	s.setAside(r, c.Why())
	r.Abandon()
}

// setAside takes an array out of those in service.
func (s *Service) setAside(r *running, why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.arrays, r.Name())
	s.idle = append(s.idle, idle{roster.Set{Newest: r.Record()}, why})
}

// oustNow has nothing more written to an array that this host does not own any more; nil: it is not in service, or owned anew.
func (s *Service) oustNow(id string, why error) (out *running) {
	s.mu.Lock()
	if s.claims[id] == nil {
		for _, r := range s.arrays {
			if r.ID().String() == id {
				out = r
			}
		}
	}
	s.mu.Unlock()
	if out != nil {
		s.oust(out, why)
	}
	return out
}

// oust has nothing more written to an array, and says so once.
func (s *Service) oust(r *running, why error) {
	if r.Failure() == nil {
		r.Oust(why)
		s.event(event.Event{Kind: event.ArrayOusted, Array: r.Name(), Detail: why.Error() + "; nothing more is written here"})
	}
}

// unclaim gives an array up in some way.
func (s *Service) unclaim(id string, how func(*ownership.Claim) error) {
	s.mu.Lock()
	c := s.claims[id]
	delete(s.claims, id)
	s.mu.Unlock()
	if c != nil {
		s.unfence(id)
		if err := how(c); err != nil {
			s.opt.Log.Warn("etcd did not answer when an array was given up; it is asked until it does, and the lease keeps the array for this host until then", "array", id, "reason", err)
		}
	}
}

// forOthers gives an array up to whoever comes.
func forOthers(c *ownership.Claim) error { return c.Release("") }

// tokenFor is the fencing token with which a disk is opened: that of the array that it carries a member of.
func (s *Service) tokenFor(src disks.Source) uint64 {
	f, ok := s.seen.At(src)
	if !ok || f.Record == nil {
		return 0
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.claims[f.Record.Array.String()]; c != nil {
		return c.Token()
	}
	return 0
}

// overtaken is told by a lender, or by a disk that several hosts are attached to, that a later owner has the disk.
func (s *Service) overtaken(path string) {
	var c *ownership.Claim
	var of *running
	for _, r := range s.running() {
		for _, m := range r.MemberStates() {
			if m.Disk.Path == path {
				of = r
			}
		}
	}
	if of == nil {
		return
	}
	s.mu.Lock()
	c = s.claims[of.ID().String()]
	s.mu.Unlock()
	why := errors.New("a later owner has its disk")
	s.oust(of, fmt.Errorf("%w: %w", ownership.ErrOusted, why)) // before the disk counts as lost
	if c != nil {
		c.Lose(why)
	}
}

// agree has etcd keep the roster of an array that this host owns, before anything goes by it.
func (s *Service) agree(rec *record.Record, since record.State) error {
	s.mu.Lock()
	c := s.claims[rec.Array.String()]
	s.mu.Unlock()
	if c == nil {
		if s.owning != nil && slices.ContainsFunc(rec.Roster, func(e record.Entry) bool { return remote.Is(e.Path) || s.attachedElsewhere(identityOf(e)) }) {
			return ownership.ErrOusted
		}
		return nil
	}
	if err := s.fenceMembers(rec, c.Token()); err != nil {
		return err
	}
	return c.Agree(agreedRoster(rec), since.Epoch)
}

func agreedRoster(rec *record.Record) ownership.Roster {
	out := ownership.Roster{Epoch: rec.Epoch, ID: rec.EpochID.String()}
	for _, e := range rec.Roster {
		if e.Condition.TakesPart() {
			out.Members = append(out.Members, e.ID.String())
		}
	}
	return out
}

// mayGoOn says whether an owner may start an array from what it found of it.
func (s *Service) mayGoOn(set roster.Set, found []roster.Candidate) error {
	s.mu.Lock()
	c := s.claims[set.Newest.Array.String()]
	s.mu.Unlock()
	if c == nil {
		return nil
	}
	agreed, err := c.Agreed()
	if err != nil {
		return fmt.Errorf("etcd does not say which members count: %w", err)
	}
	epochs := map[string]uint64{}
	for _, f := range found {
		epochs[f.Record.Member.String()] = f.Record.Epoch
	}
	return agreed.Allows(epochs, set.Newest.Epoch, set.Newest.EpochID.String())
}

// stillOwned says why nothing may be answered any more, because it is not certain that this host still has the array; nil: it has, or no other host
// could.
func (s *served) stillOwned() error {
	if c := s.claim.Load(); c != nil && c.Left() <= 0 {
		return ownership.ErrOusted
	}
	return nil
}

// owned is how an array is owned; nil: no other host could have it.
func (r *running) owned(name string) *control.Owned {
	c := r.served.claim.Load()
	if c == nil {
		return nil
	}
	return &control.Owned{Host: name, Token: c.Token(), Left: max(c.Left(), 0).Seconds()}
}

// unrenewed says that etcd has not renewed the lease for long; empty: it has.
func (s *Service) unrenewed(r *running) string {
	c := r.served.claim.Load()
	if c == nil {
		return ""
	}
	lease := cmp.Or(time.Duration(s.config().Ownership.Lease), ownership.DefaultLease)
	if left := c.Left(); left < lease/2 {
		return fmt.Sprintf("etcd does not answer: in %s this host stops serving it, unless that is over; another host may have it then", max(left, 0).Round(time.Second))
	}
	return ""
}

// standBy is the reason for which an array of this home that another host has is left alone; nil when it is free.
func (s *Service) standBy(id string) error {
	if s.owning == nil {
		return nil
	}
	s.mu.Lock()
	own := s.claims[id] != nil
	s.mu.Unlock()
	if o, ok := s.owning.Owner(id); ok && !own {
		return errOwned{o}
	}
	return nil
}

// notOwned puts an array that another host has back among those that are not in service, and has this host stand by, if that is wanted.
func (s *Service) notOwned(req control.StartRequest, was idle, err error) (*control.ArrayStatus, error) {
	var owned errOwned
	name, id := was.set.Newest.Name, was.set.Newest.Array.String()
	if errors.As(err, &owned) {
		was.reason = err
	}
	s.mu.Lock()
	s.idle = append(s.idle, was)
	s.mu.Unlock()
	switch {
	case errors.As(err, &errElsewhere{}):
		return nil, &control.Error{What: fmt.Sprintf("array %q cannot be started here: %v", name, err), Hints: []string{
			"nidalo stop " + name + "   on that host, then start it here: two hosts that write it would destroy it"}}
	case !errors.As(err, &owned):
		return nil, &control.Error{What: fmt.Sprintf("array %q cannot be started: %v", name, err)}
	case req.StandBy:
		s.own(id, name)
		if err := s.attachAsAsked(req, was.set.Newest); err != nil {
			return nil, err
		}
		if req.Attach {
			err = fmt.Errorf("%w; it becomes a device of this host then", err)
		}
		return &control.ArrayStatus{Name: name, ID: id, Out: true, Reason: err.Error()}, nil
	}
	return nil, &control.Error{What: fmt.Sprintf("array %q cannot be started: host %s has it since %s", name, owned.Host, owned.Since.Local().Format("Jan 2 15:04")), Hints: []string{
		"nidalo start -stand-by " + name + "   has this host take it over when that one is lost", "nidalo hand-over " + name + " " + s.hostName() + "   on " + owned.Host + " moves it here now"}}
}

// elsewhere says where an array of a name is in service, when that is another host, or soon this one; empty otherwise.
func (s *Service) elsewhere(name string) string {
	for _, i := range s.idleArrays() {
		e := errOwned{}
		switch {
		case i.set.Newest.Name != name:
		case i.reason == errStarting:
			return fmt.Sprintf("array %q is just being started; connect again", name)
		case errors.As(i.reason, &e):
			return fmt.Sprintf("host %s has array %q; it is served at %s", e.Host, name, cmp.Or(strings.Join(e.Addresses, " or "), "that host"))
		}
	}
	return ""
}

// HandOver stops an array in order and has another host take it over. It returns when that has it.
func (s *Service) HandOver(req control.HandOverRequest) error {
	id, err := s.moveAway(req)
	if err != nil {
		return err
	}
	for began := time.Now(); time.Since(began) < ownership.WishFor; time.Sleep(100 * time.Millisecond) {
		if o, ok := s.owning.Owner(id); ok && o.Host == req.Host {
			return nil
		}
	}
	return &control.Error{What: fmt.Sprintf("host %s has not taken array %q over in %s; it comes back to the first host that stands by, which this one does", req.Host, req.Array, ownership.WishFor),
		Hints: []string{"nidalo start -stand-by " + req.Array + "   on " + req.Host + " has that host stand by", "nidalo status " + req.Array + "   shows which host has it"}}
}

func (s *Service) moveAway(req control.HandOverRequest) (id string, err error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	r, err := s.named(req.Array)
	if err != nil {
		return "", err
	}
	id = r.ID().String()
	s.mu.Lock()
	c := s.claims[id]
	s.mu.Unlock()
	switch {
	case c == nil:
		return "", &control.Error{What: fmt.Sprintf("array %q has no disks of other hosts, or no etcd is configured: no other host can have it", r.Name())}
	case req.Host == s.hostName():
		return "", &control.Error{What: fmt.Sprintf("host %s has array %q already", req.Host, r.Name())}
	}
	s.mu.Lock()
	attached := s.unattached(r)
	s.mu.Unlock()
	switch {
	case attached != nil:
		return "", attached
	case r.Failure() != nil:
		return "", &control.Error{What: fmt.Sprintf("array %q has failed", r.Name()), Hints: []string{"nidalo status " + r.Name() + "   says why"}}
	}
	// Its clients are not asked: they find it again on the other host.
	s.setAside(r, errOwned{ownership.Owner{Host: req.Host, Since: time.Now()}})
	if err := r.Close(); err != nil {
		return "", person(err)
	}
	s.unclaim(id, func(c *ownership.Claim) error { return c.Release(req.Host) })
	s.event(event.Event{Kind: event.ArrayHandedOver, Array: r.Name(), Detail: "to host " + req.Host})
	return id, nil
}
