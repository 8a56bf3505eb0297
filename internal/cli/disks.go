package cli

import (
	"cmp"
	"flag"
	"slices"

	"nidalo/core/advice"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
)

var disksCommand = command{name: "disks", usage: "[-health] [-json] [DISK…]", short: "list the disks and their contents", most: -1, looks: true,
	help: `
Lists every block device of this host, every bay of the lab, and every file that was used as a disk, with its place, model,
size, health and contents. Nothing is written. A disk is blank when its head and tail are all zeros. The disks of the system,
and others in use, are shown as such and never offered. With bays, serials or paths only those are listed; a path may be one that
was never used here. -health has what each says of itself: temperature, hours, sectors replaced and waiting, the speed of its link and
the best it can do, and what grew since the service asked first.
NIDALO_HOST_DISKS=no in the environment leaves the disks of the host out.

  nidalo disks
  nidalo disks A3 /srv/disks/one.img
  nidalo disks -health
  nidalo disks -json`,
	with: func(e *env, f *flag.FlagSet) action {
		var health bool
		f.BoolVar(&health, "health", false, "what each disk says of itself")
		jsonFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				disks, err := e.listed(c, args)
				if err != nil {
					return err
				}
				if health {
					return e.healths(c, disks)
				}
				if e.json {
					return e.printJSON(map[string]any{"disks": disks})
				}
				next, err := c.Next()
				if err != nil {
					return err
				}
				steps := pressing(next.Steps)
				if len(steps) == 0 {
					steps = diskSteps(disks)
				}
				e.out.Disks(disks, steps)
				return nil
			})
		}
	},
}

// healths asks disks how they are.
func (e *env) healths(c *control.Control, disks []control.DiskInfo) error {
	var names []string
	for _, d := range disks {
		if d.State != state.DiskEmpty && d.State != state.DiskClosed && (d.Hardware == nil || d.Hardware.Part == 0) {
			names = append(names, cmp.Or(d.Serial, d.Path))
		}
	}
	return e.healthsOf(c, names)
}

func (e *env) healthsOf(c *control.Control, names []string) error {
	r, err := c.Inspect(names)
	if err != nil {
		return err
	}
	if e.json {
		return e.printJSON(map[string]any{"disks": r.Disks})
	}
	e.out.Healths(r.Disks)
	return nil
}

// listed is the disks that some words mean, or all.
func (e *env) listed(c *control.Control, args []string) ([]control.DiskInfo, error) {
	if len(args) == 0 {
		return c.Disks()
	}
	names, err := e.many(c, args...)
	if err != nil {
		return nil, err
	}
	r, err := c.MayPull(control.PullRequest{Disks: names})
	if err != nil {
		return nil, err
	}
	return r.Disks, nil
}

// pressing is what arrays need soon: they have first claim on blank disks.
func pressing(steps []advice.Step) (lines []string) {
	for _, st := range steps {
		if (st.Urgency == advice.Now || st.Urgency == advice.Soon) && st.Command != "" && st.Array != "" && len(lines) < 2 {
			lines = append(lines, st.Line())
		}
	}
	return lines
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
		return []string{"nidalo create -name NAME -level 6 " + say.Arguments(blank)}
	case len(blank) >= 2:
		return []string{"nidalo create -name NAME -level 1 " + say.Arguments(blank)}
	case len(blank) == 1:
		return []string{"nidalo status   says whether an array needs " + blank[0]}
	}
	return nil
}
