package cli

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

var convertCommand = command{name: "convert", usage: "-level L [-strip SIZE] [-groups N] [-free MEMBER,…] [-spares] [-wait] [-although-bad] [-yes] NAME [DISK…]", short: "change the level, strip or groups of an array in use", least: 1, most: -1,
	help: `
Lays an array out anew, with the disks there are and those that are named, while clients read and write. It goes from one end to
the other; on one side of the boundary the new layout is in force, on the other side still the old one. It survives every stop
and crash, keeps at least the lesser margin of both layouts, and waits while a member is away, rebuilt or copied, or is checked.
It can be paused, and paced like every other task. As long as it is under way, nidalo cancel NAME conversion has it go back to the
layout before; disks that came with it are blank then. Another conversion that is asked for meanwhile waits, and begins by itself
when the one before is done; nidalo cancel drops that one first.

A conversion is possible when no data would have to be put where other data still is. The array does not become smaller, unless
-free takes disks out and nothing is written where it will end. nidalo plan -change shows a conversion without making it.

  nidalo convert tides -level 6 B1                level 5 becomes level 6, with one more disk
  nidalo convert charts -level 5 B2               a mirror of two becomes level 5 of three
  nidalo convert -wait -level 10 charts B3 B4     a mirror becomes a stripe of mirrors
  nidalo convert sonar -level 5 -free A6          level 6 becomes level 5, and A6 is blank then
  nidalo convert sonar -level 6 -strip 256KiB     another strip, where the room suffices`,
	with: func(e *env, f *flag.FlagSet) action {
		o := changeOptions(e, f)
		var level, strip string
		var groups int
		o.freeFlags(f)
		f.StringVar(&level, "level", "", "the `LEVEL` that it is to have: 0, 1, 5, 6, triple, 10, 50 or 60")
		f.StringVar(&strip, "strip", "", "the `SIZE` of a strip; as it is when this is not given")
		f.IntVar(&groups, "groups", 0, "how many groups levels 10, 50 and 60 have; 0 chooses")
		return func(args []string) error {
			req := control.ChangeRequest{Array: args[0], Level: level, Groups: groups, Free: o.freed(), Discard: o.discard, Spares: o.spares}
			if level == "" && len(req.Free) == 0 && strip == "" && groups == 0 {
				return usageError{"say what is to change: -level, -strip or -groups; nidalo grow adds disks"}
			}
			if strip != "" {
				n, err := say.ParseSize(strip)
				if err != nil {
					return usageError{"-strip: " + err.Error()}
				}
				req.Strip = n
			}
			return o.run(e, req, args[1:])
		}
	},
}

// changing is what grow and convert have in common.
type changing struct {
	wait, althoughBad, discard, spares bool
	free                               string
}

func (o *changing) freeFlags(f *flag.FlagSet) {
	f.StringVar(&o.free, "free", "", "the `MEMBER`s, with commas in between, that the array is to do without")
	f.BoolVar(&o.spares, "spares", false, "keep the disks that are freed as hot spares")
	f.BoolVar(&o.discard, "discard", false, "lose what is written beyond the new end")
}

// freed are the members that are to be freed.
func (o *changing) freed() (names []string) {
	for _, name := range strings.Split(o.free, ",") {
		if name = strings.TrimSpace(name); name != "" {
			names = append(names, name)
		}
	}
	return names
}

func changeOptions(e *env, f *flag.FlagSet) *changing {
	o := &changing{}
	f.BoolVar(&o.wait, "wait", false, "follow it to its end")
	althoughBadFlag(f, &o.althoughBad)
	jsonFlag(e, f)
	yesFlag(e, f)
	return o
}

// run shows what a change means, asks, and makes it.
func (o *changing) run(e *env, req control.ChangeRequest, disks []string) error {
	return e.withControl(func(c *control.Control) error {
		var err error
		if req.Volumes, disks = volumesIn(disks); len(req.Volumes) > 0 {
			req.Disks, err = e.disks(c, disks...)
		} else {
			req.Disks, err = e.many(c, disks...)
		}
		if err != nil {
			return err
		}
		req.AlthoughBad, req.DryRun = o.althoughBad, true
		plan, err := c.Change(req)
		if err != nil {
			return err
		}
		e.err.Change(*plan)
		if plan.Beyond > 0 && !req.Discard {
			return stillWritten(plan)
		}
		switch loses := plan.Then.Margin < plan.Before.Margin; {
		case e.yes:
		case plan.Beyond > 0 && !e.interactive():
			return &control.Error{What: "not done: " + plan.BeyondWords() + " would be lost", Hints: []string{"-yes does it all the same"}}
		case loses && !e.interactive():
			return &control.Error{What: fmt.Sprintf("not done: the margin falls from %d to %d", plan.Before.Margin, plan.Then.Margin), Hints: []string{"-yes does it all the same"}}
		case e.interactive():
			if err := e.confirm("do it?"); err != nil {
				return err
			}
		}
		req.DryRun = false
		if plan, err = c.Change(req); err != nil {
			return err
		}
		if plan.Waits != "" {
			if e.json {
				return e.printJSON(plan)
			}
			e.out.Printf("The change of array %s begins by itself %s.\n", plan.Array, plan.Waits)
			e.out.Next([]string{fmt.Sprintf("nidalo cancel %s conversion   drops it; what is under way goes on", plan.Array)})
			return nil
		}
		if plan.Empties {
			return e.empties(c, req, *plan, o.wait)
		}
		if o.wait {
			if err := e.followed(c, *plan); err != nil {
				return err
			}
		}
		if e.json {
			return e.printJSON(plan)
		}
		return e.changed(c, *plan, o.wait)
	})
}

// stillWritten refuses a change that would lose something, unless that was said to be wanted.
func stillWritten(plan *control.ChangeReply) error {
	if plan.Gone != "" {
		return &control.Error{What: fmt.Sprintf("not done: %s is written in the volume %s/%s", plan.BeyondWords(), plan.Array, plan.Gone), Hints: []string{"copy what is wanted to another volume first; -discard gives up the rest, after a question"}}
	}
	return &control.Error{What: "not done: something is written beyond the new end: " + plan.BeyondWords(), Hints: control.BeyondHints}
}

// empties says that a volume is being emptied, and with wait follows that until its disk is out.
func (e *env) empties(c *control.Control, req control.ChangeRequest, plan control.ChangeReply, wait bool) error {
	if !wait {
		if e.json {
			return e.printJSON(plan)
		}
		e.out.Printf("The volume %s/%s is being emptied; then %s is taken out of the set.\n", plan.Array, plan.Gone, plan.Free[0])
		next := []string{"nidalo watch   follows it", fmt.Sprintf("nidalo cancel %s emptying   ends it; what is not emptied yet stays", say.Quote(plan.Array))}
		if !plan.Stays {
			next[0] = "nidalo serve   goes on with it; without a service it rests now"
		}
		e.out.Next(next)
		return nil
	}
	task, err := e.follow(c, plan.Array, state.TaskEmpty, nil)
	if err != nil {
		return err
	}
	if task.State != state.TaskDone {
		return &control.Error{What: fmt.Sprintf("the emptying has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + say.Quote(plan.Array)}}
	}
	if c.Own {
		if _, err := c.Change(req); err != nil {
			return err
		}
	}
	for range 40 { // a service that runs takes it out within a second or two
		out, err := isOut(c, plan)
		if err != nil {
			return err
		}
		if out && e.json {
			return e.printJSON(plan)
		}
		if out {
			return e.changed(c, plan, true)
		}
		time.Sleep(250 * time.Millisecond)
	}
	return &control.Error{What: "the volume is empty, but its disk is not out of the set", Hints: []string{"nidalo history   says why", "nidalo status " + say.Quote(plan.Array)}}
}

// isOut says whether a disk is out of its set, and free.
func isOut(c *control.Control, plan control.ChangeReply) (bool, error) {
	st, err := c.Status(plan.Array)
	if err != nil {
		return false, err
	}
	if a := st.Arrays[0]; len(a.Members) != plan.Then.Members || a.Capacity != plan.Then.Capacity {
		return false, nil
	}
	disks, err := c.Disks()
	return !slices.ContainsFunc(disks, func(d control.DiskInfo) bool {
		return d.Path == plan.Free[0].Path && d.Bay == plan.Free[0].Bay && d.State == state.DiskInUse
	}), err
}

// followed follows the task that a change has, if it has one.
func (e *env) followed(c *control.Control, plan control.ChangeReply) (err error) {
	switch {
	case plan.Parity:
		_, err = e.follow(c, plan.Array, state.TaskRebuild, nil)
	case plan.Moves > 0:
		err = e.followChange(c, plan.Array)
	}
	return err
}

func (e *env) followChange(c *control.Control, name string) error {
	task, err := e.follow(c, name, state.TaskConvert, nil)
	if err != nil {
		return err
	}
	if task.State == state.TaskCancelled {
		return &control.Error{What: "the conversion was cancelled, and goes back", Hints: []string{"nidalo status " + name}}
	}
	if task.State != state.TaskDone {
		return &control.Error{What: fmt.Sprintf("the conversion has %s: %s", task.State, task.Error), Hints: []string{"nidalo status " + name}}
	}
	e.out.Printf("%s moved in %s.\n", say.Size(task.Done), view.Duration(task.Ended.Sub(task.Started).Seconds()))
	return nil
}

// changed says what is the case after a change, and what to do next.
func (e *env) changed(c *control.Control, p control.ChangeReply, waited bool) error {
	st, err := c.Status(p.Array)
	if err != nil {
		return err
	}
	a := st.Arrays[0]
	if a.Change != nil && !waited {
		e.out.Printf("Array %s is being converted to level %s of %d disks; it stays in use.\n", a.Name, a.Change.Level, a.Change.Members)
		if p.Stays {
			e.out.Next([]string{"nidalo watch   follows it"})
		} else {
			e.out.Next([]string{"nidalo serve   goes on with it; without a service it rests now"})
		}
		return nil
	}
	e.out.Printf("Array %s has %s now: %s of %d disks, %s.\n", a.Name, say.Size(a.Capacity), view.LevelOf(a.Level), len(a.Members), view.Survives(a))
	var next []string
	switch fs := p.FileSystem; {
	case p.Parity && !waited:
		next = append(next, "nidalo watch   follows the rebuild of the parity disk")
	case len(p.Volumes) > 0:
		next = append(next, fmt.Sprintf("nidalo attach %s/%s   makes a volume a block device of this host", a.Name, p.Volumes[0].Name))
	case p.Then.Capacity <= p.Before.Capacity:
	case fs != nil:
		next = append(next, fmt.Sprintf("%s   enlarges the %s file system on it; it is as large as before", fs.Command, fs.Kind))
	default:
		where := "the device of each client"
		if p.Device != "" {
			where = p.Device
		}
		next = append(next, "resize2fs or xfs_growfs   enlarges the file system on "+where+"; it is as large as before")
	}
	if len(p.Free) > 0 && len(p.Copies) == 0 && !p.Spares {
		next = append(next, "nidalo spare "+say.Argument(p.Free[0])+"   keeps a disk that was freed as a hot spare")
	}
	e.out.Next(next)
	return nil
}
