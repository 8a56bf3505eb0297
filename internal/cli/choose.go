package cli

import (
	"flag"

	"nidalo/internal/control"
)

var chooseCommand = command{name: "choose", usage: "[-yes] DISK", short: "choose one of several disks that are copies of each other", least: 1, most: 1,
	help: `
When one disk is a copy of another, both carry the same member, and neither is used, because nothing on them shows which one is
current. This command names the current one. Its copies stay unused, even when it is away, until another is chosen; erase
makes them blank.

  nidalo disks                shows which disks are copies
  nidalo choose TMK-0193
  nidalo choose -yes /dev/DISK`,
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
