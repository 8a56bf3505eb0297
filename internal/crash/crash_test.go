//go:build machine

// Package crash runs the engine that ships, with all it does at the same time, on simulated disks and under a scheduler that
// follows a seed (package env with the build tag machine). Clients write, flush, zero and read while disks are pulled and put
// back, fail, lie, rot, hang and fill up, while members are replaced, retired and checked; the power goes at any moment, also
// during recovery; members are lost or set back; what is left of a failed array is rescued.
//
//	script_test.go   a run as text, one operation a line; any part of a script is a script
//	draw_test.go     a script from a seed
//	run_test.go      plays a script: actors at the same time, everything else one after the other
//	client_test.go, hand_test.go, start_test.go, rescue_test.go    the operations
//	disk_test.go     a disk with a volatile cache, and everything that can be wrong with one
//	model_test.go    what may be read
//	outside_test.go  reads the disks with the format alone
//	shrink_test.go   leaves out what a failure does not need
//	cover_test.go    what a run must have met; mistakes_test.go: what it must notice
//
// Three things say whether a run is right: the model of what clients may read, the invariants of the running engine
// (array.CheckInvariants, held at every 97th operation of a disk), and the outside reader. A failure is reported with its
// script, cut down:
//
//	go test -tags machine ./internal/crash -run TestSeed -v -args -seed 12345
//	go test -tags machine ./internal/crash -run TestScript -v -args -script FILE
package crash

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	oneSeed = flag.Uint64("seed", 0, "replay this seed and tell its story")
	text    = flag.String("script", "", "replay the script in this file and tell its story")
	shrink  = flag.Duration("shrink", 0, "and cut it down for so long, if it fails")
	from    = flag.Uint64("from", 1, "the first seed")
	share   = flag.String("share", "", "do one process's part of what a test shares, and write down here what happened")
	stride  = flag.Uint64("stride", 1, "how many processes share it")
)

// tell plays a script, with its story.
func tell(t *testing.T, s Script) {
	t.Logf("script\n%s", s)
	story, err := Run(s)
	t.Logf("story\n%s", strings.Join(story, "\n"))
	if err != nil && *shrink > 0 {
		less, err := Shrink(s, *shrink)
		t.Logf("cut down to %d of %d operations, which fail with: %v\n%s", len(less.Ops), len(s.Ops), err, less)
	}
	require.NoError(t, err)
}

func TestSeed(t *testing.T) {
	if *oneSeed == 0 {
		t.Skip("replays one seed: -seed N")
	}
	tell(t, Draw(*oneSeed))
}

func TestScript(t *testing.T) {
	if *text == "" {
		t.Skip("replays one script: -script FILE")
	}
	raw, err := os.ReadFile(*text)
	require.NoError(t, err)
	s, err := Parse(string(raw))
	require.NoError(t, err)
	tell(t, s)
}

// TestStories plays the scripts that are kept, cut down: faults that the engine once had, and, in fewer schedules, what shows mistakes
// that it is told to make.
func TestStories(t *testing.T) {
	all := stories()
	require.NotEmpty(t, all)
	for _, s := range all {
		most := schedules * 3 // the schedule of the day it was found is another today
		if s.mistake {
			most = schedules
		}
		for range most {
			_, err := Run(s.script)
			require.NoError(t, err, "%s with scheduler seed %d", s.name, s.script.Seed)
			s.script.Seed++
		}
	}
}

type story struct {
	name    string
	script  Script
	mistake bool // it shows a mistake, which the engine never made by itself
}

// stories are the scripts that are kept.
func stories() (out []story) {
	files, _ := filepath.Glob("testdata/*.script")
	mistakes, _ := filepath.Glob("testdata/mistakes/*.script")
	for i, file := range slices.Concat(files, mistakes) {
		raw, err := os.ReadFile(file)
		if err != nil {
			panic(err)
		}
		s, err := Parse(string(raw))
		if err != nil {
			panic(fmt.Sprintf("%s: %v", file, err))
		}
		out = append(out, story{filepath.Base(file), s, i >= len(files)})
	}
	return out
}

// part is what one process found.
type part struct {
	Seeds    int
	Failures []string
	Coverage map[string]int
	Mistakes []verdict
}

// shared runs a test of this program in as many processes as there are processors, since a process has one scheduler, and
// returns what they found.
func shared(t *testing.T, test string, env ...string) (all []part) {
	self, err := os.Executable()
	require.NoError(t, err)
	folder, parts := t.TempDir(), make([]*exec.Cmd, runtime.NumCPU())
	for i := range parts {
		cmd := exec.Command(self, "-test.run", "^"+test+"$", "-test.timeout", "0", "-share", filepath.Join(folder, strconv.Itoa(i)),
			"-from", strconv.FormatUint(*from+uint64(i), 10), "-stride", strconv.Itoa(len(parts)))
		cmd.Env = append(append(os.Environ(), "GOGC=600", "GOMAXPROCS=1", "GOMEMLIMIT=2GiB"), env...)
		cmd.Stderr = os.Stderr
		alive, err := cmd.StdinPipe() // it ends when this process does
		require.NoError(t, err)
		defer alive.Close()
		require.NoError(t, cmd.Start())
		parts[i] = cmd
	}
	for i, cmd := range parts {
		failed := cmd.Wait()
		var one part
		raw, err := os.ReadFile(filepath.Join(folder, strconv.Itoa(i)))
		if err == nil {
			err = json.Unmarshal(raw, &one)
		}
		require.NoError(t, err, "a process ended before its time: %v", failed)
		all = append(all, one)
	}
	return all
}

// isShare skips a test that shared starts, unless it did.
func isShare(t *testing.T) {
	if *share == "" {
		t.Skip("another test starts it")
	}
	go func() {
		_, _ = io.Copy(io.Discard, os.Stdin)
		os.Exit(1)
	}()
}

// report writes down what this process found.
func report(t *testing.T, p part) {
	raw, err := json.Marshal(p)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(*share, raw, 0o600))
}

func number(name string) uint64 {
	n, _ := strconv.ParseUint(os.Getenv(name), 10, 32)
	return n
}

// TestSeeds plays NIDALO_SEEDS seeds (a hundred when not set), and no longer than NIDALO_MINUTES if that is set.
func TestSeeds(t *testing.T) {
	began := time.Now()
	all := part{Coverage: map[string]int{}}
	for _, one := range shared(t, "TestShare") {
		all.Seeds += one.Seeds
		all.Failures = append(all.Failures, one.Failures...)
		for what, n := range one.Coverage {
			all.Coverage[what] += n
		}
	}
	for _, failure := range all.Failures {
		t.Error(failure)
	}
	fmt.Printf("%d seeds from %d, %.0f a minute with %d processes\n%s", all.Seeds, *from,
		float64(all.Seeds)/time.Since(began).Minutes(), runtime.NumCPU(), table(all.Coverage))
	if all.Seeds >= 1000 {
		for _, what := range missing(all.Coverage, all.Seeds) {
			t.Errorf("it never happened: %s", what)
		}
	}
}

// mostFailures is after how many a process stops, and shrinkFor how long each is cut down.
const (
	mostFailures = 8
	saveEvery    = 500 // seeds: a long run can be looked at, and counts for something when it is cut short
	shrinkFor    = 40 * time.Second
)

// TestShare plays one process's part of the seeds.
func TestShare(t *testing.T) {
	isShare(t)
	seeds, minutes := number("NIDALO_SEEDS"), number("NIDALO_MINUTES")
	switch {
	case seeds > 0:
	case minutes > 0:
		seeds = 1 << 40
	default:
		seeds = 100
	}
	one, end := part{}, time.Now().Add(time.Duration(minutes)*time.Minute)
	for seed := *from; uint64(one.Seeds)**stride < seeds && len(one.Failures) < mostFailures; seed += *stride {
		if minutes > 0 && time.Now().After(end) {
			break
		}
		s := Draw(seed)
		if number("NIDALO_CHANGES") > 0 && !s.changes() {
			continue
		}
		if one.Seeds++; one.Seeds%saveEvery == 0 {
			one.Coverage = covered()
			report(t, one)
		}
		if _, err := Run(s); err != nil {
			less, how := Shrink(s, shrinkFor)
			one.Failures = append(one.Failures, fmt.Sprintf("seed %d: %v\ncut down to %d of %d operations, which fail with: %v\n%s", seed, err,
				len(less.Ops), len(s.Ops), how, less))
		}
	}
	one.Coverage = covered()
	report(t, one)
}

// changes says whether the array changes its layout, or may.
func (s Script) changes() bool {
	return slices.ContainsFunc(s.Ops, func(o Op) bool { return o.Verb == "convert" || o.Verb == "grow" || o.Verb == "shrink" })
}

// TestASeedRepeatsExactly: the story of a run is the same each time, and from its text too.
func TestASeedRepeatsExactly(t *testing.T) {
	var seeds []uint64
	for i := range uint64(20) {
		seeds = append(seeds, *from+i)
	}
	for _, seed := range append(seeds, 160034441, 160034457) { // guarded sets, of which starts find batches beyond the margin
		s := Draw(seed)
		first, err := Run(s)
		require.NoError(t, err, "seed %d", seed)
		for range 2 {
			again, err := Parse(s.String())
			require.NoError(t, err)
			require.Equal(t, s, again)
			story, err := Run(again)
			require.NoError(t, err)
			require.Equal(t, first, story, "seed %d", seed)
		}
	}
}

// TestAnyPartOfAScriptIsAScript: lines can be left out.
func TestAnyPartOfAScriptIsAScript(t *testing.T) {
	for seed := *from; seed < *from+60; seed++ {
		s := Draw(seed)
		for i := range s.Ops {
			if uint64(i)%3 == seed%3 && s.Ops[i].Verb != "power" {
				s.Ops[i] = Op{Verb: "then"}
			}
		}
		_, err := Run(s)
		require.NoError(t, err, "every third line of seed %d left out", seed)
	}
}
