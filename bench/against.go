package main

import (
	"encoding/json"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// group is the rows whose names contain a text. The later ones read what the first wrote, so they are measured together.
type group struct {
	only  string
	first bool // only in the first place, as bench does with rows of tasks
}

var groups = []group{{"level 6 of 8", false}, {"level 5 of 4", false}, {"level 1 of 2", false}, {"4 KiB random read while", true}, {"12 TB", true}}

// compare measures this build and an older one in turn, row by row and without peers, and prints the ratio of their medians with
// the spread of the ratios of the rounds. A round of one build is a run of this program, so both builds meet the same state.
func compare(older string) {
	self, err := os.Executable()
	if err != nil {
		log.Fatal(err)
	}
	dir, err := folder("", "against")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	fmt.Printf("| where | work | this build | the older | ratio | lowest to highest of %d rounds |\n|---|---|---|---|---|---|\n", *rounds)
	if *only != "" {
		groups = []group{{*only, false}}
	}
	for _, g := range groups {
		for i, place := range strings.Split(*places, ",") {
			if i > 0 && g.first {
				continue
			}
			got := map[string][2][]float64{}
			var first []row
			for round := range *rounds {
				for turn := range 2 {
					side := (round + turn) % 2 // who begins changes from round to round
					measured := alone(self, []string{*program, older}[side], place, g.only, filepath.Join(dir, "rows.json"))
					if first == nil {
						first = measured
					}
					for _, r := range measured {
						pair := got[r.Name]
						pair[side] = append(pair[side], r.Ours)
						got[r.Name] = pair
					}
				}
			}
			for _, r := range first {
				printCompared(r, got[r.Name])
			}
		}
	}
}

// alone runs the rows of a group with one build and without peers.
func alone(self, build, place, only, file string) []row {
	c := exec.Command(self, "-program", build, "-places", place, "-only", only, "-rounds", "1", "-size", fmt.Sprint(*size), "-alone", file)
	if out, err := c.CombinedOutput(); err != nil {
		log.Fatalf("%v: %v\n%s", c.Args, err, out)
	}
	buf, err := os.ReadFile(file)
	if err != nil {
		log.Fatal(err)
	}
	var measured []row
	if err := json.Unmarshal(buf, &measured); err != nil {
		log.Fatal(err)
	}
	return measured
}

func printCompared(r row, pair [2][]float64) {
	low, high := 0.0, 0.0
	for i := range min(len(pair[0]), len(pair[1])) {
		ratio := pair[0][i] / pair[1][i]
		if i == 0 || ratio < low {
			low = ratio
		}
		high = max(high, ratio)
	}
	ours, theirs := median(pair[0]), median(pair[1])
	fmt.Printf("| %s | %s | %.0f %s | %.0f | %.2f | %.2f–%.2f |\n", r.Place, r.Name, ours, r.Unit, theirs, ours/theirs, low, high)
}
