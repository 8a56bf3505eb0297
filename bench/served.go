package main

import (
	"cmp"
	"fmt"
	"log"
	"os"
	"strings"
)

type load struct {
	name   string
	level  string
	disks  int
	args   []string
	iops   bool
	target float64
	limit  string
	fresh  bool // begins on an empty array and file
	scheme bool // the bare service of the scheme is measured as well
}

// wanted is the target in a place: on a real disk other ones, where it limits both.
func (l load) wanted(place string) float64 {
	if place == "/dev/shm" {
		return l.target
	}
	return cmp.Or(map[string]float64{
		"4 KiB random write, depth 32, level 5 of 4":         1,
		"4 KiB write + flush each, depth 1, level 5 of 4":    0.45,
		"4 KiB write + flush each, 16 clients, level 5 of 4": 1,
	}[l.name], l.target)
}

func served(place string) {
	mb := fmt.Sprintf("--size=%dM", *size)
	const reads = "copying from the socket: both servers spend most of their time there; ours also reads every byte for its checksum"
	loads := []load{
		{"sequential write into fresh space, level 6 of 8", "6", 8, []string{"--rw=write", "--bs=1M", "--iodepth=8", mb, "--end_fsync=1"}, false, 0.72, "8/6 of the bytes go to members; 0.75 is the limit where members' speed is", true, false},
		{"sequential overwrite, level 6 of 8", "6", 8, []string{"--rw=write", "--bs=1M", "--iodepth=8", mb, "--end_fsync=1"}, false, 0.7, "2 × 8/6 of the bytes go to members, once to the journals and once in place", false, true},
		{"sequential read 1 MiB, level 6 of 8", "6", 8, []string{"--rw=read", "--bs=1M", "--iodepth=8", mb}, false, 1.0, reads, false, true},
		{"sequential write into fresh space, level 5 of 4", "5", 4, []string{"--rw=write", "--bs=1M", "--iodepth=8", mb, "--end_fsync=1"}, false, 0.7, "4/3 of the bytes go to members", true, false},
		{"sequential read 1 MiB, level 5 of 4", "5", 4, []string{"--rw=read", "--bs=1M", "--iodepth=8", mb}, false, 1.0, reads, false, true},
		{"4 KiB random read, depth 32, level 5 of 4", "5", 4, []string{"--rw=randread", "--bs=4k", "--iodepth=32", mb, "--time_based", "--runtime=4"}, true, 1.0, "one request is one system call for the socket's two ends each", false, true},
		{"4 KiB random write, depth 32, level 5 of 4", "5", 4, []string{"--rw=randwrite", "--bs=4k", "--iodepth=32", mb, "--time_based", "--runtime=6", "--end_fsync=1"}, true, 0.5, "each block: two reads, two journal blocks, two blocks in place", false, true},
		{"4 KiB write + flush each, depth 1, level 5 of 4", "5", 4, []string{"--rw=randwrite", "--bs=4k", "--iodepth=1", "--fsync=1", mb, "--time_based", "--runtime=4"}, true, 0.5, "two members are synced, in parallel, where the peer syncs one file", false, true},
		{"4 KiB write + flush each, 16 clients, level 5 of 4", "5", 4, []string{"--rw=randwrite", "--bs=4k", "--iodepth=1", "--fsync=1", "--numjobs=16", "--group_reporting", mb, "--time_based", "--runtime=4"}, true, 0.5, "two reads, four writes and two syncs of members where the peer writes and syncs one file", false, true},
		{"sequential write into fresh space, level 1 of 2", "1", 2, []string{"--rw=write", "--bs=1M", "--iodepth=8", "--size=800M", "--end_fsync=1"}, false, 0.5, "twice the bytes go to members", true, false},
		{"sequential read 1 MiB, level 1 of 2", "1", 2, []string{"--rw=read", "--bs=1M", "--iodepth=8", "--size=800M"}, false, 1.0, reads, false, false},
		{"sequential write into fresh space, a volume of a guarded set of 3 with 1 parity", "guarded", 4, []string{"--rw=write", "--bs=1M", "--iodepth=8", "--size=800M", "--end_fsync=1"}, false, 0.45, "twice the bytes go to members, and one disk has each half", true, false},
		{"sequential overwrite, a volume of a guarded set of 3 with 1 parity", "guarded", 4, []string{"--rw=write", "--bs=1M", "--iodepth=8", "--size=800M", "--end_fsync=1"}, false, 0, "old data and parity are read, and both go to the journals and in place", false, false},
		{"sequential read 1 MiB, a volume of a guarded set of 3 with 1 parity", "guarded", 4, []string{"--rw=read", "--bs=1M", "--iodepth=8", "--size=800M"}, false, 1.0, reads, false, false},
	}
	var ours, scheme *server
	var plains []*server
	dir, at := "", ""
	end := func() {
		if ours != nil {
			ours.stop()
		}
		for _, p := range plains {
			p.stop()
		}
		if scheme != nil {
			scheme.stop()
		}
		if dir != "" {
			_ = os.RemoveAll(dir)
		}
		ours, scheme, plains, dir, at = nil, nil, nil, "", ""
	}
	defer end()
	for _, l := range loads {
		name := l.name
		// The rows of one level share an array, so that reads find what was written; skip whole levels not asked for.
		any := false
		for _, other := range loads {
			any = any || other.level == l.level && wanted(other.name)
		}
		if !any {
			continue
		}
		if at != l.level {
			end()
			var err error
			if dir, err = folder(place, "nb"); err != nil {
				log.Fatal(err)
			}
			at = l.level
			ours = array(dir, l.level, l.disks, "1GiB")
			for _, name := range strings.Split(*peers, ",") {
				if *without == "" {
					plains = append(plains, plain(dir, name, 3<<30))
				}
			}
		}
		n := *rounds
		if !wanted(name) {
			n = 1 // only to have the data there
			if !l.fresh {
				continue
			}
		}
		withScheme := l.scheme && *without == "" && wanted(name)
		if withScheme && scheme == nil {
			scheme = bareService(dir, l.level)
			fio(scheme.uri, "--rw=write", "--bs=1M", "--iodepth=8", mb, "--end_fsync=1")
		}
		figures := calmest(name, n, func(round int) (out []float64) {
			if l.fresh && round > 0 {
				end := ours
				end.stop()
				ours = array(dir, l.level, l.disks, "1GiB")
				for p := range plains {
					plains[p].stop()
					plains[p] = plain(dir, plains[p].name, 3<<30)
				}
			}
			measure := func(s *server) float64 {
				bw, iops := fio(s.uri, l.args...)
				if l.iops {
					return iops
				}
				return bw / (1 << 20)
			}
			for p := range plains {
				out = append(out, measure(plains[p]))
			}
			if out = append(out, measure(ours)); withScheme {
				out = append(out, measure(scheme))
			}
			return out
		})
		if !wanted(name) {
			continue
		}
		unit := "MiB/s"
		if l.iops {
			unit = "op/s"
		}
		x := figures[len(plains)]
		if len(plains) == 0 {
			add(row{Place: place, Name: name, Unit: unit}.of(x, nil))
		}
		for p := range plains {
			add(row{Place: place, Name: name, Unit: unit, Peer: plains[p].name, Target: l.wanted(place), Limit: l.limit}.of(x, figures[p]))
		}
		if withScheme {
			r := row{Place: place, Name: name + ": against a bare service of the scheme", Unit: unit, Peer: scheme.name}.of(x, figures[len(plains)+1])
			r.Limit = fmt.Sprintf("Nidalo's protocol front with the bare system calls of the scheme behind it has %.2f of nbdkit", r.Theirs/median(figures[0]))
			add(r)
		}
	}
}
