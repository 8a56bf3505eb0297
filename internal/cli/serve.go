package cli

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"runtime/pprof"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
	"nidalo/internal/nbd"
	"nidalo/internal/service"
	"nidalo/internal/view"
)

// serveOptions are what can be asked of it.
type serveOptions struct {
	listen, cache, profile string
	debug, checkConfig     bool
}

var serveCommand = command{name: "serve", usage: "[-check-config] [-listen 127.0.0.1:10809]", short: "run the arrays of this home and let clients reach them", most: 0,
	help: `
Starts the arrays of this home and serves each, by its name, over the network block protocol on nbd.sock in the home. Other
commands reach the service through control.sock. Both sockets are their owner's only, unless nidalo.toml names a group.

The service looks at its disks every second: a member that comes back catches up, a spare takes over, paces change with the
hours. The file nidalo.toml in the home sets which disks it looks at, where else it listens, where alerts go, and when a disk
is judged (docs/configuration.md). SIGHUP reads the file again, and -check-config only checks it. Over TCP, clients must
encrypt and show a certificate (listen.tls); plain TCP is for loopback addresses.

On an interrupt or SIGTERM it flushes everything, notes the progress of its tasks, and stops. A second interrupt stops it at
once, and loses nothing that was flushed. Under systemd it reports when it is ready, and that it is alive.

  nidalo serve
  nidalo serve -check-config
  nidalo serve -listen 127.0.0.1:10809`,
	with: func(e *env, f *flag.FlagSet) action {
		o := &serveOptions{}
		f.StringVar(&o.listen, "listen", "", "also serve on this TCP `ADDRESS`, of the loopback only")
		f.StringVar(&o.cache, "cache", "128MiB", "the `SIZE` of each array's cache of writes")
		f.StringVar(&o.profile, "profile", "", "write a CPU profile to this `FILE` until the service stops")
		f.BoolVar(&o.debug, "debug", false, "log more")
		f.BoolVar(&o.checkConfig, "check-config", false, "check nidalo.toml, and do nothing")
		return func([]string) error {
			return o.run(e)
		}
	},
}

// measure begins to note where time is spent, when that is wanted; done ends it.
func (o *serveOptions) measure() (done func(), err error) {
	if o.profile == "" {
		return func() {}, nil
	}
	f, err := os.Create(o.profile)
	if err != nil {
		return nil, err
	}
	if err := pprof.StartCPUProfile(f); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return func() {
		pprof.StopCPUProfile()
		_ = f.Close()
	}, nil
}

func (o *serveOptions) run(e *env) error {
	cfg, err := service.ReadConfig(e.home)
	if err != nil {
		return err
	}
	if o.checkConfig {
		return checkFiles(e, cfg)
	}
	cache, err := say.ParseSize(o.cache)
	if err != nil || cache < 1<<20 {
		return usageError{"-cache: at least 1MiB"}
	}
	level := slog.LevelInfo
	if o.debug {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(e.err.Out, &slog.HandlerOptions{Level: level}))
	at := &ears{home: e.home}
	defer at.close()
	defer at.closeLoans()
	if err := at.openNetwork(cmp.Or(o.listen, cfg.Listen.TCP), cfg); err != nil {
		return err
	}
	// Mostly table pages live long on the heap, so a tight heap costs little and keeps memory within bounds. A heap with few pages would be
	// collected a hundred times a second under load. The ballast makes it count as larger, and takes no memory since nothing touches it.
	debug.SetGCPercent(40)
	ballast := make([]byte, 16<<20)
	defer runtime.KeepAlive(ballast)
	measured, err := o.measure()
	if err != nil {
		return err
	}
	defer measured()
	for _, why := range keeper.Steady() {
		log.Debug("the service may stall when memory is short", "reason", why)
	}
	stop, reload := make(chan os.Signal, 2), make(chan os.Signal, 1)
	signal.Notify(stop, os.Interrupt, syscall.SIGTERM)
	signal.Notify(reload, syscall.SIGHUP)
	failed, lent := make(chan error, 8), func() {}
	s, err := service.Open(service.Options{Home: e.home, Stays: true, NoHost: noHost(), Cache: cache, Log: log, Lend: func(x nbd.Exports) { lent = at.lend(x, failed, log) }})
	if err != nil {
		return err
	}
	if err := at.openSockets(cfg.Group, cfg.Looks); err != nil {
		return errors.Join(err, s.Close())
	}
	blocks, err := newBlocks(s, log)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	at.serve(s, blocks, cfg.Listen.Budget(), failed, log)
	log.Info("serving", "home", e.home, "arrays", len(s.Names()), "socket", at.path("nbd.sock"))
	notify(log, daemon.SdNotifyReady)
	alive := watchdog(s, log)
	defer alive()
	err = attend(s, stop, reload, failed, log)
	return errors.Join(err, shut(s, at, blocks, lent, stop, log))
}

// newBlocks makes the server of a service's arrays.
func newBlocks(s *service.Service, log *slog.Logger) (*nbd.Server, error) {
	out := nbd.NewServer(s, log)
	from, tell, err := s.TellSlow()
	if tell != nil {
		out.OnSlow(from, tell)
	}
	return out, err
}

// checkFiles looks at the files that a configuration names.
func checkFiles(e *env, cfg service.Config) error {
	err := cfg.CheckCertificates()
	if err == nil {
		e.out.Printf("%s is right.\n", filepath.Join(e.home, service.ConfigName))
	}
	return err
}

// attend reads the configuration again when it is asked to, until the service is to stop; then it returns why, if a listener failed.
func attend(s *service.Service, stop, reload <-chan os.Signal, failed <-chan error, log *slog.Logger) error {
	for {
		select {
		case <-reload:
			notify(log, daemon.SdNotifyReloading)
			if err := s.Reload(); err != nil {
				log.Error("the configuration is wrong and was not taken; the one before stays in force", "reason", err)
			} else {
				log.Info("configuration read again; listeners and the group change with a restart")
			}
			notify(log, daemon.SdNotifyReady)
		case sig := <-stop:
			log.Info("stopping", "signal", sig.String())
			return nil
		case err := <-failed:
			log.Error("a listener failed", "reason", err)
			return err
		}
	}
}

// shut ends a service in order: users of attached arrays first, then clients, then the arrays. A second signal ends it at once.
func shut(s *service.Service, at *ears, blocks *nbd.Server, lent func(), stop chan os.Signal, log *slog.Logger) error {
	notify(log, daemon.SdNotifyStopping)
	s.AwaitUnused(closedBy(stop))
	go func() {
		<-stop
		log.Warn("stopping at once; writes that were not flushed may be lost")
		os.Exit(Could)
	}()
	began := time.Now()
	at.close()
	blocks.Close()
	err := s.Close()
	// Its own arrays may be on disks that it lends.
	at.closeLoans()
	lent()
	if err != nil {
		return err
	}
	log.Info("stopped; everything is flushed", "took", time.Since(began).Round(time.Millisecond).String())
	return nil
}

// ears is everything at which a service listens. What is not asked for is nil.
type ears struct {
	home                    string
	door                    *door
	loans                   net.Listener // where disks are lent
	encrypted               *tls.Config
	metrics                 net.Listener
	watched                 net.Listener // where others may look at this host
	watchedTLS              *tls.Config
	watchers                []string // who may; nil: who reaches it
	data, looking, commands net.Listener
	closing                 sync.Once
}

func (at *ears) path(name string) string { return filepath.Join(at.home, name) }

// openNetwork opens what is on the network, before anything else is touched.
func (at *ears) openNetwork(plain string, cfg service.Config) (err error) {
	if at.door, err = openDoor(plain, cfg.Listen.TLS); err == nil && cfg.Listen.Metrics != "" {
		at.metrics, err = listenLoopback(cfg.Listen.Metrics)
	}
	if err != nil {
		return err
	}
	if err := at.openWatched(cfg); err != nil {
		return err
	}
	address, settings, err := cfg.LendAt()
	if err != nil || address == "" {
		return err
	}
	at.encrypted = settings
	// A host that went without a word has its sessions ended soon, so that another run of it gets its disks.
	l := net.ListenConfig{KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: 5 * time.Second, Interval: 5 * time.Second, Count: 3}}
	at.loans, err = l.Listen(context.Background(), "tcp", address)
	return err
}

// openWatched opens where other hosts may look at this one.
func (at *ears) openWatched(cfg service.Config) error {
	address, settings, err := cfg.WatchedAt()
	if err != nil || address == "" {
		return err
	}
	if at.watched, err = net.Listen("tcp", address); settings != nil {
		at.watchedTLS, at.watchers = settings, cfg.Fleet.Watchers
	}
	return err
}

// lend begins to serve disks to other hosts, if that is asked for; done ends it.
func (at *ears) lend(x nbd.Exports, failed chan<- error, log *slog.Logger) (done func()) {
	if at.loans == nil {
		return func() {}
	}
	loans := nbd.NewServer(x, log)
	go func() {
		if at.encrypted != nil {
			failed <- loans.ServeTLS(at.loans, nbd.Budget{}, at.encrypted)
		} else {
			failed <- loans.Serve(at.loans, nbd.Budget{})
		}
	}()
	log.Info("lending disks", "address", at.loans.Addr().String(), "encrypted", at.encrypted != nil)
	return loans.Close
}

// openSockets opens the sockets in the home, for a group each.
func (at *ears) openSockets(group, looks string) (err error) {
	if at.data, err = control.Listen(at.path("nbd.sock"), group); err != nil {
		return err
	}
	if looks != "" {
		if at.looking, err = control.Listen(control.LookingSocket(at.home), looks); err != nil {
			return err
		}
	}
	// The last to listen: a process that finds the control socket finds all others.
	if at.commands, err = control.Listen(control.Socket(at.home), group); err == nil && group != "" && looks != "" {
		err = control.OpenHome(at.home) // for both groups
	}
	return err
}

// serve begins to answer. Listeners tell when they have failed.
func (at *ears) serve(s *service.Service, blocks *nbd.Server, budget nbd.Budget, failed chan<- error, log *slog.Logger) {
	if at.looking != nil {
		go func() { failed <- control.Serve(at.looking, control.Looking(s.Control(), log)) }()
	}
	go func() { failed <- control.Serve(at.commands, control.Handler(s.Control(), log)) }()
	go func() { failed <- blocks.Serve(at.data, budget) }()
	at.door.serve(blocks, budget, failed, log)
	if at.watched != nil {
		go func() {
			failed <- control.ServeFar(at.watched, at.watchedTLS, control.Watched(at.watchers, s.Control(), log))
		}()
		log.Info("others may look here", "address", at.watched.Addr().String(), "encrypted", at.watchedTLS != nil, "watchers", strings.Join(at.watchers, ", "))
	}
	if at.metrics != nil {
		mux := http.NewServeMux()
		mux.Handle("GET /metrics", promhttp.HandlerFor(gatherer(s), promhttp.HandlerOpts{EnableOpenMetrics: true}))
		go func() { failed <- control.ServeMetrics(at.metrics, mux) }()
		log.Info("metrics", "address", "http://"+at.metrics.Addr().String()+"/metrics")
	}
}

// close stops listening and takes the sockets away.
func (at *ears) close() {
	at.closing.Do(func() {
		for _, one := range []struct {
			net.Listener
			path string
		}{{at.commands, control.Socket(at.home)}, {at.looking, control.LookingSocket(at.home)}, {at.data, at.path("nbd.sock")}} {
			if one.Listener != nil {
				_ = one.Close()
				_ = os.Remove(one.path)
			}
		}
		for _, l := range []net.Listener{at.metrics, at.watched} {
			if l != nil {
				_ = l.Close()
			}
		}
		if at.door != nil {
			at.door.close()
		}
	})
}

// closeLoans stops listening for hosts that want disks of this one.
func (at *ears) closeLoans() {
	if at.loans != nil {
		_ = at.loans.Close()
	}
}

// closedBy is closed when a signal comes; that signal stays to be had.
func closedBy(stop chan os.Signal) <-chan struct{} {
	out := make(chan struct{})
	go func() {
		sig := <-stop
		close(out)
		stop <- sig
	}()
	return out
}

// gatherer collects the state of a service, at each time it is asked.
func gatherer(s *service.Service) prometheus.Gatherer {
	r := prometheus.NewRegistry()
	r.MustRegister(view.Metrics{Look: func() (*control.Status, error) { return s.Status("") }, Health: s.Health})
	return r
}

func notify(log *slog.Logger, state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		log.Warn("systemd cannot be told", "state", state, "reason", err)
	}
}

// watchdog tells systemd, as often as it wants, that the service answers.
func watchdog(s *service.Service, log *slog.Logger) (stop func()) {
	interval, err := daemon.SdWatchdogEnabled(false)
	if err != nil || interval == 0 {
		return func() {}
	}
	done := make(chan struct{})
	go func() {
		tick := time.NewTicker(interval / 3)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				if err := s.Alive(); err != nil { // or it does not come back at all
					log.Error("the watchdog is not told that all is well", "reason", err)
					continue
				}
				notify(log, daemon.SdNotifyWatchdog)
			}
		}
	}()
	return func() { close(done) }
}

// door is the listeners on the network.
type door struct {
	plain, secure net.Listener
	settings      *tls.Config
}

func openDoor(plain string, secure service.ListenTLS) (d *door, err error) {
	d = &door{}
	if plain != "" {
		if d.plain, err = listenLoopback(plain); err != nil {
			return nil, err
		}
	}
	if secure.Address != "" {
		if d.settings, err = secure.Load("listen.tls"); err == nil {
			d.secure, err = net.Listen("tcp", secure.Address)
		}
		if err != nil {
			d.close()
			return nil, err
		}
	}
	return d, nil
}

func (d *door) close() {
	for _, l := range []net.Listener{d.plain, d.secure} {
		if l != nil {
			_ = l.Close()
		}
	}
}

func (d *door) serve(blocks *nbd.Server, budget nbd.Budget, failed chan<- error, log *slog.Logger) {
	if d.plain != nil {
		go func() { failed <- blocks.Serve(d.plain, budget) }()
		log.Info("listening", "address", d.plain.Addr().String())
	}
	if d.secure != nil {
		go func() { failed <- blocks.ServeTLS(d.secure, budget, d.settings) }()
		log.Info("listening, encrypted", "address", d.secure.Addr().String())
	}
}

// listenLoopback listens on a TCP address that cannot be reached from other hosts.
func listenLoopback(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, usageError{fmt.Sprintf("-listen %s: write HOST:PORT, for example 127.0.0.1:10809", address)}
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, &control.Error{What: fmt.Sprintf("-listen %s: only loopback addresses (127.0.0.1, ::1, localhost): the connection is not encrypted", address)}
	}
	return net.Listen("tcp", address)
}
