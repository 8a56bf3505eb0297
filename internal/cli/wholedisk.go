package cli

import (
	"flag"
	"fmt"
	"time"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

// wholeDisk is what can be asked when a disk is replaced or retired with everything that arrays have on it.
type wholeDisk struct {
	like                                string
	copyOthers, grow, wait, althoughBad bool
}

func wholeDiskOptions(f *flag.FlagSet) *wholeDisk {
	o := &wholeDisk{}
	f.StringVar(&o.like, "like", "", "of a whole disk: take the partition table of this `DISK`")
	f.BoolVar(&o.copyOthers, "copy-others", false, "of a whole disk: copy partitions that no array has, byte for byte")
	f.BoolVar(&o.grow, "grow", false, "of a whole disk: give the last partition the rest of a larger disk")
	althoughBadFlag(f, &o.althoughBad)
	return o
}

// run replaces or retires the disk.
func (o *wholeDisk) run(e *env, old, with string, retire bool) error {
	return e.withControl(func(c *control.Control) error {
		names, err := e.disks(c, old, with)
		if err != nil {
			return err
		}
		req := control.DiskRequest{Old: names[0], New: names[1], Retire: retire, Like: o.like, CopyOthers: o.copyOthers, Grow: o.grow,
			Force: e.yes, AlthoughBad: o.althoughBad, DryRun: true}
		plan, err := c.ReplaceDisk(req)
		if err != nil {
			return err
		}
		if e.interactive() {
			e.err.WholeDisk(plan, retire)
			if err := e.confirm(fmt.Sprintf("write to %s?", plan.New.Identity)); err != nil {
				return err
			}
		}
		var done *control.DiskReply
		err = e.insist("replace it?", func(force bool) (err error) {
			req.DryRun, req.Force = false, force
			done, err = c.ReplaceDisk(req)
			return err
		})
		if err != nil {
			return err
		}
		if !e.interactive() {
			e.err.WholeDisk(done, retire)
		}
		e.err.Printf("%s takes the place of %s.\n", done.New.Identity, done.Old)
		switch {
		case !o.wait && done.Stays:
			e.out.Next([]string{"nidalo status   shows how far it is"})
			return nil
		case !o.wait:
			e.out.Next([]string{"nidalo serve   goes on with it; without a service it rests now"})
			return nil
		}
		return e.followDisk(c, done)
	})
}

// followDisk follows the repair of all arrays on a disk to its end.
func (e *env) followDisk(c *control.Control, of *control.DiskReply) error {
	p := e.err.NewProgress()
	for {
		st, err := c.Status("")
		if err != nil {
			return err
		}
		known := false
		for _, t := range st.Disks {
			if t.New != of.New.Serial && t.New != of.New.Bay && t.New != of.New.Path {
				continue
			}
			known = true
			switch t.State {
			case "failed":
				p.End()
				return &control.Error{What: "it has failed: " + t.Error, Hints: []string{"nidalo next   says what to do"}}
			case "done":
				p.End()
				what := "Its member is whole again"
				if t.Arrays > 1 {
					what = fmt.Sprintf("All %d members on it are whole again", t.Arrays)
				}
				e.out.Printf("%s, after %s.\n", what, view.Duration(time.Since(t.Started).Seconds()))
				e.out.Next([]string{"nidalo next   lists the remaining steps"})
				return nil
			}
			p.Line(t.Percent, view.DiskTaskLine(t))
		}
		if !known {
			return &control.Error{What: "its progress is not known any more", Hints: []string{"nidalo status   shows the arrays"}}
		}
		time.Sleep(300 * time.Millisecond)
	}
}
