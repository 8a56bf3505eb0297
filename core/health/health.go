// Package health judges what a disk says of itself. It is pure: readings in, a verdict with reasons in words out. The rules
// are stated here and nowhere else; docs/data-path.md lists them for administrators.
package health

import "fmt"

// Readings is what a disk tells at a time; a nil field was not told.
type Readings struct {
	Reallocated   *int64   `json:"reallocated,omitempty"`     // sectors replaced by spare ones
	Pending       *int64   `json:"pending,omitempty"`         // sectors waiting to be
	Uncorrectable *int64   `json:"uncorrectable,omitempty"`   // sectors that could not be read at all
	LinkErrors    *int64   `json:"link_errors,omitempty"`     // transfers with wrong checksums between disk and host
	Temperature   *float64 `json:"temperature,omitempty"`     // degrees Celsius
	PowerOnHours  *int64   `json:"power_on_hours,omitempty"`  // since it was made
	Wear          *float64 `json:"wear,omitempty"`            // share of its life used, 1 at its end
	LinkSpeed     *float64 `json:"link_speed,omitempty"`      // Gbit/s, as negotiated
	LinkBest      *float64 `json:"link_speed_best,omitempty"` // Gbit/s, what the disk can do
}

// Grade is how a disk is.
type Grade string

// The grades.
const (
	Fine    Grade = "fine"
	Failing Grade = "failing" // it works, and had better be replaced
	Failed  Grade = "failed"
)

// Verdict is a grade with its reasons.
type Verdict struct {
	Grade   Grade    `json:"grade"`
	Reasons []string `json:"reasons,omitempty"`
	Hot     bool     `json:"hot,omitempty"`
	Notes   []string `json:"notes,omitempty"` // worth knowing, no reason to replace it
}

// Rules is from where on a reading counts. Uncorrectable and pending sectors foretell failure best, reallocated ones when
// there are many or they come fast (E. Pinheiro, W. Weber, L. Barroso, "Failure Trends in a Large Disk Drive Population",
// FAST 2007, sections 3.5 and 3.6).
type Rules struct {
	Reallocated   int64   // at least so many
	Grown         int64   // or so many more than in the readings before
	Pending       int64   // at least so many
	Uncorrectable int64   // at least so many
	Wear          float64 // at least this share
	Hot           float64 // degrees
	LinkErrors    int64   // so many more than in the readings before: a cable or a slot rather than the disk
}

// DefaultRules are those used unless others are given.
var DefaultRules = Rules{Reallocated: 100, Grown: 10, Pending: 8, Uncorrectable: 1, Wear: 0.95, Hot: 60, LinkErrors: 50}

// Worse tells in words what grew from one set of readings to a later one that had better not grow.
func Worse(before, now Readings) (out []string) {
	for _, x := range []struct {
		what          string
		before, after *int64
	}{{"replaced sectors", before.Reallocated, now.Reallocated}, {"sectors waiting to be replaced", before.Pending, now.Pending},
		{"sectors that cannot be read", before.Uncorrectable, now.Uncorrectable}, {"transfers with wrong checksums", before.LinkErrors, now.LinkErrors}} {
		if x.before != nil && x.after != nil && *x.after > *x.before {
			out = append(out, fmt.Sprintf("%s went from %d to %d", x.what, *x.before, *x.after))
		}
	}
	return out
}

// Judge grades a disk by its readings now, and before where there are any.
func Judge(now, before Readings, r Rules) Verdict {
	v := Verdict{Grade: Fine}
	failing := func(format string, args ...any) {
		v.Grade = Failing
		v.Reasons = append(v.Reasons, fmt.Sprintf(format, args...))
	}
	note := func(format string, args ...any) { v.Notes = append(v.Notes, fmt.Sprintf(format, args...)) }
	if n := now.Uncorrectable; n != nil && *n >= r.Uncorrectable {
		failing("%d sectors could not be read at all", *n)
	}
	if n := now.Pending; n != nil && *n >= r.Pending {
		failing("%d sectors wait to be replaced", *n)
	}
	if n := now.Reallocated; n != nil {
		switch grown := *n - value(before.Reallocated, *n); {
		case *n >= r.Reallocated:
			failing("%d sectors were replaced by spare ones", *n)
		case grown >= r.Grown:
			failing("%d more sectors were replaced by spare ones lately, %d in all", grown, *n)
		case *n > 0:
			note("%d sectors were replaced by spare ones", *n)
		}
	}
	if w := now.Wear; w != nil {
		if *w >= r.Wear {
			failing("%.0f%% of its life is used", 100**w)
		} else if *w >= 0.8*r.Wear {
			note("%.0f%% of its life is used", 100**w)
		}
	}
	if t := now.Temperature; t != nil && *t >= r.Hot {
		v.Hot = true
		note("it has %.0f °C", *t)
	}
	if n := now.LinkErrors; n != nil && *n-value(before.LinkErrors, *n) >= r.LinkErrors {
		note("%d transfers with wrong checksums lately: look at its cable or its bay", *n-value(before.LinkErrors, *n))
	}
	if s, best := now.LinkSpeed, now.LinkBest; s != nil && best != nil && *s < *best {
		note("its link runs at %g of %g Gbit/s: look at its cable or its bay", *s, *best)
	}
	return v
}

func value(p *int64, otherwise int64) int64 {
	if p == nil {
		return otherwise
	}
	return *p
}
