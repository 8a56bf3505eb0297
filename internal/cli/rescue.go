package cli

import (
	"flag"
	"path/filepath"
	"strings"
	"time"

	"nidalo/internal/service"
	"nidalo/internal/view"
)

var rescueCommand = command{name: "rescue", usage: "[-image FILE[=LIST]]… [-state N] [-old] [-copy FILE] [-stop] [-json] NAME",
	short: "read what is left after too many failures", least: 1, most: 1,
	help: `
Reads the records of all members of an array that is not in service, says what of it would be whole and what is lost, and
copies it to a file with -copy: what cannot be read is zeros there, and FILE.lost lists it, a line each: where it begins and
how long it is, in bytes. Nothing is written to the members. Every block is proven by its checksum, or restored from
redundancy; what cannot be proven is not given out.

A disk that was copied elsewhere takes part as an image, with a list of what could not be read of it, in the same form as
FILE.lost. It goes before the disk itself.

A member that left the array before the others failed counts where it is proven that nothing changed since. -old also takes
what is not proven to have changed: such places may be as they were when it left.

When disks went on without each other there are several states; -state chooses one.

Exit status 1 when anything is lost.

  nidalo rescue tides
  nidalo rescue -copy /mnt/big/tides.img tides
  nidalo rescue -image /mnt/a3.img=/mnt/a3.bad tides
  nidalo rescue -stop tides`,
	flags: func(e *env, f *flag.FlagSet) {
		f.Func("image", "an image of a member, and after = a list of what is bad in it; may be given again", func(v string) error {
			path, list, _ := strings.Cut(v, "=")
			image := service.Image{Path: absolute(path)}
			if list != "" {
				image.Bad = absolute(list)
			}
			e.images = append(e.images, image)
			return nil
		})
		f.IntVar(&e.state, "state", 0, "which state, when there are several")
		f.BoolVar(&e.old, "old", false, "take what may be older than the rest as well")
		f.StringVar(&e.copy, "copy", "", "a file to copy it to, which must not be there yet")
		f.BoolVar(&e.hold, "stop", false, "end the copying")
		jsonFlag(e, f)
	},
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			req := service.RescueRequest{Array: args[0], Images: e.images, State: e.state, Old: e.old, Stop: e.hold}
			if e.copy != "" {
				req.Copy = absolute(e.copy)
			}
			r, err := c.Rescue(req)
			if err != nil {
				return err
			}
			if r.Copy != nil && !e.hold {
				if !e.json {
					e.out.Rescue(r)
				}
				if r.Copy, err = waitRescue(e, c, r.Array); err != nil {
					return err
				}
			}
			if r.Lost > 0 || r.Doubt != "" || r.Copy != nil && (r.Copy.Lost > 0 || r.Copy.State == "failed") {
				e.status = Could
			}
			switch {
			case e.json:
				return e.printJSON(r)
			case r.Copy != nil:
				e.out.RescueCopied(r)
			default:
				e.out.Rescue(r)
			}
			return nil
		})
	},
}

func absolute(path string) string {
	if p, err := filepath.Abs(path); err == nil {
		return p
	}
	return path
}

// waitRescue waits for the end of the copying, and says how far it is when somebody looks.
func waitRescue(e *env, c service.Control, name string) (*service.RescueCopy, error) {
	for told := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		r, err := c.Rescue(service.RescueRequest{Array: name, Watch: true})
		if err != nil {
			return nil, err
		}
		if !r.Copy.Ended.IsZero() {
			return r.Copy, nil
		}
		if time.Since(told) > 2*time.Second {
			told = time.Now()
			e.err.Printf("%s\n", view.RescueProgress(r.Copy))
		}
	}
}
