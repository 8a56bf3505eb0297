package cli

import (
	"cmp"
	"flag"

	"nidalo/internal/control"
)

var statusCommand = command{name: "status", usage: "[-all] [-health] [-map] [-json] [NAME]", short: "how the arrays are, and what to do next", most: 1, looks: true,
	help: `
Shows each array (or the one named): its condition, its members by bay, model and serial, running tasks with rate and time
left, and what to do next.

Of an array with more than 16 members those with which something is the matter are listed, and the others, by group, in a line each;
-all lists all.

Conditions of an array: healthy; degraded (some redundancy is lost); exposed (one more loss would lose data); failed (the
data is not all there).

Exit status: 0 the state was printed, whatever it is; 1 it is not available; 2 wrong usage.

  nidalo status
  nidalo status tides
  nidalo status -all vault
  nidalo status -health tides
  nidalo status -map tides
  nidalo status -json`,
	with: func(e *env, f *flag.FlagSet) action {
		var where, all, health bool
		f.BoolVar(&health, "health", false, "what the disks of the members say of themselves")
		f.BoolVar(&all, "all", false, "list each member of large arrays")
		f.BoolVar(&where, "map", false, "where the data of the array NAME lives: written regions, bad places, cursors, strips")
		jsonFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				name := ""
				if len(args) == 1 {
					name = args[0]
				}
				if where {
					if name == "" {
						return usageError{"-map: which array?"}
					}
					m, err := c.Map(name)
					if err != nil {
						return err
					}
					if e.json {
						return e.printJSON(m)
					}
					e.out.Map(m)
					return nil
				}
				e.out.All = all
				st, err := c.Status(name)
				if err != nil {
					return err
				}
				if health {
					return e.memberHealths(c, st)
				}
				if e.json {
					return e.printJSON(st)
				}
				e.out.Status(st)
				return nil
			})
		}
	},
}

// memberHealths asks the disks of members that are here how they are.
func (e *env) memberHealths(c *control.Control, st *control.Status) error {
	var names []string
	for _, a := range st.Arrays {
		for _, m := range a.Members {
			if m.Condition != "missing" && m.Condition != "failed" {
				names = append(names, cmp.Or(m.Serial, m.Path))
			}
		}
	}
	return e.healthsOf(c, names)
}
