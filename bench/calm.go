package main

import (
	"cmp"
	"log"
	"os"
	"slices"
	"strconv"
	"strings"
)

// mostTaken is how large a part of the processors' time the host of this machine may give to other machines during a round that counts.
const mostTaken = 0.05

// calmest makes rounds until n of them lost no more than mostTaken, 2 n rounds at most. Of the n that lost least it returns the first figures, the second
// figures, and so on.
func calmest(name string, n int, round func(i int) []float64) [][]float64 {
	type one struct {
		taken   float64
		figures []float64
	}
	var all []one
	for i, calm := 0, 0; calm < n && i < 2*n; i++ {
		taken, ticks := stolen()
		figures := round(i)
		t, s := stolen()
		x := one{figures: figures}
		if s > ticks {
			x.taken = (t - taken) / (s - ticks)
		}
		if x.taken <= mostTaken {
			calm++
		}
		all = append(all, x)
	}
	slices.SortStableFunc(all, func(a, b one) int { return cmp.Compare(a.taken, b.taken) })
	if worst := all[n-1].taken; worst > mostTaken {
		log.Printf("%s: of %d rounds the %d calmest count, in which others on the host of this machine took up to %.0f%% of its processors", name, len(all), n, worst*100)
	}
	out := make([][]float64, len(all[0].figures))
	for _, x := range all[:n] {
		for k, v := range x.figures {
			out[k] = append(out[k], v)
		}
	}
	return out
}

// stolen is how much time of this machine's processors the host gave to others since the start, and how much time there was; ticks. Both are 0 where
// the system does not count that.
func stolen() (taken, all float64) {
	raw, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0, 0
	}
	line, _, _ := strings.Cut(string(raw), "\n")
	for i, field := range strings.Fields(line)[1:] {
		v, _ := strconv.ParseFloat(field, 64)
		if i < 8 { // what follows is counted in the first two already
			all += v
		}
		if i == 7 {
			taken = v
		}
	}
	return taken, all
}
