package cli

import (
	"cmp"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nidalo/core/layout"
	"nidalo/core/plan"
	"nidalo/core/say"
	"nidalo/core/state"
	"nidalo/internal/control"
	"nidalo/internal/view"
)

// planOptions are what can be asked of it.
type planOptions struct {
	all                                                                                           bool
	sizes, want, level, lose, afr, ure, rate, share, replaceIn, replace, grow, with, change, free string
	groups, rows                                                                                  int
}

var planCommand = command{name: "plan", usage: "[-all] [-sizes 4x12TB,2x8TB | DISK…] [-want capacity|safety|speed] [-level L] | -lose DISK,… [NAME] | -replace DISK [-with SIZE] | -grow NAME -with SIZE | -change NAME -level L [-free MEMBER,…] [DISK…]", short: "compare levels for some disks; what the loss of disks would mean", most: -1, looks: true,
	help: `
Without -lose: works out every level that can be made of the given disks (by bay, serial or path), of disks of the given
-sizes, or of all blank disks: usable capacity, the losses it survives, speed, the time of a rebuild, and the chance of losing data
within a year, the best for an aim first. The assumptions are printed below the table and can be changed; their sources are in
core/plan. -want recommends a level for an aim; -level shows one in detail, with its layout drawn.

With -lose: the effect of the loss of those disks on each array, and which further losses it would survive. With -replace:
the cost and gain of a new disk in the place of a member; with -grow: those of larger disks in the place of all smaller
members; with -change: those of a conversion to another level, or to the same with more disks. Nothing is written in any case.

  nidalo plan
  nidalo plan -all -sizes 6x4TB
  nidalo plan -sizes 8x12TB -want capacity
  nidalo plan -sizes 4x12TB,2x8TB -afr 2% -swap-in 0s
  nidalo plan -rate measured
  nidalo plan -level 6 A1 A2 A3 A4 A5 A6
  nidalo plan -level guarded              disks that stay separate, under common parity
  nidalo plan -lose A3,A5 tides
  nidalo plan -replace A3 -with 16TB
  nidalo plan -grow tides -with 16TB
  nidalo plan -change tides -level 6 B1`,
	with: func(e *env, f *flag.FlagSet) action {
		o := &planOptions{}
		d := plan.DefaultAssumptions
		f.StringVar(&o.sizes, "sizes", "", "disks that need not be there, as `4x12TB,2x8TB`")
		f.BoolVar(&o.all, "all", false, "list also the levels that are not recommended: without redundancy, or with more of it than is wanted")
		f.StringVar(&o.want, "want", "", "recommend for this `AIM`: capacity, safety or speed")
		f.StringVar(&o.level, "level", "", "one `LEVEL` in detail")
		f.IntVar(&o.groups, "groups", 0, "with -level 10, 50 or 60: how many groups")
		f.StringVar(&o.lose, "lose", "", "what the loss of these `DISKS` would mean, separated by commas")
		f.StringVar(&o.afr, "afr", fmt.Sprintf("%g%%", 100*d.AFR), "the share of disks that fail within a year")
		f.StringVar(&o.ure, "ure", fmt.Sprint(d.URE), "the chance that a bit cannot be read")
		f.StringVar(&o.rate, "rate", "150MB/s", "the `RATE` of one disk in a rebuild, or measured: the median of those that ended here")
		f.StringVar(&o.share, "share", "100%", "the part of the time a rebuild may work: about 33% at pace normal with busy clients")
		f.StringVar(&o.replaceIn, "swap-in", "24h", "the `TIME` until a failed disk is replaced; 0s with a hot spare")
		f.StringVar(&o.replace, "replace", "", "what a new disk in the place of this `DISK` takes and gives")
		f.StringVar(&o.grow, "grow", "", "what larger disks in the place of the members of the array `NAME` take and give")
		f.StringVar(&o.change, "change", "", "what another level, or the disks that are named, would mean for the array `NAME`")
		f.StringVar(&o.free, "free", "", "with -change: the `MEMBER`s, with commas in between, that the array is to do without")
		f.StringVar(&o.with, "with", "", "with -replace and -grow: the `SIZE` of a new disk")
		f.IntVar(&o.rows, "rows", 6, "with -level: how many rows of the layout to draw")
		jsonFlag(e, f)
		return func(args []string) error {
			if o.lose != "" {
				return o.whatIf(e, args)
			}
			if o.change != "" {
				return o.changes(e, args)
			}
			a, err := o.assumptions()
			if err != nil {
				return usageError{err.Error()}
			}
			if err := o.measure(e, &a); err != nil {
				return err
			}
			if o.replace != "" || o.grow != "" {
				return o.swap(e, a, args)
			}
			sizes, err := parseSizes(o.sizes)
			if err != nil {
				return usageError{err.Error()}
			}
			var names, hosts []string
			if o.sizes == "" {
				if names, sizes, hosts, err = e.disksFor(args); err != nil {
					return err
				}
			} else if len(args) > 0 {
				return usageError{"either -sizes or disks"}
			}
			if len(sizes) == 0 {
				return &control.Error{What: "there are no blank disks to plan with", Hints: []string{"nidalo plan -sizes 8x12TB   plans for disks that are not there"}}
			}
			if o.level != "" {
				return o.one(e, sizes, names, a)
			}
			options := plan.All(layout.DefaultStrip, sizes, a)
			if len(options) == 0 {
				return &control.Error{What: fmt.Sprintf("nothing can be made of %d disks of these sizes", len(sizes))}
			}
			var chosen *plan.Option
			why := ""
			if o.want != "" {
				best, reason, err := plan.Recommend(options, o.want)
				if err != nil {
					return usageError{"-want: " + err.Error()}
				}
				chosen, why = &best, reason
			}
			if e.json {
				return e.printJSON(map[string]any{"options": options, "assumptions": a, "recommended": chosen})
			}
			e.out.Plan(view.PlanTable{Hosts: hosts, Outlasts: plan.Outlasts(layout.DefaultStrip, sizes, hosts), Options: options, Assumptions: a, Chosen: chosen, Why: why, Names: names, All: o.all})
			return nil
		}
	},
}

// changes shows what a change of layout would mean.
func (o *planOptions) changes(e *env, args []string) error {
	return e.withControl(func(c *control.Control) error {
		volumes, disks := volumesIn(args)
		disks, err := e.many(c, disks...)
		if err != nil {
			return err
		}
		r, err := c.Change(control.ChangeRequest{Array: o.change, Grow: o.level == "" && o.free == "", Level: o.level, Volumes: volumes, Groups: o.groups, Free: (&changing{free: o.free}).freed(), Disks: disks, DryRun: true})
		if err != nil {
			return err
		}
		if e.json {
			return e.printJSON(r)
		}
		e.out.Change(*r)
		return nil
	})
}

func (o *planOptions) assumptions() (a plan.Assumptions, err error) {
	share := func(name, text string, most float64) (v float64) {
		number, percent := strings.CutSuffix(text, "%")
		v, bad := strconv.ParseFloat(number, 64)
		if percent {
			v /= 100
		}
		if bad != nil || v < 0 || v > most {
			err = fmt.Errorf("-%s %s: a share such as 1.5%% or 0.015", name, text)
		}
		return v
	}
	a.Used = 1
	a.AFR, a.Share, a.URE = share("afr", o.afr, 0.999), share("share", o.share, 1), share("ure", o.ure, 0.1)
	if o.rate != rateMeasured {
		rate, bad := say.ParseSize(strings.TrimSuffix(o.rate, "/s"))
		if bad != nil || rate < 1 {
			return a, fmt.Errorf("-rate %s: such as 150MB/s, or %s", o.rate, rateMeasured)
		}
		a.Rate = float64(rate)
	}
	var bad error
	if a.Replace, bad = time.ParseDuration(o.replaceIn); bad != nil || a.Replace < 0 {
		return a, fmt.Errorf("-swap-in %s: such as 24h or 0s", o.replaceIn)
	}
	if err == nil && a.Share == 0 {
		err = fmt.Errorf("-share 0: a rebuild that may not work never ends")
	}
	return a, err
}

const rateMeasured = "measured"

// measure fills in the rate that rebuilds had here, when that was asked for.
func (o *planOptions) measure(e *env, a *plan.Assumptions) error {
	if o.rate != rateMeasured {
		return nil
	}
	return e.withControl(func(c *control.Control) error {
		h, err := c.History(control.HistoryRequest{Kind: "rebuild", Limit: 1000})
		if err != nil {
			return err
		}
		var rates []float64
		for _, t := range h.Tasks {
			if took := t.Ended.Sub(t.Started).Seconds(); t.Kind == state.TaskRebuild && t.State == state.TaskDone && took > 0 && t.Moved > 0 {
				rates = append(rates, float64(t.Moved)/took)
			}
		}
		if len(rates) == 0 {
			return &control.Error{What: "no rebuild that ended here is known: there is no rate to plan with", Hints: []string{"nidalo plan -rate 150MB/s   assumes one"}}
		}
		slices.Sort(rates)
		a.Rate, a.Measured = rates[len(rates)/2], len(rates)
		return nil
	})
}

// parseSizes reads 4x12TB,2x8TB.
func parseSizes(text string) (out []int64, err error) {
	if text == "" {
		return nil, nil
	}
	for _, part := range strings.Split(text, ",") {
		count, size := "1", part
		if n, rest, ok := strings.Cut(part, "x"); ok {
			count, size = n, rest
		}
		n, bad := strconv.Atoi(strings.TrimSpace(count))
		bytes, err := say.ParseSize(strings.TrimSpace(size))
		if bad != nil || err != nil || n < 1 || len(out)+n > layout.MaxMembers {
			return nil, fmt.Errorf("-sizes %s: write for example 4x12TB,2x8TB; at most %d disks", text, layout.MaxMembers)
		}
		for range n {
			out = append(out, bytes)
		}
	}
	return out, nil
}

// disksFor finds the disks named, or all blank ones.
func (e *env) disksFor(args []string) (names []string, sizes []int64, hosts []string, err error) {
	err = e.withControl(func(c *control.Control) error {
		disks, err := c.Disks()
		if err != nil {
			return err
		}
		if args, err = e.many(c, args...); err != nil {
			return err
		}
		if len(args) == 0 {
			for _, d := range disks {
				if d.State == state.DiskBlank {
					names, sizes, hosts = append(names, cmp.Or(d.Bay, d.Path)), append(sizes, d.Size), append(hosts, d.Host)
				}
			}
			return nil
		}
		for _, name := range args {
			found := false
			for _, d := range disks {
				if d.Identity.Matches(name) && d.State != state.DiskEmpty {
					names, sizes, hosts, found = append(names, name), append(sizes, d.Size), append(hosts, d.Host), true
				}
			}
			if !found {
				return &control.Error{What: fmt.Sprintf("disk %q: no bay, serial or path has that name", name), Hints: []string{"nidalo disks   lists the disks"}}
			}
		}
		return nil
	})
	return names, sizes, hosts, err
}

func (o *planOptions) one(e *env, sizes []int64, names []string, a plan.Assumptions) error {
	if layout.Level(o.level) == layout.Guarded {
		return o.guarded(e, sizes, names)
	}
	order := plan.Arrange(layout.Level(o.level), layout.DefaultStrip, o.groups, sizes)
	if sizes = layout.Ordered(sizes, order); len(names) > 0 {
		names = layout.Ordered(names, order)
	}
	option, err := plan.For(layout.Level(o.level), layout.DefaultStrip, o.groups, sizes, a)
	if err != nil {
		return &control.Error{What: err.Error()}
	}
	g, err := plan.Layout(layout.Level(o.level), layout.DefaultStrip, o.groups, sizes)
	if err != nil {
		return &control.Error{What: err.Error()}
	}
	if e.json {
		return e.printJSON(map[string]any{"option": option, "assumptions": a})
	}
	e.out.PlanOne(option, g, names, o.rows, a)
	return nil
}

// guarded compares the guarded sets of some disks.
func (o *planOptions) guarded(e *env, sizes []int64, names []string) error {
	sets, err := plan.GuardedSets(layout.DefaultStrip, sizes)
	if err != nil {
		return &control.Error{What: err.Error()}
	}
	if len(sets) == 0 {
		return &control.Error{What: "a guarded set needs a data disk and a parity disk", Hints: []string{"nidalo plan -level guarded DISK DISK…"}}
	}
	if e.json {
		return e.printJSON(map[string]any{"guarded": sets})
	}
	e.out.PlanGuarded(sets, sizes, names)
	if len(names) > 0 {
		best := sets[0]
		text := "nidalo create -name NAME -level guarded -parity " + say.Quote(names[best.Parity[0]])
		for _, i := range best.Data {
			text += " VOLUME=" + say.Quote(names[i])
		}
		e.out.Next([]string{text + "   with a name for each volume"})
	}
	return nil
}

func (o *planOptions) whatIf(e *env, args []string) error {
	if len(args) > 1 {
		return usageError{"-lose takes at most one array"}
	}
	req := control.WhatIfRequest{Lose: strings.Split(o.lose, ",")}
	if len(args) == 1 {
		req.Array = args[0]
	}
	return e.withControl(func(c *control.Control) error {
		var err error
		if req.Lose, err = e.many(c, req.Lose...); err != nil {
			return err
		}
		replies, err := c.WhatIf(req)
		if err != nil {
			return err
		}
		if e.json {
			return e.printJSON(map[string]any{"arrays": replies})
		}
		e.out.WhatIf(replies)
		return nil
	})
}
