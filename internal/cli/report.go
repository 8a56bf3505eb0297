package cli

import (
	"cmp"
	"flag"
	"os"
	"path/filepath"
	"time"

	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/internal/service"
	"nidalo/internal/view"
)

var reportCommand = command{name: "report", usage: "[-json | -html FILE | -metrics | -monitor]", short: "the state of everything, for people and machines", most: 0,
	help: `
The arrays, their members, risks, tasks, checks and what to do: as text, as JSON, as one HTML page that needs nothing else
and prints well, as OpenMetrics text for a collector that reads files, or as one line for a monitoring system.

The JSON is described in docs/report.md. The chances are those of nidalo plan, with its assumptions.

Exit status with -monitor: 0 fine, 1 warning (degraded, or something is to be done soon), 2 critical (failed, or the next
loss loses data), 3 unknown. Without it: 0 the report was made, 1 it could not be.

  nidalo report
  nidalo report -html storage.html
  nidalo report -metrics > /var/lib/node_exporter/nidalo.prom
  nidalo report -monitor`,
	flags: func(e *env, f *flag.FlagSet) {
		jsonFlag(e, f)
		f.StringVar(&e.html, "html", "", "write a page to this `FILE`")
		f.BoolVar(&e.metrics, "metrics", false, "print OpenMetrics text")
		f.BoolVar(&e.monitor, "monitor", false, "print one line, and tell the state by the exit status")
	},
	run: func(e *env, _ []string) error {
		err := e.withControl(func(c service.Control) error {
			if e.metrics {
				return view.WriteMetrics(e.out.Out, view.Metrics{Look: func() (*service.Status, error) { return c.Status("") }})
			}
			r, err := makeReport(c)
			if err != nil {
				return err
			}
			switch {
			case e.monitor:
				line, status := r.Monitor()
				e.out.Printf("%s\n", line)
				e.status = status
			case e.json:
				return e.printJSON(r)
			case e.html != "":
				return e.writePage(r)
			default:
				e.out.Report(r)
			}
			return nil
		})
		if err != nil && e.monitor {
			e.out.Printf("UNKNOWN: %v\n", err)
			e.status = 3
			return nil
		}
		return err
	},
}

// writePage writes the page whole or not at all.
func (e *env) writePage(r *view.Report) error {
	f, err := os.CreateTemp(filepath.Dir(e.html), ".report")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = cmp.Or(r.HTML(f), f.Chmod(0o644), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), e.html)
	}
	if err == nil {
		e.out.Printf("%s is written.\n", e.html)
	}
	return err
}

func makeReport(c service.Control) (*view.Report, error) {
	st, err := c.Status("")
	if err != nil {
		return nil, err
	}
	next, err := c.Next()
	if err != nil {
		return nil, err
	}
	disks, err := c.Disks()
	if err != nil {
		return nil, err
	}
	host, _ := os.Hostname()
	r := &view.Report{Time: st.Time, Host: host, Version: Version, Arrays: st.Arrays, Disks: disks, Steps: next.Steps, Events: []service.Event{},
		Risk: map[string]view.ReportRisk{}, Grown: map[string][]view.TimePoint{}}
	if h, err := c.History(service.HistoryRequest{Limit: 300}); err == nil {
		for _, ev := range h.Events {
			if ev.Severity != service.Info {
				r.Events = append(r.Events, ev)
			}
		}
		r.Events = r.Events[max(0, len(r.Events)-30):]
		r.Tasks = h.Tasks[max(0, len(h.Tasks)-30):]
	}
	since := time.Now().AddDate(0, 0, -90)
	for _, a := range st.Arrays {
		var sizes []int64
		for _, m := range a.Members {
			sizes = append(sizes, m.Size)
			of := cmp.Or(m.Serial, m.Path)
			if points, err := c.Readings(service.ReadingsRequest{Of: of, Name: "errors", Since: since}); err == nil {
				for _, p := range points {
					r.Grown[of] = append(r.Grown[of], view.TimePoint{Time: p.Time, Value: p.Value})
				}
			}
		}
		groups := a.Groups
		if !nested(a.Level) {
			groups = 0
		}
		if o, err := plan.For(layout.Level(a.Level), a.Strip, groups, sizes, plan.DefaultAssumptions); err == nil {
			r.Risk[a.Name] = view.ReportRisk{Year: o.LossYear, Rebuild: o.LossOnce}
		}
	}
	r.Judge()
	return r, nil
}

func nested(level string) bool { return level == "10" || level == "50" || level == "60" }
