package main

import (
	"encoding/json"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"nidalo/core/parity"
)

type status struct {
	Arrays []struct {
		Condition string
		Members   []struct {
			Condition string
		}
		Tasks []struct {
			Kind, State string
			Done        int64 `json:"done_bytes"`
			Started     time.Time
			Ended       *time.Time
		}
		Counters map[string]int64
	}
}

func (s *server) status() status {
	var st status
	out := nidalo(s.dir, "status", "-json")
	if err := json.Unmarshal([]byte(out), &st); err != nil {
		log.Fatal(err)
	}
	return st
}

// rebuild replaces a member and returns how long the rebuild took and what it wrote.
func (s *server) rebuild(old, fresh string) (time.Duration, int64) {
	nidalo(s.dir, "replace", "-yes", "-wait", "t", old, fresh)
	tasks := s.status().Arrays[0].Tasks
	t := tasks[len(tasks)-1]
	return t.Ended.Sub(t.Started), t.Done
}

// tasks measures what is not a client's load.
func tasks(place string) {
	dir, err := folder(place, "nb")
	if err != nil {
		log.Print(err)
		return
	}
	defer os.RemoveAll(dir)
	degraded(dir, place)
	slowed(dir, place)
	together(dir, place)
	works(dir, place)
	disturbed(dir, place)
	converted(dir, place)
	sparse(dir, place)
	unclean(dir, place)
	amplification(dir, place)
}

func fill(s *server, mib int) {
	fio(s.uri, "--rw=write", "--bs=1M", "--iodepth=8", fmt.Sprintf("--size=%dM", mib), "--end_fsync=1")
}

func degraded(dir, place string) {
	name := "sequential read, level 6 of 8 with two members lost"
	if !wanted(name) {
		return
	}
	var servers [2]*server // the second loses two members
	for i := range servers {
		at := filepath.Join(dir, fmt.Sprint("array", i))
		s := array(at, "6", 8, "1GiB")
		defer os.RemoveAll(at)
		defer s.stop()
		fill(s, *size)
		servers[i] = s
	}
	nidalo(servers[1].dir, "fail", "-yes", "t", "A2")
	nidalo(servers[1].dir, "fail", "-yes", "t", "A5")
	figures := calmest(name, *rounds, func(int) []float64 {
		var got []float64
		for _, s := range servers {
			bw, _ := fio(s.uri, "--rw=read", "--bs=1M", "--iodepth=8", fmt.Sprintf("--size=%dM", *size))
			got = append(got, bw/(1<<20))
		}
		return got
	})
	x, y := figures[1], figures[0]
	add(row{Place: place, Name: name, Unit: "MiB/s", Peer: "healthy", Target: 0.85, Limit: "every stripe is read whole, and two strips of it computed"}.of(x, y))
}

// together measures what it costs to rebuild two members at once, as fast as memory allows and at the rate of disks.
func together(dir, place string) {
	for _, rate := range []string{"", "100MiB/s"} {
		name := "two rebuilds at once, level 6 of 8"
		if rate != "" {
			name += ", members slowed to 100 MiB/s"
		}
		if !wanted(name) {
			continue
		}
		figures := calmest(name, few(), func(int) []float64 {
			var bare, factor float64 // ms for two, and how many times as long as for one
			if rate == "" {
				b := newBareWork(dir, 8, 600<<20)
				recover := func(lost ...int) float64 {
					return b.run(lost, lost, func(s, _ [][]byte) { _ = parity.Recover(s, 6, lost) }).Seconds() * 1000
				}
				one := recover(2)
				bare = recover(2, 3)
				factor = bare / one
				b.close()
			}
			var took [2]float64 // of one, of two
			for n := 1; n <= 2; n++ {
				s := array(dir, "6", 8, "1GiB")
				fill(s, 3600)
				s.take(bay(8), bay(9))
				for i := 0; rate != "" && i < 10; i++ {
					nidalo(s.dir, "lab", "damage", bay(i), "-rate", rate)
				}
				for i := range n {
					nidalo(s.dir, "fail", "-yes", "t", bay(2+i))
				}
				for i := range n {
					nidalo(s.dir, "replace", "-yes", "t", bay(2+i), bay(8+i))
				}
				for s.status().Arrays[0].Condition != "healthy" {
					time.Sleep(300 * time.Millisecond)
				}
				var began, last time.Time // of the second: what the first did before it has nothing to share
				for _, t := range s.status().Arrays[0].Tasks {
					if t.Kind != "rebuild" || t.Ended == nil {
						continue
					}
					if t.Started.After(began) {
						began = t.Started
					}
					if t.Ended.After(last) {
						last = *t.Ended
					}
				}
				took[n-1] = last.Sub(began).Seconds() * 1000
				s.stop()
			}
			return []float64{took[1], took[0], bare, factor}
		})
		limit := "the others are read once for both"
		if rate == "" {
			limit += fmt.Sprintf("; two members are written, and two blocks of each column computed: the bare loop of it takes %.2f times as long as for one", median(figures[3]))
		}
		add(row{Place: place, Name: name, Unit: "ms", Peer: "one", Target: 1.15, AtMost: true, Limit: limit}.of(figures[0], figures[1]))
		if rate == "" {
			add(row{Place: place, Name: name + ": against the bare loop of it", Unit: "ms", Peer: "bare", Target: 1.25, AtMost: true,
				Limit: "six members are read and summed, two blocks of each column computed, and two members written, from two goroutines"}.of(figures[0], figures[2]))
		}
	}
}

// slowed measures whether a rebuild and a retirement go as fast as disks do.
func slowed(dir, place string) {
	for _, c := range []struct {
		what          string
		members, rate int // MiB/s
		each          int // MiB of data on each member
	}{{"rebuild", 8, 100, 600}, {"retire", 24, 250, 500}} {
		name := fmt.Sprintf("%s, level 6 of %d, members slowed to %d MiB/s", c.what, c.members, c.rate)
		if !wanted(name) {
			continue
		}
		figures := calmest(name, few(), func(int) []float64 {
			s := array(dir, "6", c.members, "1GiB")
			defer s.stop()
			fill(s, c.each*(c.members-2))
			s.take(bay(c.members))
			time.Sleep(4 * time.Second) // until the journals are emptied
			for i := range c.members + 1 {
				nidalo(s.dir, "lab", "damage", bay(i), "-rate", fmt.Sprintf("%dMiB/s", c.rate))
			}
			if c.what == "retire" {
				nidalo(s.dir, "retire", "-wait", "t", bay(2), bay(c.members))
				return []float64{float64(c.each) / s.last().Seconds(), float64(c.rate)}
			}
			nidalo(s.dir, "fail", "-yes", "t", bay(2))
			took, done := s.rebuild(bay(2), bay(c.members))
			return []float64{float64(done) / took.Seconds() / (1 << 20), float64(c.rate)}
		})
		add(row{Place: place, Name: name, Unit: "MiB/s", Peer: "the rate", Target: 0.95, Limit: "the rate of the disks"}.of(figures[0], figures[1]))
	}
}

// disturbed measures what a rebuild costs clients at each pace, and that it goes on meanwhile.
func disturbed(dir, place string) {
	name := "4 KiB random read while a member is rebuilt at pace "
	if !wanted(name) {
		return
	}
	s := array(dir, "6", 8, "1GiB")
	defer s.stop()
	fill(s, 3600)
	read := func() float64 {
		_, iops := fio(s.uri, "--rw=randread", "--bs=4k", "--iodepth=16", fmt.Sprintf("--size=%dM", *size), "--time_based", "--runtime=3")
		return iops
	}
	for i, c := range []struct {
		pace   string
		target float64
	}{{"normal", 0.6}, {"gentle", 0.75}} {
		nidalo(s.dir, "lab", "damage", []string{"B1", "A3"}[i], "-rate", "20MiB/s") // the new disk: the rebuild must last, and a read of what is just being rebuilt waits for that disk
		nidalo(s.dir, "pace", "all", c.pace)
		from, to := []string{"A3", "B1"}[i], []string{"B1", "A3"}[i]
		nidalo(s.dir, "fail", "-yes", "t", from)
		if from == "B1" {
			nidalo(s.dir, "erase", "-yes", to)
		}
		nidalo(s.dir, "replace", "t", from, to)
		x, y := s.beside(name+c.pace, *rounds, read) // degraded in both, but nothing is rebuilt
		add(row{Place: place, Name: name + c.pace, Unit: "op/s", Peer: "without", Target: c.target, Limit: "the pace: a third of the time at normal, a tenth at gentle"}.of(x, y))
		nidalo(s.dir, "pace", "all", "full")
		nidalo(s.dir, "lab", "damage", to, "-mend")
		for s.status().Arrays[0].Condition != "healthy" {
			time.Sleep(100 * time.Millisecond)
		}
	}
}

// beside measures something in turn while the newest task runs, and while it is paused. The task must get on meanwhile.
func (s *server) beside(name string, rounds int, measure func() float64) (running, paused []float64) {
	before := int64(0)
	for range rounds {
		nidalo(s.dir, "pause", "t")
		time.Sleep(300 * time.Millisecond)
		paused = append(paused, measure())
		nidalo(s.dir, "continue", "t")
		running = append(running, measure())
		tasks := s.status().Arrays[0].Tasks
		t := tasks[len(tasks)-1]
		if t.State != "running" || t.Done <= before {
			log.Printf("%s: the %s is %s at %d bytes", name, t.Kind, t.State, t.Done)
		}
		before = t.Done
	}
	return running, paused
}

func sparse(dir, place string) {
	name := "rebuild of 8 × 12 TB holding 1 GiB"
	if !wanted(name) {
		return
	}
	s := array(dir, "6", 8, "12TB")
	defer s.stop()
	fill(s, 1024)
	nidalo(s.dir, "fail", "-yes", "t", "A3")
	took, _ := s.rebuild("A3", "B1")
	source, target := filepath.Join(dir, "src"), filepath.Join(dir, "dst")
	buf := make([]byte, 1<<30)
	if err := os.WriteFile(source, buf, 0o600); err != nil {
		log.Fatal(err)
	}
	began := time.Now()
	in, err := os.ReadFile(source)
	if err == nil {
		err = os.WriteFile(target, in, 0o600)
	}
	if err != nil {
		log.Fatal(err)
	}
	copying := time.Since(began)
	_ = os.Remove(source)
	_ = os.Remove(target)
	add(row{Place: place, Name: name, Ours: took.Seconds() * 1000, Theirs: copying.Seconds() * 1000, Unit: "ms", Peer: "a copy", Target: 3, AtMost: true, Limit: "what was written, a sixth of it on each member"})
}

func unclean(dir, place string) {
	name := "start after an unclean stop, 12 × 12 TB"
	memory := "resident memory, 8 × 12 TB under random writes"
	if wanted(memory) {
		s := array(dir, "6", 8, "12TB")
		fio(s.uri, "--rw=randwrite", "--bs=4k", "--iodepth=32", "--size=4T", "--norandommap", "--random_generator=tausworthe64", "--time_based", "--runtime=30")
		peak := resident(s.cmd.Process.Pid)
		s.stop()
		add(row{Place: place, Name: memory, Ours: peak / (1 << 20), Theirs: 128 + 128, Unit: "MiB", Peer: "cache + 128", Target: 1, AtMost: true, Limit: "the cache of writes, 48 MiB of table pages, buffers in use"})
	}
	if !wanted(name) {
		return
	}
	s := array(dir, "6", 12, "12TB")
	fill(s, 512)
	go func() {
		time.Sleep(1500 * time.Millisecond)
		_ = s.cmd.Process.Signal(syscall.SIGKILL)
	}()
	// fio ends with an error when the service goes.
	_ = exec.Command("fio", "--name=x", "--ioengine=nbd", "--uri="+s.uri, "--rw=randwrite", "--bs=4k", "--iodepth=32", "--size=8G", "--time_based", "--runtime=20", "--fsync=64").Run()
	_ = s.cmd.Wait()
	_ = os.Remove(filepath.Join(s.dir, "nbd.sock"))
	began := time.Now()
	s.start()
	took := time.Since(began) - 100*time.Millisecond // waitSocket's own pause
	s.stop()
	add(row{Place: place, Name: name, Ours: took.Seconds() * 1000, Theirs: 2000, Unit: "ms", Peer: "the bound", Target: 1, AtMost: true, Limit: "reading what is live in the journals, and replaying it"})
}

func resident(pid int) float64 {
	buf, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for _, line := range strings.Split(string(buf), "\n") {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "VmHWM:" {
			kib, _ := strconv.ParseFloat(f[1], 64)
			return kib * 1024
		}
	}
	return 0
}

// amplification counts the bytes written to members for each byte from clients and compares with the scheme's arithmetic.
func amplification(dir, place string) {
	for _, c := range []struct {
		name     string
		args     []string
		expected float64
	}{
		{"bytes to members per byte, fresh, level 6 of 8", []string{"--rw=write", "--bs=1M", "--size=768M"}, 8.0 / 6},
		{"bytes to members per byte, overwrite, level 6 of 8", []string{"--rw=write", "--bs=1M", "--size=768M"}, 2 * 8.0 / 6},
		{"bytes to members per byte, 4 KiB scattered, level 6 of 8", []string{"--rw=randwrite", "--bs=4k", "--size=64M", "--offset=0", "--fsync=1"}, 0},
	} {
		if !wanted(c.name) {
			continue
		}
		s := array(dir, "6", 8, "1GiB")
		if c.name != "bytes to members per byte, fresh, level 6 of 8" {
			fill(s, 768)
		}
		before := s.status().Arrays[0].Counters
		args := c.args
		if c.expected == 0 {
			args = append(args, "--io_size=8M")
		}
		fio(s.uri, append(args, "--iodepth=1", "--end_fsync=1")...)
		after := s.status().Arrays[0].Counters
		s.stop()
		diff := func(k string) float64 { return float64(after[k] - before[k]) }
		client := diff("client_written_bytes")
		members := diff("journal_bytes") + diff("in_place_bytes") + diff("table_bytes")
		expected := c.expected
		if expected == 0 {
			// One block and P and Q: each journalled with a header block, and in place.
			expected = 3 * (2 + 1)
		}
		add(row{Place: place, Name: c.name, Ours: members / client * 1000, Theirs: expected * 1000, Unit: "‰", Peer: "arithmetic", Target: 1.05, AtMost: true, Limit: "journal headers and checksum pages come on top"})
	}
}
