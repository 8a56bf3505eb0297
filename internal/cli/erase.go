package cli

import (
	"flag"
	"fmt"
	"strings"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

var eraseCommand = command{name: "erase", usage: "[-yes] DISK…", short: "make disks with old contents blank", least: 1, most: -1,
	help: `
Shows the contents of the disks, asks once, and overwrites their heads and tails, so that they are blank. Their contents are lost. When any of
them is a member of an array in service, all are left alone.

  nidalo erase A5
  nidalo erase B1 B2 B3
  nidalo erase -yes /dev/DISK`,
	with: func(e *env, f *flag.FlagSet) action {
		yesFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				names, err := e.many(c, args...)
				if err != nil {
					return err
				}
				var wanted, what []string
				for _, name := range names {
					info, err := c.Erase(control.EraseRequest{Disk: name, DryRun: true})
					if err != nil {
						return err
					}
					if info.State == state.DiskBlank {
						e.out.Printf("%s is blank already.\n", info.Identity)
						continue
					}
					wanted, what = append(wanted, name), append(what, contents(*info))
				}
				if len(wanted) == 0 {
					return nil
				}
				if len(what) > 1 && e.interactive() && !e.yes {
					for _, line := range what {
						e.err.Printf("  %s\n", line)
					}
					what = []string{fmt.Sprintf("these %d disks", len(what))}
				}
				if err := e.confirm("erasing " + strings.Join(what, " and ") + "?"); err != nil {
					return err
				}
				for _, name := range wanted {
					info, err := c.Erase(control.EraseRequest{Disk: name})
					if err != nil {
						return err
					}
					e.out.Printf("%s is blank now.\n", info.Identity)
				}
				return nil
			})
		}
	},
}

// contents says what a disk is and holds.
func contents(d control.DiskInfo) string {
	if len(d.Holds) > 0 {
		return fmt.Sprintf("%s, %s, which holds %s", d.Identity, say.Size(d.Size), strings.Join(d.Holds, "; "))
	}
	return fmt.Sprintf("%s, %s, which is %s", d.Identity, say.Size(d.Size), d.State)
}
