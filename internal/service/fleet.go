package service

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"

	"nidalo/core/state"
	"nidalo/internal/fleet"
	"nidalo/internal/ownership"
)

// Several hosts are watched together: who may look at this one, and which ones this one looks at.

// Fleet is how.
type Fleet struct {
	Address  string   `toml:"address"`  // where others may look at this host
	Watchers []string `toml:"watchers"` // names in certificates of those who may
	Hosts    []string `toml:"hosts"`    // that are looked at: HOST or HOST:PORT
	Certificates
}

func (f Fleet) check() error {
	if err := f.Certificates.check("fleet"); err != nil {
		return err
	}
	if f.Address != "" {
		host, _, err := net.SplitHostPort(f.Address)
		switch {
		case err != nil:
			return wrongKey{"fleet.address", fmt.Sprintf("%q: write HOST:PORT, for example 0.0.0.0:%s", f.Address, fleet.DefaultPort)}
		case f.Cert == "" && !fleet.Loopback(host):
			return wrongKey{"fleet.address", fmt.Sprintf("%q: without a certificate only loopback addresses (127.0.0.1, ::1, localhost): the connection is not encrypted", f.Address)}
		case f.Cert != "" && len(f.Watchers) == 0:
			return wrongKey{"fleet.watchers", "is needed: the names in certificates of those who may look"}
		}
	} else if len(f.Watchers) > 0 {
		return wrongKey{"fleet.address", "is needed, for example \"0.0.0.0:" + fleet.DefaultPort + "\""}
	}
	for _, h := range f.Hosts {
		if _, err := fleet.ParseHost(h); err != nil {
			return wrongKey{"fleet.hosts", fmt.Sprintf("%q: %v", h, err)}
		}
	}
	return nil
}

// WatchedAt is where others may look at this host: encrypted when settings are there.
func (c *Config) WatchedAt() (address string, settings *tls.Config, err error) {
	settings, err = c.Fleet.Load("fleet")
	return c.Fleet.Address, settings, err
}

// Watched is the hosts that this one looks at, and how: those of the configuration, or, when it names none, those that have told etcd where they are watched.
func (c *Config) Watched(ctx context.Context) (hosts []fleet.Host, settings *tls.Config, err error) {
	if settings, err = c.Fleet.Load("fleet"); err != nil {
		return nil, nil, err
	}
	for _, word := range c.Fleet.Hosts {
		h, err := fleet.ParseHost(word)
		if err != nil {
			return nil, nil, fmt.Errorf("host %q: %w", word, err)
		}
		hosts = append(hosts, h)
	}
	if len(hosts) > 0 || len(c.Ownership.Etcd) == 0 {
		return hosts, settings, nil
	}
	set, err := c.ownership()
	if err != nil {
		return nil, nil, err
	}
	told, err := ownership.Watched(ctx, set)
	for _, t := range told {
		h, err := fleet.ParseHost(t.Address)
		if err != nil {
			h = fleet.Unusable("", state.Printable(t.Address), fmt.Errorf("etcd has no address for it that can be asked: %w", err))
		}
		h.Name = state.Printable(t.Host)
		hosts = append(hosts, h)
	}
	return hosts, settings, err
}

// Forget has etcd forget where a host is watched; known: it did know.
func (c *Config) Forget(ctx context.Context, host string) (known bool, err error) {
	if len(c.Fleet.Hosts) > 0 || len(c.Ownership.Etcd) == 0 {
		return false, nil
	}
	set, err := c.ownership()
	if err != nil {
		return false, err
	}
	return ownership.ForgetWatched(ctx, set, host)
}

// ownership is how etcd is reached.
func (c *Config) ownership() (set ownership.Settings, err error) {
	set.Endpoints = c.Ownership.Etcd
	set.TLS, err = c.Ownership.Load("ownership")
	return set, err
}

// watchedFrom is the address at which others ask a host, or nothing.
func watchedFrom(name string, f Fleet) string {
	switch {
	case f.Address == "":
		return ""
	case f.Cert == "":
		return "http://" + seenFrom(name, f.Address)
	}
	return seenFrom(name, f.Address)
}
