package cli

import (
	"flag"
	"fmt"

	"nidalo/internal/service"
	"nidalo/internal/view"
)

var nextCommand = command{name: "next", usage: "[-json]", short: "what to do now, in order", most: 0, looks: true,
	help: `
Goes through all arrays and says what the administrator should do, the most urgent first: each step with the disk by bay,
model and serial, the exact command, and why. When there is nothing to do it says so, and when to look again.

  nidalo next`,
	flags: jsonFlag,
	run: func(e *env, _ []string) error {
		return e.withControl(func(c service.Control) error {
			n, err := c.Next()
			if err != nil {
				return err
			}
			if e.json {
				return e.printJSON(n)
			}
			e.out.Steps(n)
			return nil
		})
	},
}

var mayPullCommand = command{name: "may-pull", usage: "[-json] DISK", short: "can this disk leave its bay now without losing anything?", least: 1, most: 1, looks: true,
	help: `
Answers yes or no, with the reasons; and when no, when it will be yes, as far as that is known. A member that works is never
a yes, even if the data would survive: copy it onto another disk first with retire.

Exit status: 0 yes, 1 no, 2 wrong usage.

  nidalo may-pull A3
  nidalo may-pull QRN-0207`,
	flags: jsonFlag,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			name, err := e.diskName(c, args[0])
			if err != nil {
				return err
			}
			r, err := c.MayPull(name)
			if err != nil {
				return err
			}
			if !r.Yes {
				e.status = Could
			}
			if e.json {
				return e.printJSON(r)
			}
			e.out.MayPull(r)
			return nil
		})
	},
}

var locateCommand = command{name: "locate", usage: "DISK | -others NAME | -off", short: "light a bay", most: 1, looks: true,
	help: `
Lights the bay of a disk, and darkens all others. With -others the bays of all members of an array that are seen are lit, so
that the dark one is the missing disk. -off darkens all. Bays of the lab have lights; on Linux those of an enclosure the
kernel knows.

  nidalo locate A3
  nidalo locate -others tides
  nidalo locate -off`,
	flags: func(e *env, f *flag.FlagSet) {
		f.StringVar(&e.name, "others", "", "light all members of this `ARRAY` that are seen")
		f.BoolVar(&e.off, "off", false, "darken all bays")
		jsonFlag(e, f)
	},
	run: func(e *env, args []string) error {
		req := service.LocateRequest{Others: e.name, Off: e.off}
		chosen := 0
		for _, b := range []bool{len(args) == 1, e.name != "", e.off} {
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
		return e.withControl(func(c service.Control) error {
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
			case e.off:
				e.out.Printf("All lights are off.\n")
			case e.name != "":
				e.out.Printf("The bays of all members of %s that are seen are lit; the dark one is the missing:\n", e.name)
			}
			for _, l := range r.Lit {
				e.out.Printf("%s is lit.\n", l)
			}
			for _, d := range r.Dark {
				e.out.Printf("%s\n", d)
			}
			if !e.off {
				e.out.Next([]string{"nidalo locate -off   darkens all bays again"})
			}
			return nil
		})
	},
}

var retireCommand = command{name: "retire", usage: "[-wait] [-although-bad] NAME DISK [ONTO] | -whole OLD NEW", short: "copy a member onto another disk, then let it go", least: 2, most: 3,
	help: `
Copies a member that still works onto a blank disk or a spare (without ONTO the smallest that fits), and lets the old disk
go. Until the last moment the old disk takes part in everything, so the margin never drops; what it cannot read any more
comes from redundancy. The disk that is let go keeps its contents until it is erased.

With -whole a disk is retired with everything that arrays have on it; nidalo help replace says more.

  nidalo retire tides A3 B1
  nidalo retire -wait tides A3
  nidalo retire -whole TMK-0193 TMK-0301`,
	flags: func(e *env, f *flag.FlagSet) {
		f.BoolVar(&e.wait, "wait", false, "follow the copying to its end")
		f.BoolVar(&e.whole, "whole", false, "everything on a disk, onto another disk")
		althoughBadFlag(e, f)
		wholeDiskFlags(e, f)
	},
	run: func(e *env, args []string) error {
		if e.whole {
			if len(args) != 2 {
				return usageError{"-whole goes with two disks"}
			}
			return e.wholeDisk(args[0], args[1], true)
		}
		return e.withControl(func(c service.Control) error {
			names, err := e.disks(c, args[1:]...)
			if err != nil {
				return err
			}
			req := service.RetireRequest{Array: args[0], Disk: names[0], AlthoughBad: e.althoughBad}
			if len(names) == 2 {
				req.Onto = names[1]
			}
			r, err := c.Retire(req)
			if err != nil {
				return err
			}
			e.err.Printf("%s of array %s is being copied onto %s; the margin does not drop.\n", r.Member, args[0], r.Disk.Identity)
			if !e.wait {
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
				return &service.Error{What: fmt.Sprintf("the copying has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + args[0]}}
			}
			e.out.Printf("%s is retired: %s copied in %s. It may be pulled.\n", r.Member, service.FormatSize(task.Moved), view.Duration(task.Ended.Sub(task.Started).Seconds()))
			return nil
		})
	},
}
