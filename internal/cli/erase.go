package cli

import (
	"flag"
	"fmt"
	"strings"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

var eraseCommand = command{name: "erase", usage: "[-yes] DISK", short: "make a disk with old contents blank", least: 1, most: 1,
	help: `
Shows the contents of the disk, asks, and overwrites its head and tail, so that it is blank. Its contents are lost. A member of
an array in service is refused.

  nidalo erase A5
  nidalo erase -yes /dev/DISK`,
	with: func(e *env, f *flag.FlagSet) action {
		yesFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				name, err := e.diskName(c, args[0])
				if err != nil {
					return err
				}
				info, err := c.Erase(control.EraseRequest{Disk: name, DryRun: true})
				if err != nil {
					return err
				}
				if info.State == state.DiskBlank {
					e.out.Printf("%s is blank already.\n", info.Identity)
					return nil
				}
				what := fmt.Sprintf("%s, %s, which is %s", info.Identity, say.Size(info.Size), info.State)
				if len(info.Holds) > 0 {
					what = fmt.Sprintf("%s, %s, which holds %s", info.Identity, say.Size(info.Size), strings.Join(info.Holds, "; "))
				}
				if err := e.confirm("erasing " + what + "?"); err != nil {
					return err
				}
				if info, err = c.Erase(control.EraseRequest{Disk: name}); err != nil {
					return err
				}
				e.out.Printf("%s is blank now.\n", info.Identity)
				return nil
			})
		}
	},
}
