package cli

import (
	"flag"
	"strings"
	"time"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

var paceCommand = command{name: "pace", usage: "[-json] [NAME|all] [PACE]", short: "how hard rebuilds and checks may push", most: -1,
	help: `
PACE is gentle (a tenth of the time while clients are at work), normal (a third of it; this is where every array begins),
full, rest (not at all), a rate such as 80MiB/s, paces by hours of the day, or "by 07:00": as fast as it must be to be done by then. It is in force within a second. Without PACE, prints the pace in
force and its effect on the running tasks.

  nidalo pace
  nidalo pace tides gentle
  nidalo pace all 80MiB/s
  nidalo pace tides by 07:00
  nidalo pace all 08:00-18:00 gentle, else full`,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func(args []string) error {
			e.looks = len(args) < 2
			return e.withControl(func(c *control.Control) error {
				req := control.PaceRequest{}
				if len(args) > 0 && args[0] != "all" {
					req.Array = args[0]
				}
				if len(args) > 1 {
					req.Pace = strings.Join(args[1:], " ")
				}
				before, err := c.SetPace(control.PaceRequest{Array: req.Array})
				if err != nil {
					return err
				}
				after := before
				if req.Pace != "" {
					if after, err = c.SetPace(req); err != nil {
						return err
					}
					if running(after) && !e.json {
						time.Sleep(1500 * time.Millisecond) // so that what is told was measured at the new pace
						if after, err = c.SetPace(control.PaceRequest{Array: req.Array}); err != nil {
							return err
						}
					}
				}
				if e.json {
					return e.printJSON(map[string]any{"arrays": after})
				}
				e.out.Paces(before, after)
				if running(after) {
					return e.clientsMeanwhile(c, req.Array)
				}
				return nil
			})
		}
	},
}

// clientsMeanwhile says what the clients of arrays get while tasks run, measured for a second.
func (e *env) clientsMeanwhile(c *control.Control, name string) error {
	p := view.NewPulse()
	for range 2 {
		st, err := c.Status(name)
		if err != nil {
			return err
		}
		p.Note(time.Now(), st.Arrays)
		if line := p.Clients(st.Arrays); len(line) > 0 {
			for _, l := range line {
				e.out.Printf("%s\n", l)
			}
			return nil
		}
		time.Sleep(time.Second)
	}
	return nil
}

func running(replies []control.PaceReply) bool {
	for _, r := range replies {
		if len(r.Tasks) > 0 {
			return true
		}
	}
	return false
}
