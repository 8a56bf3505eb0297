package cli

import (
	"flag"
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"

	"nidalo/core/parity"
	"nidalo/internal/view"
)

var helpCommand = command{name: "help", usage: "[-manual DIR] [-completion SHELL] [COMMAND]", short: "explain a command", most: 1,
	help: "Without a command, lists them all.",
	flags: func(e *env, f *flag.FlagSet) {
		f.StringVar(&e.manual, "manual", "", "write a manual page of every command into this `DIR`")
		f.StringVar(&e.completion, "completion", "", "print what a `SHELL` needs to complete commands and options: bash, zsh or fish")
	},
}

var versionCommand = command{name: "version", short: "say which version this is", most: 0,
	flags: jsonFlag,
	run: func(e *env, _ []string) error {
		revision := ""
		if b, ok := debug.ReadBuildInfo(); ok {
			for _, s := range b.Settings {
				if s.Key == "vcs.revision" {
					revision = s.Value
				}
			}
		}
		if e.json {
			return e.printJSON(map[string]any{"version": Version, "revision": revision, "go": runtime.Version(),
				"platform": runtime.GOOS + "/" + runtime.GOARCH, "parity_kernels": parity.Kernel()})
		}
		e.out.Printf("nidalo %s (%s, %s/%s, parity kernels: %s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH, parity.Kernel())
		return nil
	},
}

func init() {
	// Set here because the list of commands contains help itself.
	helpCommand.run = func(e *env, args []string) error {
		switch {
		case e.manual != "":
			return writeManual(e.manual)
		case e.completion != "":
			return writeCompletion(e.out.Out, e.completion)
		case len(args) == 0:
			overview(e.out)
			return nil
		}
		all := commands()
		i := slices.IndexFunc(all, func(c command) bool { return c.name == args[0] })
		if i < 0 {
			return usageError{fmt.Sprintf("there is no command %q", args[0])}
		}
		explain(e.out, all[i])
		return nil
	}
}

func overview(s *view.Screen) {
	s.Printf("Nidalo assembles disks into RAID arrays, serves them, and tells what to do when a disk fails.\n\n")
	s.Printf("usage: nidalo COMMAND [options] [arguments]\n\n")
	for _, c := range commands() {
		s.Printf("  %-12s %s\n", c.name, c.short)
	}
	s.Printf("\nnidalo help COMMAND says more, with examples. A first try that touches nothing: nidalo demo\n")
}

func explain(s *view.Screen, c command) {
	s.Printf("usage: nidalo %s\n\n%s\n", strings.TrimSpace(c.name+" "+c.usage), strings.TrimSpace(c.help))
	f := flag.NewFlagSet(c.name, flag.ContinueOnError)
	e := &env{}
	f.StringVar(&e.home, "home", defaultHome(), "the `DIR` of the service, its sockets, its list of disks and its lab")
	if c.flags != nil {
		c.flags(e, f)
	}
	s.Printf("\nOptions, before or after the arguments:\n")
	f.SetOutput(io.Writer(s.Out))
	f.PrintDefaults()
}
