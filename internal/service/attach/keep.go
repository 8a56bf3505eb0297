package attach

import (
	"os"
	"time"

	"nidalo/core/event"
	"nidalo/internal/keeper"
)

// keepWait is how long an array that should be attached keeps administrators from their work when the keeper is slow; it is tried again.
const keepWait = 10 * time.Second

// Loop sees to it, once a second until the service ends, that what should be attached is. It has a loop of its own, so that a keeper that
// hangs does not keep the service from its disks.
func (d *Desk) Loop() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		d.keep()
		select {
		case <-d.host.Ends:
			return
		case <-tick.C:
		}
	}
}

func (d *Desk) keep() {
	release, ok := d.host.Alone()
	if !ok {
		return
	}
	defer release()
	wanted := len(d.host.Noted()) > 0
	if _, err := os.Stat(keeper.Socket(d.host.Home)); !wanted && err != nil {
		return
	}
	k, err := d.keeper(wanted && !installed())
	var st keeper.State
	if err == nil {
		if st, err = k.State(false, keeper.AnswerTime); err != nil && !installed() {
			keeper.Bury(d.host.Home, keeper.RunFolder(), d.host.Log)
		}
	}
	if err != nil {
		if wanted {
			d.host.Once("keeper", "", err.Error(), event.Event{Kind: event.KeeperAway, Detail: "attached arrays wait for the keeper: " + err.Error()})
		}
		return
	}
	d.host.Once("keeper", "", "", event.Event{Kind: event.KeeperBack, Detail: "the keeper answers"})
	for _, a := range d.host.Arrays() {
		d.keepOne(k, a, of(st, a.ID))
	}
}

// keepOne attaches an array that should have a device and has none, and tells a device how large its array is.
func (d *Desk) keepOne(k *keeper.Client, a Array, device *keeper.Attached) {
	how, want := d.host.Noted()[a.ID]
	switch {
	case device != nil && !want: // the home forgot it: the device counts
		d.host.Note(a.ID, How{})
	case device != nil && device.Refused:
		d.host.Once("attach", a.Name, device.Reason, event.Event{Kind: event.ArrayNotAttached, Array: a.Name, Detail: device.Reason})
	case device != nil:
		d.host.Once("attach", a.Name, "", event.Event{Kind: event.ArrayAttached, Array: a.Name, Detail: "as " + device.Device})
		if device.Connected && device.Size != a.Capacity {
			if err := k.Refresh(keeper.RefreshRequest{Array: a.ID}); err != nil {
				d.host.Log.Warn("the device cannot be told the size of its array", "array", a.Name, "reason", err)
			}
		}
	case want && !how.Boot && !attachedBefore(a.Of): // from before a reboot
		d.host.Forget(a.ID)
	case want:
		made, err := d.Make(a, how, keepWait)
		if err != nil {
			d.host.Once("attach", a.Name, err.Error(), event.Event{Kind: event.ArrayNotAttached, Array: a.Name, Detail: err.Error()})
			return
		}
		d.host.Once("attach", a.Name, "", event.Event{Kind: event.ArrayAttached, Array: a.Name, Detail: "as " + made.Device})
		d.host.Log.Info("array attached", "array", a.Name, "device", made.Device)
	}
}
