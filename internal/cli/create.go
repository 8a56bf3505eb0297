package cli

import (
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"nidalo/core/advice"
	"nidalo/core/layout"
	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/service"
	"nidalo/internal/view"
)

var createCommand = command{name: "create", usage: "-name NAME -level L [-use SIZE] [-strip 64KiB] [-groups N] [-spin-down TIME] [-although-bad] [-yes] DISK...",
	short: "make an array of blank disks", least: 1, most: -1,
	help: `
Makes an array of the given disks, named by bay, serial or path. The disks must be blank: one that holds anything is refused,
and its contents are named. Nothing is written before everything has been checked. The array is ready at once, whatever its
size, because blocks that were never written read as zeros.

A disk that failed before, or was found bad when it was vetted, is taken only with -although-bad.

Levels and what they can lose:
  0        striping alone; nothing may be lost
  1        every disk holds a copy; all but one may be lost
  5 6      one or two parity strips a stripe; any one or two disks
  triple   three parity strips; any three disks
  10       stripes over mirrors (pairs, or -groups N of them)
  50 60    stripes over groups of level 5 or 6 (-groups N)
  concat   one disk after the other, each with its whole size; nothing may be lost
  guarded  a guarded set: disks that stay separate volumes, of any sizes, and -parity disks that protect them all; as many may be
           lost as have parity. No data disk may be larger than a parity disk

With -use only a part of each real disk is taken: a partition of that size is made in its free room, and the rest stays for
further arrays of other levels on the same disks. Partitions that are there, in use or not, stay as they are.

  nidalo create -name tides -level 6 A1 A2 A3 A4 A5 A6
  nidalo create -name vault -level 60 -groups 4 A1-A8 B1-B8     neighbouring bays as ranges
  nidalo create -name sonar -level 5 -use 500GB TMK-0193 TMK-0194 TMK-0195
  nidalo create -name charts -level 1 TMK-0193 ORR-0200
  nidalo create -name archive -level guarded -parity A8 -spin-down 20m logbooks=A1 maps=A2 scans=A3`,
	with: func(e *env, f *flag.FlagSet) action {
		var (
			name, level, strip, size, parity, sleep string
			groups                                  int
		)
		f.StringVar(&name, "name", "", "the `NAME` of the array; clients ask for it by this name")
		althoughBad := false
		althoughBadFlag(f, &althoughBad)
		f.StringVar(&level, "level", "", "the `LEVEL`: 0, 1, 5, 6, triple, 10, 50, 60, concat or guarded")
		f.StringVar(&parity, "parity", "", "with level guarded: the one to three `DISKS`, with commas in between, that have the parity")
		f.StringVar(&strip, "strip", "64KiB", "the `SIZE` of a strip, a power of two from 16KiB to 1MiB")
		f.StringVar(&size, "use", "", "take only this `SIZE` of each disk, in a partition made for it")
		f.StringVar(&sleep, "spin-down", "never", "with level guarded: the `TIME` without work after which a disk sleeps, such as 20m")
		f.IntVar(&groups, "groups", 0, "how many groups levels 10, 50 and 60 have; 0 chooses")
		jsonFlag(e, f)
		yesFlag(e, f)
		return func(args []string) error {
			if name == "" || level == "" {
				return usageError{"-name and -level are needed"}
			}
			strip, err := say.ParseSize(strip)
			if err != nil {
				return usageError{"-strip: " + err.Error()}
			}
			use := int64(0)
			if size != "" {
				if use, err = say.ParseSize(size); err != nil || use < 1<<20 {
					return usageError{"-use: write a size of at least 1MiB, such as 500GB"}
				}
			}
			after, err := spinDownTime(sleep)
			if err != nil {
				return err
			}
			req := control.CreateRequest{SpinDown: after, Use: use, Name: name, Level: level, Strip: strip, Groups: groups, Disks: args, AlthoughBad: althoughBad}
			return e.withControl(func(c *control.Control) error {
				var err error
				if layout.Level(level) == layout.Guarded || parity != "" {
					err = e.guards(c, &req, args, parity)
				} else {
					req.Disks, err = e.many(c, args...)
				}
				if err != nil {
					return err
				}
				req.DryRun = true
				plan, err := c.Create(req)
				if err != nil {
					return err
				}
				if plan.Together != "" {
					e.err.Printf("%s.\n", plan.Together)
				}
				if line := advice.HostLine(plan.Hosts); line != "" {
					e.err.Printf("%s\n", line)
					for _, other := range plan.Spread {
						e.err.Printf("  %s\n", other)
					}
				}
				if e.interactive() && !e.yes {
					e.err.Printf("Array %s, %s, of %d blank disks:\n", plan.Name, view.LevelOf(plan.Level), len(plan.Members))
					for _, m := range plan.Members {
						e.err.Printf("  %s\n", strings.Join(strings.Fields(m.Bay+" "+m.Model+" "+m.Serial+" "+m.Path), " "))
					}
					e.err.Printf("%s usable, %s\n", say.Size(plan.Capacity), view.Survives(*plan))
					e.err.CreateLayers(*plan)
					e.err.CreateVolumes(*plan)
					for _, line := range plan.Shared {
						e.err.Printf("%s\n", line)
					}
					if err := e.confirm("create it?"); err != nil {
						return err
					}
				} else if len(plan.Shared) > 0 && !e.yes {
					return &control.Error{What: "not created: " + strings.Join(plan.Shared, "; "), Hints: []string{
						fmt.Sprintf("the margin would be %s", view.Margin(plan.Margin, plan.MarginBest)), "-yes creates it all the same"}}
				}
				if len(plan.NotVetted) > 0 {
					notVetted(e, plan.NotVetted...)
				}
				req.DryRun = false
				a, err := c.Create(req)
				if err != nil {
					return err
				}
				if e.json {
					return e.printJSON(a)
				}
				e.out.Printf("Array %s is ready: %s, %s usable, %s.\n", a.Name, view.LevelOf(a.Level), say.Size(a.Capacity), view.Survives(*a))
				if !e.interactive() || e.yes {
					e.out.CreateLayers(*plan)
				}
				if len(a.Volumes) > 0 {
					e.out.CreateVolumes(*a)
				}
				e.offerAdoption(a)
				switch {
				case len(a.Volumes) > 0 && a.Volumes[0].Export != "":
					e.out.Next([]string{fmt.Sprintf("nidalo attach %s/%s   makes a volume a block device of this host", a.Name, a.Volumes[0].Name), "clients reach it at " + a.Volumes[0].Export})
				case a.Export != "":
					e.out.Next([]string{"nidalo attach " + a.Name + "   makes it a block device of this host", "clients reach it at " + a.Export})
				default:
					e.out.Next([]string{"nidalo serve   lets clients reach it"})
				}
				return nil
			})
		}
	},
}

// offerAdoption says, at a terminal, how a new disk in the bay of a failed one takes its place by itself.
func (e *env) offerAdoption(a *control.ArrayStatus) {
	c, err := service.ReadConfig(e.home)
	bays := !slices.ContainsFunc(a.Members, func(m control.MemberStatus) bool { return m.Bay == "" })
	if err == nil && c.Adopt == "" && bays && e.interactive() {
		e.err.Printf("A new disk in the bay of a failed one waits for a command. adopt = \"same-bay\" in %s has it take the place by itself.\n",
			filepath.Join(e.home, service.ConfigName))
	}
}

// guards reads the disks of a guarded set, as VOLUME=DISK, or DISK for a volume that is called like it.
func (e *env) guards(c *control.Control, req *control.CreateRequest, args []string, parity string) error {
	if layout.Level(req.Level) != layout.Guarded {
		return usageError{"-parity is for level guarded"}
	}
	if parity == "" {
		return usageError{"-parity is needed with level guarded; nidalo plan -level guarded shows which disks should have it"}
	}
	var disks []string
	for _, arg := range args {
		if names, disk := volumesIn([]string{arg}); len(names) > 0 {
			req.Volumes, disks = append(req.Volumes, names...), append(disks, disk...)
			continue
		}
		bays := say.Expand(arg)
		if bays == nil {
			bays = []string{arg}
		}
		for _, disk := range bays {
			req.Volumes, disks = append(req.Volumes, strings.ToLower(filepath.Base(disk))), append(disks, disk)
		}
	}
	for _, disk := range strings.Split(parity, ",") {
		bays := say.Expand(disk)
		if bays == nil {
			bays = []string{strings.TrimSpace(disk)}
		}
		disks = append(disks, bays...)
	}
	var err error
	req.Disks, err = e.disks(c, disks...)
	return err
}

// volumesIn reads VOLUME=DISK; where not all are so, there are no names.
func volumesIn(args []string) (names, disks []string) {
	for _, arg := range args {
		name, disk, ok := strings.Cut(arg, "=")
		if !ok || strings.ContainsAny(name, "/") { // a path may have one
			return nil, args
		}
		names, disks = append(names, name), append(disks, disk)
	}
	return names, disks
}
