package cli

import (
	"flag"
	"fmt"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

var checkCommand = command{name: "check", usage: "[-repair [-blame DISK]] [-wait] [-json] NAME", short: "check that data, copies and parity agree", least: 1, most: 1,
	help: `
Reads everything that was ever written to the array, and compares every block with its checksum, and parity or copies with the
data. Mismatches are counted and located; -repair rewrites those that redundancy can restore. Clients go on meanwhile, and
the check survives restarts. With -wait, or -json, the command follows it to the end.

Blocks may contradict each other although each matches its checksum. With two parities or three copies the check finds the
wrong one. With less, and without other evidence, the place is reported and left as it is; -blame DISK names the member that
is computed from the others there.

Counts are blocks of 4 KiB on one member. Exit status 1 when mismatches are left.

  nidalo check tides
  nidalo check -repair -wait tides
  nidalo check -repair -blame A3 tides`,
	with: func(e *env, f *flag.FlagSet) action {
		var (
			repair, wait bool
			disk         string
		)
		f.BoolVar(&repair, "repair", false, "rewrite what is wrong and can be restored")
		f.StringVar(&disk, "blame", "", "the `DISK` that is wrong where nothing else shows which one is")
		f.BoolVar(&wait, "wait", false, "follow the check to its end")
		jsonFlag(e, f)
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				if disk != "" && !repair {
					return usageError{"-blame goes with -repair"}
				}
				blame, err := e.diskName(c, disk)
				if err != nil {
					return err
				}
				if err := c.Check(control.CheckRequest{Array: args[0], Repair: repair, Blame: blame}); err != nil {
					return err
				}
				own := c.Own
				if !wait && !e.json && !own {
					e.out.Printf("The consistency check of array %s has begun.\n", args[0])
					e.out.Next([]string{"nidalo status " + args[0] + "   shows how far it is, and later the result"})
					return nil
				}
				task, err := e.follow(c, args[0], "check", nil)
				if err != nil {
					return err
				}
				if task.State != "done" {
					return &control.Error{What: fmt.Sprintf("the check has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + args[0]}}
				}
				r := task.Check
				if r.Mismatches > r.Repaired || r.Unrepairable > 0 {
					e.status = Could
				}
				if e.json {
					return e.printJSON(r)
				}
				e.out.Printf("Array %s: %s; %s read in %s.\n", args[0], view.CheckSummary(*r), say.Size(task.Done), view.Duration(task.Ended.Sub(task.Started).Seconds()))
				for _, d := range r.Disks {
					e.out.Printf("  slot %d, %s: %s\n", d.Slot, d.Disk, say.Count(d.Mismatches, "mismatch", "mismatches"))
				}
				for i, p := range r.Places {
					if i == 10 {
						e.out.Printf("  … and more; -json lists up to 100\n")
						break
					}
					e.out.Printf("  slot %d, %s: byte %d of its data: %s\n", p.Slot, p.Disk, p.Offset, p.What)
				}
				st, err := c.Status(args[0])
				if err != nil {
					return err
				}
				switch {
				case r.Unrepairable > 0 && st.Arrays[0].Condition == state.Partial:
					e.out.Next([]string{"nidalo next   says how the lost disks come back; check again then, since they may tell what is not known now"})
				case r.Unrepairable > 0:
					e.out.Next([]string{"restore the damaged files from a backup: redundancy does not suffice for those blocks"})
				case r.Mismatches > r.Repaired:
					e.out.Next([]string{"nidalo check -repair " + args[0] + "   puts them right"})
				}
				return nil
			})
		}
	},
}
