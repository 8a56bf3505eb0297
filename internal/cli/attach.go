package cli

import (
	"flag"
	"fmt"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

var attachCommand = command{name: "attach", usage: "[-boot] [-connections N] [-json] NAME", short: "make an array a block device of this host", least: 1, most: 1,
	help: `
Makes the array a local block device for file systems, databases and other programs, and prints its path, /dev/nidalo/NAME,
which never changes. Its blocks have 4096 bytes. While an array is attached, clients of the block
protocol may only read it.

The device does not notice when the service is restarted, upgraded or killed: requests wait, and nothing that was
acknowledged is lost. A separate process, the keeper, holds it. With -boot it comes back by itself after a reboot.
docs/attach.md lists the failures that a device survives, and shows the line for /etc/fstab.

Where the kernel has no client of the block protocol (module nbd), the device is made in user space (modules fuse and loop).
An array as root file system is not supported. Of a guarded set each volume is attached by itself, as NAME/VOLUME.

  nidalo attach tides
  nidalo attach -boot tides
  nidalo attach archive/logbooks
  mkfs.ext4 /dev/nidalo/tides
  mount /dev/nidalo/tides /mnt`,
	with: func(e *env, f *flag.FlagSet) action {
		var (
			connections int
			boot        bool
		)
		f.IntVar(&connections, "connections", 0, "the number of connections between the kernel and the keeper; more may be faster on fast disks and many processors (without it: 1)")
		f.BoolVar(&boot, "boot", false, "attach it again after every reboot; -boot=false ends that")
		jsonFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				q := control.AttachRequest{Array: args[0], Connections: connections}
				f.Visit(func(f *flag.Flag) {
					if f.Name == "boot" {
						q.Boot = &boot
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
		}
	},
}
