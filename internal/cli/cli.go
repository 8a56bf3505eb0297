// Package cli is the commands: flags in, calls to a service, a view out. One file a command.
package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/term"

	"nidalo/core/say"
	"nidalo/internal/control"
	"nidalo/internal/remote"
	"nidalo/internal/service"
	"nidalo/internal/view"
)

// Version is stamped in by the build.
var Version = "unknown"

// Exit statuses.
const (
	Done  = 0
	Could = 1 // could not
	Usage = 2
)

// command is one subcommand. help is written for a reader that has never seen it, with examples.
type command struct {
	name  string
	usage string // after "nidalo NAME"
	short string
	help  string
	least int  // arguments
	most  int  // negative: any number
	looks bool // it only looks: without a service nothing is started, and nothing written
	// with declares the options and returns what is done with them.
	with func(e *env, f *flag.FlagSet) action
}

// prepare declares the options of a command, and returns what it does with them.
func (c command) prepare(e *env) (*flag.FlagSet, action) {
	f := flag.NewFlagSet(c.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	f.StringVar(&e.home, "home", defaultHome(), "keep the sockets, notes, list of disks and lab of the service in this `DIR`")
	f.Func("units", "write amounts from a gigabyte on in `UNITS`: decimal, as on the label of a disk (the usual), or binary", func(units string) error {
		if units != "decimal" && units != "binary" {
			return fmt.Errorf("decimal or binary")
		}
		say.Binary.Store(units == "binary")
		return nil
	})
	return f, c.with(e, f)
}

// action is what a command does, with its arguments.
type action func(args []string) error

// env is what a command runs in.
type env struct {
	out, err *view.Screen
	in       *os.File
	home     string
	json     bool
	yes      bool
	status   int // exit status of a command that did what it was asked
	looks    bool
}

// usageError is a wrong use of a command.
type usageError struct{ text string }

func (u usageError) Error() string { return u.text }

func commands() (all []command) {
	for _, g := range groups() {
		all = append(all, g.commands...)
	}
	return all
}

// group is the commands for one purpose.
type group struct {
	purpose  string
	commands []command
}

func groups() []group {
	return []group{
		{"See how things are", []command{statusCommand, nextCommand, watchCommand, disksCommand, historyCommand, reportCommand, inspectCommand, fleetCommand}},
		{"Make an array and use it", []command{planCommand, createCommand, serveCommand, attachCommand, detachCommand, startCommand, stopCommand, handOverCommand, renameCommand}},
		{"Change an array in use", []command{growCommand, convertCommand, shrinkCommand}},
		{"When a disk fails, or is about to", []command{mayPullCommand, exchangeCommand, locateCommand, replaceCommand, retireCommand, failCommand, rescueCommand}},
		{"Keep arrays sound", []command{checkCommand, scheduleCommand, spareCommand, vetCommand, surfaceCommand, lendCommand, paceCommand, spinDownCommand, pauseCommand, continueCommand, cancelCommand, alertsCommand, acknowledgeCommand}},
		{"Let go of what disks hold", []command{eraseCommand, chooseCommand, dissolveCommand}},
		{"Try and learn", []command{demoCommand, labCommand, fitCommand, helpCommand, versionCommand, keeperCommand}},
	}
}

// Run is the whole program: it returns the exit status.
func Run(args []string, in, out, errOut *os.File) int {
	e := &env{out: view.NewScreen(out), err: view.NewScreen(errOut), in: in}
	if len(args) == 0 {
		overview(e.err)
		return Usage
	}
	if slices.Contains([]string{"-h", "-help", "--help"}, args[0]) {
		args[0] = "help"
	}
	all := commands()
	i := slices.IndexFunc(all, func(c command) bool { return c.name == args[0] })
	if i < 0 {
		e.err.Printf("nidalo: %s\n  nidalo help   lists them\n", unknown(args[0]))
		return Usage
	}
	return e.runCommand(all[i], args[1:])
}

func (e *env) runCommand(c command, args []string) int {
	f, act := c.prepare(e)
	rest, err := parse(f, args)
	if errors.Is(err, flag.ErrHelp) {
		explain(e.out, c)
		return Done
	}
	if err == nil && (len(rest) < c.least || c.most >= 0 && len(rest) > c.most) {
		err = fmt.Errorf("%s given", say.Count(int64(len(rest)), "argument", "arguments"))
	}
	if err != nil {
		e.err.Printf("nidalo %s: %v\n  usage: nidalo %s %s\n  nidalo help %s   explains it\n", c.name, err, c.name, c.usage, c.name)
		return Usage
	}
	e.looks = c.looks
	f.Visit(e.unitOf)
	if e.home, err = filepath.Abs(e.home); err == nil {
		err = act(rest)
	}
	return e.report(c.name, err)
}

// shortSize is an amount without a B at its end, which could be meant in two ways.
var shortSize = regexp.MustCompile(`^[0-9.]+[kKmMgGtT]$`)

// unitOf says how an amount was taken that could be meant in two ways.
func (e *env) unitOf(f *flag.Flag) {
	text := f.Value.String()
	if !shortSize.MatchString(text) || f.Name == "spin-down" {
		return
	}
	taken, err := say.ParseSize(text)
	other, err2 := say.ParseSize(text + "iB")
	if err == nil && err2 == nil {
		e.err.Printf("-%s %s is taken as %d bytes, as %sB is; %siB is %d.\n", f.Name, text, taken, text, strings.ToUpper(text), other)
	}
}

func (e *env) report(name string, err error) int {
	var wrong usageError
	var told *control.Error
	switch {
	case err == nil:
		return e.status
	case errors.As(err, &wrong):
		e.err.Printf("nidalo %s: %s\n  nidalo help %s   explains it\n", name, wrong.text, name)
		return Usage
	case errors.As(err, &told):
		e.err.Printf("nidalo %s: %s\n", name, told.What)
		for _, h := range told.Hints {
			e.err.Printf("  %s\n", h)
		}
	default:
		e.err.Printf("nidalo %s: %v\n", name, err)
	}
	return Could
}

// parse lets options stand before and after arguments.
func parse(f *flag.FlagSet, args []string) (rest []string, err error) {
	for {
		if err := f.Parse(args); err != nil {
			return nil, err
		}
		args = f.Args()
		if len(args) == 0 {
			return rest, nil
		}
		// The flag package stops at "--" and swallows it; what is behind it are arguments.
		rest, args = append(rest, args[0]), args[1:]
	}
}

// defaultHome is NIDALO_HOME, or /var/lib/nidalo for root, or the XDG state directory.
func defaultHome() string {
	if h := os.Getenv("NIDALO_HOME"); h != "" {
		return h
	}
	if os.Geteuid() == 0 {
		return "/var/lib/nidalo"
	}
	if h := os.Getenv("XDG_STATE_HOME"); h != "" {
		return filepath.Join(h, "nidalo")
	}
	return filepath.Join(os.Getenv("HOME"), ".local", "state", "nidalo")
}

// noHost leaves the disks of this host out, so that a lab can be tried beside them: NIDALO_HOST_DISKS=no.
func noHost() bool { return os.Getenv("NIDALO_HOST_DISKS") == "no" }

// control is the service of the home: the one that runs, or one of this process's own.
func (e *env) control() (*control.Control, error) {
	if c, err := control.Dial(e.home); err == nil {
		return c, nil
	}
	s, err := service.Open(service.Options{Home: e.home, Looks: e.looks, NoHost: noHost()})
	if err != nil {
		return nil, err
	}
	if who := s.Held(); who != "" {
		e.err.Unreached(who)
	}
	return s.Control(), nil
}

// disks makes the names of disks mean the same to a service as to the user that typed them: a path is seen from the folder the
// command is run in. A bay or serial stays what it is, unless it is also the name of a file here.
func (e *env) disks(c *control.Control, names ...string) ([]string, error) {
	out := slices.Clone(names)
	var known []control.DiskInfo
	for i, name := range names {
		if name == "" || filepath.IsAbs(name) || remote.Is(name) {
			continue
		}
		path, err := filepath.Abs(name)
		if err != nil {
			return nil, err
		}
		if strings.Contains(name, "/") {
			out[i] = path
			continue
		}
		if info, err := os.Stat(path); err != nil || info.IsDir() {
			continue
		}
		if known == nil {
			if known, err = c.Disks(); err != nil {
				return nil, err
			}
		}
		if slices.ContainsFunc(known, func(d control.DiskInfo) bool { return d.Bay == name || d.Serial == name }) {
			return nil, &control.Error{What: fmt.Sprintf("disk %q: that is the bay or serial of a disk, and a file here", name), Hints: []string{
				"./" + say.Quote(name) + "   means the file", "name the disk by its bay, its serial or its absolute path otherwise"}}
		}
		out[i] = path
	}
	return out, nil
}

// many is disks for a list, in which neighbouring bays may be written as a range.
func (e *env) many(c *control.Control, names ...string) ([]string, error) {
	var all []string
	for _, name := range names {
		bays := say.Expand(name)
		if bays == nil {
			all = append(all, name)
			continue
		}
		known, err := c.Disks()
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(known, func(d control.DiskInfo) bool { return d.Identity.Matches(name) }) {
			bays = []string{name}
		}
		all = append(all, bays...)
	}
	return e.disks(c, all...)
}

// diskName is disks for one.
func (e *env) diskName(c *control.Control, name string) (string, error) {
	out, err := e.disks(c, name)
	if err != nil {
		return "", err
	}
	return out[0], nil
}

// althoughBadFlag declares that a disk is taken that has a history.
func althoughBadFlag(f *flag.FlagSet, althoughBad *bool) {
	f.BoolVar(althoughBad, "although-bad", false, "take a disk although it failed before, or was found bad")
}

// withControl calls f with a control and closes it.
func (e *env) withControl(f func(*control.Control) error) error {
	c, err := e.control()
	if err != nil {
		return err
	}
	err = f(c)
	if closing := c.Close(); err == nil {
		err = closing
	}
	return err
}

func (e *env) printJSON(v any) error {
	enc := json.NewEncoder(e.out.JSON())
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// confirm asks a question on a terminal; elsewhere only -yes answers it.
func (e *env) confirm(question string) error {
	if e.yes {
		return nil
	}
	if !term.IsTerminal(int(e.in.Fd())) {
		return &control.Error{What: "not done: " + strings.TrimSuffix(question, "?") + " needs to be confirmed", Hints: []string{"-yes confirms it"}}
	}
	e.err.Printf("%s [y/N] ", question)
	answer, _ := bufio.NewReader(e.in).ReadString('\n')
	if a := strings.ToLower(strings.TrimSpace(answer)); a != "y" && a != "yes" {
		return &control.Error{What: "not done"}
	}
	return nil
}

// insist tries something, and once more with force when it is refused because of what it would cost, and the question is answered.
func (e *env) insist(question string, try func(force bool) error) error {
	err := try(e.yes)
	var told *control.Error
	if !errors.As(err, &told) || !told.Fatal || !e.interactive() {
		return err
	}
	e.err.Printf("%s\n", told.What)
	if err := e.confirm(question); err != nil {
		return err
	}
	return try(true)
}

// interactive says whether a user can answer questions.
func (e *env) interactive() bool { return term.IsTerminal(int(e.in.Fd())) && e.err.Terminal }

func jsonFlag(e *env, f *flag.FlagSet) {
	f.BoolVar(&e.json, "json", false, "print JSON")
}

func yesFlag(e *env, f *flag.FlagSet) {
	f.BoolVar(&e.yes, "yes", false, "do not ask")
}
