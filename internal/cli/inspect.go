package cli

import (
	"flag"

	"nidalo/internal/control"
)

var inspectCommand = command{name: "inspect", usage: "[-json] DISK…", short: "show the record, roster and journal on a disk", least: 1, most: -1, looks: true,
	help: `
Reads what disks carry, members or not: both copies of the member record, the roster, what the disk believes about the
others, and the state of its journal. Several disks of one array are compared: which is the newest, and which disagree. Nothing
is written. A disk of an array in service may change while it is read.

  nidalo inspect A3
  nidalo inspect A1 A2 A3
  nidalo inspect -json /dev/DISK`,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				names, err := e.many(c, args...)
				if err != nil {
					return err
				}
				r, err := c.Inspect(names)
				if err != nil {
					return err
				}
				if e.json {
					return e.printJSON(r)
				}
				e.out.Inspected(r)
				return nil
			})
		}
	},
}
