package cli

import (
	"flag"
	"fmt"
	"strings"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

var detachCommand = command{name: "detach", usage: "[-force] [-yes] NAME", short: "end the block device of an array", least: 1, most: 1,
	help: `
Flushes the device and ends it. It is refused, with the name of the user, while a mounted file system or a program uses the
device.

-force ends it all the same. A mount that hangs, because its array or the service does not come back, then gets errors and can
be unmounted. Data that the system and the keeper have not written yet is lost; the command says how much the keeper has,
and asks.

  nidalo detach tides
  nidalo detach -force tides`,
	with: func(e *env, f *flag.FlagSet) action {
		var force bool
		f.BoolVar(&force, "force", false, "although it is in use; data that could not be written is lost")
		yesFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				q := control.DetachRequest{Array: args[0], Force: force}
				if force {
					plan, err := c.Detach(control.DetachRequest{Array: args[0], DryRun: true})
					if err != nil {
						return err
					}
					e.err.Printf("%s would end at once.\n", plan.Device)
					if len(plan.UsedBy) > 0 {
						e.err.Printf("It is in use: %s. Its users will get errors, and data that the system has not written yet is lost.\n", strings.Join(plan.UsedBy, ", "))
					}
					if plan.Unflushed > 0 {
						e.err.Printf("The keeper has up to %s that was acknowledged and is not flushed. The array may not have it.\n", say.Size(plan.Unflushed))
					}
					if err := e.confirm(fmt.Sprintf("detaching array %s by force?", args[0])); err != nil {
						return err
					}
				}
				if _, err := c.Detach(q); err != nil {
					return err
				}
				if force {
					e.out.Printf("%s is detached. A file system that was mounted of it has to be unmounted, and checked before it is mounted again.\n", view.Served(args[0]))
					return nil
				}
				e.out.Printf("%s is detached; everything is flushed.\n", view.Served(args[0]))
				e.out.Next([]string{"nidalo attach " + args[0] + "   makes it a device again"})
				return nil
			})
		}
	},
}
