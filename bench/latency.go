package main

import (
	"encoding/json"
	"fmt"
	"log"
	"os"
	"os/exec"
	"strings"
	"time"
)

// delays are what requests of one kind took, in milliseconds.
type delays struct{ p99, p999, most float64 }

// mixed is a load of readers and of writers that flush, 4 KiB each, and returns what reads and what flushes took.
func mixed(s *server, seconds int) (reads, flushes delays) {
	out, err := exec.Command("fio", "--output-format=json", "--ioengine=nbd", "--uri="+s.uri, "--bs=4k", fmt.Sprintf("--size=%dM", *size), "--time_based", fmt.Sprintf("--runtime=%d", seconds),
		"--group_reporting", "--percentile_list=99:99.9", "--name=reads", "--rw=randread", "--iodepth=4", "--numjobs=2", "--new_group",
		"--name=writes", "--rw=randwrite", "--iodepth=1", "--fsync=1", "--numjobs=4", "--new_group").Output()
	if err != nil {
		log.Fatalf("fio: %v\n%s", err, out)
	}
	type lat struct {
		Max        float64
		Percentile map[string]float64
	}
	var result struct {
		Jobs []struct {
			Read struct {
				Clat lat `json:"clat_ns"`
			}
			Sync struct {
				Lat lat `json:"lat_ns"`
			}
		}
	}
	at := strings.IndexByte(string(out), '{')
	if err := json.Unmarshal(out[max(at, 0):], &result); err != nil || len(result.Jobs) != 2 {
		log.Fatalf("fio: %v\n%s", err, out)
	}
	of := func(l lat) delays {
		return delays{l.Percentile["99.000000"] / 1e6, l.Percentile["99.900000"] / 1e6, l.Max / 1e6}
	}
	return of(result.Jobs[0].Read.Clat), of(result.Jobs[1].Sync.Lat)
}

// section has a part of the report written, in a folder of its own.
func section(place, name string, write func(dir string, b *strings.Builder)) {
	if !wanted(name) || *without != "" {
		return
	}
	dir, err := folder(place, "nb")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	var b strings.Builder
	write(dir, &b)
	chapters = append(chapters, chapter{strings.ToUpper(name[:1]) + name[1:], time.Now().Format("2006-01-02") + ". " + b.String()})
}

// latency measures how long single requests take under a mixed load: by itself, with a rebuild, and with journals so full that they are emptied
// all the time.
func latency(place string) { section(place, mixedName, mixedTable) }

const mixedName = "latency under a mixed load"

func mixedTable(dir string, b *strings.Builder) {
	b.WriteString("Level 6 of 8 in memory, eight readers and four writers that flush each block, 4 KiB each, all on the CPUs of the servers; ms.\n\n")
	b.WriteString("| with | reads, 99% | 99.9% | longest | flushes, 99% | 99.9% | longest | checkpoints |\n|---|---|---|---|---|---|---|---|\n")
	line := func(what string, s *server, seconds int) {
		before := int64(0)
		if s.name == "nidalo" {
			before = s.status().Arrays[0].Counters["checkpoints"]
		}
		r, f := mixed(s, seconds)
		checkpoints := "–"
		if s.name == "nidalo" {
			checkpoints = fmt.Sprint(s.status().Arrays[0].Counters["checkpoints"] - before)
		}
		fmt.Fprintf(b, "| %s | %.2f | %.2f | %.1f | %.2f | %.2f | %.1f | %s |\n", what, r.p99, r.p999, r.most, f.p99, f.p999, f.most, checkpoints)
		log.Printf("%s, %s: reads %.2f %.2f %.1f ms, flushes %.2f %.2f %.1f ms, %s checkpoints", mixedName, what, r.p99, r.p999, r.most, f.p99, f.p999, f.most, checkpoints)
	}
	peer := plain(dir, "nbdkit", 8<<30)
	fill(peer, *size)
	line("a plain file (nbdkit)", peer, 10)
	peer.stop()
	s := array(dir, "6", 8, "2GiB")
	fill(s, *size)
	line("nothing else", s, 10)
	nidalo(s.dir, "lab", "damage", bay(8), "-rate", "8MiB/s")
	nidalo(s.dir, "fail", "-yes", "t", bay(2))
	nidalo(s.dir, "replace", "-yes", "t", bay(2), bay(8))
	line("a rebuild", s, 10)
	if t := s.status().Arrays[0].Tasks; t[len(t)-1].State != "running" {
		log.Printf("%s: the rebuild is %s", mixedName, t[len(t)-1].State)
	}
	s.stop()
	s = array(dir, "6", 8, "200MiB")
	fill(s, 800)
	line("small journals", s, 10)
	s.stop()
}

// growth measures how the cost of a request and of a start depends on members, capacity and clients.
func growth(place string) { section(place, "growth", growthTable) }

func growthTable(dir string, b *strings.Builder) {
	b.WriteString("Level 6 in memory. Clients write and flush 4 KiB each, all over the first 512 MiB (or all there is), or read 4 KiB.\n\n")
	b.WriteString("| members | size of each | clients | write + flush, 1/s | read, 1/s | start, ms | status, ms | resident memory, MiB |\n|---|---|---|---|---|---|---|---|\n")
	line := func(members int, size string, clients int) {
		s := array(dir, "6", members, size)
		defer s.stop()
		span := "512M"
		if size == "64MiB" {
			span = "60M"
		}
		fio(s.uri, "--rw=write", "--bs=1M", "--iodepth=4", "--size="+span, "--end_fsync=1")
		load := func(args ...string) float64 {
			_, iops := fio(s.uri, append([]string{"--bs=4k", "--size=" + span, fmt.Sprintf("--numjobs=%d", clients), "--group_reporting", "--time_based", "--runtime=3", "--iodepth=1"}, args...)...)
			return iops
		}
		writes, reads := load("--rw=randwrite", "--fsync=1"), load("--rw=randread")
		began := time.Now()
		s.status()
		status := time.Since(began)
		memory := resident(s.cmd.Process.Pid)
		s.stop()
		began = time.Now()
		s.start()
		start := time.Since(began) - 100*time.Millisecond // waitSocket's own pause
		fmt.Fprintf(b, "| %d | %s | %d | %.0f | %.0f | %d | %d | %.0f |\n", members, size, clients, writes, reads, start.Milliseconds(), status.Milliseconds(), memory/(1<<20))
		log.Printf("growth: %d members of %s, %d clients: write + flush %.0f 1/s, read %.0f 1/s, start %d ms, status %d ms, %.0f MiB", members, size, clients, writes, reads, start.Milliseconds(), status.Milliseconds(), memory/(1<<20))
	}
	for _, members := range []int{4, 8, 16, 32, 64} {
		line(members, "1GiB", 4)
	}
	for _, size := range []string{"64MiB", "1TB", "24TB"} {
		line(8, size, 4)
	}
	for _, clients := range []int{1, 16, 64, 256} {
		line(8, "1GiB", clients)
	}
}
