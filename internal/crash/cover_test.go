//go:build machine

package crash

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"nidalo/internal/probe"
)

// coverage is how often something happened in this process, over all seeds. What the engine itself saw is in package probe.
var coverage = map[string]int{}

func seen(what string) { coverage[what]++ }

// wanted is what must happen in a run of many seeds, besides every event of package probe: a run in which it never did proves nothing
// about it.
var wanted = []string{
	"power cut in the work", "power cut in recovery", "power cut while members were brought back", "stopped", "read from outside",
	"a disk was pulled", "returned", "declared failed", "replaced", "a spare took over", "retirement begun", "check begun", "renamed",
	"set back", "set back and noticed by its pages", "rot while it runs", "a disk hangs", "all disks stall", "a disk is slow",
	"a read fails", "a write fails", "a sync fails", "a write finds no room", "a sync is confirmed and not done",
	"a write is confirmed and not done", "a write is done at another place", "the array stopped itself",
	"part of a block written", "written as it came", "rescued", "brought back in place",
	"a disk woke", "a task was cancelled", "grown", "volumes made longer", "a longer volume used", "a link broke", "a link was made again", "a link was given up", "a write landed late", "a write was sent again", "writes went out together", "converted", "event conversion-done", "event member-failing", "event member-missing", "event member-failed", "event member-returned", "event member-retired", "event rebuild-done", "event catch-up-done",
	"event journal-replayed", "event journal-damaged", "event table-damaged", "event batch-dropped",
}

// covered is the coverage of this process with that of the engine.
func covered() map[string]int {
	out := maps.Clone(coverage)
	for e := range probe.Events {
		if n := e.Count(); n > 0 {
			out["engine: "+e.String()] = n
		}
	}
	return out
}

// rare is what happens in guarded sets beyond their margin only, or when one reads on within two seconds while members are lost: it must in a long run.
var rare = []probe.Event{probe.ParityForsaken, probe.ParityDoubted, probe.OwnKept, probe.OwnJournalKept, probe.OwnNotKept, probe.VolumeGivenUp, probe.FillingWaits, probe.MemberTakenOut, probe.SurePageRead, probe.SleeperLags, probe.VanishedJoining, probe.ParityForsakenLate, probe.RestTaken}

// missing is what never happened in some seeds.
func missing(c map[string]int, seeds int) (out []string) {
	all := slices.Clone(wanted)
	for e := range probe.Events {
		if slices.Contains(rare, e) && seeds < 20_000 {
			continue
		}
		if e != probe.HeadRefuted { // heads of an engine without a mistake are honest; engine tests forge some
			all = append(all, "engine: "+e.String())
		}
	}
	return slices.DeleteFunc(all, func(what string) bool { return c[what] > 0 })
}

func table(c map[string]int) string {
	var out strings.Builder
	for _, what := range slices.Sorted(maps.Keys(c)) {
		fmt.Fprintf(&out, "%10d  %s\n", c[what], what)
	}
	return out.String()
}
