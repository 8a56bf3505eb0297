package cli

import (
	"errors"
	"flag"
	"fmt"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

var failCommand = command{name: "fail", usage: "[-yes] [-although-fatal] [-undo] NAME DISK", short: "declare a member failed, or take that back", least: 2, most: 2,
	help: `
Takes a member out of an array, as if it had failed: from now on it is not read or written. The member is named by its
bay, serial, path or slot number. What that costs is shown first, and you are asked to confirm; -yes confirms it. When the
array would fail without the member, -although-fatal is needed as well.

With -undo the member comes back, and catches up what changed meanwhile. That works as long as no other disk has its
place and it was not erased. One that failed by itself may come back in the same way, with -yes.

  nidalo fail tides A3
  nidalo fail -undo tides A3`,
	with: func(e *env, f *flag.FlagSet) action {
		var req control.FailRequest
		yesFlag(e, f)
		f.BoolVar(&req.Force, "although-fatal", false, "although the array fails with it")
		f.BoolVar(&req.Undo, "undo", false, "let a member come back that was declared failed")
		return func(args []string) error {
			return e.withControl(func(c *control.Control) error {
				name, err := e.diskName(c, args[1])
				if err != nil {
					return err
				}
				req.Array, req.Disk, req.Sure = args[0], name, e.yes
				question := fmt.Sprintf("declare %s of array %s failed?", args[1], args[0])
				if req.Undo {
					question = fmt.Sprintf("take %s of array %s back all the same?", args[1], args[0])
				}
				if err := e.failWith(c, req, question); err != nil {
					return err
				}
				st, err := c.Status(args[0])
				if err != nil {
					return err
				}
				e.tellFailed(args[1], st.Arrays[0], req.Undo)
				return nil
			})
		}
	},
}

// failWith asks before what costs something, and once more before what makes the array fail.
func (e *env) failWith(c *control.Control, req control.FailRequest, question string) error {
	for {
		err := c.Fail(req)
		var told *control.Error
		if !errors.As(err, &told) || !told.Fatal || e.yes || !e.interactive() || req.Sure && req.Force {
			return err
		}
		e.err.Printf("%s\n", told.What)
		if err := e.confirm(question); err != nil {
			return err
		}
		req.Force, req.Sure = req.Sure, true
	}
}

func (e *env) tellFailed(disk string, a control.ArrayStatus, undone bool) {
	if undone {
		e.out.Printf("%s of array %s is back, and catches up what changed meanwhile.\n", disk, a.Name)
		e.out.Next([]string{"nidalo watch   follows it"})
		return
	}
	e.out.Printf("%s of array %s is failed. The array is %s", disk, a.Name, a.Condition)
	if a.Condition == "failed" {
		e.out.Printf(": its data is unreachable.\n")
		e.out.Next(a.Next)
		return
	}
	e.out.Printf(", margin %s.\n", view.Margin(a.Margin, a.MarginBest))
	e.out.Next(append(a.Next, fmt.Sprintf("nidalo fail -undo %s %s   takes it back, as long as no other disk has its place", a.Name, disk)))
}
