package cli

import (
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"runtime/pprof"
	"syscall"
	"time"

	"nidalo/internal/api"
	"nidalo/internal/nbd"
	"nidalo/internal/service"
)

var serveCommand = command{name: "serve", usage: "[-listen 127.0.0.1:10809]", short: "run the arrays of this home and let clients reach them", most: 0,
	help: `
Starts every array found on the disks of this home and serves each, by its name, over the network block protocol on
nbd.sock in the home. Other commands reach the service through control.sock. Both sockets are its owner's only. With
-listen the protocol is served over TCP as well, on a loopback address only: it is not encrypted.

The service stops on an interrupt or SIGTERM: it flushes everything, notes where its tasks are, and says so. A second
interrupt stops at once; nothing flushed is lost by that.

  nidalo serve
  nidalo serve -listen 127.0.0.1:10809`,
	flags: func(e *env, f *flag.FlagSet) {
		f.StringVar(&e.listen, "listen", "", "also serve on this TCP `ADDRESS`, of the loopback only")
		f.StringVar(&e.cache, "cache", "128MiB", "the `SIZE` of each array's cache of writes")
		f.StringVar(&e.profile, "profile", "", "write a CPU profile to this `FILE` until the service stops")
		f.BoolVar(&e.debug, "debug", false, "log more")
	},
	run: serve,
}

func serve(e *env, _ []string) error {
	cache, err := service.ParseSize(e.cache)
	if err != nil || cache < 1<<20 {
		return usageError{"-cache: at least 1MiB"}
	}
	level := slog.LevelInfo
	if e.debug {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(e.err.Out, &slog.HandlerOptions{Level: level}))
	var tcp net.Listener
	if e.listen != "" {
		if tcp, err = listenLoopback(e.listen); err != nil {
			return err
		}
		defer tcp.Close()
	}
	// What lives long on the heap is table pages; a tighter heap costs little and keeps memory within bounds.
	debug.SetGCPercent(40)
	if e.profile != "" {
		f, err := os.Create(e.profile)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
		defer pprof.StopCPUProfile()
	}
	stop := make(chan os.Signal, 2)
	signal.Notify(stop, os.Interrupt, syscall.SIGTERM)
	s, err := service.Open(service.Options{Home: e.home, Stays: true, Cache: cache, Log: log})
	if err != nil {
		return err
	}
	blocks := nbd.NewServer(s, log)
	control, err := api.Listen(api.Socket(e.home))
	if err != nil {
		return errors.Join(err, s.Close())
	}
	data, err := api.Listen(filepath.Join(e.home, "nbd.sock"))
	if err != nil {
		return errors.Join(err, control.Close(), s.Close())
	}
	failed := make(chan error, 4)
	go func() { failed <- api.Serve(control, api.Handler(s, log)) }()
	go func() { failed <- blocks.Serve(data) }()
	if tcp != nil {
		go func() { failed <- blocks.Serve(tcp) }()
		log.Info("listening", "address", tcp.Addr().String())
	}
	log.Info("serving", "home", e.home, "arrays", len(s.Names()), "socket", filepath.Join(e.home, "nbd.sock"))

	select {
	case sig := <-stop:
		log.Info("stopping", "signal", sig.String())
	case err = <-failed:
		log.Error("a listener failed", "reason", err)
	}
	go func() {
		<-stop
		log.Warn("stopping at once; what was not flushed may be lost")
		os.Exit(Could)
	}()
	began := time.Now()
	_ = control.Close()
	blocks.Close()
	err = errors.Join(err, s.Close())
	_ = os.Remove(api.Socket(e.home))
	_ = os.Remove(filepath.Join(e.home, "nbd.sock"))
	if err == nil {
		log.Info("stopped; everything is flushed", "took", time.Since(began).Round(time.Millisecond).String())
	}
	return err
}

// listenLoopback listens on a TCP address that cannot be reached from other hosts.
func listenLoopback(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, usageError{fmt.Sprintf("-listen %s: write HOST:PORT, for example 127.0.0.1:10809", address)}
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, &service.Error{What: fmt.Sprintf("-listen %s: only loopback addresses (127.0.0.1, ::1, localhost): the connection is not encrypted", address)}
	}
	return net.Listen("tcp", address)
}
