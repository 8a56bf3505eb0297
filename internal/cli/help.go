package cli

import (
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"nidalo/internal/view"
)

var helpCommand = command{name: "help", usage: "[-manual DIR] [-completion SHELL] [COMMAND]", short: "explain a command", most: 1,
	help: "Without a command, lists them all.",
}

func init() { helpCommand.with = helpWith } // set here because the list of commands contains help itself

func helpWith(e *env, f *flag.FlagSet) action {
	var manual, completion string
	f.StringVar(&manual, "manual", "", "write a manual page of every command into this `DIR`")
	f.StringVar(&completion, "completion", "", "print the completion of commands and options for a `SHELL`: bash, zsh or fish")
	return func(args []string) error {
		switch {
		case manual != "":
			return writeManual(manual)
		case completion != "":
			return writeCompletion(e.out.Out, completion)
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
	s.Printf("Nidalo assembles disks into RAID arrays, serves them, and shows what to do when a disk fails.\n\n")
	s.Printf("usage: nidalo COMMAND [options] [arguments]\n\n")
	for _, c := range commands() {
		s.Printf("  %-12s %s\n", c.name, c.short)
	}
	s.Printf("\nnidalo help COMMAND explains a command, with examples. A first try that touches nothing: nidalo demo\n")
}

func explain(s *view.Screen, c command) {
	s.Printf("usage: nidalo %s\n\n%s\n", strings.TrimSpace(c.name+" "+c.usage), strings.TrimSpace(c.help))
	f, _ := c.prepare(&env{})
	s.Printf("\nOptions, before or after the arguments:\n")
	f.SetOutput(io.Writer(s.Out))
	f.PrintDefaults()
}
