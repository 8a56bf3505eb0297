package cli

import (
	"errors"
	"flag"
	"fmt"
	"time"

	"nidalo/internal/control"
)

var spinDownCommand = command{name: "spin-down", usage: "[-json] [NAME [TIME|never]]", short: "let the disks of a guarded set sleep when they have nothing to do", most: 2,
	help: `
Each disk of a guarded set stops turning when nothing was asked of it for TIME, and turns again with the next read or write that
needs it. A read wakes the disk of its volume and no other; a write wakes that disk and those with parity. What was
written is gathered for up to a minute while they sleep, unless a flush asks for it. Checks, rebuilds and a start wake all disks, and
"nidalo status" wakes none. Without TIME, says when disks sleep, and which turn.

The record of the members keeps it. It needs a service that runs. A disk of which only a partition is in the set does not sleep, and
neither does one without moving parts.

  nidalo spin-down
  nidalo spin-down archive 20m
  nidalo spin-down archive never`,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func(args []string) error {
			e.looks = len(args) < 2
			req := control.SpinDownRequest{}
			if len(args) > 0 {
				req.Array = args[0]
			}
			if len(args) > 1 {
				after, err := spinDownTime(args[1])
				if err != nil {
					return err
				}
				req.After = &after
			}
			return e.withControl(func(c *control.Control) error {
				sets, err := c.SpinDown(req)
				if err != nil {
					return err
				}
				if e.json {
					return e.printJSON(map[string]any{"arrays": sets})
				}
				e.out.SpinDown(sets)
				if c.Own && len(sets) > 0 && sets[0].SpinDown > 0 {
					e.out.Next([]string{"nidalo serve   puts them to sleep; without a service that runs nothing does"})
				}
				return nil
			})
		}
	},
}

// spinDownTime reads a time after which disks sleep.
func spinDownTime(text string) (time.Duration, error) {
	if text == "never" {
		return 0, nil
	}
	after, err := time.ParseDuration(text)
	if err == nil && after <= 0 {
		err = errors.New("not a time")
	}
	if err != nil {
		return 0, usageError{fmt.Sprintf("%s: write a time such as 20m or 2h, or never", text)}
	}
	return after, nil
}
