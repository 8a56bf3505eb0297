package cli

import (
	"cmp"
	"flag"
	"io"
	"os"
	"path/filepath"

	"nidalo/core/event"
	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/history"
	"nidalo/internal/view"
)

var reportCommand = command{name: "report", usage: "[-json | -csv | -html FILE | -metrics | -verdict]", short: "the state of everything, for people and machines", most: 0, looks: true,
	help: `
The arrays, their members, risks, tasks, checks and what to do: as text, as JSON, the members as CSV, all as one HTML page that needs nothing else
and prints well, as OpenMetrics text for a collector that reads files, or as one line for a monitoring system.

The JSON is described in docs/report.md. The chances are those of nidalo plan, with its assumptions.

Exit status with -verdict: 0 fine, 1 warning (degraded, or something is to be done soon), 2 critical (failed, or the next
loss loses data), 3 unknown. Without it: 0 the report was made, 1 it could not be.

  nidalo report
  nidalo report -html storage.html
  nidalo report -metrics > /var/lib/metrics/nidalo.prom
  nidalo report -csv > members.csv
  nidalo report -verdict`,
	with: func(e *env, f *flag.FlagSet) action {
		var (
			html             string
			metrics, verdict bool
			csv              bool
		)
		jsonFlag(e, f)
		f.StringVar(&html, "html", "", "write a page to this `FILE`")
		f.BoolVar(&metrics, "metrics", false, "print OpenMetrics text")
		f.BoolVar(&csv, "csv", false, "print a line for each member, as CSV with a heading")
		f.BoolVar(&verdict, "verdict", false, "print one line, with the state in the exit status")
		return func(_ []string) error {
			err := e.withControl(func(c *control.Control) error {
				if metrics {
					return view.WriteMetrics(e.out.Out, view.Metrics{Look: func() (*control.Status, error) { return c.Status("") }, Health: c.Health})
				}
				r, err := makeReport(c)
				if err != nil {
					return err
				}
				switch {
				case verdict:
					line, status := r.Verdict()
					e.out.Printf("%s\n", line)
					e.status = status
				case e.json:
					return e.printJSON(r)
				case csv:
					return r.CSV(e.out.Out)
				case html != "":
					return e.writeFile(html, r.HTML)
				default:
					e.out.Report(r)
				}
				return nil
			})
			if err != nil && verdict {
				e.out.Printf("UNKNOWN: %v\n", err)
				e.status = 3
				return nil
			}
			return err
		}
	},
}

// writeFile writes a page whole or not at all.
func (e *env) writeFile(path string, page func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".report")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = cmp.Or(page(f), f.Chmod(0o644), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err == nil {
		e.out.Printf("%s is written.\n", path)
	}
	return err
}

func makeReport(c *control.Control) (*view.Report, error) {
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
	r := &view.Report{Time: st.Time, Host: host, Version: Version, Arrays: st.Arrays, Disks: disks, Steps: next.Steps, Events: []event.Event{},
		Tasks: []history.Task{}, Checks: []history.Task{}, Risk: map[string]view.ReportRisk{}, Errors: map[string][]view.TimePoint{}, Temperatures: map[string][]view.TimePoint{}}
	if r.Health, err = c.Health(); err != nil {
		return nil, err
	}
	addHistory(c, r)
	addCurves(c, r)
	for _, a := range st.Arrays {
		if risk, ok := riskOf(a); ok {
			r.Risk[a.Name] = risk
		}
	}
	r.Judge()
	return r, nil
}

// riskOf is what an array risks with what is written now. One without its full margin has no chance for a year: it will be
// repaired long before.
func riskOf(a control.ArrayStatus) (risk view.ReportRisk, ok bool) {
	if a.Condition == state.Failed || a.Out || a.Used == 0 {
		return risk, false
	}
	var sizes []int64
	for _, m := range a.Members {
		sizes = append(sizes, m.Size)
	}
	groups := a.Groups
	if !nested(a.Level) {
		groups = 0
	}
	with := plan.DefaultAssumptions
	with.Used = float64(a.Used) / float64(a.Capacity)
	o, err := plan.For(layout.Level(a.Level), a.Strip, groups, sizes, with)
	risk = view.ReportRisk{Year: o.LossYear, Rebuild: o.LossOnce}
	if a.Condition != state.Healthy {
		risk.Year = 0
	}
	return risk, err == nil
}

// addHistory adds the last events and tasks, where there is a history.
func addHistory(c *control.Control, r *view.Report) {
	h, err := c.History(control.HistoryRequest{Limit: 1000})
	if err != nil {
		return
	}
	for _, ev := range h.Events {
		if ev.Severity != event.Info {
			r.Events = append(r.Events, ev)
		}
	}
	for _, t := range h.Tasks {
		if t.Kind == state.TaskCheck {
			r.Checks = append(r.Checks, t)
		}
	}
	r.Events, r.Checks, r.Tasks = newest(r.Events, reportLines), newest(r.Checks, reportLines), newest(h.Tasks, reportLines)
}

// addCurves adds the errors and temperatures of members over time, up to now.
func addCurves(c *control.Control, r *view.Report) {
	temperature := map[string]float64{}
	for _, h := range r.Health {
		if t := h.Readings.Temperature; t != nil {
			temperature[h.Name()] = *t
		}
	}
	over := func(of, name string) (out []view.TimePoint) {
		points, err := c.Readings(control.ReadingsRequest{Of: of, Name: name, Since: r.Time.AddDate(0, 0, -reportDays), Most: reportPoints})
		if err != nil {
			return nil // without a history there are none
		}
		for _, p := range points {
			out = append(out, view.TimePoint{Time: p.Time, Value: p.Value})
		}
		return out
	}
	for _, a := range r.Arrays {
		for _, m := range a.Members {
			of := cmp.Or(m.Serial, m.Path)
			if points := over(of, "errors"); len(points) > 0 {
				r.Errors[of] = append(points, view.TimePoint{Time: r.Time, Value: float64(m.Errors)})
			}
			if now, told := temperature[of]; told {
				r.Temperatures[of] = append(over(of, "temperature"), view.TimePoint{Time: r.Time, Value: now})
			}
		}
	}
}

const (
	reportLines  = 30  // of tasks, checks and warnings
	reportDays   = 90  // of readings
	reportPoints = 300 // of each
)

func newest[T any](all []T, most int) []T { return all[max(0, len(all)-most):] }

func nested(level string) bool { return level == "10" || level == "50" || level == "60" }
