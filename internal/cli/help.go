package cli

import (
	"cmp"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"nidalo/internal/view"
)

var helpCommand = command{name: "help", usage: "[-manual DIR] [-completion SHELL] [COMMAND]", short: "explain a command", most: 1,
	help: `
Without a command, lists them all.

  nidalo help replace
  nidalo help -completion bash`,
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
			return usageError{unknown(args[0])}
		}
		explain(e.out, all[i])
		return nil
	}
}

func overview(s *view.Screen) {
	s.Printf("Nidalo assembles disks into RAID arrays, serves them, and shows what to do when a disk fails.\n\n")
	s.Printf("usage: nidalo COMMAND [options] [arguments]\n")
	for _, g := range groups() {
		s.Printf("\n%s\n", g.purpose)
		for _, c := range g.commands {
			s.Printf("  %-12s %s\n", c.name, c.short)
		}
	}
	s.Printf("\nA start, with disks that may be used up:\n")
	for _, line := range [][2]string{
		{"disks", "what is there, and what the disks hold"},
		{"plan A1 A2 A3 A4", "what each level would hold, survive and risk"},
		{"create -name files -level 5 A1 A2 A3 A4", "make the array"},
		{"serve", "run it; the package does that by itself"},
		{"attach files", "make it a block device, /dev/nidalo/files"},
	} {
		s.Printf("  nidalo %-40s %s\n", line[0], line[1])
	}
	s.Printf("\nnidalo help COMMAND explains a command, with examples. A first try that touches nothing: nidalo demo\n")
}

// unknown says that there is no such command, and which one was perhaps meant.
func unknown(word string) string {
	what := fmt.Sprintf("there is no command %q", word)
	nearest := slices.MinFunc(commands(), func(x, y command) int {
		return cmp.Compare(levenshtein.ComputeDistance(word, x.name), levenshtein.ComputeDistance(word, y.name))
	})
	if levenshtein.ComputeDistance(word, nearest.name) <= max(1, len(nearest.name)/3) {
		what += fmt.Sprintf("; did you mean nidalo %s?", nearest.name)
	}
	return what
}

func explain(s *view.Screen, c command) {
	s.Printf("usage: nidalo %s\n\n%s\n", strings.TrimSpace(c.name+" "+c.usage), strings.TrimSpace(c.help))
	f, _ := c.prepare(&env{})
	s.Printf("\nOptions, before or after the arguments:\n")
	f.SetOutput(io.Writer(s.Out))
	f.PrintDefaults()
}
