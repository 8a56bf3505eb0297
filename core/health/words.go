package health

import (
	"fmt"

	"nidalo/core/say"
)

// Words is what readings say, in words, each by itself; what a disk does not tell is left out.
func (r Readings) Words() (out []string) {
	if r.Temperature != nil {
		out = append(out, fmt.Sprintf("%.0f °C", *r.Temperature))
	}
	if r.PowerOnHours != nil {
		out = append(out, say.Count(*r.PowerOnHours, "hour", "hours"))
	}
	for _, s := range []struct {
		n    *int64
		what string
	}{{r.Reallocated, "replaced"}, {r.Pending, "waiting to be replaced"}, {r.Uncorrectable, "that could not be read"}} {
		if s.n != nil {
			out = append(out, say.Count(*s.n, "sector ", "sectors ")+s.what)
		}
	}
	if r.LinkErrors != nil {
		out = append(out, say.Count(*r.LinkErrors, "error", "errors")+" of its link")
	}
	if r.Wear != nil {
		out = append(out, fmt.Sprintf("%.0f%% of its life used", 100**r.Wear))
	}
	if r.LinkSpeed != nil {
		speed := fmt.Sprintf("link at %g", *r.LinkSpeed)
		if r.LinkBest != nil {
			speed += fmt.Sprintf(" of %g", *r.LinkBest)
		}
		out = append(out, speed+" Gbit/s")
	}
	return out
}

// Since is what grew from earlier readings on, in words, each by itself.
func (r Readings) Since(first Readings) (out []string) {
	for _, s := range []struct {
		now, then *int64
		what      string
	}{{r.Reallocated, first.Reallocated, "sectors replaced"}, {r.Pending, first.Pending, "sectors waiting"}, {r.Uncorrectable, first.Uncorrectable, "sectors not read"},
		{r.LinkErrors, first.LinkErrors, "errors of its link"}} {
		if s.now != nil && s.then != nil && *s.now != *s.then {
			out = append(out, fmt.Sprintf("%+d %s", *s.now-*s.then, s.what))
		}
	}
	return out
}
