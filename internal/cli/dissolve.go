package cli

import (
	"flag"
	"fmt"

	"nidalo/core/say"
	"nidalo/internal/control"
)

var dissolveCommand = command{name: "dissolve", usage: "[-yes] NAME", short: "end an array; its members become blank", least: 1, most: 1,
	help: `
Ends an array for good: its data is lost and its members become blank. Refused while clients use it.

  nidalo dissolve charts
  nidalo dissolve -yes charts`,
	with: func(e *env, f *flag.FlagSet) action {
		yesFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				if err := c.Dissolve(control.DissolveRequest{Array: args[0], DryRun: true}); err != nil {
					return err
				}
				st, err := c.Status(args[0])
				if err != nil {
					return err
				}
				a := st.Arrays[0]
				what := fmt.Sprintf("array %s, level %s, with up to %s of data on %d members", a.Name, a.Level, say.Size(a.Used), len(a.Members))
				if err := e.confirm("dissolving " + what + "?"); err != nil {
					return err
				}
				if err := c.Dissolve(control.DissolveRequest{Array: args[0]}); err != nil {
					return err
				}
				e.out.Printf("Array %s is dissolved; its members are blank.\n", a.Name)
				return nil
			})
		}
	},
}
