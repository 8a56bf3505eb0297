package cli

import (
	"flag"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

var startCommand = command{name: "start", usage: "NAME", short: "put an array into service", least: 1, most: 1,
	help: `
Starts an array that was taken out of service with stop, that comes from another host or home, or that could not start by
itself. An array that has failed is released and started again from its disks; bring the lost disks back first. The records
of the members are judged as at every start, and a doubtful start is refused with the reason.

  nidalo start charts
  nidalo start 0b6f1e2c-8c5e-4c36-9c0f-2f6a5f3f1d77     an array is also named by its identity, when two have one name`,
	with: func(e *env, f *flag.FlagSet) action {
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				a, err := c.Start(control.StartRequest{Array: args[0]})
				if err != nil {
					return err
				}
				e.out.Printf("Array %s is in service: %s, %s.\n", a.Name, a.Condition, view.Survives(*a))
				e.out.Next(a.Next)
				return nil
			})
		}
	},
}
