package cli

import (
	"errors"
	"flag"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
)

// keeperOptions are what can be asked of it.
type keeperOptions struct {
	leave, userSpace bool
	carry            string
}

var keeperCommand = command{name: "keeper", usage: "[-leave]", short: "hold the devices of attached arrays (runs by itself)",
	help: `
The process that holds the devices of attached arrays while the service is restarted, upgraded or killed. It listens on
keeper.sock in the home, for the service only. The package runs it as nidalo-keeper.service; a service that was started by
hand starts one when the first array is attached.

It is never restarted for an upgrade. When it is stopped, devices of the kernel's client stay and hold their requests until
another keeper takes them over. Devices in user space end with it, so it waits until they are no longer in use and everything
is flushed, which needs the service. A second signal ends it at once.

  nidalo keeper`,
	with: func(e *env, f *flag.FlagSet) action {
		o := &keeperOptions{}
		f.BoolVar(&o.leave, "leave", false, "end when no device is left")
		f.BoolVar(&o.userSpace, "user-space", os.Getenv("NIDALO_KEEPER_USER_SPACE") != "", "make devices in user space even where the kernel has a client")
		f.StringVar(&o.carry, "carry-over", "64MiB", "the `SIZE` of the unflushed data that each device may have")
		return func([]string) error {
			return o.run(e)
		}
	},
}

func (o *keeperOptions) run(e *env) error {
	carry, err := say.ParseSize(o.carry)
	if err != nil {
		return usageError{"-carry-over: " + err.Error()}
	}
	log := slog.New(slog.NewTextHandler(e.err.Out, nil))
	defer keeper.OnePlaceMore()()
	debug.SetGCPercent(40)
	unsteady := keeper.Steady()
	for _, why := range unsteady {
		log.Warn("the keeper may stall when memory is short", "reason", why)
	}
	stop := make(chan os.Signal, 2)
	signal.Notify(stop, os.Interrupt, syscall.SIGTERM)
	signal.Ignore(syscall.SIGHUP)
	keeper.Bury(e.home, keeper.RunFolder(), log)
	// Before the devices are taken over: of two keepers one gives up here.
	l, err := control.Listen(keeper.Socket(e.home), "")
	if err != nil {
		return err
	}
	k, err := keeper.Open(keeper.Options{Home: e.home, Run: keeper.RunFolder(), Program: Version, Carry: carry, NoKernel: o.userSpace, Log: log, Unsteady: unsteady})
	if err != nil {
		return errors.Join(err, l.Close())
	}
	failed := make(chan error, 1)
	go func() { failed <- control.Serve(l, k.Handler()) }()
	log.Info("keeping", "home", e.home, "devices", len(k.State(false).Devices))
	notify(log, daemon.SdNotifyReady)
	began := time.Now()
	for running := true; running; {
		select {
		case sig := <-stop:
			log.Info("stopping", "signal", sig.String())
			running = false
		case err = <-failed:
			running = false
		case <-k.Idle():
			time.Sleep(300 * time.Millisecond) // for the answer to reach the caller
			running = !(o.leave && k.Empty())
		case <-time.After(time.Second):
			running = !(o.leave && time.Since(began) > 20*time.Second && k.Empty())
		}
	}
	notify(log, daemon.SdNotifyStopping)
	give := make(chan struct{})
	go func() {
		<-stop
		close(give)
	}()
	err = errors.Join(err, k.Close(give))
	_ = l.Close()
	_ = os.Remove(keeper.Socket(e.home))
	return err
}
