package state

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Identity is what people know a disk by. Only Path is always set.
type Identity struct {
	Path   string `json:"path"`
	Bay    string `json:"bay,omitempty"`
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
	Host   string `json:"host,omitempty"` // that lends it; empty: it is this one's own
	On     string `json:"-"`              // of a file, the file system that it lies on; empty: not known
}

// String names the disk by bay, model and serial where it has them.
func (i Identity) String() string {
	if i.Serial == "" {
		return Printable(i.Path)
	}
	where := i.Bay
	if where == "" {
		where = i.Path
	}
	return Printable(fmt.Sprintf("%s (%s)", where, strings.TrimSpace(i.Model+" "+i.Serial)))
}

// Name is the name by which a disk is remembered: its serial, or its path where it has none.
func (i Identity) Name() string {
	if i.Serial != "" {
		return i.Serial
	}
	return i.Path
}

// Tells says whether a text that String made is about the disk of a Name.
func Tells(text, name string) bool {
	return name != "" && (text == Printable(name) || strings.HasSuffix(text, " "+name+")") || strings.HasSuffix(text, "("+name+")"))
}

// OnDevice says whether it is, or was, a device of the system; otherwise it is a file, or in the lab.
func (i Identity) OnDevice() bool { return strings.HasPrefix(i.Path, "/dev/") }

// Matches says whether a user's word names this disk: its bay, serial or path.
func (i Identity) Matches(name string) bool {
	return name != "" && (name == i.Bay || name == i.Serial || name == i.Path)
}

// SpindleOf names the physical disk of a model and a serial such as "TMK-0193" or, of a partition, "TMK-0193-part2"; empty without
// a serial. Members with the same name are partitions of one disk, which are lost together.
func SpindleOf(model, serial string) string {
	if serial == "" {
		return ""
	}
	return model + " " + Physical(serial)
}

// Spindles names, for each of the members of an array, what it is lost with: its physical disk, or the file system that files lie on; empty: nothing else
// is, as far as that is known. When all members of which anything is known are files of one file system, that is left out: such an array is a trial, and
// would be lost as a whole.
func Spindles(members []Identity) []string {
	out, systems, trial := make([]string, len(members)), map[string]bool{}, true
	for i, id := range members {
		if out[i] = SpindleOf(id.Model, id.Serial); out[i] != "" {
			trial = false
		} else if out[i] = id.On; id.On != "" {
			systems[id.On] = true
		}
	}
	if trial && len(systems) < 2 {
		clear(out)
	}
	return out
}

// Physical is the serial of the disk that the serial of a partition belongs to.
func Physical(serial string) string {
	if at := strings.LastIndex(serial, PartMark); at > 0 {
		if _, err := strconv.Atoi(serial[at+len(PartMark):]); err == nil {
			return serial[:at]
		}
	}
	return serial
}

// PartMark stands between the serial of a disk and the number of a partition, as udev writes it.
const PartMark = "-part"

// Printable is a text from outside as it may be shown: what is not UTF-8, or not printable, is replaced by U+FFFD. It is
// applied where such a text comes in, so that nothing behind has to ask where it is from.
func Printable(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return utf8.RuneError
	}, s)
}
