package cli

import (
	"flag"

	"nidalo/internal/control"
)

var stopCommand = command{name: "stop", usage: "[-yes] NAME", short: "take an array out of service", least: 1, most: 1,
	help: `
Flushes an array and lets its disks go, so that they can be moved to another host. It stays out of service, also over a
restart of the service, until it is started again. Refused while clients are connected to it. When the file of a member was
removed, it asks first: what the file holds is gone then.

  nidalo stop charts
  nidalo stop -home /srv/second charts`,
	with: func(e *env, f *flag.FlagSet) action {
		yesFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				if err := e.insist("stop it all the same?", func(force bool) error { return c.Stop(control.StopRequest{Array: args[0], Force: force}) }); err != nil {
					return err
				}
				e.out.Printf("Array %s is flushed and out of service. Its disks may be taken out.\n", args[0])
				e.out.Next([]string{"nidalo start " + args[0] + "   puts it into service again"})
				return nil
			})
		}
	},
}
