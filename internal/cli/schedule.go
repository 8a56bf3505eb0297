package cli

import (
	"flag"

	"nidalo/internal/control"
)

var scheduleCommand = command{name: "schedule", usage: "[-json]", short: "what is checked by itself, when, and what it found", most: 0, looks: true,
	help: `
Lists the checks of arrays and the readings of spares that begin by themselves: how often, in which hours, when each ended last
and what it found, and when the next begins. Without a word in the configuration every array is checked, and every spare read
from end to end, each month, between 01:00 and 06:00, gently, one after the other; what is not done when the hours end goes on the
next night. Blocks that are wrong are repaired. After members changed, an array is checked in the night that follows.

"nidalo continue NAME check" lets a check that waits for its hours go on at once, "nidalo cancel NAME check" ends it until the next
month. Other times are set in the configuration, for all arrays or for some:

  [[schedule]]
  what = "check"
  arrays = ["tides"]
  every = "week"
  hours = "22:00-04:00"
  weekdays = ["sat", "sun"]

  nidalo schedule
  nidalo schedule -json`,
	with: func(e *env, f *flag.FlagSet) action {
		jsonFlag(e, f)
		return func([]string) error {
			return e.withControl(func(c *control.Control) error {
				all, err := c.Rounds()
				if err != nil {
					return err
				}
				if e.json {
					return e.printJSON(map[string]any{"schedule": all})
				}
				e.out.Rounds(all, !c.Own)
				return nil
			})
		}
	},
}
