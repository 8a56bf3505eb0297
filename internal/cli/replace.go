package cli

import (
	"cmp"
	"flag"
	"fmt"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

var replaceCommand = command{name: "replace", usage: "[-parity | -empty] [-yes] [-wait] [-although-bad] [NAME] OLD NEW", short: "put a blank disk in the place of a member and rebuild", least: 2, most: 3,
	help: `
Makes the blank disk NEW a member in the place of OLD and starts to rebuild its contents. OLD is a member's bay, serial,
path or slot number; NEW is a disk's bay, serial or path. Clients go on meanwhile. The rebuild survives restarts. With
-wait the command follows it to the end.

A disk that failed before, or was found bad when it was vetted, is taken only with -although-bad. When OLD still works,
replacing it lowers the margin until the rebuild is done, and you are asked to confirm.

Without NAME the whole disk OLD is replaced, with everything that arrays have on it: the new disk gets a partition table like the
old one's, with new identifiers, and all arrays are repaired, the most endangered first. The table is read from the old disk,
or, when that is gone, from one with members of the same arrays; -like names another. Partitions that no array has are
named, and copied with -copy-others. -grow gives the last partition the rest of a larger disk.

With -parity, in a guarded set: NEW is larger than the parity disk, and takes the parity over; the disk that had it takes the place of
OLD then, whether that has failed or works. The disks and what becomes of them are shown first.

With -empty, in a guarded set that has lost more disks than it has parity: OLD is lost, and nothing can restore what was on
it. That is given up, and its volume begins empty on NEW.

  nidalo replace tides A3 B1
  nidalo replace -parity archive A1 B2
  nidalo replace -wait TMK-0193 TMK-0301
  nidalo replace -wait tides TMK-0193 A3`,
	with: func(e *env, f *flag.FlagSet) action {
		yesFlag(e, f)
		o := wholeDiskOptions(f)
		f.BoolVar(&o.wait, "wait", false, "follow the rebuild to its end")
		parity, empty := false, false
		f.BoolVar(&empty, "empty", false, "in a guarded set: give up what was on OLD, which nothing can restore; its volume begins empty")
		f.BoolVar(&parity, "parity", false, "in a guarded set: NEW takes over parity, and the disk that had it takes the place of OLD")
		return func(args []string) error {
			if parity && (len(args) != 3 || o.wait) {
				return usageError{"-parity takes a guarded set, a member and a disk, and goes without -wait"}
			}
			if empty && (len(args) != 3 || o.wait || parity) {
				return usageError{"-empty takes a guarded set, a lost data disk and a blank one, and goes without -wait and -parity"}
			}
			if parity {
				return e.handOver(control.ReplaceRequest{Array: args[0], Old: args[1], New: args[2], AlthoughBad: o.althoughBad, Parity: true})
			}
			if len(args) == 2 {
				return o.run(e, args[0], args[1], false)
			}
			return e.withControl(func(c *control.Control) error {
				names, err := e.disks(c, args[1], args[2])
				if err != nil {
					return err
				}
				var r *control.ReplaceReply
				err = e.insist("replace it?", func(force bool) (err error) {
					r, err = c.Replace(control.ReplaceRequest{Array: args[0], Old: names[0], New: names[1], Force: force, AlthoughBad: o.althoughBad, Empty: empty})
					return err
				})
				if err != nil {
					return err
				}
				if empty {
					e.out.Printf("The volume on %s is empty. Make a file system on it, and restore it from a backup.\n", r.Disk.Identity)
					e.out.Next([]string{"nidalo status " + args[0] + "   shows the set and its volumes"})
					return nil
				}
				if r.Disk.Vetting == "" {
					notVetted(e, cmp.Or(r.Disk.Bay, r.Disk.Path))
				}
				e.err.Printf("%s takes the place of %s in slot %d of array %s; the rebuild has begun.\n", r.Disk.Identity, r.Member, r.Slot, args[0])
				if !o.wait {
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
					return &control.Error{What: fmt.Sprintf("the rebuild has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + args[0]}}
				}
				e.out.Printf("%s of array %s is rebuilt: %s in %s.\n", r.Disk.Identity, args[0], say.Size(task.Done), view.Duration(task.Ended.Sub(task.Started).Seconds()))
				st, err := c.Status(args[0])
				if err != nil {
					return err
				}
				a := st.Arrays[0]
				e.out.Printf("The array is %s, margin %s.\n", a.Condition, view.Margin(a.Margin, a.MarginBest))
				e.out.Next(a.Next)
				return nil
			})
		}
	},
}

// handOver shows what becomes of the disks when one takes over parity, asks, and begins it.
func (e *env) handOver(req control.ReplaceRequest) error {
	return e.withControl(func(c *control.Control) error {
		names, err := e.disks(c, req.Old, req.New)
		if err != nil {
			return err
		}
		req.Old, req.New, req.DryRun = names[0], names[1], true
		r, err := c.Replace(req)
		if err != nil {
			return err
		}
		e.err.RoleMoves(r.Moves)
		if e.interactive() && !e.yes {
			if err := e.confirm("do it?"); err != nil {
				return err
			}
		}
		req.DryRun = false
		if r, err = c.Replace(req); err != nil {
			return err
		}
		if r.Disk.Vetting == "" {
			notVetted(e, cmp.Or(r.Disk.Bay, r.Disk.Path))
		}
		e.out.Printf("%s takes over the parity of array %s; then %s takes the place of %s.\n", r.Moves[0].Disk, req.Array, r.Moves[1].Disk, r.Member)
		if r.Stays {
			e.out.Next([]string{"nidalo watch   follows both steps", fmt.Sprintf("nidalo cancel %s retire   takes it back, as long as the first step is under way", req.Array)})
		} else {
			e.out.Next([]string{"nidalo serve   goes on with it; without a service it rests now"})
		}
		return nil
	})
}
