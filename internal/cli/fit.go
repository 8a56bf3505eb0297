package cli

import (
	"flag"

	"nidalo/internal/control"
)

var fitCommand = command{name: "fit", usage: "[-measure DISK] [-json]", short: "check whether this host is fit for arrays", most: 0, looks: true,
	help: `
Looks at what arrays need of a host, and says how to mend what is missing: the rights and limits of the service, memory that
is not swapped out, the kernel's modules for attaching, the links of udev, the clock, whether alerts can be delivered, how
long each disk tries to read a bad place, and whether its write cache is flushed. Nothing is written.

-measure writes a block of a blank disk over and over with its own contents, and reports the time of a flush. A disk with
platters that is too quick confirms writes that it has not done.

Exit status: 0 nothing needed is missing; 1 something is.

  nidalo fit
  nidalo fit -measure TMK-0193`,
	with: func(e *env, f *flag.FlagSet) action {
		var measured string
		f.StringVar(&measured, "measure", "", "measure the flushes of this blank `DISK`")
		jsonFlag(e, f)
		return func(_ []string) error {
			return e.withControl(func(c *control.Control) error {
				r, err := c.Fit(control.FitRequest{Measure: measured})
				if err != nil {
					return err
				}
				for _, i := range r.Items {
					if i.Verdict == control.FitBad {
						e.status = Could
					}
				}
				if e.json {
					return e.printJSON(r)
				}
				e.out.Fit(r)
				return nil
			})
		}
	},
}
