package cli

import (
	"flag"
	"fmt"
	"strings"
	"time"

	"nidalo/internal/service"
	"nidalo/internal/view"
)

var startCommand = command{name: "start", usage: "NAME", short: "put an array into service", least: 1, most: 1,
	help: `
Starts an array that was taken out of service with stop, that comes from another host or home, or that could not start by
itself before. One that has failed is let go and started again from what its disks hold now: bring the lost disks back
first. What the members say is judged as at every start, and when there is a doubt it is refused with the reason.

  nidalo start charts`,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			a, err := c.Start(service.StartRequest{Array: args[0]})
			if err != nil {
				return err
			}
			e.out.Printf("Array %s is in service: %s, margin %s.\n", a.Name, a.Condition, view.Margin(a.Margin, a.MarginBest))
			e.out.Next(a.Next)
			return nil
		})
	},
}

var stopCommand = command{name: "stop", usage: "NAME", short: "take an array out of service", least: 1, most: 1,
	help: `
Flushes an array and lets its disks go, so that they can be moved to another host. It stays out of service, also over a
restart of the service, until it is started again. Refused while clients are connected to it.

  nidalo stop charts`,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			if err := c.Stop(args[0]); err != nil {
				return err
			}
			e.out.Printf("Array %s is flushed and out of service. Its disks may be taken out.\n", args[0])
			e.out.Next([]string{"nidalo start " + args[0] + "   puts it into service again"})
			return nil
		})
	},
}

var renameCommand = command{name: "rename", usage: "NAME TO", short: "give an array another name", least: 2, most: 2,
	help: `
The name is also that of the export: clients must use the new one, so none may be connected.

  nidalo rename charts charts-2026`,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			if err := c.Rename(service.RenameRequest{Array: args[0], To: args[1]}); err != nil {
				return err
			}
			e.out.Printf("Array %s is now %s.\n", args[0], args[1])
			return nil
		})
	},
}

var spareCommand = command{name: "spare", usage: "[-release] [-although-bad] DISK [NAME…]", short: "make a disk the hot spare of arrays, or of all", least: 1, most: -1,
	help: `
A hot spare takes the place of a member as soon as that fails; of several, the smallest that is large enough. Without
names it serves all arrays. A disk too small for an array is told now, not when it is needed. When a disk fails that has
partitions of several arrays, a spare that serves them all takes its place in all of them (nidalo help replace).

When the failed disk is replaced later, either make the new disk the spare, or let the array move onto it with
nidalo retire NAME SPARE NEW, which frees the old spare.

  nidalo spare B2
  nidalo spare B3 tides sonar
  nidalo spare -release B2`,
	flags: func(e *env, f *flag.FlagSet) {
		f.BoolVar(&e.release, "release", false, "it is no spare any more")
		althoughBadFlag(e, f)
	},
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			name, err := e.diskName(c, args[0])
			if err != nil {
				return err
			}
			r, err := c.AssignSpare(service.SpareRequest{Disk: name, Arrays: args[1:], Release: e.release, AlthoughBad: e.althoughBad})
			if err != nil {
				return err
			}
			if e.release {
				e.out.Printf("%s is no spare any more.\n", r.Disk.Identity)
				return nil
			}
			if !r.Disk.Vetted {
				notVetted(e, or(r.Disk.Bay, r.Disk.Path))
			}
			whom := "all arrays"
			if len(args) > 1 {
				whom = strings.Join(args[1:], ", ")
			}
			e.out.Printf("%s of %s is a hot spare for %s.\n", r.Disk.Identity, service.FormatSize(r.Disk.Size), whom)
			for _, t := range r.TooSmall {
				e.out.Printf("But it is too small for some: %s.\n", t)
			}
			return nil
		})
	},
}

var paceCommand = command{name: "pace", usage: "[-json] [NAME|all] [PACE]", short: "how hard rebuilds and checks may push", most: -1,
	help: `
PACE is gentle (a tenth of the time while clients are at work), normal (a third of it; this is where every array begins),
full, a rate such as 80MiB/s, or paces by hours of the day. It is in force within a second. Without a PACE it is told, with
what it means for the tasks that run.

  nidalo pace
  nidalo pace tides gentle
  nidalo pace all 80MiB/s
  nidalo pace all 08:00-18:00 gentle, else full`,
	flags: jsonFlag,
	run: func(e *env, args []string) error {
		e.looks = len(args) < 2
		return e.withControl(func(c service.Control) error {
			req := service.PaceRequest{}
			if len(args) > 0 && args[0] != "all" {
				req.Array = args[0]
			}
			if len(args) > 1 {
				req.Pace = strings.Join(args[1:], " ")
			}
			before, err := c.SetPace(service.PaceRequest{Array: req.Array})
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
					if after, err = c.SetPace(service.PaceRequest{Array: req.Array}); err != nil {
						return err
					}
				}
			}
			if e.json {
				return e.printJSON(map[string]any{"arrays": after})
			}
			e.out.Paces(before, after)
			return nil
		})
	},
}

func running(replies []service.PaceReply) bool {
	for _, r := range replies {
		if len(r.Tasks) > 0 {
			return true
		}
	}
	return false
}

// steer makes one of pause, continue and cancel.
func steer(name, short, state, said, more string) command {
	return command{name: name, usage: "NAME [TASK]", short: short, least: 1, most: 2,
		help: more + "\n\nTASK is rebuild, catch-up, retire or check; without it all tasks of the array are meant.\n\n  nidalo " + name + " tides\n  nidalo " + name + " tides check",
		run: func(e *env, args []string) error {
			return e.withControl(func(c service.Control) error {
				req := service.SteerRequest{Array: args[0], State: state}
				if len(args) == 2 {
					req.Kind = args[1]
				}
				if err := c.Steer(req); err != nil {
					return err
				}
				what := "The tasks"
				if req.Kind != "" {
					what = "The " + req.Kind
				}
				e.out.Printf("%s of array %s: %s.\n", what, args[0], said)
				return nil
			})
		}}
}

var (
	pauseCommand    = steer("pause", "hold tasks of an array", "paused", "held", "Holds tasks where they are, until continue, or until the service is started again.")
	continueCommand = steer("continue", "let held tasks go on", "running", "going on", "Lets tasks go on that were held with pause.")
	cancelCommand   = steer("cancel", "end a check or a retirement early", "cancelled", "ending", "Ends a check, or the copying of a member, before it is done. A rebuild cannot be cancelled: redundancy waits for it.")
)

var historyCommand = command{name: "history", usage: "[-array NAME] [-disk DISK] [-kind KIND] [-since TIME] [-n 30] [-tasks] [-json]", short: "what happened, and how long tasks took", most: 0, looks: true,
	help: `
Events and tasks of this home, newest last, kept for 400 days unless nidalo.toml says otherwise (history.keep_days).
-kind takes the beginning of a kind; -since and -until take a date, a date and time, or a time back such as 36h.

  nidalo history
  nidalo history -array tides -since 2026-11-01
  nidalo history -disk QRN-0207 -kind member
  nidalo history -tasks -json`,
	flags: func(e *env, f *flag.FlagSet) {
		jsonFlag(e, f)
		f.StringVar(&e.name, "array", "", "only of this `ARRAY`")
		f.StringVar(&e.disk, "disk", "", "only of this `DISK`, by bay, model or serial")
		f.StringVar(&e.kind, "kind", "", "only of kinds that begin with `KIND`")
		f.StringVar(&e.since, "since", "", "only after this `TIME`")
		f.StringVar(&e.until, "until", "", "only before this `TIME`")
		f.IntVar(&e.count, "n", 30, "at most so many, the newest")
		f.BoolVar(&e.tasks, "tasks", false, "tasks only, with their rates")
	},
	run: func(e *env, _ []string) error {
		req := service.HistoryRequest{Array: e.name, Disk: e.disk, Kind: e.kind, Limit: e.count}
		var err error
		if req.Since, err = parseTime(e.since); err == nil {
			req.Until, err = parseTime(e.until)
		}
		if err != nil {
			return usageError{err.Error()}
		}
		return e.withControl(func(c service.Control) error {
			h, err := c.History(req)
			if err != nil {
				return err
			}
			if e.json {
				return e.printJSON(h)
			}
			e.out.History(h, e.tasks)
			return nil
		})
	},
}

func parseTime(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil {
		return time.Now().Add(-d), nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time: write 2026-11-01, \"2026-11-01 08:30\" or 36h", text)
}

var alertsCommand = command{name: "alerts", usage: "-test", short: "try whether alerts arrive", most: 0,
	help: `
Where alerts go stands in nidalo.toml: e-mail, HTTP addresses and commands, each from a severity on. -test sends a message
through every one of them, now, and says how each went. Exit status 1 when one failed.

  [[alerts.email]]
  server = "mail.saltmarsh.example:587"
  user = "storage"
  password_file = "/etc/nidalo/mail.secret"
  from = "storage@saltmarsh.example"
  to = ["duty@saltmarsh.example"]
  least = "warning"

  [[alerts.webhook]]
  url = "https://bells.saltmarsh.example/storage"

  [[alerts.command]]
  run = ["/usr/local/bin/ring", "storage"]
  least = "critical"`,
	flags: func(e *env, f *flag.FlagSet) {
		f.BoolVar(&e.test, "test", false, "send a test message")
		jsonFlag(e, f)
	},
	run: func(e *env, _ []string) error {
		if !e.test {
			return usageError{"-test sends a test message; there is nothing else to do here"}
		}
		return e.withControl(func(c service.Control) error {
			results, err := c.TestAlerts()
			if err != nil {
				return err
			}
			for _, r := range results {
				if r.Error != "" {
					e.status = Could
				}
			}
			if e.json {
				return e.printJSON(map[string]any{"channels": results})
			}
			if len(results) == 0 {
				e.out.Printf("No alerts are configured: nobody is told when a disk fails.\n")
				e.out.Next([]string{"nidalo help alerts   shows what to write into nidalo.toml"})
			}
			for _, r := range results {
				if r.Error != "" {
					e.out.Printf("%s: failed: %s\n", r.Channel, r.Error)
				} else {
					e.out.Printf("%s: delivered\n", r.Channel)
				}
			}
			return nil
		})
	},
}

var acknowledgeCommand = command{name: "acknowledge", usage: "NAME", short: "quiet the alerts of an array until something changes", least: 1, most: 1,
	help: `
Says that you know. No alerts go out about the array until its condition, or that of one of its members, is another. The
history goes on.

  nidalo acknowledge tides`,
	run: func(e *env, args []string) error {
		return e.withControl(func(c service.Control) error {
			if err := c.Acknowledge(args[0]); err != nil {
				return err
			}
			e.out.Printf("Alerts of array %s are quiet until its condition or that of a member changes.\n", args[0])
			return nil
		})
	},
}
