package cli

import (
	"errors"
	"flag"
	"fmt"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

var failCommand = command{name: "fail", usage: "[-yes] NAME DISK", short: "declare a member failed", least: 2, most: 2,
	help: `
Takes a member out of an array, as if it had failed: from now on it is not read or written. The member is named by its
bay, serial, path or slot number. The redundancy that the array would have left is shown first. When the array would fail
without the member, -yes is needed.

  nidalo fail tides A3`,
	with: func(e *env, f *flag.FlagSet) action {
		yesFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				name, err := e.diskName(c, args[1])
				if err != nil {
					return err
				}
				req := control.FailRequest{Array: args[0], Disk: name, DryRun: true}
				err = c.Fail(req)
				var told *control.Error
				switch {
				case errors.As(err, &told) && told.Fatal:
					if e.interactive() && !e.yes {
						e.err.Printf("%s\n", told.What)
						if err := e.confirm("declare it failed all the same?"); err != nil {
							return err
						}
					} else if !e.yes {
						return err
					}
					req.Force = true
				case err != nil:
					return err
				case e.interactive():
					if err := e.confirm(fmt.Sprintf("declare %s of array %s failed?", args[1], args[0])); err != nil {
						return err
					}
				}
				req.DryRun = false
				if err := c.Fail(req); err != nil {
					return err
				}
				st, err := c.Status(args[0])
				if err != nil {
					return err
				}
				a := st.Arrays[0]
				e.out.Printf("%s of array %s is failed. The array is %s", args[1], a.Name, a.Condition)
				if a.Condition == "failed" {
					e.out.Printf(": its data is unreachable.\n")
				} else {
					e.out.Printf(", margin %s.\n", view.Margin(a.Margin, a.MarginBest))
				}
				e.out.Next(a.Next)
				return nil
			})
		}
	},
}
