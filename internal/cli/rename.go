package cli

import (
	"flag"

	"nidalo/internal/control"
)

var renameCommand = command{name: "rename", usage: "NAME TO", short: "give an array another name", least: 2, most: 2,
	help: `
Gives an array another name. Its export gets the same name, so no client may be connected.

  nidalo rename charts charts-2026
  nidalo rename 0b6f1e2c-8c5e-4c36-9c0f-2f6a5f3f1d77 gauges`,
	with: func(e *env, f *flag.FlagSet) action {
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				if err := c.Rename(control.RenameRequest{Array: args[0], To: args[1]}); err != nil {
					return err
				}
				e.out.Printf("Array %s is now %s.\n", args[0], args[1])
				return nil
			})
		}
	},
}
