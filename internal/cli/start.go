package cli

import (
	"flag"
	"time"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

var startCommand = command{name: "start", usage: "[-surviving] [-stand-by [-attach]] NAME", short: "put an array into service", least: 1, most: 1,
	help: `
Starts an array that was taken out of service with stop, that comes from another host or home, or that could not start by
itself. An array that has failed is released and started again from its disks; bring the lost disks back first. The records
of the members are judged as at every start, and a doubtful start is refused with the reason.

A guarded set of which more disks are missing than it has parity waits for them. With -surviving the volumes whose disks are
there are started without the others. Use it only when those are lost, and not in use on another host.

An array with disks that other hosts lend is started on one host only. Without an etcd its records are watched for a while when another
host had it last and did not stop it. With one, and with -stand-by, this host takes it over when the host that has it is lost
(docs/other-hosts.md). With -attach it also becomes a device here, whenever this host has it.

  nidalo start charts
  nidalo start -stand-by -attach tides
  nidalo start 0b6f1e2c-8c5e-4c36-9c0f-2f6a5f3f1d77     an array is also named by its identity, when two have one name`,
	with: func(e *env, f *flag.FlagSet) action {
		surviving := f.Bool("surviving", false, "a guarded set: start the volumes whose disks are there, although more disks are missing than there is parity")
		standBy := f.Bool("stand-by", false, "when another host has it, take it over when that one is lost")
		attached := f.Bool("attach", false, "with -stand-by: make it a device of this host, whenever this host has it")
		return func(args []string) error {
			if *attached && !*standBy {
				return usageError{"-attach goes with -stand-by; nidalo attach makes an array that is in service a device"}
			}
			return e.withControl(func(c *control.Control) error {
				late := time.AfterFunc(4*time.Second, func() {
					e.err.Printf("Its disks are being looked at. An array that another host had last, and did not stop, is watched for about 9 s first.\n")
				})
				defer late.Stop()
				a, err := c.Start(control.StartRequest{Array: args[0], Surviving: *surviving, StandBy: *standBy, Attach: *attached})
				if err != nil {
					return err
				}
				if a.Out {
					e.out.Printf("Array %s: %s.\n", a.Name, a.Reason)
					return nil
				}
				e.out.Printf("Array %s is in service: %s, %s.\n", a.Name, a.Condition, view.Survives(*a))
				e.out.Next(a.Next)
				return nil
			})
		}
	},
}
