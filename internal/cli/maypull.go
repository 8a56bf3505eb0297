package cli

import (
	"flag"

	"nidalo/internal/control"
)

var mayPullCommand = command{name: "may-pull", usage: "[-json] DISK…", short: "can these disks leave their bays now without losing anything?", least: 1, most: -1, looks: true,
	help: `
Answers yes or no, with the reasons; and when no, when it will be yes, as far as that is known. Several disks are judged
together, as if they left at the same moment. A member that works is never a yes, even if the data would survive: copy it
onto another disk first with retire.

Exit status: 0 yes, 1 no, 2 wrong usage.

  nidalo may-pull A3
  nidalo may-pull QRN-0207
  nidalo may-pull A2 B3`,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				names, err := e.many(c, args...)
				if err != nil {
					return err
				}
				r, err := c.MayPull(control.PullRequest{Disks: names})
				if err != nil {
					return err
				}
				if !r.Yes {
					e.status = Could
				}
				if e.json {
					return e.printJSON(r)
				}
				e.out.MayPull(r)
				return nil
			})
		}
	},
}
