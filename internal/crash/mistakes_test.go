//go:build machine

package crash

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/probe"
)

// verdict is how a mistake of the engine was noticed.
type verdict struct {
	Mistake probe.Mistake
	Seed    uint64 // that noticed it; 0: none did
	Story   string // the kept script that noticed it, and "+" how many schedules after its own
	Played  int    // seeds
	Made    bool   // the engine came to the place at all
	Open    bool   // nothing is known to show it at present: it is not tried
	How     string
}

func (v verdict) String() string {
	by := fmt.Sprintf("seed %d", v.Seed)
	if v.Story != "" {
		by = v.Story
	}
	if v.Open {
		by = "nothing"
	}
	return fmt.Sprintf("%-70s %s, the %dth run: %.100s", v.Mistake, by, v.Played, v.How)
}

// most is how many seeds may be needed to notice a mistake.
const most = 2000

// known says what noticed each mistake before, which is played first: a seed, or a schedule of a kept story where none of the first seeds does. As the
// engine changes, others have to be searched for, which takes minutes. NIDALO_KNOWN=kept then writes down what was found, and NIDALO_KNOWN=anew what
// is found from seed 1 on, with nothing known.
const known = "testdata/mistakes.txt"

// open stands in it for a mistake that no seed among the first and no story shows at present. That is to be mended: by a story, or by a look at whether it is
// one at all.
const open = "-"

// TestMistakesAreNoticed has the engine make each of the mistakes in package probe, and wants the machine to notice.
func TestMistakesAreNoticed(t *testing.T) {
	if number("NIDALO_SEEDS") == 0 {
		t.Skip("takes minutes: set NIDALO_SEEDS")
	}
	write := os.Getenv("NIDALO_KNOWN") != ""
	require.False(t, write && os.Getenv("NIDALO_MISTAKE") != "", "what one mistake shows is not all that is known")
	var all []verdict
	for _, one := range shared(t, "TestShareMistakes") {
		all = append(all, one.Mistakes...)
	}
	require.Len(t, all, int(probe.Mistakes)-1)
	for _, v := range all {
		require.NotEmpty(t, v.Mistake.String(), "mistake %d has no name", v.Mistake)
	}
	slices.SortFunc(all, func(x, y verdict) int { return cmp.Compare(x.Mistake, y.Mistake) })
	var hints strings.Builder
	for _, v := range all {
		fmt.Println(v)
		by := cmp.Or(v.Story, open)
		if v.Seed > 0 {
			by = strconv.FormatUint(v.Seed, 10)
		}
		fmt.Fprintf(&hints, "%s %s\n", by, v.Mistake)
		switch {
		case v.Open:
		case !v.Made:
			t.Errorf("%s: the engine never came to it", v.Mistake)
		case v.Seed == 0 && v.Story == "":
			t.Errorf("%s: not noticed in %d seeds", v.Mistake, v.Played)
		}
	}
	if write {
		require.NoError(t, os.WriteFile(known, []byte(hints.String()), 0o644))
	}
}

// TestShareMistakes does one process's part of the mistakes.
func TestShareMistakes(t *testing.T) {
	isShare(t)
	hints := map[string]string{}
	raw, _ := os.ReadFile(filepath.FromSlash(known))
	for _, line := range strings.Split(string(raw), "\n") {
		if by, name, ok := strings.Cut(line, " "); ok {
			hints[name] = by
		}
	}
	var one part
	only := os.Getenv("NIDALO_MISTAKE")
	for m := probe.Mistake(*from%*stride) + 1; m < probe.Mistakes; m += probe.Mistake(*stride) {
		if only != "" && m.String() != only {
			one.Mistakes = append(one.Mistakes, verdict{Mistake: m, Seed: 1, Made: true, How: "not tried"})
			continue
		}
		first := hints[m.String()]
		if os.Getenv("NIDALO_KNOWN") == "anew" {
			first = ""
		}
		v := notice(m, first)
		fmt.Fprintf(os.Stderr, "%s\n", v)
		one.Mistakes = append(one.Mistakes, v)
	}
	report(t, one)
}

// notice has a mistake made until a run notices it: first what noticed it before, then all kept stories, then seeds. With nothing
// known, seeds come before stories.
func notice(m probe.Mistake, first string) verdict {
	v := verdict{Mistake: m}
	if first == open {
		v.Open, v.How = true, "not tried: no seed and no story is known to show it at present"
		return v
	}
	probe.Make(m)
	defer probe.Make(probe.None)
	noticed := func(s Script) bool {
		v.Played++
		_, err := Run(s)
		v.Made = v.Made || probe.Made()
		if err != nil {
			v.How = strings.ReplaceAll(err.Error(), "\n", " ")
		}
		return err != nil
	}
	try := func(seed uint64) bool {
		if !noticed(Draw(seed)) {
			return false
		}
		v.Seed = seed
		return true
	}
	// What a story needs may happen in few schedules only, and in others when the engine has changed.
	told := func(name string, from, schedules int) bool {
		for _, story := range stories() {
			if name != "" && story.name != name {
				continue
			}
			for i := range schedules {
				script := story.script
				script.Seed += uint64(from + i)
				if noticed(script) {
					v.Story = fmt.Sprintf("%s+%d", story.name, from+i)
					return true
				}
			}
		}
		return false
	}
	tried := func() bool {
		for seed, n := uint64(1), 0; n < most && seed <= 20*most; seed++ {
			s := Draw(seed)
			if asleep := m >= probe.SyncSkippedTooEarly; asleep {
				if !s.sleeps() {
					continue
				}
			} else if beyond := m >= probe.OwedNotMarked; s.breaks() != beyond || !beyond && s.turns() != (m >= probe.MovedUnderClients) {
				continue // it is made in changes of layout alone, or with more disks lost than there is parity, or is rare there
			}
			n++
			if try(seed) {
				return true
			}
		}
		return false
	}
	switch seed, err := strconv.ParseUint(first, 10, 64); {
	case first == "":
		_ = tried() || told("", 0, schedules*3)
	case err != nil:
		name, after, _ := strings.Cut(first, "+")
		at, _ := strconv.Atoi(after) // without, it is the story's own schedule
		_ = told(name, at, 1) || told(name, 0, most/4) || told("", 0, schedules*3) || told(name, 0, most) || tried()
	default:
		_ = try(seed) || tried() || told("", 0, schedules*3)
	}
	return v
}
