package cli

import (
	"flag"
	"fmt"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

var retireCommand = command{name: "retire", usage: "[-wait] [-although-bad] NAME DISK [ONTO] | -whole OLD NEW", short: "copy a member onto another disk, then let it go", least: 2, most: 3,
	help: `
Copies a member that still works onto a blank disk or a spare (without ONTO the smallest that fits), and lets the old disk
go. Until the last moment the old disk takes part in everything, so the margin never drops; what it cannot read any more
comes from redundancy. The disk that is let go keeps its contents until it is erased.

With -whole a disk is retired with everything that arrays have on it; nidalo help replace explains how.

  nidalo retire tides A3 B1
  nidalo retire -wait tides A3
  nidalo retire -whole TMK-0193 TMK-0301`,
	with: func(e *env, f *flag.FlagSet) action {
		o := wholeDiskOptions(f)
		var whole bool
		f.BoolVar(&o.wait, "wait", false, "follow the copying to its end")
		f.BoolVar(&whole, "whole", false, "everything on a disk, onto another disk")
		return func(args []string) error {
			if whole {
				if len(args) != 2 {
					return usageError{"-whole goes with two disks"}
				}
				return o.run(e, args[0], args[1], true)
			}
			return e.withControl(func(c *control.Control) error {
				names, err := e.disks(c, args[1:]...)
				if err != nil {
					return err
				}
				req := control.RetireRequest{Array: args[0], Disk: names[0], AlthoughBad: o.althoughBad}
				if len(names) == 2 {
					req.Onto = names[1]
				}
				r, err := c.Retire(req)
				if err != nil {
					return err
				}
				e.err.Printf("%s of array %s is being copied onto %s; the margin does not drop.\n", r.Member, args[0], r.Disk.Identity)
				if !o.wait {
					if r.Stays {
						e.out.Next([]string{"nidalo watch   follows it"})
					} else {
						e.out.Next([]string{"nidalo serve   goes on with it; without a service it rests now"})
					}
					return nil
				}
				task, err := e.follow(c, args[0], "retire", &r.Slot)
				if err != nil {
					return err
				}
				if task.State != "done" {
					return &control.Error{What: fmt.Sprintf("the copying has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + args[0]}}
				}
				e.out.Printf("%s is retired: %s copied in %s. It may be pulled.\n", r.Member, say.Size(task.Moved), view.Duration(task.Ended.Sub(task.Started).Seconds()))
				return nil
			})
		}
	},
}
