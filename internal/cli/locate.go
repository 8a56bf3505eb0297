package cli

import (
	"flag"

	"nidalo/internal/control"
)

var locateCommand = command{name: "locate", usage: "DISK | -others NAME | -off", short: "light a bay", most: 1, looks: true,
	help: `
Lights the bay of a disk, and darkens all others. With -others the bays of all members of an array that are seen are lit, so
that the dark one is the missing disk. -off darkens all. Bays of the lab have lights; on Linux those of an enclosure the
kernel knows.

  nidalo locate A3
  nidalo locate -others tides
  nidalo locate -off`,
	with: func(e *env, f *flag.FlagSet) action {
		var (
			name string
			off  bool
		)
		f.StringVar(&name, "others", "", "light all members of this `ARRAY` that are seen")
		f.BoolVar(&off, "off", false, "darken all bays")
		jsonFlag(e, f)
		return func(args []string) error {
			req := control.LocateRequest{Others: name, Off: off}
			chosen := 0
			for _, b := range []bool{len(args) == 1, name != "", off} {
				if b {
					chosen++
				}
			}
			if chosen != 1 {
				return usageError{"one of a disk, -others NAME and -off"}
			}
			if len(args) == 1 {
				req.Disk = args[0]
			}
			return e.withControl(func(c *control.Control) error {
				var err error
				if req.Disk, err = e.diskName(c, req.Disk); err != nil {
					return err
				}
				r, err := c.Locate(req)
				if err != nil {
					return err
				}
				if len(r.Dark) > 0 {
					e.status = Could
				}
				if e.json {
					return e.printJSON(r)
				}
				switch {
				case off:
					e.out.Printf("All lights are off.\n")
				case name != "":
					e.out.Printf("The bays of all members of %s that are seen are lit; %s:\n", name, dark(r.Out))
				}
				for _, l := range r.Lit {
					e.out.Printf("%s is lit.\n", l)
				}
				for _, d := range r.Dark {
					e.out.Printf("%s\n", d)
				}
				if !off {
					e.out.Next([]string{"nidalo locate -off   darkens all bays again"})
				}
				return nil
			})
		}
	},
}

// dark says what the bays are of members that are out.
func dark(out int) string {
	switch out {
	case 0:
		return "none is missing"
	case 1:
		return "the dark one is the missing disk"
	}
	return "the dark ones are the missing disks"
}
