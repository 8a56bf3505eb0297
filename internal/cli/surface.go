package cli

import (
	"flag"
	"slices"
	"time"

	"nidalo/internal/control"
)

var surfaceCommand = command{name: "surface", usage: "[-heal] [-again] [-stop] [-wait] [-json] [DISK]", short: "read every sector of a disk, in use or not", most: 1,
	help: `
Reads the whole disk, in use or not, and writes nothing. Unreadable places are listed, for a member of an array with the data
that is there; pieces that take far longer than most are counted. It keeps to the pace of the array, waits its turn among
the tasks, and goes on where it was after a stop or a crash. -stop holds it, -again begins anew. Without a disk all surface
tests are listed.

With -heal, at the end of the test, the places that a member cannot read are restored from the other members and rewritten;
most disks then put them on a better sector. After a test that has ended, -heal does only that.

Exit status 1 when something could not be read.

  nidalo surface A3
  nidalo surface -heal -wait TMK-0193
  nidalo surface`,
	with: func(e *env, f *flag.FlagSet) action {
		var heal, again, hold, wait bool
		f.BoolVar(&heal, "heal", false, "restore unreadable places of a member from the other members")
		f.BoolVar(&again, "again", false, "begin anew")
		f.BoolVar(&hold, "stop", false, "hold it; the same command without -stop goes on")
		f.BoolVar(&wait, "wait", false, "follow it to its end")
		jsonFlag(e, f)
		return func(args []string) error {
			e.looks = len(args) == 0
			return e.withControl(func(c *control.Control) error {
				req := control.SurfaceRequest{Heal: heal, Again: again, Stop: hold}
				if len(args) == 1 {
					var err error
					if req.Disk, err = e.diskName(c, args[0]); err != nil {
						return err
					}
				}
				all, err := c.Surface(req)
				if err != nil {
					return err
				}
				own := c.Own
				if req.Disk != "" && !hold && (wait || own) {
					if all, err = e.waitSurface(c, all[0].Disk); err != nil {
						return err
					}
				}
				for _, t := range all {
					if t.Bad > 0 || t.State == "failed" {
						e.status = Could
					}
				}
				if e.json {
					return e.printJSON(map[string]any{"surface_tests": all})
				}
				e.out.Surfaces(all)
				return nil
			})
		}
	},
}

// waitSurface follows the test of a disk to its end.
func (e *env) waitSurface(c *control.Control, disk string) ([]control.Surface, error) {
	p := e.err.NewProgress()
	defer p.End()
	for {
		all, err := c.Surface(control.SurfaceRequest{})
		if err != nil {
			return nil, err
		}
		all = slices.DeleteFunc(all, func(t control.Surface) bool { return t.Disk != disk })
		busy := false
		for _, t := range all {
			if t.State == "running" || t.State == "waiting" {
				busy = true
				p.Line(t.Percent, e.err.SurfaceLine(t))
			}
		}
		if !busy {
			return all, nil
		}
		time.Sleep(200 * time.Millisecond)
	}
}
