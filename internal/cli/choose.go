package cli

import (
	"flag"

	"nidalo/internal/control"
)

var chooseCommand = command{name: "choose", usage: "[-yes] DISK", short: "of disks that are copies of each other, say which is the member", least: 1, most: 1,
	help: `
When one disk is a copy of another, both carry the same member, and nothing tells which of them is current: neither is used. This
names the one that is. Its copies stay unused, also when it is not there, until another is chosen; erase makes them blank.

  nidalo disks                shows which disks are copies
  nidalo choose TMK-0193`,
	with: func(e *env, f *flag.FlagSet) action {
		yesFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				name, err := e.diskName(c, args[0])
				if err != nil {
					return err
				}
				var info *control.DiskInfo
				if err := e.insist("choose the older one?", func(force bool) (err error) {
					info, err = c.Choose(control.ChooseRequest{Disk: name, Force: force})
					return err
				}); err != nil {
					return err
				}
				e.out.Printf("%s is the member; its copies are not used.\n", info.Identity)
				e.out.Next([]string{"nidalo status   shows whether the array has it"})
				return nil
			})
		}
	},
}
