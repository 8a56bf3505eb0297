package view

import (
	"bytes"
	"cmp"
	"fmt"
	"html/template"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	chart "github.com/wcharczuk/go-chart/v2"
	"github.com/wcharczuk/go-chart/v2/drawing"
)

// drawn is a chart to stand in a page.
type drawn struct {
	SVG     template.HTML
	Caption string
	Legend  []lineKey
}

// lineKey says which line is whose.
type lineKey struct {
	Name   string
	Colour template.CSS
	Dash   string // as SVG writes it
}

// mostLines is how many lines one chart shows: those that matter most.
const mostLines = 6

// Colours and dashes that can be told apart without the others, on light and on dark ground.
var (
	chartGrey  = drawing.Color{R: 128, G: 128, B: 128, A: 255}
	chartLines = []string{"2b8a87", "d9822b", "7b61c4", "c0504d", "5b8c2a", "4a7fc1"}
	chartDash  = [][]float64{nil, {8, 3}, {2, 3}, {8, 3, 2, 3}, {4, 4}, {12, 4}}
)

// charts draws what was measured over time, as far as there is anything to draw.
func (r *Report) charts() (out []drawn, err error) {
	rates := map[string][]TimePoint{}
	for _, t := range r.Tasks {
		if t.Kind == "rebuild" && t.State == "done" {
			rates[t.Array] = append(rates[t.Array], TimePoint{t.Ended, t.Rate / (1 << 20)})
		}
	}
	errors := map[string][]TimePoint{}
	for name, points := range r.Errors {
		if slices.ContainsFunc(points, func(p TimePoint) bool { return p.Value > 0 }) {
			errors[name] = points
		}
	}
	for _, c := range []struct {
		caption string
		lines   map[string][]TimePoint
		zero    bool
		dots    bool
	}{{"Rate of rebuilds, MiB/s, when they ended", rates, true, true}, {"Temperature of disks, °C", r.Temperatures, false, false}, {"Errors of disks since they joined", errors, true, false}} {
		d, err := lines(c.caption, c.lines, c.zero, c.dots)
		if err != nil {
			return nil, err
		}
		if d != nil {
			out = append(out, *d)
		}
	}
	return out, nil
}

// lines draws those of some lines with the highest last points; nil when none has two points.
func lines(caption string, all map[string][]TimePoint, zero, dots bool) (*drawn, error) {
	names := slices.Sorted(maps.Keys(all))
	names = slices.DeleteFunc(names, func(n string) bool { return len(all[n]) < 2 })
	if len(names) == 0 {
		return nil, nil
	}
	last := func(n string) float64 { return all[n][len(all[n])-1].Value }
	slices.SortStableFunc(names, func(x, y string) int { return cmp.Compare(last(y), last(x)) })
	d := &drawn{Caption: caption}
	if len(names) > mostLines {
		d.Caption += fmt.Sprintf(" (the %d highest of %d)", mostLines, len(names))
		names = names[:mostLines]
	}
	low, high := last(names[0]), last(names[0])
	var series []chart.Series
	for i, n := range names {
		var x []time.Time
		var y []float64
		for _, p := range all[n] {
			x, y = append(x, p.Time), append(y, p.Value)
			low, high = min(low, p.Value), max(high, p.Value)
		}
		style := chart.Style{StrokeColor: drawing.ColorFromHex(chartLines[i]), StrokeWidth: 2, StrokeDashArray: chartDash[i]}
		if dots {
			style.DotWidth, style.DotColor = 4, style.StrokeColor
		}
		series = append(series, chart.TimeSeries{Name: n, XValues: x, YValues: y, Style: style})
		d.Legend = append(d.Legend, lineKey{n, template.CSS("#" + chartLines[i]), strings.Trim(fmt.Sprint(chartDash[i]), "[]")})
	}
	span := &chart.ContinuousRange{Min: low - 0.1*max(high-low, 2), Max: high + 0.1*max(high-low, 2)}
	if zero {
		span.Min = 0
	}
	var err error
	d.SVG, err = draw(chart.Chart{Series: series, XAxis: chart.XAxis{Ticks: timeTicks(series)}, YAxis: chart.YAxis{Range: span, Ticks: numberTicks(span.Min, span.Max)}})
	return d, err
}

// numberTicks are the whole numbers at which an axis is marked, seven at most, in steps of 1, 2 or 5 times a power of ten.
func numberTicks(low, high float64) (out []chart.Tick) {
	step := 1.0
	for i := 0; (high-low)/step > 5; i++ {
		step *= []float64{2, 2.5, 2}[i%3]
	}
	for v := math.Floor(low/step) * step; len(out) == 0 || out[len(out)-1].Value < high; v += step { // the axis reaches from the first to the last
		out = append(out, chart.Tick{Value: v, Label: fmt.Sprintf("%.0f", v)})
	}
	return out
}

// timeTicks are the moments at which an axis of time is marked: evenly, and no two with the same label.
func timeTicks(series []chart.Series) (out []chart.Tick) {
	var first, last time.Time
	for _, one := range series {
		for _, x := range one.(chart.TimeSeries).XValues {
			if first.IsZero() || x.Before(first) {
				first = x
			}
			if x.After(last) {
				last = x
			}
		}
	}
	format := "Jan 2"
	switch span := last.Sub(first); {
	case span < 10*time.Minute:
		format = "15:04:05"
	case span < 20*time.Hour:
		format = "15:04"
	case span < 8*24*time.Hour:
		format = "Jan 2 15:04"
	}
	const marks = 4
	for i := range marks {
		at := first.Add(last.Sub(first) * time.Duration(i) / (marks - 1))
		label := at.Local().Format(format)
		if slices.ContainsFunc(out, func(t chart.Tick) bool { return t.Label == label }) {
			label = ""
		}
		out = append(out, chart.Tick{Value: chart.TimeToFloat64(at), Label: label})
	}
	return out
}

// ownSize is what the library says of the size of a drawing, which would not fit every page.
var ownSize = regexp.MustCompile(`width="560" height="220"`)

// draw renders a chart as SVG to stand in a page.
func draw(c chart.Chart) (template.HTML, error) {
	c.Width, c.Height = 560, 220
	c.Background = chart.Style{FillColor: drawing.ColorTransparent, Padding: chart.Box{Top: 10, Left: 10, Right: 20, Bottom: 10}}
	c.Canvas = chart.Style{FillColor: drawing.ColorTransparent}
	axis := chart.Style{StrokeColor: chartGrey, FontColor: chartGrey, FontSize: 9}
	c.XAxis.Style, c.YAxis.Style, c.YAxisSecondary.Style = axis, axis, chart.Hidden()
	var b bytes.Buffer
	if err := c.Render(chart.SVG, &b); err != nil {
		return "", err
	}
	// What the library drew, from numbers and names of disks that it escapes.
	return template.HTML(ownSize.ReplaceAllString(b.String(), `viewBox="0 0 560 220" role="img"`)), nil
}
