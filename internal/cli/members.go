package cli

import (
	"errors"
	"flag"
	"fmt"
	"time"

	"nidalo/internal/service"
	"nidalo/internal/view"
)

var failCommand = command{name: "fail", usage: "[-yes] NAME DISK", short: "declare a member failed", least: 2, most: 2,
	help: `
Takes a member out of an array, as if it had failed: from now on it is not read or written. The member is named by its
bay, serial, path or slot number. What redundancy the array has left is shown first. When the array would fail without
the member, -yes is needed.

  nidalo fail tides A3`,
	flags: yesFlag,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			name, err := e.diskName(c, args[1])
			if err != nil {
				return err
			}
			req := service.FailRequest{Array: args[0], Disk: name, DryRun: true}
			err = c.Fail(req)
			var told *service.Error
			switch {
			case errors.As(err, &told) && told.Fatal:
				if e.interactive() && !e.yes {
					e.err.Printf("%s\n", told.What)
					if err := e.confirm("declare it failed all the same?"); err != nil {
						return err
					}
				} else if !e.yes {
					return err
				}
				req.Force = true
			case err != nil:
				return err
			case e.interactive():
				if err := e.confirm(fmt.Sprintf("declare %s of array %s failed?", args[1], args[0])); err != nil {
					return err
				}
			}
			req.DryRun = false
			if err := c.Fail(req); err != nil {
				return err
			}
			st, err := c.Status(args[0])
			if err != nil {
				return err
			}
			a := st.Arrays[0]
			e.out.Printf("%s of array %s is failed. The array is %s", args[1], a.Name, a.Condition)
			if a.Condition == "failed" {
				e.out.Printf(": its data is unreachable.\n")
			} else {
				e.out.Printf(", margin %s.\n", view.Margin(a.Margin, a.MarginBest))
			}
			e.out.Next(a.Next)
			return nil
		})
	},
}

var replaceCommand = command{name: "replace", usage: "[-yes] [-wait] [-although-bad] [NAME] OLD NEW", short: "put a blank disk in the place of a member and rebuild", least: 2, most: 3,
	help: `
Makes the blank disk NEW a member in the place of OLD and starts to rebuild its contents. OLD is a member's bay, serial,
path or slot number; NEW is a disk's bay, serial or path. Clients go on meanwhile. The rebuild survives restarts. With
-wait the command follows it to the end.

A disk that failed before, or was found bad when it was vetted, is taken only with -although-bad. When OLD still works,
replacing it lowers the margin until the rebuild is done, and that is asked first.

Without NAME the whole disk OLD is replaced, with everything that arrays have on it: the new disk gets a partition table like the
old one's, with new identifiers, and all arrays are repaired, the most endangered first. The table is read from the old disk,
or, when that is gone, from one with members of the same arrays; -like names another. Partitions that no array has are
named, and copied with -copy-others. -grow gives the last partition the rest of a larger disk.

  nidalo replace tides A3 B1
  nidalo replace -wait TMK-0193 TMK-0301
  nidalo replace -wait tides TMK-0193 A3`,
	flags: func(e *env, f *flag.FlagSet) {
		yesFlag(e, f)
		althoughBadFlag(e, f)
		f.BoolVar(&e.wait, "wait", false, "follow the rebuild to its end")
		wholeDiskFlags(e, f)
	},
	run: func(e *env, args []string) error {
		if len(args) == 2 {
			return e.wholeDisk(args[0], args[1], false)
		}
		return e.withControl(func(c service.Control) error {
			names, err := e.disks(c, args[1], args[2])
			if err != nil {
				return err
			}
			var r *service.ReplaceReply
			err = e.insist("replace it?", func(force bool) (err error) {
				r, err = c.Replace(service.ReplaceRequest{Array: args[0], Old: names[0], New: names[1], Force: force, AlthoughBad: e.althoughBad})
				return err
			})
			if err != nil {
				return err
			}
			if !r.Disk.Vetted {
				notVetted(e, or(r.Disk.Bay, r.Disk.Path))
			}
			e.err.Printf("%s takes the place of %s in slot %d of array %s; the rebuild has begun.\n", r.Disk.Identity, r.Member, r.Slot, args[0])
			if !e.wait {
				if r.Stays {
					e.out.Next([]string{"nidalo status " + args[0] + "   shows how far it is"})
				} else {
					e.out.Next([]string{"nidalo serve   goes on with it; without a service it rests now"})
				}
				return nil
			}
			task, err := e.follow(c, args[0], "rebuild", &r.Slot)
			if err != nil {
				return err
			}
			if task.State != "done" {
				return &service.Error{What: fmt.Sprintf("the rebuild has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + args[0]}}
			}
			e.out.Printf("Slot %d of array %s is rebuilt: %s in %s.\n", r.Slot, args[0], service.FormatSize(task.Done), view.Duration(task.Ended.Sub(task.Started).Seconds()))
			st, err := c.Status(args[0])
			if err != nil {
				return err
			}
			a := st.Arrays[0]
			e.out.Printf("The array is %s, margin %s.\n", a.Condition, view.Margin(a.Margin, a.MarginBest))
			e.out.Next(a.Next)
			return nil
		})
	},
}

var checkCommand = command{name: "check", usage: "[-repair [-blame DISK]] [-wait] [-json] NAME", short: "check that data, copies and parity agree", least: 1, most: 1,
	help: `
Reads everything that was ever written to the array, holds every block against its checksum, and parity or copies against
the data. Mismatches are counted and located; with -repair what redundancy can restore is rewritten. Clients go on
meanwhile, and the check survives restarts. With -wait, or -json, the command follows it to the end.

Blocks may contradict each other although each is whole by its checksum. With two parities or three copies the check finds out
which one is wrong; with less, when nothing shows it, the place is reported and left as it is. -blame DISK names the member
that is to be computed from the others there.

Counts are blocks of 4 KiB on one member. Exit status 1 when mismatches are left.

  nidalo check tides
  nidalo check -repair -wait tides
  nidalo check -repair -blame A3 tides`,
	flags: func(e *env, f *flag.FlagSet) {
		f.BoolVar(&e.repair, "repair", false, "rewrite what is wrong and can be restored")
		f.StringVar(&e.disk, "blame", "", "the `DISK` that is wrong where nothing else shows which one is")
		f.BoolVar(&e.wait, "wait", false, "follow the check to its end")
		jsonFlag(e, f)
	},
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			if e.disk != "" && !e.repair {
				return usageError{"-blame goes with -repair"}
			}
			blame, err := e.diskName(c, e.disk)
			if err != nil {
				return err
			}
			if err := c.Check(service.CheckRequest{Array: args[0], Repair: e.repair, Blame: blame}); err != nil {
				return err
			}
			_, own := c.(*service.Service)
			if !e.wait && !e.json && !own {
				e.out.Printf("The consistency check of array %s has begun.\n", args[0])
				e.out.Next([]string{"nidalo status " + args[0] + "   shows how far it is, and later the result"})
				return nil
			}
			task, err := e.follow(c, args[0], "check", nil)
			if err != nil {
				return err
			}
			if task.State != "done" {
				return &service.Error{What: fmt.Sprintf("the check has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + args[0]}}
			}
			r := task.Check
			if r.Mismatches > r.Repaired || r.Unrepairable > 0 {
				e.status = Could
			}
			if e.json {
				return e.printJSON(r)
			}
			e.out.Printf("Array %s: %s; %s read in %s.\n", args[0], view.CheckSummary(*r), service.FormatSize(task.Done), view.Duration(task.Ended.Sub(task.Started).Seconds()))
			for i, p := range r.Places {
				if i == 10 {
					e.out.Printf("  … and more; -json lists up to 100\n")
					break
				}
				e.out.Printf("  slot %d, %s: byte %d of its data: %s\n", p.Slot, p.Disk, p.Offset, p.What)
			}
			switch {
			case r.Unrepairable > 0:
				e.out.Next([]string{"restore the damaged files from a backup: redundancy does not suffice for those blocks"})
			case r.Mismatches > r.Repaired:
				e.out.Next([]string{"nidalo check -repair " + args[0] + "   puts them right"})
			}
			return nil
		})
	},
}

// follow shows a task until it ends. An interrupted command leaves the task running where a service stays.
func (e *env) follow(c service.Control, name, kind string, slot *int) (*service.TaskStatus, error) {
	p := e.err.NewProgress()
	defer p.End()
	for {
		st, err := c.Status(name)
		if err != nil {
			return nil, err
		}
		var found *service.TaskStatus
		for i, t := range st.Arrays[0].Tasks {
			if t.Kind == kind && (slot == nil || t.Slot != nil && *t.Slot == *slot) {
				found = &st.Arrays[0].Tasks[i]
			}
		}
		if found == nil {
			return nil, fmt.Errorf("the %s is not there any more", kind)
		}
		if found.Ended != nil {
			return found, nil
		}
		p.Show(*found)
		time.Sleep(250 * time.Millisecond)
	}
}

var dissolveCommand = command{name: "dissolve", usage: "[-yes] NAME", short: "end an array; its members become blank", least: 1, most: 1,
	help: `
Ends an array for good: its data is lost and its members become blank. Refused while clients use it.

  nidalo dissolve charts`,
	flags: yesFlag,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			if err := c.Dissolve(service.DissolveRequest{Array: args[0], DryRun: true}); err != nil {
				return err
			}
			st, err := c.Status(args[0])
			if err != nil {
				return err
			}
			a := st.Arrays[0]
			what := fmt.Sprintf("array %s, level %s, with up to %s of data on %d members", a.Name, a.Level, service.FormatSize(a.Used), len(a.Members))
			if err := e.confirm("dissolving " + what + "?"); err != nil {
				return err
			}
			if err := c.Dissolve(service.DissolveRequest{Array: args[0]}); err != nil {
				return err
			}
			e.out.Printf("Array %s is dissolved; its members are blank.\n", a.Name)
			return nil
		})
	},
}
