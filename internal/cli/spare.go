package cli

import (
	"cmp"
	"flag"
	"strings"

	"nidalo/core/say"
	"nidalo/internal/control"
)

var spareCommand = command{name: "spare", usage: "[-release] [-although-bad] [-json] [DISK [NAME…]]", short: "make a disk the hot spare of arrays, or of all; list the spares", most: -1,
	help: `
A hot spare takes the place of a member as soon as that fails. Of several spares the smallest one that fits is taken. Without
names it serves all arrays. Without a disk the spares are listed, with the arrays for which each stands ready. A disk that is too small for an array is reported now, not when it is needed. When a disk with
partitions of several arrays fails, a spare that serves them all takes its place in all of them (nidalo help replace).

When the failed disk is replaced later, either make the new disk the spare, or let the array move onto it with
nidalo retire NAME SPARE NEW, which frees the old spare.

Spares are asked how they are, and read from end to end now and then (nidalo help schedule). One that failed before, was found bad when
it was vetted or read, or says that it will fail does not step in, unless -although-bad says so.

  nidalo spare
  nidalo spare B2
  nidalo spare B3 tides sonar
  nidalo spare -release B2`,
	with: func(e *env, f *flag.FlagSet) action {
		var release, althoughBad bool
		f.BoolVar(&release, "release", false, "it is no spare any more")
		althoughBadFlag(f, &althoughBad)
		jsonFlag(e, f)
		return func(args []string) error {
			if len(args) == 0 {
				return e.listSpares()
			}
			return e.withControl(func(c *control.Control) error {
				name, err := e.diskName(c, args[0])
				if err != nil {
					return err
				}
				r, err := c.AssignSpare(control.SpareRequest{Disk: name, Arrays: args[1:], Release: release, AlthoughBad: althoughBad})
				if err != nil {
					return err
				}
				if e.json {
					return e.printJSON(r)
				}
				if release {
					e.out.Printf("%s is no spare any more.\n", r.Disk.Identity)
				}
				if len(r.Taken) > 0 {
					e.out.Printf("It does not stand ready for %s any more.\n", say.List(r.Taken))
				}
				if release {
					return nil
				}
				if r.Disk.Vetting == "" {
					notVetted(e, cmp.Or(r.Disk.Bay, r.Disk.Path))
				}
				whom := "all arrays"
				if len(args) > 1 {
					whom = strings.Join(args[1:], ", ")
				}
				e.out.Printf("%s of %s is a hot spare for %s.\n", r.Disk.Identity, say.Size(r.Disk.Size), whom)
				for _, t := range r.TooSmall {
					e.out.Printf("But it is too small for some: %s.\n", t)
				}
				return nil
			})
		}
	},
}

func (e *env) listSpares() error {
	e.looks = true
	return e.withControl(func(c *control.Control) error {
		all, err := c.Spares()
		if err != nil {
			return err
		}
		if e.json {
			return e.printJSON(map[string]any{"spares": all})
		}
		e.out.Spares(all)
		return nil
	})
}
