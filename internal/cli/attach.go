package cli

import (
	"flag"
	"fmt"
	"strings"

	"nidalo/internal/service"
	"nidalo/internal/view"
)

var attachCommand = command{name: "attach", usage: "[-boot] [-connections N] [-json] NAME", short: "make an array a block device of this host", least: 1, most: 1,
	help: `
Makes the array a local block device, for file systems, databases and everything else that wants one, and prints its path:
/dev/nidalo/NAME, which stays the same. Its blocks have 4096 bytes. While an array is attached, clients of the block
protocol may only read it.

The device does not notice when the service is restarted, upgraded or killed: requests wait, and nothing that was
acknowledged is lost. A process of its own holds it, the keeper. With -boot it comes back by itself after a reboot.
docs/attach.md says what survives what, and shows the line for /etc/fstab.

Where the kernel has no client of the block protocol (module nbd), the device is made in user space (modules fuse and loop).
An array as root file system is not supported.

  nidalo attach tides
  nidalo attach -boot tides
  mkfs.ext4 /dev/nidalo/tides
  mount /dev/nidalo/tides /mnt`,
	flags: func(e *env, f *flag.FlagSet) {
		f.IntVar(&e.connections, "connections", 0, "how many the kernel has to the keeper: more may be faster on fast disks and many processors (without it: 1)")
		f.BoolVar(&e.boot, "boot", false, "attach it again after every reboot; -boot=false ends that")
		jsonFlag(e, f)
		e.flagSet = f
	},
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			q := service.AttachRequest{Array: args[0], Connections: e.connections}
			e.flagSet.Visit(func(f *flag.Flag) {
				if f.Name == "boot" {
					q.Boot = &e.boot
				}
			})
			d, err := c.Attach(q)
			if err != nil {
				return err
			}
			if e.json {
				return e.printJSON(d)
			}
			e.out.Printf("%s\n", d.Path)
			e.err.Printf("%s", view.DeviceLines(args[0], d))
			var next []string
			if len(d.UsedBy) == 0 {
				next = []string{fmt.Sprintf("mkfs.ext4 %s   makes a file system, where there is none yet", d.Path),
					fmt.Sprintf("mount %s /mnt   mounts it", d.Path)}
				if !d.Boot {
					next = append(next, fmt.Sprintf("nidalo attach -boot %s   has it come back after a reboot", args[0]))
				}
			}
			e.err.Next(next)
			return nil
		})
	},
}

var detachCommand = command{name: "detach", usage: "[-force] [-yes] NAME", short: "end the block device of an array", least: 1, most: 1,
	help: `
Flushes the device and ends it. It is refused while something uses the device, a mounted file system for example, and says
what that is.

With -force it is ended all the same: a mount that hangs, because its array or the service does not come back, gets errors
and can be unmounted. What the system and the keeper still had to write is lost then; the command says how much the keeper
has, and asks.

  nidalo detach tides
  nidalo detach -force tides`,
	flags: func(e *env, f *flag.FlagSet) {
		f.BoolVar(&e.force, "force", false, "although it is in use: what could not be written is lost")
		yesFlag(e, f)
	},
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			q := service.DetachRequest{Array: args[0], Force: e.force}
			if e.force {
				plan, err := c.Detach(service.DetachRequest{Array: args[0], DryRun: true})
				if err != nil {
					return err
				}
				e.err.Printf("%s would end at once.\n", plan.Device)
				if len(plan.UsedBy) > 0 {
					e.err.Printf("It is in use: %s. That will get errors, and what the system has not written of it is lost.\n", strings.Join(plan.UsedBy, ", "))
				}
				if plan.Unflushed > 0 {
					e.err.Printf("The keeper has up to %s that was acknowledged and is not flushed. The array may not have it.\n", service.FormatSize(plan.Unflushed))
				}
				if err := e.confirm(fmt.Sprintf("detaching array %s by force?", args[0])); err != nil {
					return err
				}
			}
			if _, err := c.Detach(q); err != nil {
				return err
			}
			if e.force {
				e.out.Printf("Array %s is detached. A file system that was mounted of it has to be unmounted, and checked before it is mounted again.\n", args[0])
				return nil
			}
			e.out.Printf("Array %s is detached; everything is flushed.\n", args[0])
			e.out.Next([]string{"nidalo attach " + args[0] + "   makes it a device again"})
			return nil
		})
	},
}
