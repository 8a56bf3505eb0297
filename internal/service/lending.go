package service

import (
	"cmp"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/remote"
	"nidalo/internal/service/disks"
	"nidalo/internal/service/lend"
)

// Disks of this host that others use, and disks of others that this one uses.

// Certificates is whom this host is, and whom it trusts.
type Certificates struct {
	Cert string `toml:"cert"`
	Key  string `toml:"key"`
	CA   string `toml:"ca"`
}

// Lend is where disks of this host are lent.
type Lend struct {
	Address string `toml:"address"`
	Certificates
}

// Remote is how disks that others lend are reached.
type Remote struct {
	Hosts    []string `toml:"hosts"` // HOST or HOST:PORT; what they lend to this one is looked at
	Patience Duration `toml:"patience"`
	Certificates
}

// check looks at what a decoder cannot.
func (c Certificates) check(table string) error {
	if c != (Certificates{}) && (c.Cert == "" || c.Key == "" || c.CA == "") {
		return wrongKey{table + ".cert", "cert, key and ca are all needed: each host shows the other a certificate"}
	}
	for _, f := range [][2]string{{"cert", c.Cert}, {"key", c.Key}, {"ca", c.CA}} {
		if f[1] != "" && f[1][0] != '/' {
			return wrongKey{table + "." + f[0], fmt.Sprintf("%q is not an absolute path", f[1])}
		}
	}
	return nil
}

// Load reads the files that a table of the configuration names; nil when it names none. Whoever comes has to show a certificate that the CA
// signed, and so has whoever is reached.
func (c Certificates) Load(table string) (*tls.Config, error) {
	if c.Cert == "" {
		return nil, nil
	}
	wrong := func(err error) (*tls.Config, error) {
		return nil, &control.Error{What: fmt.Sprintf("%s in %s: %v", table, ConfigName, err)}
	}
	cert, err := tls.LoadX509KeyPair(c.Cert, c.Key)
	if err != nil {
		return wrong(err)
	}
	pem, err := os.ReadFile(c.CA)
	if err != nil {
		return wrong(err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(pem) {
		return wrong(fmt.Errorf("%s holds no certificate", c.CA))
	}
	return &tls.Config{Certificates: []tls.Certificate{cert}, ClientCAs: pool, RootCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert, MinVersion: tls.VersionTLS12}, nil
}

// LendAt is where disks are lent: encrypted when settings are there. Without an address they are not.
func (c *Config) LendAt() (address string, settings *tls.Config, err error) {
	settings, err = c.Lend.Load("lend")
	return c.Lend.Address, settings, err
}

// CheckCertificates looks at all files with certificates and keys.
func (c *Config) CheckCertificates() error {
	if _, err := c.Listen.TLS.Load("listen.tls"); err != nil {
		return err
	}
	if _, _, err := c.LendAt(); err != nil {
		return err
	}
	if _, err := c.Remote.Load("remote"); err != nil {
		return err
	}
	if _, err := c.Ownership.Load("ownership"); err != nil {
		return err
	}
	if c.Traces.CA != "" {
		if err := c.Traces.settings().Readable(); err != nil {
			return &control.Error{What: fmt.Sprintf("traces in %s: %v", ConfigName, err)}
		}
	}
	_, err := c.Fleet.Load("fleet")
	return err
}

func (c *Config) checkLending() error {
	if err := c.Lend.check("lend"); err != nil {
		return err
	}
	if c.Lend.Address != "" {
		host, _, err := net.SplitHostPort(c.Lend.Address)
		if err != nil {
			return wrongKey{"lend.address", fmt.Sprintf("%q: write HOST:PORT, for example 0.0.0.0:%s", c.Lend.Address, remote.DefaultPort)}
		}
		if ip := net.ParseIP(host); c.Lend.Cert == "" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return wrongKey{"lend.address", fmt.Sprintf("%q: without a certificate only loopback addresses (127.0.0.1, ::1, localhost): the connection is not encrypted", c.Lend.Address)}
		}
	} else if c.Lend.Cert != "" {
		return wrongKey{"lend.address", "is needed, for example \"0.0.0.0:" + remote.DefaultPort + "\""}
	}
	if err := c.Remote.check("remote"); err != nil {
		return err
	}
	for _, h := range c.Remote.Hosts {
		if _, err := remoteHost(h); err != nil {
			return wrongKey{"remote.hosts", fmt.Sprintf("%q: %v", h, err)}
		}
	}
	if name := c.HostName; name != "" && (strings.ContainsAny(name, " /@:") || len(name) > 64 || state.Printable(name) != name) {
		return wrongKey{"host_name", fmt.Sprintf("%q: the name of a host, of up to 64 characters", name)}
	}
	return nil
}

// remoteHost is the address of a host of the configuration.
func remoteHost(h string) (remote.Address, error) {
	if !remote.Is(h) {
		h = "nbds://" + h
	}
	a, err := remote.ParseAddress(h)
	if err == nil && a.Disk != "" {
		err = fmt.Errorf("a host, without a disk")
	}
	return a, err
}

// hostName is what other hosts know this one by.
func (s *Service) hostName() string {
	name, _ := os.Hostname()
	name, _, _ = strings.Cut(name, ".")
	return cmp.Or(s.config().HostName, name, "localhost")
}

// newRemote reaches other hosts.
func (s *Service) newRemote() (*remote.Hosts, error) {
	settings, err := s.config().Remote.Load("remote")
	if err != nil {
		return nil, err
	}
	return remote.NewHosts(remote.Settings{Owner: s.hostName(), Instance: s.instance, Overtaken: s.overtaken, TLS: settings, Patience: time.Duration(s.config().Remote.Patience),
		Touch: func(host string, why error) {
			e := event.Event{Kind: event.HostBack, Detail: "host " + host + " answers"}
			if why != nil {
				e = event.Event{Kind: event.HostAway, Detail: fmt.Sprintf("host %s is out of touch: %v", host, why)}
			}
			s.wait.Go(func() { s.once("host "+host, "", string(e.Kind), e) })
		}}), nil
}

// away is since when the host of a disk does not answer; zero: it does, or the disk is one of this host.
func (s *Service) away(id state.Identity) time.Time {
	if at, far := (disks.Source{Path: id.Path}).Far(); far {
		return s.far.Away(at)
	}
	return time.Time{}
}

// remoteHosts are the lenders that the configuration names.
func (s *Service) remoteHosts() (out []remote.Address) {
	for _, h := range s.config().Remote.Hosts {
		if a, err := remoteHost(h); err == nil {
			out = append(out, a)
		}
	}
	return out
}

func (s *Service) newLend() *lend.Desk {
	return lend.New(lend.Host{Name: s.hostName, Log: s.opt.Log,
		Noted: func() []lend.Loan {
			s.mu.Lock()
			defer s.mu.Unlock()
			return slices.Clone(s.mem.Lent)
		},
		Token: func(name string, token uint64) error {
			return s.change(func(m *memory) {
				for i := range m.Lent {
					if m.Lent[i].Disk == name {
						m.Lent[i].Token = max(m.Lent[i].Token, token)
					}
				}
			})
		},
		Open: func(name string) (disk.Disk, error) {
			src, err := s.seen.LocateHere(name)
			if err != nil {
				return nil, err
			}
			return s.seen.Open(src)
		}})
}

// lendLoop looks after the disks that are lent.
func (s *Service) lendLoop() {
	tick := time.NewTicker(disks.Every)
	defer tick.Stop()
	for {
		s.lends.Tend()
		select {
		case <-s.done:
			return
		case <-tick.C:
		}
	}
}

// Lend lends disks, takes them back, or without any lists those that are lent.
func (s *Service) Lend(req control.LendRequest) (*control.LendReply, error) {
	s.admin.Lock()
	defer s.admin.Unlock()
	var names []string
	for _, word := range req.Disks {
		name, err := s.mayLend(word, req)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	if len(names) > 0 {
		if err := s.change(func(m *memory) {
			for _, name := range names {
				at := slices.IndexFunc(m.Lent, func(l lend.Loan) bool { return l.Disk == name })
				switch {
				case req.End && at >= 0:
					m.Lent = slices.Delete(m.Lent, at, at+1)
				case req.End: // it was named twice
				case at >= 0:
					m.Lent[at].To = req.To
				default:
					m.Lent = append(m.Lent, lend.Loan{Disk: name, To: req.To})
				}
			}
		}); err != nil {
			return nil, err
		}
		kind, detail := event.DiskLent, "lent to "+say.List(req.To)
		if req.End {
			kind, detail = event.DiskTakenBack, "it is lent no more"
		}
		for _, name := range names {
			s.event(event.Event{Kind: kind, Disk: name, Detail: detail})
		}
		if s.opt.Stays {
			s.lends.Tend()
		}
		s.seen.Expire()
	}
	return s.lentNow(names), nil
}

// mayLend is the name of a disk that can be lent, or taken back.
func (s *Service) mayLend(word string, req control.LendRequest) (string, error) {
	for _, l := range s.lends.Tell() {
		if !l.Identity.Matches(word) && l.Disk != word {
			continue
		}
		if l.User != "" && !slices.Contains(req.To, l.User) && !req.Force {
			return "", &control.Error{Fatal: true, What: fmt.Sprintf("host %s uses disk %s; without it arrays there have less margin, or fail", l.User, l.Identity),
				Hints: []string{"replace it in its arrays there first", "-yes takes it back all the same"}}
		}
		if req.End { // it may not be there
			return l.Disk, nil
		}
	}
	src, err := s.seen.LocateHere(word)
	if err != nil {
		if far, other := s.seen.Locate(word); other == nil {
			return "", &control.Error{What: fmt.Sprintf("disk %s is lent to this host: only the host that has it lends it", s.lookAt(far).Identity)}
		}
		return "", err
	}
	info := s.lookAt(src)
	name := info.Name()
	lent := s.lends.Of(info.Identity) != ""
	switch {
	case req.End && !lent:
		return "", &control.Error{What: fmt.Sprintf("disk %s is not lent", info.Identity), Hints: []string{"nidalo lend   lists the disks that are"}}
	case req.End || lent:
		return name, nil
	case name == remote.Everything:
		return "", &control.Error{What: fmt.Sprintf("a disk that is called %q cannot be lent", name)}
	case info.Array != "":
		return "", &control.Error{What: fmt.Sprintf("disk %s is in use: %s member of array %q", info.Identity, info.Member, info.Array), Hints: []string{"nidalo stop " + info.Array + "   takes the array out of service, so that another host can have its disks"}}
	}
	if _, spare := s.spareOf(info); spare {
		return "", &control.Error{What: fmt.Sprintf("disk %s is a hot spare", info.Identity), Hints: []string{"nidalo spare -release " + word + "   makes it free"}}
	}
	if info.Carries == "" || info.State == state.DiskBroken || len(info.Held) > 0 {
		if err := s.mayTake(word, info); err != nil {
			return "", err
		}
	}
	return name, nil
}

// lentNow is the reply to Lend: the disks of some names, or all.
func (s *Service) lentNow(names []string) *control.LendReply {
	out := &control.LendReply{Host: s.hostName(), Address: s.config().Lend.Address, Encrypted: s.config().Lend.Cert != "", Runs: s.opt.Stays, Disks: []control.LentDisk{}}
	told := s.lends.Tell()
	s.mu.Lock()
	loans := slices.Clone(s.mem.Lent)
	s.mu.Unlock()
	for _, l := range loans {
		if len(names) > 0 && !slices.Contains(names, l.Disk) {
			continue
		}
		one := control.LentDisk{Name: l.Disk, To: l.To, Identity: state.Identity{Path: l.Disk}}
		if at := slices.IndexFunc(told, func(t lend.Tell) bool { return t.Disk == l.Disk }); at >= 0 {
			t := told[at]
			one.Identity, one.Size, one.There, one.Why, one.User = t.Identity, t.Size, t.There, t.Why, t.User
			one.Read, one.Written, one.Flushes, one.Token = t.Read, t.Written, t.Flushes, t.Token
			if t.User != "" {
				one.Since = &t.Since
			}
		} else if src, err := s.seen.LocateHere(l.Disk); err == nil {
			f, there := s.seen.At(src)
			one.Identity, one.Size, one.There = f.Info.Identity, f.Info.Size, there
		}
		out.Disks = append(out.Disks, one)
	}
	return out
}
