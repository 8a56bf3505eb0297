package cli

import (
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"nidalo/core/health"
	"nidalo/core/say"
	"nidalo/internal/lab"
)

// labOptions are what can be asked of it.
type labOptions struct {
	bays                                   int
	size, disk, bad, change, rate, latency string
	failWrites, hang, mend                 bool
	pending, reallocated                   int64
	temperature                            float64
	seed                                   uint64
	serials                                int
}

var labCommand = command{name: "lab", usage: "new|pull|insert|damage|turns|clock …", short: "a simulated enclosure to try everything with", least: 1, most: 2,
	help: `
A lab is an enclosure in a folder of the home: bays, disks (sparse files, so that large ones cost little) and faults.
Everything else works with its disks as with real ones, and notices at once what is done to them.

  nidalo lab new -bays 8 -size 256MiB    bays A1 to A8, each with a blank disk
  nidalo lab pull A3                     take the disk out; it lies in the drawer
  nidalo lab insert A3                   put a new disk in (-size 512MiB for another size)
  nidalo lab insert A3 -disk TMK-0193    put a disk from the drawer in
  nidalo lab damage A3 -unreadable 20    20 random blocks cannot be read until they are written again
  nidalo lab damage A3 -change 1MiB:4KiB bytes at that place change silently
  nidalo lab damage A3 -fail-writes      every write fails
  nidalo lab damage A3 -rate 20MiB/s     the disk becomes slow; -latency 50ms as well
  nidalo lab damage A3 -hang             the disk does not answer any more
  nidalo lab damage A3 -pending 12       the disk says that 12 sectors wait to be replaced; -reallocated, -temperature as well
  nidalo lab damage A3 -mend             all faults are gone (changed bytes stay changed)
  nidalo lab turns                       which disks turn, and how often each was woken
  nidalo lab clock "2026-11-02 03:00"    the time stands still there, for everything that goes by date and hour
  nidalo lab clock +36h                  it moves on; nidalo lab clock off goes by the host's clock again

-unreadable and -change take a number of random blocks, from where the disk has data, or places as OFFSET:LENGTH,… in
bytes of the disk.`,
	with: func(e *env, f *flag.FlagSet) action {
		o := &labOptions{}
		f.IntVar(&o.bays, "bays", 8, "new: how many bays")
		f.IntVar(&o.serials, "serials", 193, "new: the `NUMBER` in the serial of the first disk; labs on several hosts have other disks")
		f.StringVar(&o.size, "size", "256MiB", "new, insert: the `SIZE` of new disks")
		f.StringVar(&o.disk, "disk", "", "insert: the `SERIAL` of a disk in the drawer")
		f.StringVar(&o.bad, "unreadable", "", "damage: how many random blocks, or `PLACES`")
		f.StringVar(&o.change, "change", "", "damage: how many random blocks, or `PLACES`")
		f.BoolVar(&o.failWrites, "fail-writes", false, "damage: writes fail")
		f.StringVar(&o.rate, "rate", "", "damage: at most this `RATE`, such as 20MiB/s; 0 for no limit")
		f.StringVar(&o.latency, "latency", "", "damage: every operation takes this `TIME` longer, such as 50ms")
		f.BoolVar(&o.hang, "hang", false, "damage: operations do not come back")
		f.Int64Var(&o.pending, "pending", -1, "damage: sectors the disk says wait to be replaced")
		f.Int64Var(&o.reallocated, "reallocated", -1, "damage: sectors the disk says it replaced")
		f.Float64Var(&o.temperature, "temperature", -1, "damage: degrees Celsius the disk says it has")
		f.BoolVar(&o.mend, "mend", false, "damage: take all faults away")
		f.Uint64Var(&o.seed, "seed", 1, "damage: where the random choice begins")
		return func(args []string) error {
			return o.run(e, args)
		}
	},
}

func (o *labOptions) run(e *env, args []string) error {
	l := lab.At(e.home)
	bay := ""
	if len(args) == 2 {
		bay = args[1]
	} else if args[0] == "clock" {
		return setClock(e, l, "")
	} else if args[0] == "turns" {
		return labTurns(e, l)
	} else if args[0] != "new" {
		return usageError{"which bay?"}
	}
	size, err := say.ParseSize(o.size)
	if err != nil {
		return usageError{"-size: " + err.Error()}
	}
	switch args[0] {
	case "new":
		if bay != "" {
			return usageError{"lab new takes no bay"}
		}
		if err := l.NewFrom(o.serials, o.bays, size); err != nil {
			return err
		}
		e.out.Printf("A lab of %d bays with a blank disk of %s each.\n", o.bays, say.Size(size))
		e.out.Next([]string{"nidalo disks   shows them"})
	case "pull":
		d, err := l.Pull(bay)
		if err != nil {
			return err
		}
		e.out.Printf("%s %s is out of bay %s and lies in the drawer.\n", d.Model, d.Serial, bay)
		e.out.Next([]string{"nidalo lab insert " + bay + "   puts a new disk in; with -disk " + d.Serial + " the same one again"})
	case "insert":
		d, err := l.Insert(bay, size, o.disk)
		if err != nil {
			return err
		}
		e.out.Printf("%s %s of %s is in bay %s.\n", d.Model, d.Serial, say.Size(d.Size), bay)
		e.out.Next([]string{"nidalo status   shows what it can be used for"})
	case "damage":
		return o.damage(e, l, bay)
	case "clock":
		return setClock(e, l, bay)
	default:
		return usageError{fmt.Sprintf("lab %s: there are new, pull, insert, damage, turns and clock", args[0])}
	}
	return nil
}

// labTurns lists which disks of the lab turn.
func labTurns(e *env, l *lab.Lab) error {
	bays, err := l.Bays()
	if err != nil {
		return err
	}
	for _, bay := range bays {
		d, err := l.Disk(bay)
		if err != nil {
			continue // nothing is in it
		}
		asleep, woken, err := l.Rest(bay)
		if err != nil {
			return err
		}
		what := "turns"
		if asleep {
			what = "sleeps"
		}
		e.out.Printf("%-4s %-6s  woken %-9s %s %s\n", bay, what, say.Count(int64(woken), "time", "times"), d.Model, d.Serial)
	}
	return nil
}

// setClock stops the lab's clock, moves it, or lets it go; without a text it only says what it shows.
func setClock(e *env, l *lab.Lab, text string) error {
	if !l.Exists() {
		return lab.ErrNoLab
	}
	at := l.Now()
	if text == "off" {
		at = time.Time{}
	} else if by, moves := strings.CutPrefix(text, "+"); moves {
		d, err := time.ParseDuration(by)
		if err != nil {
			return usageError{fmt.Sprintf("lab clock %s: write for example +36h", text)}
		}
		at = at.Add(d)
	} else if text != "" {
		var err error
		if at, err = parseTime(text, at); err != nil || strings.HasSuffix(text, "h") || strings.HasSuffix(text, "m") || strings.HasSuffix(text, "s") {
			return usageError{fmt.Sprintf("lab clock %s: write for example \"2026-11-02 03:00\", +36h or off", text)}
		}
	}
	if text != "" {
		if err := l.SetClock(at); err != nil {
			return err
		}
	}
	if text == "off" {
		e.out.Printf("The lab goes by the clock of this host.\n")
		return nil
	}
	e.out.Printf("In the lab it is %s.\n", at.Local().Format("2006-01-02 15:04:05"))
	return nil
}

func (o *labOptions) damage(e *env, l *lab.Lab, bay string) error {
	did := false
	tell := func(format string, args ...any) {
		did = true
		e.out.Printf("Bay %s: %s.\n", bay, fmt.Sprintf(format, args...))
	}
	fault := func(wanted bool, edit func(*lab.Faults), format string, args ...any) error {
		if !wanted {
			return nil
		}
		if err := l.SetFaults(bay, edit); err != nil {
			return err
		}
		tell(format, args...)
		return nil
	}
	rate, latency, err := o.slowness()
	if err != nil {
		return err
	}
	for _, step := range []func() error{
		func() error { return fault(o.mend, func(f *lab.Faults) { *f = lab.Faults{} }, "no faults any more") },
		func() error { return o.places(l, bay, o.bad, l.Unreadable, "%s cannot be read", tell) },
		func() error {
			change := func(bay string, ranges []lab.Range) error { return l.Corrupt(bay, ranges, o.seed) }
			return o.places(l, bay, o.change, change, "bytes at %s are changed", tell)
		},
		func() error { return fault(o.failWrites, func(f *lab.Faults) { f.FailWrites = true }, "writes fail") },
		func() error { return o.readings(l, bay, tell) },
		func() error {
			return fault(o.hang, func(f *lab.Faults) { f.Hang = true }, "the disk does not answer any more")
		},
		func() error {
			return fault(o.rate != "", func(f *lab.Faults) { f.Rate = rate }, "at most %s/s", say.Size(rate))
		},
		func() error {
			return fault(o.latency != "", func(f *lab.Faults) { f.Latency = latency }, "every operation takes %s longer", latency)
		},
	} {
		if err := step(); err != nil {
			return err
		}
	}
	if !did {
		return usageError{"damage how? -unreadable, -change, -fail-writes, -hang, -rate, -latency, -pending, -reallocated, -temperature or -mend"}
	}
	return nil
}

// slowness reads how slow a disk is to be.
func (o *labOptions) slowness() (rate int64, latency time.Duration, err error) {
	if o.rate != "" {
		if rate, err = say.ParseSize(strings.TrimSuffix(o.rate, "/s")); err != nil {
			return 0, 0, usageError{"-rate: " + err.Error()}
		}
	}
	if o.latency != "" {
		if latency, err = time.ParseDuration(o.latency); err != nil || latency < 0 {
			return 0, 0, usageError{fmt.Sprintf("-latency %s: write for example 50ms", o.latency)}
		}
	}
	return rate, latency, nil
}

// places does something to the places that a text names, if it names any.
func (o *labOptions) places(l *lab.Lab, bay, text string, do func(string, []lab.Range) error, done string, tell func(string, ...any)) error {
	if text == "" {
		return nil
	}
	ranges, err := parseRanges(l, bay, text, o.seed)
	if err != nil {
		return err
	}
	if err := do(bay, ranges); err != nil {
		return err
	}
	tell(done, say.Count(len(ranges), "place", "places"))
	return nil
}

// readings has the disk say something else of itself.
func (o *labOptions) readings(l *lab.Lab, bay string, tell func(string, ...any)) error {
	if o.pending < 0 && o.reallocated < 0 && o.temperature < 0 {
		return nil
	}
	err := l.SetHealth(bay, func(r *health.Readings) {
		if o.pending >= 0 {
			r.Pending = &o.pending
		}
		if o.reallocated >= 0 {
			r.Reallocated = &o.reallocated
		}
		if o.temperature >= 0 {
			r.Temperature = &o.temperature
		}
	})
	if err == nil {
		tell("the disk reports other readings")
	}
	return err
}

func parseRanges(l *lab.Lab, bay, text string, seed uint64) ([]lab.Range, error) {
	if n, err := strconv.Atoi(text); err == nil {
		if n < 1 || n > 10000 {
			return nil, usageError{fmt.Sprintf("%d random places: between 1 and 10000", n)}
		}
		return l.WrittenRanges(bay, n, seed)
	}
	var out []lab.Range
	for _, part := range strings.Split(text, ",") {
		off, length, ok := strings.Cut(part, ":")
		o, err1 := say.ParseSize(off)
		n, err2 := say.ParseSize(length)
		if !ok || err1 != nil || err2 != nil {
			return nil, usageError{fmt.Sprintf("%q is neither a number of places nor OFFSET:LENGTH", part)}
		}
		out = append(out, lab.Range{Offset: o, Length: n})
	}
	return out, nil
}
