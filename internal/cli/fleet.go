package cli

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"slices"

	"nidalo/internal/control"
	"nidalo/internal/fleet"
	"nidalo/internal/service"
	"nidalo/internal/view"
)

// fleetOptions are what can be asked of it.
type fleetOptions struct {
	html    string
	verdict bool
}

var fleetCommand = command{name: "fleet", usage: "status|next|report [-json] [-html FILE | -verdict], or forget HOST", short: "the arrays of several hosts, watched together", least: 1, most: 2, looks: true,
	help: `
Asks several hosts at the same time how their arrays are. Nothing can be changed from here: log in on the host for that.

  nidalo fleet status              all arrays of all hosts on one screen, dangers first
  nidalo fleet next                what to do on which host, the most urgent first
  nidalo fleet report              both
  nidalo fleet report -html f.html as one page that needs nothing else
  nidalo fleet report -verdict     one line for a monitoring system
  nidalo fleet status -json        what hosts said, for programs
  nidalo fleet forget plover       drop a host that is gone for good: its last answer, and its place in etcd

A host that does not answer within 10 s is named, and shown as it was when it answered last, with the age of that.

The hosts are those of fleet.hosts in nidalo.toml, or, where that is empty, those that told the etcd of the configuration where they can be watched. Each answers only
those whose certificate has a name that is in fleet.watchers there. docs/fleet.md shows how to set that up.

Exit status with -verdict: 0 fine, 1 warning (also when a host does not answer), 2 critical, 3 unknown. Without it: 0 the hosts were asked, 1 they could not be.`,
	with: func(e *env, f *flag.FlagSet) action {
		o := &fleetOptions{}
		jsonFlag(e, f)
		f.StringVar(&o.html, "html", "", "report: write a page to this `FILE`")
		f.BoolVar(&o.verdict, "verdict", false, "report: print one line, with the state in the exit status")
		return func(args []string) error {
			err := o.run(e, args)
			if err != nil && o.verdict && args[0] == "report" {
				e.out.Printf("UNKNOWN: %v\n", err)
				e.status = 3
				return nil
			}
			return err
		}
	},
}

func (o *fleetOptions) run(e *env, args []string) error {
	what := args[0]
	switch {
	case !slices.Contains([]string{"status", "next", "report", "forget"}, what):
		return usageError{fmt.Sprintf("%s: status, next, report or forget", what)}
	case (what == "forget") != (len(args) == 2):
		return usageError{what + ": " + map[bool]string{true: "which host?", false: "nothing follows it"}[what == "forget"]}
	case what != "report" && (o.html != "" || o.verdict):
		return usageError{"-html and -verdict: of report"}
	case o.html != "" && o.verdict || e.json && (o.html != "" || o.verdict):
		return usageError{"one of -json, -html and -verdict"}
	}
	cfg, err := service.ReadConfig(e.home)
	if err != nil {
		return err
	}
	hosts, settings, err := cfg.Watched(context.Background())
	if err != nil {
		return err
	}
	all := &fleet.Fleet{Hosts: hosts, TLS: settings, Keep: filepath.Join(e.home, "fleet")}
	if what == "forget" {
		return forget(e, cfg, all, args[1])
	}
	if len(hosts) == 0 {
		return &control.Error{What: "no hosts to ask", Hints: []string{"fleet.hosts in " + filepath.Join(e.home, service.ConfigName) + " names them, such as [\"gull\", \"heron\"]", "docs/fleet.md shows how hosts let themselves be watched"}}
	}
	answers, unkept := all.Ask(context.Background())
	if unkept != nil {
		e.err.Printf("nidalo fleet: what hosts said cannot be kept, so nothing will be known of one that is lost: %v\n", unkept)
	}
	return o.show(e, what, view.NewFleet(answers, Version))
}

// show prints what hosts said.
func (o *fleetOptions) show(e *env, what string, f *view.Fleet) error {
	switch {
	case o.verdict:
		line, status := f.FleetVerdict()
		e.out.Printf("%s\n", line)
		e.status = status
	case e.json:
		return e.printJSON(f)
	case o.html != "":
		return e.writeFile(o.html, f.HTML)
	case what == "status":
		e.out.FleetStatus(f)
	case what == "next":
		e.out.FleetSteps(f)
	default:
		e.out.FleetReport(f)
	}
	return nil
}

// forget lets go of a host that is gone for good.
func forget(e *env, cfg service.Config, all *fleet.Fleet, name string) error {
	if slices.Contains(cfg.Fleet.Hosts, name) {
		return &control.Error{What: name + " is one of fleet.hosts in " + service.ConfigName, Hints: []string{"take it out there first"}}
	}
	h, err := fleet.ParseHost(name)
	if i := slices.IndexFunc(all.Hosts, func(h fleet.Host) bool { return h.Name == name }); i >= 0 {
		h, err = all.Hosts[i], nil // in etcd, perhaps at another address
	}
	if err != nil {
		return usageError{fmt.Sprintf("%s: %v", name, err)}
	}
	told, err := cfg.Forget(context.Background(), name)
	if err != nil {
		return err
	}
	known, err := all.Forget(h)
	if err != nil {
		return err
	}
	if !told && !known {
		return &control.Error{What: "nothing is known of host " + name}
	}
	e.out.Printf("Host %s is forgotten.\n", name)
	return nil
}
