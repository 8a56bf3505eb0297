// Command bench measures Nidalo against peers in one run, in turn, on the same storage, and writes docs/performance.md.
// Figures are ratios of medians: machines are noisy, but both sides of a ratio see the same noise.
//
//	make bench            everything
//	go run . -only read   the rows whose name contains "read"; ^read: those that begin with it
//	go run . -against OLD the same rows without peers, this build and an older one in turn
package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

var (
	program = flag.String("program", "../nidalo", "the built `PROGRAM`")
	places  = flag.String("places", "/dev/shm,/var/tmp", "folders to measure in: memory, and a real disk")
	rounds  = flag.Int("rounds", 5, "rounds of each row")
	only    = flag.String("only", "", "only rows whose name contains this")
	report  = flag.String("report", "", "write the figures into this `FILE`, before the words that it has about them")
	against = flag.String("against", "", "compare with an older `PROGRAM` instead of peers")
	without = flag.String("alone", "", "measure no peers and write the rows to this `FILE`")
	peers   = flag.String("peers", "nbdkit", "servers of a plain file to compare with: nbdkit, qemu-nbd")
	scales  = flag.String("scale", "", "measure what many hosts need, and write this `FILE`")
	size    = flag.Int("size", 600, "MiB that sequential rows move")
)

// row is one measurement: two medians and what was wanted of their ratio.
type row struct {
	Place, Name  string
	Ours, Theirs float64
	Unit, Peer   string
	Target       float64 // of ours to theirs
	AtMost       bool
	Limit        string
	Low, High    float64 // the ratios of single rounds; 0 when there is one
}

func (r row) ratio() float64 { return r.Ours / r.Theirs }

// spread is the lowest and the highest ratio of the rounds.
func (r row) spread() string {
	if r.High == 0 {
		return "one round"
	}
	return fmt.Sprintf("%.2f–%.2f", r.Low, r.High)
}

// of fills in what was measured, round by round.
func (r row) of(ours, theirs []float64) row {
	for i := range min(len(ours), len(theirs)) {
		ratio := ours[i] / theirs[i]
		if r.High == 0 || ratio < r.Low {
			r.Low = ratio
		}
		r.High = max(r.High, ratio)
	}
	if r.Ours = median(ours); len(theirs) > 0 {
		r.Theirs = median(theirs)
	}
	return r
}

func (r row) met() bool {
	if r.AtMost {
		return r.ratio() <= r.Target
	}
	return r.ratio() >= r.Target
}

var rows []row

func wanted(name string) bool {
	if start, ok := strings.CutPrefix(*only, "^"); ok {
		return strings.HasPrefix(name, start)
	}
	return strings.Contains(name, *only)
}

func add(r row) {
	rows = append(rows, r)
	if *without != "" {
		return
	}
	mark := "met"
	if !r.met() {
		mark = "MISSED"
	}
	log.Printf("%-8s %-50s %10.0f %-6s against %10.0f of %-12s ratio %.2f (%s), target %.2f: %s", r.Place, r.Name, r.Ours, r.Unit, r.Theirs, r.Peer, r.ratio(), r.spread(), r.Target, mark)
}

// few is the rounds of rows that take minutes.
func few() int { return min(*rounds, 3) }

func median(v []float64) float64 {
	v = slices.Sorted(slices.Values(v))
	return v[len(v)/2]
}

func main() {
	log.SetFlags(0)
	flag.Parse()
	endWhenTold()
	if dir := os.Getenv(bareFolder); dir != "" {
		serveBare(dir, os.Getenv(bareLevel))
	}
	if *scales != "" {
		scale(*scales)
		return
	}
	if *against != "" {
		touch("/dev/shm", 10<<30)
		compare(*against)
		return
	}
	defer writeReport()
	if *without == "" {
		kernels()
		touch("/dev/shm", 10<<30)
	}
	for i, place := range strings.Split(*places, ",") {
		served(place)
		writeReport()
		if *without == "" {
			floors(place)
			wholes(place)
			if i > 0 {
				devices(place) // in memory there is no medium
			}
		}
		if i == 0 {
			attached(place) // on a real disk its speed hides the ways to it
		}
	}
	elsewhere(strings.Split(*places, ",")[0], strings.Split(*places, ",")[0])
	writeReport()
	tasks(strings.Split(*places, ",")[0])
	writeReport()
	latency(strings.Split(*places, ",")[0])
	writeReport()
	growth(strings.Split(*places, ",")[0])
	if *without != "" {
		buf, err := json.Marshal(rows)
		if err == nil {
			err = os.WriteFile(*without, buf, 0o600)
		}
		if err != nil {
			log.Fatal(err)
		}
	}
}

// touch makes the host give this machine its memory before anybody is measured: on a virtual machine the first use of a page
// costs far more than any later one, and whoever came first would pay.
func touch(dir string, bytes int64) {
	dir, err := folder(dir, "touch")
	if err != nil {
		return
	}
	defer os.RemoveAll(dir)
	f, err := os.Create(filepath.Join(dir, "touch"))
	if err != nil {
		return
	}
	defer f.Close()
	buf := make([]byte, 4<<20)
	for at := int64(0); at < bytes; at += int64(len(buf)) {
		if _, err := f.WriteAt(buf, at); err != nil {
			return
		}
	}
}

// fio runs one job against a URI and returns bytes per second and operations per second.
func fio(uri string, args ...string) (bandwidth, iops float64) {
	return job(append([]string{"--name=x", "--ioengine=nbd", "--uri=" + uri, "--output-format=json"}, args...))
}

// job is fio with all its arguments.
func job(args []string) (bandwidth, iops float64) {
	out, err := exec.Command("fio", args...).Output()
	if err != nil {
		log.Fatalf("fio %v: %v\n%s", args, err, out)
	}
	var result struct {
		Jobs []struct {
			Read, Write struct {
				Bytes   float64 `json:"io_bytes"`
				Runtime float64 `json:"runtime"`
				IOPS    float64 `json:"iops"`
			}
			JobRuntime float64 `json:"job_runtime"`
		}
	}
	if i := bytes.IndexByte(out, '{'); i >= 0 {
		err = json.Unmarshal(out[i:], &result)
	}
	if err != nil || len(result.Jobs) == 0 {
		log.Fatalf("fio %v: %v\n%s", args, err, out)
	}
	j := result.Jobs[0]
	x := j.Read
	if j.Write.Bytes > x.Bytes {
		x = j.Write
	}
	if slices.Contains(args, "--group_reporting") { // job_runtime is the sum of many then
		return x.IOPS * 4096, x.IOPS
	}
	// job_runtime includes the flush at the end, which is when the data is where it belongs.
	return x.Bytes / max(j.JobRuntime, 1) * 1000, x.Bytes / max(j.JobRuntime, 1) * 1000 / 4096
}

// server is anything that serves one export.
type server struct {
	name   string
	uri    string
	cmd    *exec.Cmd
	dir    string
	export string // empty: the array
}

func (s *server) stop() {
	if s.cmd == nil {
		return
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	_ = s.cmd.Wait()
	s.cmd = nil
}

func waitSocket(path string) {
	for range 200 {
		if _, err := os.Stat(path); err == nil {
			time.Sleep(100 * time.Millisecond)
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	log.Fatalf("%s does not appear", path)
}

func plain(dir, kind string, bytes int64) *server {
	file, socket := filepath.Join(dir, kind+".img"), filepath.Join(dir, kind+".sock")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		log.Fatal(err)
	}
	if err := os.Truncate(file, bytes); err != nil {
		log.Fatal(err)
	}
	_ = os.Remove(socket)
	var c *exec.Cmd
	if kind == "nbdkit" {
		c = exec.Command("nbdkit", "-f", "-U", socket, "file", file)
	} else {
		c = exec.Command("qemu-nbd", "-f", "raw", "-k", socket, "-t", "--shared=8", "--cache=writeback", file)
	}
	c.Stderr = os.Stderr
	if err := begin(c); err != nil {
		log.Fatal(err)
	}
	waitSocket(socket)
	return &server{name: kind, uri: "nbd+unix:///?socket=" + socket, cmd: c, dir: dir}
}

func nidalo(home string, args ...string) string {
	c := exec.Command(*program, append(args, "-home", home)...)
	out, err := c.CombinedOutput()
	if err != nil {
		log.Fatalf("nidalo %v: %v\n%s", args, err, out)
	}
	return string(out)
}

// array makes a lab that has two spare disks, and an array in it, and serves that.
func array(dir, level string, members int, diskSize string) *server {
	home := filepath.Join(dir, "h")
	_ = os.RemoveAll(home)
	nidalo(home, "lab", "new", "-bays", fmt.Sprint(members+2), "-size", diskSize)
	args := []string{"create", "-name", "t", "-level", level}
	if level == "guarded" { // the last disk has the parity; the volume on the first is measured
		args = append(args, "-parity", bay(members-1), "v=A1")
		for i := 1; i < members-1; i++ {
			args = append(args, fmt.Sprintf("v%d=%s", i, bay(i)))
		}
	} else {
		for i := range members {
			args = append(args, bay(i))
		}
	}
	nidalo(home, args...)
	s := &server{name: "nidalo", dir: home, export: "t"}
	if level == "guarded" {
		s.export = "t/v"
	}
	s.start()
	return s
}

// bay is the name of a bay of the lab.
func bay(i int) string { return fmt.Sprintf("%c%d", 'A'+i/8, i%8+1) }

func (s *server) start() {
	s.cmd = exec.Command(*program, "serve", "-home", s.dir)
	if f, err := os.Create(filepath.Join(s.dir, "log")); err == nil {
		s.cmd.Stderr = f
	}
	if err := begin(s.cmd); err != nil {
		log.Fatal(err)
	}
	socket := filepath.Join(s.dir, "nbd.sock")
	waitSocket(socket)
	s.uri = "nbd+unix:///" + cmp.Or(s.export, "t") + "?socket=" + socket
}

// cpuModel and kernelVersion say what machine this is.
func cpuModel() string {
	buf, _ := os.ReadFile("/proc/cpuinfo")
	for _, line := range strings.Split(string(buf), "\n") {
		if name, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(name) == "model name" {
			return strings.TrimSpace(value)
		}
	}
	return "unknown"
}
