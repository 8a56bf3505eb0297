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
	Story   bool   // a kept script noticed it
	Played  int    // seeds
	Made    bool   // the engine came to the place at all
	How     string
}

func (v verdict) String() string {
	return fmt.Sprintf("%-58s seed %6d, the %4dth  %.100s", v.Mistake, v.Seed, v.Played, v.How)
}

// most is how many seeds may be needed to notice a mistake.
const most = 2000

// known are seeds that noticed each mistake before, which are played first; 0 where only a kept story does. With NIDALO_KNOWN set they
// are found anew, from seed 1 on.
const known = "testdata/mistakes.txt"

// TestMistakesAreNoticed has the engine make each of the mistakes in package probe, and wants the machine to notice.
func TestMistakesAreNoticed(t *testing.T) {
	if number("NIDALO_SEEDS") == 0 {
		t.Skip("takes minutes: set NIDALO_SEEDS")
	}
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
		fmt.Fprintf(&hints, "%d %s\n", v.Seed, v.Mistake)
		switch {
		case !v.Made:
			t.Errorf("%s: the engine never came to it", v.Mistake)
		case v.Seed == 0 && !v.Story:
			t.Errorf("%s: not noticed in %d seeds", v.Mistake, v.Played)
		}
	}
	if os.Getenv("NIDALO_KNOWN") != "" {
		require.NoError(t, os.WriteFile(known, []byte(hints.String()), 0o644))
	}
}

// TestShareMistakes does one process's part of the mistakes.
func TestShareMistakes(t *testing.T) {
	isShare(t)
	hints := map[string]uint64{}
	raw, _ := os.ReadFile(filepath.FromSlash(known))
	for _, line := range strings.Split(string(raw), "\n") {
		if seed, name, ok := strings.Cut(line, " "); ok {
			hints[name], _ = strconv.ParseUint(seed, 10, 64)
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
		if os.Getenv("NIDALO_KNOWN") != "" {
			first = 0
		}
		v := notice(m, first)
		fmt.Fprintf(os.Stderr, "%s\n", v)
		one.Mistakes = append(one.Mistakes, v)
	}
	report(t, one)
}

// notice plays seeds until one notices a mistake; the given one first.
func notice(m probe.Mistake, first uint64) verdict {
	v := verdict{Mistake: m}
	probe.Make(m)
	defer probe.Make(probe.None)
	try := func(seed uint64) bool {
		v.Played++
		_, err := Run(Draw(seed))
		if v.Made = v.Made || probe.Made(); err == nil {
			return false
		}
		v.Seed, v.How = seed, strings.ReplaceAll(err.Error(), "\n", " ")
		return true
	}
	told := func() bool {
		for _, story := range stories() {
			for range schedules * 3 {
				_, err := Run(story.script)
				if v.Made = v.Made || probe.Made(); err != nil {
					v.How = story.name + ": " + strings.ReplaceAll(err.Error(), "\n", " ")
					v.Story = true
					return true
				}
				story.script.Seed++
			}
		}
		return false
	}
	measure := os.Getenv("NIDALO_KNOWN") != ""
	if first != 0 && try(first) || first == 0 && !measure && told() {
		return v
	}
	for seed := uint64(1); seed <= most; seed++ {
		if try(seed) {
			return v
		}
	}
	if measure {
		told() // some are so rare that only the run that once found them does
	}
	return v
}
