package cli

import (
	"flag"
	"slices"
	"strings"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

var disksCommand = command{name: "disks", usage: "[-json]", short: "list the disks and their contents", most: 0, looks: true,
	help: `
Lists every block device of this host, every bay of the lab, and every file that was used as a disk, with its place, model,
size, health and contents. Nothing is written. A disk is blank when its head and tail are all zeros. The disks of the system,
and others in use, are shown as such and never offered.
NIDALO_HOST_DISKS=no in the environment leaves the disks of the host out.

  nidalo disks
  nidalo disks -json`,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func(_ []string) error {
			return e.withControl(func(c *control.Control) error {
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
		}
	},
}

func diskSteps(disks []control.DiskInfo) []string {
	var blank []string
	// Real disks and simulated ones are not offered for one array. Whoever made a lab wants to try things in it.
	lab := slices.ContainsFunc(disks, func(d control.DiskInfo) bool { return d.Lab && d.State == state.DiskBlank })
	for _, d := range disks {
		if d.State == state.DiskBlank && d.Bad == "" && (d.Vetting == "" || d.Vetted) { // not those being vetted, nor those found wrong
			if name := say.Argument(d.Identity); d.Lab == lab {
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
