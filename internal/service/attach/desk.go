// Package attach is what the service has to do with the keeper, the process that holds attached devices: it finds or starts one, has it
// make and end devices, and sees to it that what should be attached is.
package attach

import (
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"nidalo/core/event"
	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/keeper"
)

// Prefix begins the names of exports for the keeper, followed by the identity of an array and a session: no array has a slash in its name.
const Prefix = "attached/"

// How is how an array is attached, as the home remembers it.
type How struct {
	Boot        bool `json:"boot"`
	Connections int  `json:"connections,omitempty"`
}

// Array is an array in service, or a volume of a guarded set.
type Array struct {
	ID, Name string
	Of       string // the identity of the array, which a volume does not share
	Capacity int64  // bytes
}

// Host is what the desk needs of the service.
type Host struct {
	Home   string
	Log    *slog.Logger
	Ends   <-chan struct{}                                // closed when the service ends
	Once   func(kind, array, state string, e event.Event) // tells of a state that is not the one told last
	Arrays func() []Array                                 // in service
	Noted  func() map[string]How                          // a copy of what is remembered, by identity
	Note   func(id string, how How)
	Forget func(id string)
	Alone  func() (release func(), ok bool) // keeps administrators out, unless one is at work
}

// Desk is the attached arrays of a home.
type Desk struct{ host Host }

// New makes a desk. Loop does its work.
func New(host Host) *Desk { return &Desk{host} }

func (d *Desk) socket() string { return filepath.Join(d.host.Home, "nbd.sock") }

// Make has the keeper make the device of an array, or find it, for at most so long.
func (d *Desk) Make(a Array, how How, most time.Duration) (keeper.Attached, error) {
	k, err := d.keeper(true)
	if err != nil {
		return keeper.Attached{}, err
	}
	return k.Attach(keeper.AttachRequest{Array: a.ID, Name: a.Name, Socket: d.socket(), Export: Prefix + a.ID, Connections: how.Connections}, most)
}

// End has the keeper end the device of an array, which name is for messages.
func (d *Desk) End(id, name string, force bool) error {
	k, err := d.keeper(false)
	if err == nil {
		err = k.Detach(keeper.DetachRequest{Array: id, Force: force, Socket: d.socket(), Export: Prefix + id})
	}
	var no *keeper.Refused
	if !errors.As(err, &no) || !no.InUse {
		return err
	}
	hints := []string{"close what uses it first"}
	for _, by := range no.Held {
		if at, mounted := strings.CutPrefix(by, "mounted at "); mounted {
			hints[0] = "umount " + say.Quote(at) + "   unmounts it"
		}
	}
	return &control.Error{What: no.What, Hints: append(hints, fmt.Sprintf("nidalo detach -force %s   ends it all the same; data that it could not write is lost", say.Quote(name)))}
}

// keeper finds the keeper of the home. Where none is installed, one is started when it is wanted.
func (d *Desk) keeper(wanted bool) (*keeper.Client, error) {
	k, err := keeper.Dial(d.host.Home)
	if err == nil || !wanted {
		return k, err
	}
	if installed() {
		return nil, &control.Error{What: "the keeper is not running: " + keeper.Socket(d.host.Home), Hints: []string{"systemctl start nidalo-keeper   starts it"}}
	}
	return start(d.host.Home)
}

// installed says that a service manager runs this process: a keeper that it started itself would end with it.
func installed() bool { return os.Getenv("INVOCATION_ID") != "" }

func start(home string) (*keeper.Client, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	log, err := os.OpenFile(filepath.Join(home, "keeper.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(self, "keeper", "-home", home, "-leave")
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	late := time.After(keepWait)
	for {
		select {
		case <-late:
			return nil, &control.Error{What: fmt.Sprintf("the keeper that was started does not answer for %s", keepWait), Hints: []string{"its log is " + log.Name()}}
		case err := <-ended:
			return nil, &control.Error{What: fmt.Sprintf("the keeper ended at once: %v", err), Hints: []string{"its log is " + log.Name()}}
		case <-time.After(50 * time.Millisecond):
		}
		if k, err := keeper.Dial(home); err == nil {
			return k, nil
		}
	}
}

// Of is the device of an array; nil when there is none.
func (d *Desk) Of(id string) (*keeper.Attached, error) {
	k, err := d.keeper(false)
	if err != nil {
		return nil, &control.Error{What: "the keeper is not running, so nothing is known of devices: " + keeper.Socket(d.host.Home),
			Hints: []string{"systemctl start nidalo-keeper   starts the installed one", "nidalo keeper   runs it here"}}
	}
	st, err := k.State(true, keeper.WorkTime)
	if err != nil {
		return nil, err
	}
	return of(st, id), nil
}

func of(st keeper.State, id string) *keeper.Attached {
	if i := slices.IndexFunc(st.Devices, func(a keeper.Attached) bool { return a.Array == id }); i >= 0 {
		return &st.Devices[i]
	}
	return nil
}

// Status is a device as commands are told of it.
func Status(a keeper.Attached, how How) *control.DeviceStatus {
	d := &control.DeviceStatus{Path: cmp.Or(a.Link, a.Device), Device: a.Device, Kind: a.Kind, Boot: how.Boot, Connected: a.Connected, Reason: a.Reason, Lost: a.Lost, Unflushed: a.Unflushed, UsedBy: a.UsedBy}
	for _, by := range a.UsedBy {
		if at, yes := strings.CutPrefix(by, "mounted at "); yes {
			d.Mounted = append(d.Mounted, at)
		}
	}
	return d
}

// Devices is what arrays are attached as, by identity. One that should be attached and is not has the reason.
func (d *Desk) Devices() map[string]*control.DeviceStatus {
	noted := d.host.Noted()
	if len(noted) == 0 {
		return nil
	}
	out := map[string]*control.DeviceStatus{}
	for id, how := range noted {
		out[id] = &control.DeviceStatus{Boot: how.Boot, Reason: "the keeper is not running"}
	}
	k, err := d.keeper(false)
	if err != nil {
		return out
	}
	st, err := k.State(true, keeper.AnswerTime)
	for id := range out {
		out[id].Reason = "it is about to be attached"
		if err != nil {
			out[id].Reason = err.Error()
		}
	}
	for _, a := range st.Devices {
		if _, ours := out[a.Array]; ours {
			out[a.Array] = Status(a, noted[a.Array])
		}
	}
	return out
}

// AwaitUnused waits, while the host shuts down, until the attached devices are no longer in use, or give is closed.
func (d *Desk) AwaitUnused(give <-chan struct{}) {
	if len(d.host.Noted()) == 0 || !keeper.HostStops() {
		return
	}
	for told := false; ; {
		var by []string
		for _, device := range d.Devices() {
			by = append(by, device.UsedBy...)
		}
		if len(by) == 0 {
			return
		}
		if !told {
			d.host.Log.Info("waiting until the attached arrays are no longer in use", "by", strings.Join(by, ", "))
			told = true
		}
		select {
		case <-give:
			return
		case <-time.After(200 * time.Millisecond):
		}
	}
}
