package cli

import (
	"flag"
	"fmt"
	"time"

	"nidalo/internal/control"
	"nidalo/internal/lab"
)

var historyCommand = command{name: "history", usage: "[-array NAME] [-disk DISK] [-kind KIND] [-since TIME] [-n 30] [-tasks] [-json]", short: "list events, and how long tasks took", most: 0, looks: true,
	help: `
Events and tasks of this home, newest last, kept for 400 days unless nidalo.toml says otherwise (history.keep_days).
-kind takes the beginning of a kind; -since and -until take a date, a date and time, or a time back such as 36h.

  nidalo history
  nidalo history -array tides -since 2026-11-01
  nidalo history -disk QRN-0207 -kind member
  nidalo history -tasks -json`,
	with: func(e *env, f *flag.FlagSet) action {
		var (
			name, disk, kind, since, until string
			count                          int
			tasks                          bool
		)
		jsonFlag(e, f)
		f.StringVar(&name, "array", "", "only of this `ARRAY`")
		f.StringVar(&disk, "disk", "", "only of this `DISK`, by bay, model or serial")
		f.StringVar(&kind, "kind", "", "only of kinds that begin with `KIND`")
		f.StringVar(&since, "since", "", "only after this `TIME`")
		f.StringVar(&until, "until", "", "only before this `TIME`")
		f.IntVar(&count, "n", 30, "at most so many, the newest")
		f.BoolVar(&tasks, "tasks", false, "tasks only, with their rates")
		return func(_ []string) error {
			req := control.HistoryRequest{Array: name, Disk: disk, Kind: kind, Limit: count}
			now := lab.At(e.home).Now()
			var err error
			if req.Since, err = parseTime(since, now); err == nil {
				req.Until, err = parseTime(until, now)
			}
			if err != nil {
				return usageError{err.Error()}
			}
			return e.withControl(func(c *control.Control) error {
				h, err := c.History(req)
				if err != nil {
					return err
				}
				if e.json {
					return e.printJSON(h)
				}
				e.out.History(h, tasks)
				return nil
			})
		}
	},
}

// parseTime reads a time, or how long before now it was.
func parseTime(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil {
		return now.Add(-d), nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time: write 2026-11-01, \"2026-11-01 08:30\" or 36h", text)
}
