//go:build machine

package crash

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"nidalo/core/layout"
	"nidalo/core/record"
)

// Script is a run: an array, and what happens to it. Its text has a line for each of these, and a run can be repeated from it:
//
//	array level=5 members=3 strip=16 stripes=4 clients=2 seed=77
//	power after=118
//	client 0: write at=3 blocks=2
//	client 1: flush
//	hand: pull slot=1 salt=9
//	cut salt=4
//	start power=-1 salt=0
//
// Neighbouring lines of actors ("client 1:", "hand:") are done at the same time, each actor's in order. The others are done one
// at a time. Every line makes sense in any state of the machine, if only by doing nothing, so whatever lines are left out, the
// rest is a script.
type Script struct {
	Level            layout.Level
	Members, Strip   int // strip in KiB
	Stripes, Clients int
	Seed             uint64 // of the scheduler
	Uneven           bool   // disks are of different sizes
	Ops              []Op
}

// Op is one operation: an actor, a verb, and the numbers that the verb takes.
type Op struct {
	By   string
	Verb string
	Args []int64
}

func (o Op) String() string {
	out := o.Verb
	if o.By != "" {
		out = o.By + ": " + out
	}
	for i, name := range verbs[o.Verb].args {
		out += fmt.Sprintf(" %s=%d", name, o.Args[i])
	}
	return out
}

func (s Script) String() string {
	var out strings.Builder
	fmt.Fprintf(&out, "array level=%s members=%d strip=%d stripes=%d clients=%d seed=%d", s.Level, s.Members, s.Strip, s.Stripes, s.Clients, s.Seed)
	if s.Uneven {
		out.WriteString(" uneven=1")
	}
	out.WriteString("\n")
	for _, o := range s.Ops {
		fmt.Fprintln(&out, o)
	}
	return out.String()
}

// Parse reads a script. Empty lines and lines that begin with # are passed over.
func Parse(text string) (s Script, err error) {
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		if s.Level == "" {
			if err = s.header(line); err != nil {
				return s, fmt.Errorf("line %d: %w", i+1, err)
			}
			continue
		}
		op, err := parseOp(line)
		if err != nil {
			return s, fmt.Errorf("line %d: %w", i+1, err)
		}
		s.Ops = append(s.Ops, op)
	}
	if s.Level == "" {
		return s, fmt.Errorf("there is no array")
	}
	return s, nil
}

func (s *Script) header(line string) error {
	var level string
	_, err := fmt.Sscanf(line, "array level=%s members=%d strip=%d stripes=%d clients=%d seed=%d", &level, &s.Members, &s.Strip, &s.Stripes, &s.Clients, &s.Seed)
	s.Level, s.Uneven = layout.Level(level), strings.HasSuffix(line, " uneven=1")
	if err == nil && (s.Stripes < 1 || s.Clients < 1) {
		err = fmt.Errorf("%q: a script needs stripes and clients", line)
	}
	if err == nil {
		_, err = s.layout()
	}
	return err
}

func parseOp(line string) (o Op, err error) {
	if by, rest, ok := strings.Cut(line, ": "); ok {
		o.By, line = by, rest
	}
	words := strings.Fields(line)
	o.Verb = words[0]
	v, ok := verbs[o.Verb]
	if !ok {
		return o, fmt.Errorf("unknown verb %q; there are %s", o.Verb, strings.Join(slices.Sorted(maps.Keys(verbs)), ", "))
	}
	if len(words)-1 != len(v.args) || v.actor != (o.By != "") {
		return o, fmt.Errorf("%q: want %s", line, usage(o.Verb))
	}
	for i, name := range v.args {
		value, ok := strings.CutPrefix(words[1+i], name+"=")
		n, err := strconv.ParseInt(value, 10, 64)
		if !ok || err != nil {
			return o, fmt.Errorf("%q: want %s", line, usage(o.Verb))
		}
		o.Args = append(o.Args, n)
	}
	return o, nil
}

func usage(name string) string {
	v, out := verbs[name], name
	if v.actor {
		out = "ACTOR: " + out
	}
	for _, arg := range v.args {
		out += " " + arg + "=NUMBER"
	}
	return out
}

// diskSize is what disks of the machine have: the smallest tables and journals.
const diskSize = 9 << 20

// geometry is the shape of the array.
func (s Script) layout() (*layout.Map, error) {
	sizes := make([]int64, s.Members)
	for i := range sizes {
		p, err := record.PlaceFor(diskSize+s.more(i), 0)
		if err != nil {
			return nil, err
		}
		sizes[i] = p.DataSize
	}
	if s.Level == layout.Guarded {
		return layout.NewGuarded(int64(s.Strip)<<10, sizes, s.parity())
	}
	return layout.NewLayers(s.Level, int64(s.Strip)<<10, 0, sizes)
}

// parity is how many disks of a guarded set have the parity, the last ones.
func (s Script) parity() int { return s.Members / 2 }

// unevenBy is by how much disks are larger than others.
const unevenBy = 1 << 20

// more is by how much the disk of a member is larger than the smallest.
func (s Script) more(slot int) int64 {
	switch {
	case s.Level == layout.Guarded && slot >= s.Members-s.parity():
		return 2 * unevenBy
	case s.Level == layout.Guarded || s.Uneven:
		return int64(slot%3) * unevenBy
	}
	return 0
}

// blocks is how much of the array is used: a few stripes over and over, so that writes meet; all of it where not all stripes are alike.
func (s Script) blocks(g *layout.Map) int64 {
	if s.Level == layout.Concat || g.Mixed() {
		return g.Capacity() / block
	}
	return min(g.Capacity(), int64(s.Stripes)*g.Shape.StripeSize()*int64(g.Shape.Groups)) / block
}
