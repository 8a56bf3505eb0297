package view

import (
	"embed"
	"fmt"
	"html/template"
	"io"
	"time"

	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/history"
)

//go:embed report.html fleet.html
var files embed.FS

var page = template.Must(template.New("report.html").Funcs(template.FuncMap{
	"size":      say.Size,
	"duration":  func(t history.Task) string { return Duration(t.Ended.Sub(t.Started).Seconds()) },
	"when":      func(t time.Time) string { return t.Local().Format("2006-01-02 15:04") },
	"survives":  Survives,
	"level":     LevelOf,
	"role":      roleOf,
	"written":   volumeWritten,
	"declining": declining,
	"list":      say.List,
	"risk": func(of map[string]ReportRisk, name string) string {
		if r, ok := of[name]; ok {
			return r.String()
		}
		return ""
	},
	"capital": capital,
	"chance":  Chance,
	"rate":    func(v float64) string { return say.Size(int64(v)) + "/s" },
	"place":   func(m control.MemberStatus) string { return or(or(m.Bay, m.Serial), m.Path) },
	"left": func(t control.TaskStatus) string {
		switch {
		case t.ETA != nil && t.State == state.TaskRunning:
			return ", " + Duration(*t.ETA) + " left"
		case t.Waits != "":
			return ", " + t.Waits
		}
		return ""
	},
	"percent": func(v float64) string { return fmt.Sprintf("%.1f%%", v) },
	"check":   func(c *control.CheckStatus) string { return CheckSummary(*c) },
	"says":    healthRow,
	"sign":    func(condition any) string { return signs[fmt.Sprint(condition)] },
	"share": func(a control.ArrayStatus) string {
		return fmt.Sprintf("%.1f%%", 100*float64(a.Used)/float64(max(a.Capacity, 1)))
	},
}).ParseFS(files, "report.html"))

// signs tell conditions apart where colours cannot be told.
var signs = map[string]string{"healthy": "✓", "fine": "✓", "active": "✓", "done": "✓", "degraded": "!", "warning": "!", "failing": "!", "rebuilding": "…",
	"exposed": "‼", "critical": "‼", "failed": "✕", "missing": "✕"}

// HTML writes the report as one page that needs nothing else.
func (r *Report) HTML(w io.Writer) error {
	charts, err := r.charts()
	if err != nil {
		return err
	}
	return page.Execute(w, struct {
		*Report
		Charts []drawn
	}{r, charts})
}
