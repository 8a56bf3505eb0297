package cli

import (
	"flag"

	"nidalo/internal/control"
)

var nextCommand = command{name: "next", usage: "[-json]", short: "what to do now, in order", most: 0, looks: true,
	help: `
Lists the steps that the administrator should take, over all arrays, the most urgent first: each with its disk by bay, model
and serial, the reason, and the exact command. When there are none it says so, and when to look again. Without arrays it
says how to begin.

  nidalo next
  nidalo next -json`,
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
