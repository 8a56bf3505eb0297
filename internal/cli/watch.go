package cli

import (
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"nidalo/internal/control"
	"nidalo/internal/view"
)

var watchCommand = command{name: "watch", usage: "", short: "a live view of all arrays and tasks", most: 0, looks: true,
	help: `
Shows all arrays with what their clients do, their members by bay, running tasks with their rates and end times, the latest events, and
the next steps, twice a second. q quits, ? lists the other keys. Of large arrays the members that are as they should be are folded; a
unfolds them. When the output is not a terminal, it prints a line for each change.

  nidalo watch
  nidalo watch | tee watched.log`,
	with: func(e *env, f *flag.FlagSet) action {
		return func(_ []string) error {
			return e.withControl(func(c *control.Control) error {
				look := func() view.Sight {
					st, err := c.Status("")
					if err != nil {
						return view.Sight{Err: err}
					}
					next, err := c.Next()
					if err != nil {
						return view.Sight{Err: err}
					}
					seen := view.Sight{At: st.Time, Status: st, Next: next}
					if h, err := c.History(control.HistoryRequest{Limit: 12}); err == nil {
						seen.Events = h.Events
					}
					return seen
				}
				if e.out.Terminal && e.in != nil {
					return view.Watch(look, e.in, e.out.Colour)
				}
				return e.watchLines(look)
			})
		}
	},
}

// watchLines prints what changes, until it is interrupted.
func (e *env) watchLines(look func() view.Sight) error {
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(stop)
	said := map[string]string{}
	shown := map[string]time.Time{}
	tell := func(at time.Time, key, line string, every time.Duration) {
		if said[key] == line || time.Since(shown[key]) < every {
			return
		}
		said[key], shown[key] = line, time.Now()
		e.out.Printf("%s  %s\n", at.Local().Format("15:04:05"), line)
	}
	for {
		seen := look()
		if seen.Err != nil {
			return seen.Err
		}
		for _, a := range seen.Status.Arrays {
			tell(seen.At, a.Name, view.Line(a), 0)
			for _, t := range a.Tasks {
				if t.Ended == nil {
					tell(seen.At, fmt.Sprint(a.Name, t.Kind, t.Started), a.Name+": "+e.out.Task(t), 5*time.Second)
				}
			}
		}
		select {
		case <-stop:
			return nil
		case <-time.After(500 * time.Millisecond):
		}
	}
}
