package cli

import (
	"flag"

	"nidalo/internal/control"
)

var handOverCommand = command{name: "hand-over", usage: "NAME HOST", short: "move an array to another host that sees its disks", least: 2, most: 2,
	help: `
Stops an array in order and lets another host take it over at once. That host stands by for it (nidalo start -stand-by) and sees the same
disks, which other hosts lend. Clients that connect again find it there: this host says where it is. Nothing is lost; what they asked for in
between has to be asked for again.

Which host has an array is decided in etcd (ownership.etcd in nidalo.toml, docs/other-hosts.md).

  nidalo hand-over tides plover
  nidalo hand-over charts gull`,
	with: func(e *env, f *flag.FlagSet) action {
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				if err := c.HandOver(control.HandOverRequest{Array: args[0], Host: args[1]}); err != nil {
					return err
				}
				e.out.Printf("Array %s is flushed, and host %s has it.\n", args[0], args[1])
				e.out.Next([]string{"nidalo status " + args[0] + "   shows which host has it"})
				return nil
			})
		}
	},
}
