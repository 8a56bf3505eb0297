package cli

import (
	"flag"

	"nidalo/internal/control"
)

var acknowledgeCommand = command{name: "acknowledge", usage: "NAME", short: "quiet the alerts of an array until something changes", least: 1, most: 1,
	help: `
Confirms that the alerts about an array were seen. No more go out about it until its condition, or that of one of its members,
changes. The history goes on.

  nidalo acknowledge tides
  nidalo acknowledge -home /srv/second tides`,
	with: func(e *env, f *flag.FlagSet) action {
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				if err := c.Acknowledge(args[0]); err != nil {
					return err
				}
				e.out.Printf("Alerts of array %s are quiet until its condition or that of a member changes.\n", args[0])
				return nil
			})
		}
	},
}
