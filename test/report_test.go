package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPlanSaysWhatIsMade(t *testing.T) {
	b := newBench(t)
	out := b.nidalo("plan", "-all", "-sizes", "8x12TB", "-want", "capacity")
	for _, level := range []string{"0", "1", "5", "6", "triple", "10, 4 groups", "50, 2 groups", "60, 2 groups", "concat"} {
		require.Regexp(t, `(?m)^`+regexp.QuoteMeta(level)+` `, out)
	}
	require.Contains(t, out, "Recommended: level 6")
	require.Contains(t, out, "1.5% of disks fail in a year (-afr)", "what is assumed is said")
	var one, spare struct {
		Option struct {
			Year     float64 `json:"loss_in_a_year"`
			Capacity int64   `json:"capacity_bytes"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("plan", "-sizes", "6x4TB", "-level", "6", "-json")), &one))
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("plan", "-sizes", "6x4TB", "-level", "6", "-swap-in", "0s", "-json")), &spare))
	require.Less(t, spare.Option.Year, one.Option.Year, "a spare is safer")
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	var planned, made struct {
		Option struct {
			Capacity int64 `json:"capacity_bytes"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("plan", "-level", "5", "-json", "A1", "A2", "A3", "A4")), &planned))
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3", "A4")
	made.Option.Capacity = b.status().Arrays[0].Capacity
	require.Equal(t, made.Option.Capacity, planned.Option.Capacity, "what is planned is what is made")
	b.refused(2, []string{"4x12TB"}, "plan", "-sizes", "many")
	b.refused(1, []string{"at least 4 disks"}, "plan", "-sizes", "3x1TB", "-level", "6")
	b.refused(1, []string{"no blank disks"}, "plan")
}

// TestWhatIfIsWhatHappens: what the loss of disks is said to do is what it does.
func TestWhatIfIsWhatHappens(t *testing.T) {
	for _, c := range []struct {
		lose   []string
		after  string
		margin int
	}{{[]string{"A1"}, "exposed", 0}, {[]string{"A1", "A4"}, "exposed", 0}, {[]string{"A1", "A2"}, "failed", 0}} {
		b := newBench(t)
		b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
		b.nidalo("create", "-name", "tides", "-level", "10", "A1", "A2", "A3", "A4")
		b.start()
		var said struct {
			Arrays []struct {
				After  string
				Margin int
				Fatal  []string `json:"then_fatal"`
			}
		}
		require.NoError(t, json.Unmarshal([]byte(b.nidalo("plan", "-json", "-lose", strings.Join(c.lose, ","), "tides")), &said))
		require.Equal(t, c.after, said.Arrays[0].After)
		for _, bay := range c.lose {
			b.nidalo("lab", "pull", bay)
		}
		b.eventually(c.after, func() bool { return b.condition() == c.after })
		require.Equal(t, c.margin, b.status().Arrays[0].Margin)
		if c.after != "failed" {
			require.Contains(t, b.nidalo("plan", "-lose", "A2", "tides"), "hold the same data")
		}
	}
}

func TestInspectTellsWhatDisksCarryAndWhoDisagrees(t *testing.T) {
	b, _, _ := filled(t, 20*mib)
	out := b.nidalo("inspect", "A1", "A7")
	require.Contains(t, out, "tides, level 6")
	require.Contains(t, out, "all whole")
	require.Contains(t, out, "nothing: it is blank")
	b.nidalo("lab", "pull", "A2")
	b.eventually("missing", func() bool { return b.condition() == "degraded" })
	b.stop(15)
	b.nidalo("lab", "insert", "A2", "-disk", "ORR-0200")
	out = b.nidalo("inspect", "A1", "A2")
	require.Contains(t, out, "A1 carries the newest record")
	require.Contains(t, out, "the newest says missing")
	require.Regexp(t, `changed +0 of 256 parts since epoch \d+, when the first member left`, out)
	f, err := os.OpenFile(filepath.Join(b.home, "lab", "A2", "disk.img"), os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(bytes.Repeat([]byte{0xff}, 4096), 4096/2)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	require.Contains(t, b.nidalo("inspect", "A2"), "first damaged")
}

func TestReportsForMonitoring(t *testing.T) {
	b := newBench(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	b.configure(fmt.Sprintf("[listen]\nmetrics = %q\n", address))
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4")
	b.start()
	code, line, _ := b.try("report", "-verdict")
	require.Zero(t, code)
	require.Regexp(t, `^FINE: 1 array: 1 healthy \| tides_margin=2\n$`, line)
	promtool := func(text string) {
		t.Helper()
		c := exec.Command("promtool", "check", "metrics")
		c.Stdin = strings.NewReader(text)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	get := func() string {
		t.Helper()
		r, err := http.Get("http://" + address + "/metrics")
		require.NoError(t, err)
		defer r.Body.Close()
		var text bytes.Buffer
		_, err = text.ReadFrom(r.Body)
		require.NoError(t, err)
		return text.String()
	}
	promtool(get())
	require.Contains(t, get(), `nidalo_array_margin{array="tides"} 2`)
	require.Contains(t, b.nidalo("report", "-metrics"), "# EOF")
	b.eventually("asked", func() bool {
		return strings.Contains(get(), `nidalo_disk_grade{array="tides",grade="fine",serial="TMK-0193",slot="0"} 1`)
	})
	require.Regexp(t, `nidalo_disk_temperature_celsius\{array="tides",serial="TMK-0193",slot="0"\} \d+`, get())
	b.nidalo("lab", "pull", "A1")
	b.eventually("degraded", func() bool { return b.condition() == "degraded" })
	code, line, _ = b.try("report", "-verdict")
	require.Equal(t, 1, code)
	require.Contains(t, line, "WARNING: 1 array: 1 degraded")
	require.Contains(t, get(), `nidalo_array_condition{array="tides",condition="degraded",level="6"} 1`)
	b.nidalo("lab", "pull", "A2")
	b.eventually("exposed", func() bool { return b.condition() == "exposed" })
	code, line, _ = b.try("report", "-verdict")
	require.Equal(t, 2, code)
	require.Contains(t, line, "CRITICAL")
	promtool(get())
	b.stop(15)
	require.NoError(t, os.WriteFile(filepath.Join(b.home, "service.json"), []byte("{"), 0o600))
	code, line, _ = b.try("report", "-verdict")
	require.Equal(t, 3, code)
	require.Contains(t, line, "UNKNOWN: ")
}

// TestTheReportPageInABrowser: it opens, shows what there is, and loads nothing from elsewhere.
func TestTheReportPageInABrowser(t *testing.T) {
	b, _, _ := filled(t, 20*mib)
	b.nidalo("check", "-wait", "tides")
	for range 2 {
		b.nidalo("fail", "-yes", "tides", "A2")
		b.nidalo("replace", "-wait", "tides", "A2", "A7")
		b.nidalo("erase", "-yes", "A2")
		b.nidalo("fail", "-yes", "tides", "A7")
		b.nidalo("replace", "-wait", "tides", "A7", "A2")
		b.nidalo("erase", "-yes", "A7")
	}
	b.nidalo("lab", "pull", "A3")
	b.eventually("degraded", func() bool { return b.condition() == "degraded" })
	b.eventually("asked how they are", func() bool { return strings.Count(b.nidalo("report", "-json"), `"grade": "fine"`) == 5 })
	page := filepath.Join(b.home, "report.html")
	b.nidalo("report", "-html", page)
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	for _, outside := range []string{"src=", "href=\"http", "@import", "url(", "<script"} {
		require.NotContains(t, string(text), outside)
	}
	c := exec.Command("chromium", "--headless", "--no-sandbox", "--disable-gpu", "--window-size=1280,800", "--user-data-dir="+filepath.Join(b.home, "chromium"),
		"--enable-logging=stderr", "--v=0", "--dump-dom", "file://"+page)
	var dom, log bytes.Buffer
	c.Stdout, c.Stderr = &dom, &log
	require.NoError(t, c.Run(), "%s", &log)
	require.NotContains(t, log.String(), "CONSOLE")
	require.Equal(t, 6, strings.Count(dom.String(), `class="bay `))
	require.Contains(t, dom.String(), `class="bay missing"`)
	require.Contains(t, dom.String(), "nidalo replace tides A3 A7")
	require.Contains(t, dom.String(), "Rate of rebuilds")
	require.Contains(t, dom.String(), "Temperature of disks", "the first readings are taken at once")
	require.Contains(t, dom.String(), "What the disks say of themselves")
	require.Contains(t, dom.String(), "Consistency checks")
	require.Equal(t, 2, strings.Count(dom.String(), "<figure>"), "rates and temperatures; no disk had an error")
	require.Contains(t, dom.String(), "✕ missing", "conditions can be told without colours")
	said, err := exec.Command("tidy", "-e", "-q", page).CombinedOutput()
	require.NoError(t, err, "%s", said)
	require.Empty(t, string(said), "it is valid HTML")
	var r struct {
		Level, Summary string
		Risk           map[string]struct {
			Rebuild float64 `json:"loss_in_a_rebuild"`
		}
	}
	whole := []byte(b.nidalo("report", "-json"))
	require.NoError(t, json.Unmarshal(whole, &r))
	require.Equal(t, "warning", r.Level)
	var keys map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(whole, &keys))
	described, err := os.ReadFile("../docs/report.md")
	require.NoError(t, err)
	for key := range keys {
		require.Contains(t, string(described), "`"+key+"`", "docs/report.md describes every key")
	}
	var says struct {
		Health []struct {
			Serial   string
			Verdict  struct{ Grade string }
			Readings struct{ Temperature float64 }
		}
	}
	require.NoError(t, json.Unmarshal(whole, &says))
	require.Len(t, says.Health, 5, "the one that is away says nothing")
	for _, h := range says.Health {
		require.Equal(t, "fine", h.Verdict.Grade)
		require.Positive(t, h.Readings.Temperature)
	}
	require.Positive(t, r.Risk["tides"].Rebuild)
	members := strings.Split(strings.TrimSpace(b.nidalo("report", "-csv")), "\n")
	require.Len(t, members, 7)
	require.True(t, strings.HasPrefix(members[0], "array,level,array_condition,margin,slot,group,bay,"))
	require.Contains(t, strings.Join(members, "\n"), "missing")
	require.Contains(t, b.nidalo("report"), "What to do")
}

func TestTheMapShowsWhereDataLives(t *testing.T) {
	b, _, _ := filled(t, 40*mib)
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "write -P 7 200M 4M", "-c", "flush")
	var m struct {
		Check   float64
		Members []struct {
			Data    int64 `json:"data_bytes"`
			Written []bool
			Bad     []int
			Cursor  float64
			Copied  float64
			Strips  []string
		}
	}
	look := func() {
		t.Helper()
		m.Members = nil
		require.NoError(t, json.Unmarshal([]byte(b.nidalo("status", "-map", "-json", "tides")), &m))
	}
	look()
	parts := float64(len(m.Members[0].Written))
	at := func(off float64) int { return int(off / 4 / float64(m.Members[0].Data) * parts) } // four data strips a stripe
	for _, x := range m.Members {
		require.True(t, x.Written[at(20*mib)])
		require.True(t, x.Written[at(202*mib)])
		require.False(t, x.Written[at(120*mib)])
		require.Negative(t, x.Cursor)
		require.Negative(t, x.Copied)
	}
	require.Equal(t, []string{"0", "1", "2", "3", "P0", "Q0"}, []string{m.Members[0].Strips[0], m.Members[1].Strips[0], m.Members[2].Strips[0], m.Members[3].Strips[0], m.Members[4].Strips[0], m.Members[5].Strips[0]})
	require.Negative(t, m.Check)

	b.nidalo("lab", "damage", "A4", "-change", "12MiB:4KiB")
	code, text, _ := b.try("check", "-wait", "-json", "tides")
	require.Equal(t, 1, code, text)
	look()
	for i, x := range m.Members {
		sum := 0
		for part, n := range x.Bad {
			if sum += n; n > 0 {
				require.Less(t, part, int(parts)/4, "12 MiB of 64, less what comes before the data")
			}
		}
		require.Equal(t, map[bool]int{true: 1, false: 0}[i == 3], sum, "member %d", i)
	}
	require.Contains(t, b.nidalo("status", "-map", "tides"), "nidalo check -repair tides")
	b.nidalo("check", "-repair", "-wait", "tides")
	require.NotContains(t, b.nidalo("status", "-map", "tides"), "-repair")
	b.refused(2, []string{"which array"}, "status", "-map")
}

func TestSwapsAreForetold(t *testing.T) {
	b, _, _ := filled(t, 40*mib)
	text := b.nidalo("plan", "-replace", "A3", "-with", "128MiB")
	require.Contains(t, text, "margin 1 instead of 2")
	require.Contains(t, text, "no more space")
	var got struct {
		Slots []int
		Swap  struct {
			Now  int64 `json:"capacity_now_bytes"`
			Then int64 `json:"capacity_then_bytes"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("plan", "-grow", "tides", "-with", "128MiB", "-json")), &got))
	require.Len(t, got.Slots, 6)
	require.Equal(t, b.status().Arrays[0].Capacity, got.Swap.Now)
	require.Greater(t, got.Swap.Then, 19*got.Swap.Now/10)
	b.refused(1, []string{"too small"}, "plan", "-replace", "A3", "-with", "32MiB")
	b.refused(1, []string{"no member", "smaller"}, "plan", "-grow", "tides", "-with", "64MiB")
	b.refused(2, []string{"-with"}, "plan", "-grow", "tides")
	b.refused(1, []string{"no rebuild that ended here"}, "plan", "-rate", "measured")
	for _, swap := range [][]string{{"A3", "A7"}, {"A4", "A8"}} {
		b.nidalo("replace", "-yes", "-wait", "tides", swap[0], swap[1])
	}
	var measured struct {
		Assumptions struct {
			Rate     float64
			Measured int
		}
		Options []struct {
			Level   string
			Rebuild int64 `json:"rebuild_ns"`
			Paced   int64 `json:"rebuild_paced_ns"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("plan", "-rate", "measured", "-sizes", "6x4TB", "-json")), &measured))
	require.Equal(t, 2, measured.Assumptions.Measured)
	rates := []float64{}
	var h struct {
		Tasks []struct {
			Kind           string
			Started, Ended time.Time
			Moved          int64 `json:"moved_bytes"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("history", "-tasks", "-json")), &h))
	for _, x := range h.Tasks {
		if x.Kind == "rebuild" {
			rates = append(rates, float64(x.Moved)/x.Ended.Sub(x.Started).Seconds())
		}
	}
	require.InEpsilon(t, slices.Max(rates), measured.Assumptions.Rate, 1e-6)
	for _, o := range measured.Options {
		require.InEpsilon(t, 3*o.Rebuild+1, o.Paced+1, 1e-6, o.Level)
	}
	require.Contains(t, b.nidalo("plan", "-rate", "measured", "-sizes", "6x4TB"), "the median of 2 rebuilds here")
}
