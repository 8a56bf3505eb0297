package cli

import (
	"flag"
	"time"

	"nidalo/core/say"
	"nidalo/internal/control"
)

var vetCommand = command{name: "vet", usage: "[-quick] [-again] [-stop] [-wait] [-json] [DISK]", short: "test a blank disk before it is trusted", most: 1,
	help: `
Writes a pattern over the whole disk, reads it back, and writes zeros, so that the disk is blank again. Pieces that cannot be
written or read, or that come back different, are located, and those that take far longer than most are counted. The health
readings of the disk are compared before and after. -quick looks at samples and both ends. After a stop or a crash it goes on
where it was; -stop holds it, -again begins anew. Disks that hold anything are refused. Without a disk all vets are listed.

Exit status 1 when something was found wrong.

  nidalo vet A7
  nidalo vet -quick -wait A7
  nidalo vet`,
	with: func(e *env, f *flag.FlagSet) action {
		var quick, again, hold, wait bool
		f.BoolVar(&quick, "quick", false, "samples instead of the whole disk")
		f.BoolVar(&again, "again", false, "begin anew a vet that was cut short")
		f.BoolVar(&hold, "stop", false, "hold it; the same command without -stop goes on")
		f.BoolVar(&wait, "wait", false, "wait for its end")
		jsonFlag(e, f)
		return func(args []string) error {
			e.looks = len(args) == 0
			return e.withControl(func(c *control.Control) error {
				req := control.VetRequest{Quick: quick, Again: again, Stop: hold}
				if len(args) == 1 {
					var err error
					if req.Disk, err = e.diskName(c, args[0]); err != nil {
						return err
					}
				}
				all, err := c.Vet(req)
				if err != nil {
					return err
				}
				own := c.Own
				if req.Disk != "" && !hold && (wait || own) {
					if all, err = e.waitVet(c); err != nil {
						return err
					}
				}
				for _, v := range all {
					if v.Errors > 0 || len(v.Failing) > 0 || v.State == "failed" {
						e.status = Could
					}
				}
				if e.json {
					return e.printJSON(map[string]any{"vets": all})
				}
				e.out.Vettings(all)
				return nil
			})
		}
	},
}

// waitVet waits until no vet is under way.
func (e *env) waitVet(c *control.Control) ([]control.Vetting, error) {
	p := e.err.NewProgress()
	defer p.End()
	for {
		all, err := c.Vet(control.VetRequest{})
		if err != nil {
			return nil, err
		}
		busy := false
		for _, v := range all {
			if v.State == "running" || v.State == "waiting" {
				busy = true
				p.Line(v.Percent, e.err.VetLine(v))
			}
		}
		if !busy {
			return all, nil
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// notVetted says on standard error that disks were never vetted.
func notVetted(e *env, names ...string) {
	e.err.Printf("Never vetted: %s. nidalo vet DISK tests a disk before it is trusted.\n", say.Ranges(names))
}
