package cli

import (
	"flag"

	"nidalo/internal/control"
)

var nextCommand = command{name: "next", usage: "[-json]", short: "what to do now, in order", most: 0, looks: true,
	help: `
Goes through all arrays and says what the administrator should do, the most urgent first: each step with the disk by bay,
model and serial, the exact command, and why. When there is nothing to do it says so, and when to look again.

  nidalo next`,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func(_ []string) error {
			return e.withControl(func(c *control.Control) error {
				n, err := c.Next()
				if err != nil {
					return err
				}
				if e.json {
					return e.printJSON(n)
				}
				e.out.Steps(n)
				return nil
			})
		}
	},
}
