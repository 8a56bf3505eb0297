package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"text/template"
	"time"
)

// What many hosts need: measured on one, on an etcd with some, and with a thousand that answer as that one does; then simulated.

// scaleFigures is what docs/scale.md says.
type scaleFigures struct {
	Date                            string
	Series, Scrape, Reply, Resident int // of one host with 24 disks in three arrays: series and bytes of a scrape, bytes of a status, MiB
	Critical, Warnings, Infos       int // events of a disk that fails and is replaced
	Hosts                           int // that shared an etcd
	EtcdCPU, EtcdNone               float64
	Asked                           int
	AskTook, AskMiB                 float64
	Fleets                          []fleetRow
	Places                          []placeRow
	Hours                           float64 // from a failure until redundancy is back
	Trials                          int     // array-years
}

// perHost is how many hosts one processor of etcd would keep, with half of it left.
func (f scaleFigures) PerHost() int {
	return int(500/math.Max(0.01, (f.EtcdCPU-f.EtcdNone)/float64(f.Hosts))) / 100 * 100
}

// ADay is how many disks fail on a day in the largest fleet, Gigabits what a rebuild moves a second, and Days how long it takes.
func (f scaleFigures) ADay() string      { return readable(math.Round(100_000 * 24 * diskLoss / 365)) }
func (f scaleFigures) Gigabits() float64 { return members * diskRate * 8 / 1e9 }
func (f scaleFigures) Days() float64     { return diskBytes / diskRate / 86400 }

// Millions is how long was simulated.
func (f scaleFigures) Millions() int { return f.Trials / 1_000_000 }

// fleetRow is what so many hosts need.
type fleetRow struct {
	Hosts                                    string
	Series, Scrape, Failures, Rebuilds, Asks string
	Local, Spread                            string // bytes a second of rebuilds, on average: within hosts, between them
}

// placeRow is what becomes of arrays in a year, by where their members are.
type placeRow struct {
	Name                  string
	Lost, Blocks, Exposed float64 // of all arrays: lost, with blocks that cannot be read, hours a year without margin
	Of1000, Of100k        string
	Stands                float64 // hours a year out of service, since hosts are down
}

// need is a value without which nothing can be measured.
func need[T any](v T, err error) T {
	if err != nil {
		log.Fatal(err)
	}
	return v
}

func scale(to string) {
	f := scaleFigures{Date: time.Now().Format("2006-01-02"), Hosts: 40, Asked: 1000, Trials: 40_000_000}
	dir := need(folder("/dev/shm", "scale"))
	defer os.RemoveAll(dir)
	status, next := f.oneHost(filepath.Join(dir, "gull"))
	f.etcd(dir)
	f.ask(filepath.Join(dir, "office"), status, next)
	f.simulate()
	f.arithmetic()
	out := need(os.Create(to))
	must(0, scaleText.Execute(out, f))
	must(0, out.Close())
}

// host is a service of the built program.
type host struct {
	home string
	cmd  *exec.Cmd
}

func newHost(home, config string) *host {
	must(0, os.MkdirAll(home, 0o700))
	must(0, os.WriteFile(filepath.Join(home, "nidalo.toml"), []byte(config), 0o600))
	return &host{home: home}
}

func (h *host) start() {
	h.cmd = exec.Command(*program, "serve", "-home", h.home)
	must(0, begin(h.cmd))
	for range 200 {
		if nc, err := net.Dial("unix", filepath.Join(h.home, "control.sock")); err == nil {
			_ = nc.Close()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	log.Fatal("the service does not answer")
}

func (h *host) end() {
	_ = h.cmd.Process.Signal(syscall.SIGTERM)
	_ = h.cmd.Wait()
}

func (h *host) do(args ...string) []byte {
	c := exec.Command(*program, append(args, "-home", h.home)...)
	out, err := c.Output()
	if err != nil {
		log.Fatalf("nidalo %v: %v\n%s", args, err, out)
	}
	return out
}

// call asks the service itself.
func (h *host) call(name, body string) []byte {
	client := &http.Client{Transport: &http.Transport{Dial: func(string, string) (net.Conn, error) { return net.Dial("unix", filepath.Join(h.home, "control.sock")) }}}
	reply := need(client.Post("http://nidalo/v1/"+name, "application/json", strings.NewReader(body)))
	defer reply.Body.Close()
	return need(io.ReadAll(reply.Body))
}

// oneHost measures a host with 24 disks in three arrays, one of which loses a disk.
func (f *scaleFigures) oneHost(home string) (status, next []byte) {
	h := newHost(home, "host_disks = false\n[listen]\nmetrics = \"127.0.0.1:19890\"\n")
	h.do("lab", "new", "-bays", "24", "-size", "96MiB")
	h.start()
	defer h.end()
	for i, name := range []string{"tides", "charts", "vault"} {
		disks := []string{"A1-A8", "B1-B8", "C1-C8"}[i]
		if !strings.Contains(string(h.do("disks")), "B1 ") {
			disks = fmt.Sprintf("A%d-A%d", 1+8*i, 8+8*i)
		}
		h.do("create", "-yes", "-name", name, "-level", "6", disks)
	}
	scrape := need(http.Get("http://127.0.0.1:19890/metrics"))
	text := need(io.ReadAll(scrape.Body))
	f.Scrape = len(text)
	for _, line := range bytes.Split(text, []byte("\n")) {
		if len(line) > 0 && line[0] != '#' {
			f.Series++
		}
	}
	before := time.Now()
	time.Sleep(10 * time.Millisecond)
	h.do("lab", "pull", "A2")
	h.do("lab", "insert", "A2")
	time.Sleep(2 * time.Second)
	var st struct {
		Arrays []struct {
			Members []struct{ Bay, Serial, Condition string }
		}
	}
	must(0, json.Unmarshal(h.do("status", "-json", "tides"), &st))
	for _, m := range st.Arrays[0].Members {
		if m.Bay == "A2" {
			h.do("replace", "-wait", "tides", m.Serial, "A2")
		}
	}
	h.do("check", "-wait", "tides")
	var history struct {
		Events []struct {
			Time     time.Time
			Severity string
		}
	}
	must(0, json.Unmarshal(h.do("history", "-json"), &history))
	for _, e := range history.Events {
		if e.Time.Before(before) {
			continue
		}
		switch e.Severity {
		case "critical":
			f.Critical++
		case "warning":
			f.Warnings++
		default:
			f.Infos++
		}
	}
	status, next = h.call("status", `""`), h.call("next", "{}")
	f.Reply = len(status) + len(next)
	f.Resident = int(resident(h.cmd.Process.Pid) / (1 << 20))
	return status, next
}

// cpu is the time a process has had, ms.
func cpu(pid int) float64 {
	raw := need(os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)))
	_, rest, _ := strings.Cut(string(raw), ") ")
	words := strings.Fields(rest)
	u, _ := strconv.ParseFloat(words[11], 64)
	s, _ := strconv.ParseFloat(words[12], 64)
	return 10 * (u + s)
}

// etcd measures what an etcd does for hosts that keep their leases in it.
func (f *scaleFigures) etcd(dir string) {
	at := "127.0.0.1:19891"
	e := exec.Command("etcd", "--data-dir", filepath.Join(dir, "etcd"), "--listen-client-urls", "http://"+at, "--advertise-client-urls", "http://"+at,
		"--listen-peer-urls", "http://127.0.0.1:19892", "--initial-advertise-peer-urls", "http://127.0.0.1:19892", "--initial-cluster", "default=http://127.0.0.1:19892", "--log-level", "error")
	must(0, begin(e))
	defer func() {
		_ = e.Process.Kill()
		_ = e.Wait()
	}()
	rate := func() float64 { // ms a second
		const over = 20 * time.Second
		before := cpu(e.Process.Pid)
		time.Sleep(over)
		return (cpu(e.Process.Pid) - before) / over.Seconds()
	}
	time.Sleep(3 * time.Second)
	f.EtcdNone = rate()
	for i := range f.Hosts {
		h := newHost(filepath.Join(dir, fmt.Sprint("host", i)), fmt.Sprintf("host_disks = false\nhost_name = \"host%d\"\n[ownership]\netcd = [%q]\n", i, at))
		h.start()
		defer h.end()
	}
	time.Sleep(5 * time.Second)
	f.EtcdCPU = rate()
}

// ask has nidalo fleet ask hosts that answer as the one that was measured did.
func (f *scaleFigures) ask(home string, status, next []byte) {
	var hosts []string
	answer := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if filepath.Base(r.URL.Path) == "next" {
			_, _ = w.Write(next)
		} else {
			_, _ = w.Write(status)
		}
	})
	for i := range f.Asked {
		l := need(net.Listen("tcp", fmt.Sprintf("127.0.%d.%d:0", 1+i/250, 1+i%250)))
		defer l.Close()
		go func() { _ = http.Serve(l, answer) }()
		hosts = append(hosts, fmt.Sprintf("%q", "http://"+l.Addr().String()))
	}
	h := newHost(home, "[fleet]\nhosts = ["+strings.Join(hosts, ", ")+"]\n")
	c := exec.Command(*program, "fleet", "status", "-home", h.home)
	began := time.Now()
	out := need(c.Output())
	if !strings.HasPrefix(string(out), fmt.Sprint(f.Asked)) {
		log.Fatalf("%.200s", out)
	}
	f.AskTook = time.Since(began).Seconds()
	f.AskMiB = float64(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
}

// The assumptions of the simulation; disks as in package plan.
const (
	diskLoss   = 0.015 // of disks a year
	hostLoss   = 0.002 // of hosts a year, with all their disks, for good
	hostDowns  = 2.0   // a year
	hostDown   = 4.0   // hours each
	bitLoss    = 1e-15 // chance that a bit cannot be read
	diskBytes  = 16e12
	diskRate   = 150e6 / 3 // of a rebuild at pace normal, bytes a second
	comesAfter = 24.0      // hours until a new disk is in place
	members    = 8
	margin     = 2
	yearHours  = 8760.0
)

// simulate plays arrays of eight members at level 6, a year each, by how many members are on one host.
func (f *scaleFigures) simulate() {
	f.Hours = comesAfter + diskBytes/diskRate/3600
	r := rand.New(rand.NewPCG(1, 2))
	for _, p := range []struct {
		name string
		on   int // members on each host
	}{{"all on one host", members}, {"two on each of four hosts", 2}, {"one on each of eight hosts", 1}} {
		row := placeRow{Name: p.name}
		hosts := members / p.on
		rate := members*diskLoss + float64(hosts)*hostLoss
		for range f.Trials {
			n := poisson(r, rate)
			if n == 0 {
				continue
			}
			type loss struct {
				at   float64
				host bool
				who  int
			}
			events := make([]loss, n)
			for i := range events {
				events[i] = loss{r.Float64() * yearHours, r.Float64() < float64(hosts)*hostLoss/rate, 0}
				events[i].who = r.IntN(map[bool]int{true: hosts, false: members}[events[i].host])
			}
			for i := 1; i < n; i++ { // few
				for j := i; j > 0 && events[j].at < events[j-1].at; j-- {
					events[j], events[j-1] = events[j-1], events[j]
				}
			}
			var back [members]float64 // when each member counts again
			lost, blocks := false, false
			for _, e := range events {
				var gone []int
				if e.host {
					for m := e.who * p.on; m < (e.who+1)*p.on; m++ {
						gone = append(gone, m)
					}
				} else {
					gone = []int{e.who}
				}
				for _, m := range gone {
					back[m] = e.at + f.Hours
				}
				away := 0
				for _, b := range back {
					if b > e.at {
						away++
					}
				}
				if away > margin {
					lost = true
				}
				if away == margin {
					row.Exposed += f.Hours
					if r.Float64() < 1-math.Exp(-bitLoss*8*diskBytes*(members-margin)) {
						blocks = true
					}
				}
			}
			if lost {
				row.Lost++
			} else if blocks {
				row.Blocks++
			}
		}
		row.Lost /= float64(f.Trials)
		row.Blocks /= float64(f.Trials)
		row.Exposed /= float64(f.Trials)
		row.Of1000, row.Of100k = chanceOfAny(row.Lost, 1000), chanceOfAny(row.Lost, 100_000)
		// Out of service: more members are away than the margin at the same time, through hosts that are down.
		down := hostDowns * hostDown / yearHours
		for k := 1; k <= hosts; k++ {
			if k*p.on > margin {
				row.Stands += yearHours * binomial(hosts, k) * math.Pow(down, float64(k)) * math.Pow(1-down, float64(hosts-k))
			}
		}
		f.Places = append(f.Places, row)
	}
}

func poisson(r *rand.Rand, mean float64) (n int) {
	for p := r.Float64(); p > math.Exp(-mean); p *= r.Float64() {
		n++
	}
	return n
}

func binomial(n, k int) float64 {
	out := 1.0
	for i := range k {
		out = out * float64(n-i) / float64(i+1)
	}
	return out
}

// chanceOfAny says how many of n arrays are lost in a year.
func chanceOfAny(p float64, n int) string {
	if x := p * float64(n); x >= 1 {
		return fmt.Sprintf("%.0f a year", x)
	} else if x > 0 {
		return "one in " + readable(1/x) + " years"
	}
	return "none seen"
}

// readable is a number as people write it.
func readable(v float64) string {
	if v < 100 {
		return fmt.Sprintf("%.2g", v)
	}
	n := int64(math.Round(v))
	if v >= 10_000 {
		n = int64(math.Round(v/1000)) * 1000
	}
	text := strconv.FormatInt(n, 10)
	for at := len(text) - 3; at > 0; at -= 3 {
		text = text[:at] + "," + text[at:]
	}
	return text
}

// arithmetic says what follows for fleets.
func (f *scaleFigures) arithmetic() {
	amount := func(v float64, unit string) string {
		for _, u := range []string{"", "k", "M", "G", "T"} {
			if v >= 99.5 && v < 1000 {
				return strings.TrimSpace(fmt.Sprintf("%.0f %s%s", v, u, unit))
			}
			if v < 1000 || u == "T" {
				return strings.TrimSpace(fmt.Sprintf("%.2g %s%s", v, u, unit))
			}
			v /= 1000
		}
		return ""
	}
	for _, n := range []int{1, 10, 1000, 100_000} {
		hosts := float64(n)
		failures := hosts * 24 * diskLoss
		moved := failures * diskBytes / (yearHours * 3600) // each member is read, or written, once
		f.Fleets = append(f.Fleets, fleetRow{Hosts: readable(hosts),
			Series: amount(hosts*float64(f.Series), ""), Scrape: amount(hosts*float64(f.Scrape)/15, "B/s"),
			Failures: readable(failures), Rebuilds: readable(failures * f.Hours / yearHours),
			Asks: amount(math.Max(hosts*f.AskTook/float64(f.Asked), 0.05), "s"), Local: amount(moved*members, "B/s"), Spread: amount(moved*members*7/8, "B/s")})
	}
}

var scaleText = template.Must(template.New("").Parse(`# From one host to many

What 1, 10, 1,000 and 100,000 hosts need. The figures were measured on {{.Date}} with the program itself, on two processors, by ` + "`go run . -scale ../docs/scale.md`" + ` in bench; what many hosts need follows from
them, or was simulated, as each part says.

## One host

24 disks in three arrays of level 6: {{.Series}} series, {{.Scrape}} bytes a scrape; {{.Reply}} bytes for ` + "`status` and `next`" + `; {{.Resident}} MiB resident. A disk that fails, is replaced, rebuilt and checked makes
{{.Critical}} critical events, {{.Warnings}} warnings and {{.Infos}} more.

## A fleet

With such hosts: disks fail at 1.5% a year; redundancy is back {{printf "%.0f" .Hours}} h after a failure (24 h until a new disk is in place, then 16 TB at 50 MB/s, the pace beside clients).

| hosts | series | scraped every 15 s | disks that fail a year | rebuilds at a time | ` + "`nidalo fleet status`" + ` takes | rebuilds move, on average | of that between hosts, where each member is on another |
|---|---|---|---|---|---|---|---|
{{range .Fleets}}| {{.Hosts}} | {{.Series}} | {{.Scrape}} | {{.Failures}} | {{.Rebuilds}} | {{.Asks}} | {{.Local}} | {{.Spread}} |
{{end}}
* **Metrics.** One collector takes a few million series. Beyond that they are split over several, by host, and the recorded series of packaging/monitoring are what the level above collects.
* **nidalo fleet.** {{.Asked}} hosts on the loopback, with answers of the size above, took {{printf "%.1f" .AskTook}} s and {{printf "%.0f" .AskMiB}} MiB, without encryption; 64 are asked at a time, and each host that does not answer holds one of these places for ten
  seconds. It is made for a screen and for thousands; for more, watch the metrics, and ask the hosts of one room.
* **Alerts.** Each host tells by itself. With 100,000 hosts {{.ADay}} disks fail on a day. The example routes in packaging/monitoring group by host and array; for so many, group by room, and let only critical alerts wake anybody.
* **Rebuilds.** One rebuild reads or writes eight disks at 50 MB/s. With members elsewhere that is {{printf "%.1f" .Gigabits}} Gbit/s through the owner's port for {{printf "%.1f" .Days}} days; on a port of 1 Gbit/s it takes {{printf "%.1f" .Gigabits}} times as long, and the array is at risk for as long. Members in
  other racks put all of it on the links between racks.

## etcd

An etcd on one machine with {{.Hosts}} hosts, none of which has an array: {{printf "%.0f" .EtcdCPU}} ms of processor a second, {{printf "%.0f" .EtcdNone}} without any. A host renews its lease three times in its length and hears of changes of owners instead of asking. By that half a
processor would keep about {{.PerHost}} hosts; a cluster of three also writes each renewal's answer on a majority. Rosters are written when an array loses a member or takes one in, which is rare. When a switch is lost, all owners behind it
lose their leases at once and all others try to take over in the same seconds: groups of some hundred hosts with an etcd of their own, in the same room as their disks, keep that small.
**Limit:** every host hears of every owner in its etcd, so with n hosts and as many arrays a restart of etcd costs n² answers. A thousand hosts are a million; a hundred thousand hosts need separate groups.

## Where the members are

Eight members of 16 TB at level 6, simulated for {{.Millions}} million years of an array each (seed 1, 2). Besides the disks, hosts are lost for good with all their disks (0.2% a year) and are down for four hours twice a year; one bit in 10¹⁵ cannot be read. Counted as lost: three members at once.
Blocks: two members at once, and a bit among the rest that cannot be read.

| members | arrays lost in a year | arrays with unreadable blocks | h a year without margin | h a year out of service | of 1,000 such arrays are lost | of 100,000 |
|---|---|---|---|---|---|---|
{{range .Places}}| {{.Name}} | {{printf "%.1e" .Lost}} | {{printf "%.1e" .Blocks}} | {{printf "%.3f" .Exposed}} | {{printf "%.2g" .Stands}} | {{.Of1000}} | {{.Of100k}} |
{{end}}
On one host the host decides: what takes it takes the array. Two members on each of four hosts survive any host, but after that have no margin. One on each of eight hosts is as safe as its disks. What it costs is in
[performance.md](performance.md) (members elsewhere): about half the speed on one machine, and the network above.

## What these figures do not know

* Disks of one batch that fail together, a fault of a switch or of power in a room, and people. The simulation has independent losses only.
* A real network: renewals that are late because links are full, and TLS handshakes of hundreds of disks after a switch restarts.
* More than one etcd: one process was measured, on the memory of the same machine.
* Hosts were not measured by the thousand: what a fleet needs is one host's figures times their number, but for ` + "`nidalo fleet`" + `.
`))
