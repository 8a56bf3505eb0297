package view

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"io"
	"strconv"
	"strings"
	"time"

	chart "github.com/wcharczuk/go-chart/v2"
	"github.com/wcharczuk/go-chart/v2/drawing"

	"nidalo/internal/history"
	"nidalo/internal/service"
)

func itoa(n int) string { return strconv.Itoa(n) }

// Report is the state of everything at a moment, with what led to it.
type Report struct {
	Time    time.Time              `json:"time"`
	Host    string                 `json:"host"`
	Version string                 `json:"version"`
	Level   string                 `json:"level"` // fine, warning, critical
	Summary string                 `json:"summary"`
	Arrays  []service.ArrayStatus  `json:"arrays"`
	Disks   []service.DiskInfo     `json:"disks"`
	Steps   []service.NextStep     `json:"next"`
	Events  []service.Event        `json:"events"`
	Tasks   []history.Task         `json:"tasks"`
	Risk    map[string]ReportRisk  `json:"risk"` // by array
	Grown   map[string][]TimePoint `json:"errors_over_time,omitempty"`
}

// ReportRisk is what an array risks by the model of core/plan.
type ReportRisk struct {
	Year    float64 `json:"loss_in_a_year"`
	Rebuild float64 `json:"loss_in_a_rebuild"`
}

// TimePoint is a reading.
type TimePoint struct {
	Time  time.Time `json:"time"`
	Value float64   `json:"value"`
}

// Severities of a report, which are also those of monitoring systems.
const (
	Fine     = "fine"
	Warning  = "warning"
	Critical = "critical"
)

// Judge sets level and summary: critical when data is out of reach or the next loss loses data, warning when something is to
// be done soon.
func (r *Report) Judge() {
	r.Level = Fine
	number := map[string]int{}
	for _, a := range r.Arrays {
		if !a.Out || a.Condition == "failed" {
			number[a.Condition]++
		}
	}
	if number["degraded"] > 0 {
		r.Level = Warning
	}
	for _, s := range r.Steps {
		if s.Urgency == service.Now || s.Urgency == service.Soon {
			r.Level = Warning
		}
	}
	if number["exposed"]+number["failed"] > 0 {
		r.Level = Critical
	}
	var parts []string
	for _, c := range []string{"failed", "exposed", "degraded", "healthy"} {
		if n := number[c]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, c))
		}
	}
	r.Summary = count(int64(len(r.Arrays)), "array", "arrays") + ": " + strings.Join(parts, ", ")
	if len(r.Arrays) == 0 {
		r.Summary = "no arrays"
	}
}

// Monitor is the report in one line for monitoring systems, with its exit status: 0 fine, 1 warning, 2 critical.
func (r *Report) Monitor() (line string, status int) {
	status = map[string]int{Fine: 0, Warning: 1, Critical: 2}[r.Level]
	line = strings.ToUpper(r.Level) + ": " + r.Summary
	for _, a := range r.Arrays {
		if a.Condition != "healthy" {
			line += "; " + Line(a)
		}
	}
	line += " |"
	for _, a := range r.Arrays {
		line += fmt.Sprintf(" %s_margin=%d", a.Name, a.Margin)
	}
	return line, status
}

// Report prints it as text.
func (s *Screen) Report(r *Report) {
	s.Printf("%s   %s, %s\n", s.strong("Report of "+r.Host), r.Time.Local().Format("Mon Jan 2 2006 15:04"), r.Summary)
	for _, a := range r.Arrays {
		s.Printf("\n")
		s.array(a)
		if risk, ok := r.Risk[a.Name]; ok {
			s.Printf("Chance of losing data: %s in a year, %s while one disk is out (see nidalo help plan)\n", Chance(risk.Year), Chance(risk.Rebuild))
		}
	}
	if len(r.Tasks) > 0 {
		s.Printf("\n%s\n", s.strong("Tasks that ended lately"))
		s.History(&service.HistoryReply{Tasks: r.Tasks}, true)
	}
	s.Printf("\n%s\n", s.strong("What to do"))
	s.Steps(&service.NextReply{Steps: r.Steps, Again: r.Time.AddDate(0, 0, 35)})
}

//go:embed report.html
var files embed.FS

var page = template.Must(template.New("report.html").Funcs(template.FuncMap{
	"size":     service.FormatSize,
	"duration": func(t history.Task) string { return Duration(t.Ended.Sub(t.Started).Seconds()) },
	"when":     func(t time.Time) string { return t.Local().Format("2006-01-02 15:04") },
	"margin":   Margin,
	"chance":   Chance,
	"rate":     func(v float64) string { return service.FormatSize(int64(v)) + "/s" },
	"place":    func(m service.MemberStatus) string { return or(or(m.Bay, m.Serial), m.Path) },
	"percent":  func(v float64) string { return fmt.Sprintf("%.1f%%", v) },
	"check":    func(c *service.CheckStatus) string { return CheckSummary(*c) },
	"share": func(a service.ArrayStatus) string {
		return fmt.Sprintf("%.1f%%", 100*float64(a.Used)/float64(max(a.Capacity, 1)))
	},
}).ParseFS(files, "report.html"))

// HTML writes the report as one page that needs nothing else.
func (r *Report) HTML(w io.Writer) error {
	rates, err := r.rateChart()
	if err != nil {
		return err
	}
	errors, err := r.errorChart()
	if err != nil {
		return err
	}
	return page.Execute(w, struct {
		*Report
		Rates, Errors template.HTML
	}{r, rates, errors})
}

var chartGrey = drawing.Color{R: 128, G: 128, B: 128, A: 255}

// draw renders a chart as SVG to stand in a page.
func draw(c chart.Chart) (template.HTML, error) {
	c.Width, c.Height = 560, 220
	c.Background = chart.Style{FillColor: drawing.ColorTransparent, Padding: chart.Box{Top: 20, Left: 10, Right: 20, Bottom: 10}}
	c.Canvas = chart.Style{FillColor: drawing.ColorTransparent}
	axis := chart.Style{StrokeColor: chartGrey, FontColor: chartGrey, FontSize: 9}
	c.XAxis.Style, c.YAxis.Style = axis, axis
	var b bytes.Buffer
	if err := c.Render(chart.SVG, &b); err != nil {
		return "", err
	}
	// What the library drew, from numbers and names of disks that it escapes; a size of its own would not fit every page.
	svg := strings.Replace(b.String(), `width="560" height="220"`, `viewBox="0 0 560 220"`, 1)
	return template.HTML(svg), nil
}

func (r *Report) rateChart() (template.HTML, error) {
	var x []time.Time
	var y []float64
	for _, t := range r.Tasks {
		if t.Kind == "rebuild" && t.State == "done" {
			x, y = append(x, t.Ended), append(y, t.Rate/(1<<20))
		}
	}
	if len(x) < 2 {
		return "", nil
	}
	most := 0.0
	for _, v := range y {
		most = max(most, v)
	}
	return draw(chart.Chart{
		YAxis:  chart.YAxis{Range: &chart.ContinuousRange{Min: 0, Max: most * 1.1}, ValueFormatter: func(v any) string { return fmt.Sprintf("%.0f", v) }},
		XAxis:  chart.XAxis{ValueFormatter: clockFormatter},
		Series: []chart.Series{chart.TimeSeries{XValues: x, YValues: y, Style: chart.Style{StrokeColor: drawing.ColorFromHex("2b7a78"), DotColor: drawing.ColorFromHex("2b7a78"), DotWidth: 4, StrokeWidth: 2}}},
	})
}

func clockFormatter(v any) string {
	if f, ok := v.(float64); ok {
		return time.Unix(0, int64(f)).Local().Format("Jan 2 15:04")
	}
	return ""
}

func (r *Report) errorChart() (template.HTML, error) {
	var series []chart.Series
	most := 0.0
	for name, points := range r.Grown {
		if len(points) < 2 || points[len(points)-1].Value == 0 {
			continue
		}
		var x []time.Time
		var y []float64
		for _, p := range points {
			x, y = append(x, p.Time), append(y, p.Value)
			most = max(most, p.Value)
		}
		series = append(series, chart.TimeSeries{Name: name, XValues: x, YValues: y})
	}
	if len(series) == 0 {
		return "", nil
	}
	c := chart.Chart{YAxis: chart.YAxis{Range: &chart.ContinuousRange{Min: 0, Max: most * 1.1}, ValueFormatter: func(v any) string { return fmt.Sprintf("%.0f", v) }},
		XAxis: chart.XAxis{ValueFormatter: clockFormatter}, Series: series}
	c.Elements = []chart.Renderable{chart.LegendThin(&c)}
	return draw(c)
}
