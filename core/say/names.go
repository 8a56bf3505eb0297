// Package say is how names, sizes, times and lists are written for people, the same everywhere.
package say

import (
	"cmp"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"nidalo/core/state"
)

// Short is the shortest name of a disk. That of a partition is not its bay, which means the whole disk.
func Short(i state.Identity) string {
	if state.Physical(i.Serial) != i.Serial {
		i.Bay = ""
	}
	return state.Printable(cmp.Or(i.Bay, i.Serial, i.Path))
}

// Argument is a disk's name as it is written in a command that is printed, to be pasted into a shell: it means this disk
// and nothing else, whatever the disk says of itself.
func Argument(i state.Identity) string {
	if state.Physical(i.Serial) != i.Serial { // a partition: the bay means the whole disk
		i.Bay = ""
	}
	for _, name := range []string{i.Bay, i.Serial, i.Path} {
		if name != "" && !strings.HasPrefix(name, "-") && (!strings.Contains(name, "/") || filepath.IsAbs(name)) {
			return Quote(name)
		}
	}
	return "DISK"
}

// Quote makes a text one word of a shell.
func Quote(text string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_./:@%+=,", r)
	}
	switch {
	case text != "" && strings.IndexFunc(text, func(r rune) bool { return !plain(r) }) < 0:
		return text
	case state.Printable(text) == text:
		return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
	}
	// With characters that a terminal might obey: as $'…', which shells read byte by byte.
	var b strings.Builder
	b.WriteString("$'")
	for _, c := range []byte(text) {
		if plain(rune(c)) || c == ' ' {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "\\x%02x", c)
		}
	}
	return b.String() + "'"
}

// Ranges lists bays and other names, neighbouring bays as ranges: A1–A8, B3, TMK-0193.
func Ranges(names []string) string {
	var out []string
	for i := 0; i < len(names); {
		row, number := splitBay(names[i])
		j := i + 1
		for ; j < len(names); j++ {
			if r, n := splitBay(names[j]); row == "" || r != row || n != number+j-i {
				break
			}
		}
		switch j - i {
		case 1, 2:
			out = append(out, names[i:j]...)
		default:
			out = append(out, names[i]+"–"+names[j-1])
		}
		i = j
	}
	return strings.Join(out, ", ")
}

// splitBay cuts the name of a bay into its row and its number; the row is empty when it has another form.
func splitBay(name string) (row string, number int) {
	digits := strings.TrimLeft(name, "ABCDEFGHIJKLMNOPQRSTUVWXYZ")
	n, err := strconv.Atoi(digits)
	if err != nil || digits == name || digits[0] == '0' {
		return "", 0
	}
	return name[:len(name)-len(digits)], n
}

// Arguments lists disks as a command takes them, neighbouring bays as ranges: A1-A8 B3 TMK-0193.
func Arguments(names []string) string {
	return strings.NewReplacer("–", "-", ", ", " ").Replace(Ranges(names))
}

// mostRange is how many bays a range may mean.
const mostRange = 64

// Expand is the bays that a range such as A1-A8 means; nil: it is none.
func Expand(name string) (bays []string) {
	from, to, ok := strings.Cut(strings.Replace(name, "–", "-", 1), "-")
	row, first := splitBay(from)
	last, end := splitBay(to)
	if !ok || row == "" || last != row || end < first || end-first >= mostRange {
		return nil
	}
	for n := first; n <= end; n++ {
		bays = append(bays, fmt.Sprint(row, n))
	}
	return bays
}

// Of says how many of some things are, with the verb: "1 of 4 disks is", "2 of 4 disks are".
func Of(n, all int, what string) string {
	verb := "are"
	if n == 1 {
		verb = "is"
	}
	if all != 1 {
		what += "s"
	}
	return fmt.Sprintf("%d of %d %s %s", n, all, what, verb)
}
