package cli

import (
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Manual pages and completion, both from the commands' own help.

// options are the flags of a command.
func (c command) options() (out []*flag.Flag) {
	f, _ := c.prepare(&env{})
	f.VisitAll(func(x *flag.Flag) { out = append(out, x) })
	return out
}

// writeManual writes a page for the program and one for every command into a folder.
func writeManual(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	var list strings.Builder
	for _, c := range commands() {
		fmt.Fprintf(&list, ".TP\n\\fBnidalo %s\\fR\n%s\n", roff(c.name), roff(c.short))
		var b strings.Builder
		title(&b, "NIDALO-"+strings.ToUpper(c.name))
		fmt.Fprintf(&b, ".SH NAME\nnidalo\\-%s \\- %s\n.SH SYNOPSIS\n\\fBnidalo %s\\fR %s\n.SH DESCRIPTION\n", roff(c.name), roff(c.short), roff(c.name), roff(c.usage))
		prose(&b, c.help)
		b.WriteString(".SH OPTIONS\nOptions stand before or after the arguments.\n")
		for _, o := range c.options() {
			name, usage := flag.UnquoteUsage(o)
			fmt.Fprintf(&b, ".TP\n\\fB\\-%s\\fR", roff(o.Name))
			if name != "" {
				fmt.Fprintf(&b, " \\fI%s\\fR", roff(name))
			}
			fmt.Fprintf(&b, "\n%s", roff(usage))
			if o.DefValue != "" && o.DefValue != "false" && o.DefValue != "0" && o.Name != "home" {
				fmt.Fprintf(&b, " (without it: %s)", roff(o.DefValue))
			}
			b.WriteString("\n")
		}
		b.WriteString(".SH EXIT STATUS\n0 done, 1 could not, 2 wrong usage.\n.SH SEE ALSO\n\\fBnidalo\\fR(1)\n")
		if err := os.WriteFile(filepath.Join(folder, "nidalo-"+c.name+".1"), []byte(b.String()), 0o644); err != nil {
			return err
		}
	}
	var b strings.Builder
	title(&b, "NIDALO")
	b.WriteString(".SH NAME\nnidalo \\- RAID arrays of disks, files and partitions\n.SH SYNOPSIS\n\\fBnidalo\\fR \\fICOMMAND\\fR [\\fIoptions\\fR] [\\fIarguments\\fR]\n.SH DESCRIPTION\n" +
		"Assembles disks into RAID arrays, serves them, attaches them as block devices, and shows what to do when a disk fails. Every command prints the next step.\n" +
		".PP\nThe service is nidalo.service; nidalo\\-keeper.service holds attached arrays while it is restarted. Its home is /var/lib/nidalo.\n.SH COMMANDS\n" + list.String() +
		".SH FILES\n.TP\n/var/lib/nidalo/nidalo.toml\nthe configuration; an example is in /usr/share/doc/nidalo/examples\n.TP\n/dev/nidalo/NAME\nan attached array\n")
	return os.WriteFile(filepath.Join(folder, "nidalo.1"), []byte(b.String()), 0o644)
}

func title(b *strings.Builder, name string) {
	fmt.Fprintf(b, ".TH %s 1 \"\" \"nidalo %s\" \"Nidalo\"\n", name, roff(Version))
}

// prose sets paragraphs as such, and lines that are indented, examples and tables, as they are.
func prose(b *strings.Builder, text string) {
	for _, p := range strings.Split(strings.TrimSpace(text), "\n\n") {
		lines := strings.Split(p, "\n")
		if slices.ContainsFunc(lines, func(l string) bool { return strings.HasPrefix(l, " ") }) {
			b.WriteString(".PP\n.nf\n")
			for _, l := range lines {
				b.WriteString(roff(l) + "\n")
			}
			b.WriteString(".fi\n")
			continue
		}
		b.WriteString(".PP\n" + roff(strings.Join(lines, " ")) + "\n")
	}
}

// roff escapes text for a manual page.
func roff(s string) string {
	s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "'", `\(aq`, "…", "...").Replace(s)
	if strings.HasPrefix(s, ".") {
		s = `\&` + s
	}
	return s
}

// writeCompletion writes what a shell needs to complete commands, their options and the names of files.
func writeCompletion(w io.Writer, shell string) error {
	p := func(format string, args ...any) { fmt.Fprintf(w, format, args...) }
	var names []string
	for _, c := range commands() {
		names = append(names, c.name)
	}
	switch shell {
	case "bash":
		p("# bash completion of nidalo, made by: nidalo help -completion bash\n_nidalo() {\n  local cur=${COMP_WORDS[COMP_CWORD]} words=\n  if [ \"$COMP_CWORD\" -eq 1 ]; then\n    words=%q\n  else\n    case ${COMP_WORDS[1]} in\n", strings.Join(names, " "))
		for _, c := range commands() {
			var opts []string
			for _, o := range c.options() {
				opts = append(opts, "-"+o.Name)
			}
			if c.name == "help" {
				opts = append(opts, names...)
			}
			p("    %s) words=%q ;;\n", c.name, strings.Join(opts, " "))
		}
		p("    esac\n  fi\n  COMPREPLY=($(compgen -W \"$words\" -- \"$cur\"))\n}\ncomplete -o default -F _nidalo nidalo\n")
	case "zsh":
		p("#compdef nidalo\n# made by: nidalo help -completion zsh\nif (( CURRENT == 2 )); then\n  local -a commands=(\n")
		for _, c := range commands() {
			p("    '%s:%s'\n", c.name, quoted(c.short))
		}
		p("  )\n  _describe command commands\n  return\nfi\ncase $words[2] in\n")
		for _, c := range commands() {
			p("  %s) _arguments", c.name)
			for _, o := range c.options() {
				name, usage := flag.UnquoteUsage(o)
				arg := ""
				if name != "" {
					arg = ":" + name + ":_files"
				}
				p(" '-%s[%s]%s'", o.Name, strings.NewReplacer("[", "(", "]", ")", ":", " -").Replace(quoted(usage)), arg)
			}
			p(" '*:argument:_files' ;;\n")
		}
		p("esac\n")
	case "fish":
		p("# made by: nidalo help -completion fish\n")
		for _, c := range commands() {
			p("complete -c nidalo -n __fish_use_subcommand -f -a %s -d '%s'\n", c.name, strings.ReplaceAll(c.short, "'", `\'`))
			for _, o := range c.options() {
				name, usage := flag.UnquoteUsage(o)
				need := ""
				if name != "" {
					need = " -r"
				}
				p("complete -c nidalo -n '__fish_seen_subcommand_from %s' -o %s%s -d '%s'\n", c.name, o.Name, need, strings.ReplaceAll(usage, "'", `\'`))
			}
		}
	default:
		return usageError{fmt.Sprintf("-completion %s: bash, zsh or fish", shell)}
	}
	return nil
}

func quoted(s string) string { return strings.ReplaceAll(s, "'", `'\''`) }
