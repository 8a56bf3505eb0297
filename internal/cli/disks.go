package cli

import (
	"fmt"
	"slices"
	"strings"

	"nidalo/internal/service"
)

var disksCommand = command{name: "disks", usage: "[-json]", short: "survey the disks: which are blank, which hold what", most: 0, looks: true,
	help: `
Lists every block device of this host, every bay of the lab where there is one, and the files that were used as disks: where
it is, what it is, how large, how it is by its own account, and what it holds. Nothing is written. A disk is blank when its
head and tail are all zeros. Disks of the system, and others that are in use, are shown as such and never offered.
NIDALO_HOST_DISKS=no in the environment leaves the disks of the host out.

  nidalo disks
  nidalo disks -json`,
	flags: jsonFlag,
	run: func(e *env, _ []string) error {
		return e.withControl(func(c service.Control) error {
			disks, err := c.Disks()
			if err != nil {
				return err
			}
			if e.json {
				return e.printJSON(map[string]any{"disks": disks})
			}
			e.out.Disks(disks, diskSteps(disks))
			return nil
		})
	},
}

func diskSteps(disks []service.DiskInfo) []string {
	var blank []string
	// Real disks and simulated ones are not offered for one array. Whoever made a lab wants to try things in it.
	lab := slices.ContainsFunc(disks, func(d service.DiskInfo) bool { return d.Lab && d.State == service.DiskBlank })
	for _, d := range disks {
		if d.State == service.DiskBlank && d.Bad == "" && (d.Vetting == "" || d.Vetted) { // not those being proven, nor those found wrong
			if name := service.Argument(d.Identity); d.Lab == lab {
				blank = append(blank, name)
			}
		}
	}
	switch {
	case len(disks) == 0:
		return []string{"nidalo lab new   makes a simulated enclosure to try things with",
			"nidalo create -name NAME -level 6 /dev/DISK...   takes blank disks by their paths"}
	case len(blank) >= 4:
		return []string{"nidalo create -name NAME -level 6 " + strings.Join(blank, " ")}
	case len(blank) >= 2:
		return []string{"nidalo create -name NAME -level 1 " + strings.Join(blank, " ")}
	case len(blank) == 1:
		return []string{"nidalo status   says whether an array needs " + blank[0]}
	}
	return nil
}

var eraseCommand = command{name: "erase", usage: "[-yes] DISK", short: "make a disk with old contents blank", least: 1, most: 1,
	help: `
Shows what the disk holds, asks, and overwrites its head and tail, after which it counts as blank. What it held is lost.
A member of an array in service is refused.

  nidalo erase A5
  nidalo erase -yes /dev/DISK`,
	flags: yesFlag,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			name, err := e.diskName(c, args[0])
			if err != nil {
				return err
			}
			info, err := c.Erase(service.EraseRequest{Disk: name, DryRun: true})
			if err != nil {
				return err
			}
			if info.State == service.DiskBlank {
				e.out.Printf("%s is blank already.\n", info.Identity)
				return nil
			}
			what := fmt.Sprintf("%s, %s, which holds %s", info.Identity, service.FormatSize(info.Size), strings.Join(info.Holds, "; "))
			if err := e.confirm("erasing " + what + "?"); err != nil {
				return err
			}
			if info, err = c.Erase(service.EraseRequest{Disk: name}); err != nil {
				return err
			}
			e.out.Printf("%s is blank now.\n", info.Identity)
			return nil
		})
	},
}

var chooseCommand = command{name: "choose", usage: "[-yes] DISK", short: "of disks that are copies of each other, say which is the member", least: 1, most: 1,
	help: `
When one disk is a copy of another, both carry the same member, and nothing tells which of them is current: neither is used. This
names the one that is. Its copies stay unused, also when it is not there, until another is chosen; erase makes them blank.

  nidalo disks                shows which disks are copies
  nidalo choose TMK-0193`,
	flags: yesFlag,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			name, err := e.diskName(c, args[0])
			if err != nil {
				return err
			}
			var info *service.DiskInfo
			if err := e.insist("choose the older one?", func(force bool) (err error) {
				info, err = c.Choose(service.ChooseRequest{Disk: name, Force: force})
				return err
			}); err != nil {
				return err
			}
			e.out.Printf("%s is the member; its copies are not used.\n", info.Identity)
			e.out.Next([]string{"nidalo status   shows whether the array has it"})
			return nil
		})
	},
}
