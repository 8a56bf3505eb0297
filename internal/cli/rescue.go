package cli

import (
	"flag"
	"path/filepath"
	"strings"
	"time"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

// rescueOptions are what can be asked of it.
type rescueOptions struct {
	images                    []control.Image
	state                     int
	old, serve, inPlace, hold bool
	copy, list                string
}

var rescueCommand = command{name: "rescue", usage: "[-image FILE[=LIST]]… [-state N] [-old] [-copy FILE | -serve | -in-place] [-list FILE] [-stop] [-yes] [-json] NAME",
	short: "read what is left after too many failures, or bring it back", least: 1, most: 1,
	help: `
Reads the records of all members of an array that is not in service, and reports how much of its data can be read and how much
is lost. Nothing is written to the members, except with -in-place. Every block is proven by its checksum, or restored from
redundancy; a block that cannot be proven is not given out.

-copy FILE copies the data to a file. Lost places are zeros there, and FILE.lost lists them, one a line, with offset and length
in bytes. -serve lets clients of the block protocol read the array as rescue/NAME until -stop; lost places are I/O errors.
-list FILE only writes the list of lost places, in the form of FILE.lost.

A member that left before the others failed, such as one that was failed by mistake, counts where nothing is proven to have
changed since it left. -old also takes places that may have changed: they may be as they were when the member left. -in-place
makes this state the valid one, on the members themselves, and starts the array; it shows the losses and asks first. Lost
places stay lost until they are written again. When disks only vanished together for a moment, put them back and start the
array instead, and nothing is lost.

A copy of a disk takes part as an image, with a list of its unreadable places in the form of FILE.lost. It is preferred to the
disk itself.

When disks went on without each other there are several states; -state chooses one.

Exit status 1 when anything is lost.

  nidalo rescue tides
  nidalo rescue -copy /mnt/big/tides.img tides
  nidalo rescue -image /mnt/a3.img=/mnt/a3.bad tides
  nidalo rescue -serve tides
  nidalo rescue -in-place tides
  nidalo rescue -stop tides`,
	with: func(e *env, f *flag.FlagSet) action {
		o := &rescueOptions{}
		f.Func("image", "an image of a member, and after = a list of what is bad in it; may be given again", func(v string) error {
			path, list, _ := strings.Cut(v, "=")
			image := control.Image{Path: absolute(path)}
			if list != "" {
				image.Bad = absolute(list)
			}
			o.images = append(o.images, image)
			return nil
		})
		f.IntVar(&o.state, "state", 0, "which state, when there are several")
		f.BoolVar(&o.old, "old", false, "also take data that may be older than the rest")
		f.StringVar(&o.copy, "copy", "", "a `FILE` to copy it to, which must not be there yet")
		f.StringVar(&o.list, "list", "", "a `FILE` for all places that are lost, which must not be there yet")
		f.BoolVar(&o.serve, "serve", false, "let clients read it, through the service")
		f.BoolVar(&o.inPlace, "in-place", false, "bring members that had left back, and start the array")
		f.BoolVar(&o.hold, "stop", false, "end the judging, copying or serving")
		yesFlag(e, f)
		jsonFlag(e, f)
		return func(args []string) error {
			return o.run(e, args)
		}
	},
}

func (o *rescueOptions) run(e *env, args []string) error {
	ways := 0
	for _, on := range []bool{o.copy != "", o.serve, o.inPlace, o.hold} {
		if on {
			ways++
		}
	}
	if ways > 1 {
		return usageError{"one of -copy, -serve, -in-place and -stop"}
	}
	e.looks = !o.inPlace
	return e.withControl(func(c *control.Control) error {
		req := control.RescueRequest{Array: args[0], Images: o.images, State: o.state, Old: o.old, Stop: o.hold, Serve: o.serve}
		if o.copy != "" {
			req.Copy = absolute(o.copy)
		}
		if o.list != "" {
			req.List = absolute(o.list)
		}
		r, err := followRescue(e, c, req)
		if err != nil {
			return err
		}
		if o.inPlace {
			if r, err = bringBack(e, c, req, r); err != nil {
				return err
			}
		}
		if o.hold && !e.json {
			e.out.RescueEnded(r)
			return nil
		}
		if !o.hold && (r.Lost > 0 || r.Doubt != "" || r.Stage == control.RescueFailed || r.Copy != nil && r.Copy.Lost > 0) {
			e.status = Could
		}
		switch {
		case e.json:
			return e.printJSON(r)
		case r.Copy != nil:
			e.out.RescueCopied(r)
		case o.inPlace && r.Stage == control.RescueDone:
			e.status = Done
			st, err := c.Status(r.Array)
			if err != nil {
				return err
			}
			e.out.RescueBack(r)
			e.out.Status(st)
		case r.Stage == control.RescueFailed:
			return &control.Error{What: r.Error, Hints: []string{"nidalo rescue " + r.Array + "   judges it again"}}
		default:
			e.out.Rescue(r)
		}
		return nil
	})
}

func absolute(path string) string {
	if p, err := filepath.Abs(path); err == nil {
		return p
	}
	return path
}

// followRescue asks for a rescue and waits for what is to be waited for, saying how far it is on a terminal.
func followRescue(e *env, c *control.Control, req control.RescueRequest) (*control.RescueReply, error) {
	r, err := c.Rescue(req)
	if err != nil || req.Stop {
		return r, err
	}
	if r.Stage == control.RescueCopying && !e.json {
		e.out.Rescue(r)
	}
	began := time.Now()
	for told := began; ; time.Sleep(100 * time.Millisecond) {
		switch r.Stage {
		case control.RescueJudging, control.RescueBringing, control.RescueCopying:
		default:
			return r, nil
		}
		if time.Since(told) > max(2*time.Second, time.Since(began)/20) {
			told = time.Now()
			e.err.Printf("%s\n", view.RescueProgress(r, time.Since(began)))
		}
		if r, err = c.Rescue(control.RescueRequest{Array: r.Array, Watch: true}); err != nil {
			return nil, err
		}
	}
}

// bringBack says what bringing back in place means, asks, and has it done.
func bringBack(e *env, c *control.Control, req control.RescueRequest, r *control.RescueReply) (*control.RescueReply, error) {
	if r.Stage != control.RescueDone || r.Doubt != "" {
		return r, nil
	}
	req.InPlace, req.Accept, req.List = true, r.Lost, ""
	if len(r.Back) > 0 && !e.json {
		e.out.RescueMeans(r)
	}
	if len(r.Back) > 0 {
		if err := e.confirm("bring " + r.Array + " back in place?"); err != nil {
			return nil, err
		}
	}
	return followRescue(e, c, req)
}
