package test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// fleetSays is what nidalo fleet status -json says.
type fleetSays struct {
	Level, Summary string
	Hosts          []struct {
		Host, Level, Address string
		Told                 *time.Time
		Age                  *float64 `json:"age_seconds"`
		Why                  string   `json:"no_answer"`
		Status               *status
	}
	Next []struct {
		Host, Command string
		Old           bool
	}
}

func (b *bench) fleet() (f fleetSays) {
	b.t.Helper()
	require.NoError(b.t, json.Unmarshal([]byte(b.nidalo("fleet", "status", "-json")), &f))
	return f
}

// watchable is a host with an array of two disks at which others may look.
func watchable(t *testing.T, name, array string, settings string) (*bench, *relay) {
	b, r := newBench(t), newRelay(t)
	b.nidalo("lab", "new", "-bays", "2", "-size", "64MiB")
	b.configure(fmt.Sprintf("host_name = %q\n[fleet]\naddress = \"127.0.0.1:0\"\nwatchers = [\"office\"]\n%s", name, settings))
	b.start()
	b.leads(r, "others may look here")
	b.nidalo("create", "-yes", "-name", array, "-level", "1", "A1", "A2")
	return b, r
}

func watcher(t *testing.T, settings string, ways ...string) *bench {
	b := newBench(t)
	b.configure(fmt.Sprintf("[fleet]\nhosts = [%s]\n%s", `"`+strings.Join(ways, `", "`)+`"`, settings))
	return b
}

// Several hosts are looked at over TLS by those whom they name, dangers first. One that does not answer is named, and shown as it was.
func TestAFleetIsWatchedTogether(t *testing.T) {
	ours, others := newAuthority(t), newAuthority(t)
	gull, toGull := watchable(t, "gull", "tides", ours.host("gull"))
	heron, toHeron := watchable(t, "heron", "charts", ours.host("heron"))
	nobody := newRelay(t)
	nobody.set(refusing)
	office := watcher(t, ours.host("office"), toGull.address(), toHeron.address(), nobody.address())
	heron.nidalo("lab", "pull", "A1")
	heron.eventually("missing", func() bool { return heron.condition() == "exposed" })
	f := office.fleet()
	require.Equal(t, "critical", f.Level)
	require.Equal(t, []string{"heron", nobody.address(), "gull"}, []string{f.Hosts[0].Host, f.Hosts[1].Host, f.Hosts[2].Host})
	require.Equal(t, []string{"critical", "warning", "fine"}, []string{f.Hosts[0].Level, f.Hosts[1].Level, f.Hosts[2].Level})
	require.Nil(t, f.Hosts[1].Told)
	require.NotEmpty(t, f.Hosts[1].Why)
	require.Equal(t, "exposed", f.Hosts[0].Status.Arrays[0].Condition)
	require.Equal(t, "heron", f.Next[0].Host)
	out := office.nidalo("fleet", "status")
	require.Regexp(t, `(?s)heron +charts .*gull +tides `, out)
	require.Contains(t, out, "Nothing is known of it from before")
	code, line, _ := office.try("fleet", "report", "-verdict")
	require.Equal(t, 2, code)
	require.Contains(t, line, "CRITICAL: 3 hosts, 1 of them out of reach, 2 arrays: 1 exposed, 1 healthy; heron: charts")
	page := filepath.Join(office.home, "fleet.html")
	office.nidalo("fleet", "report", "-html", page)
	office.tool("tidy", "-q", "-e", "--drop-empty-elements", "no", page)

	// Only those that are named may look, and they may not do more.
	stranger := watcher(t, ours.host("plover"), toGull.address())
	require.Contains(t, stranger.fleet().Hosts[0].Why, "names nobody who may look here")
	require.NotEmpty(t, watcher(t, others.host("office"), toGull.address()).fleet().Hosts[0].Why)
	require.NotEmpty(t, watcher(t, "", "http://"+toGull.address()).fleet().Hosts[0].Why)
	pair, err := tls.LoadX509KeyPair(filepath.Join(ours.dir, "office.crt"), filepath.Join(ours.dir, "office.key"))
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(ours.cert)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, Certificates: []tls.Certificate{pair}}}}
	reply, err := client.Post("https://"+toGull.address()+"/v1/stop", "application/json", strings.NewReader(`"tides"`))
	require.NoError(t, err)
	said, _ := io.ReadAll(reply.Body)
	require.Contains(t, string(said), "you may look here, and change nothing")
	require.Equal(t, "healthy", gull.condition())
	_, err = (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}).Get("https://" + toGull.address() + "/v1/status")
	require.Error(t, err)

	// A host that is lost stays in sight, with the age of what it said.
	require.Zero(t, gull.stop(syscall.SIGTERM))
	f = office.fleet()
	last := f.Hosts[len(f.Hosts)-1]
	require.Equal(t, []any{"gull", "warning", "tides"}, []any{last.Host, last.Level, last.Status.Arrays[0].Name})
	require.NotEmpty(t, last.Why)
	require.Positive(t, *last.Age)
	require.Contains(t, office.nidalo("fleet", "status"), "It is shown as it was")
	gull.start()
	gull.leads(toGull, "others may look here")
	require.Empty(t, office.fleet().Hosts[2].Why)

	// Where answers cannot be kept that is said, and they are shown all the same.
	require.NoError(t, os.RemoveAll(filepath.Join(office.home, "fleet")))
	require.NoError(t, os.WriteFile(filepath.Join(office.home, "fleet"), nil, 0o600))
	code, out, why := office.try("fleet", "status")
	require.Zero(t, code)
	require.Contains(t, out, "tides")
	require.Contains(t, why, "cannot be kept")
}

// What a host says is bounded, and nothing of it reaches a terminal that is not text.
func TestAHostOfAFleetSaysAnything(t *testing.T) {
	office := newBench(t)
	says := func(f func(w http.ResponseWriter, call string)) string {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { f(w, filepath.Base(r.URL.Path)) }))
		t.Cleanup(s.Close)
		return s.URL
	}
	array := `{"host": "\u001b[2Jgull", "arrays": [{"name": "\u001b[31mtides\u0007", "level": "6", "condition": "\u001b[5mfine", "members": null, "tasks": [{"kind": "\r\nx"}]}]}`
	urls := []string{
		says(func(w http.ResponseWriter, call string) {
			fmt.Fprint(w, map[string]string{"status": array, "next": `{"steps": [{"urgency": "\u001b[1m", "do": "a\u0000b", "why": "\u202etxt"}]}`}[call])
		}),
		says(func(w http.ResponseWriter, _ string) { // without end
			for _, err := fmt.Fprint(w, `{"arrays": [`); err == nil; {
				_, err = w.Write(bytes.Repeat([]byte(`{"name": "x"},`), 10000))
			}
		}),
		says(func(w http.ResponseWriter, _ string) {
			http.Redirect(w, &http.Request{Method: "POST"}, "http://127.0.0.1:1/", http.StatusTemporaryRedirect)
		}),
		says(func(w http.ResponseWriter, _ string) { fmt.Fprint(w, strings.Repeat("[", 1<<20)) }),
		says(func(w http.ResponseWriter, _ string) { fmt.Fprint(w, "null") }),
	}
	office.configure("[fleet]\nhosts = [\"" + strings.Join(urls, "\", \"") + "\"]\n")
	for _, what := range [][]string{{"status"}, {"next"}, {"report"}, {"report", "-verdict"}, {"status", "-json"}} {
		_, out, errOut := office.try(append([]string{"fleet"}, what...)...)
		require.NotContains(t, errOut, "goroutine")
		require.NotRegexp(t, "[\x00-\x09\x0b-\x1f\u202e]", out, "%v", what)
		require.Contains(t, out, "gull")
	}
	for _, h := range office.fleet().Hosts {
		require.Equal(t, h.Address == urls[0], h.Why == "", "%s: %s", h.Address, h.Why)
	}
}

// Hosts that tell the same etcd where they are watched need not be listed; one that is lost is missed until it is forgotten.
func TestAFleetIsFoundInEtcd(t *testing.T) {
	e := newEtcd(t)
	found := fmt.Sprintf("[ownership]\netcd = [%q]\n", e.address())
	b := newBench(t)
	address := freeAddresses(t, 1)[0]
	b.configure(fmt.Sprintf("host_name = \"gull\"\n[fleet]\naddress = %q\n", address) + found)
	b.start()
	office := newBench(t)
	office.configure(found)
	b.eventually("told", func() bool {
		_, out, _ := office.try("fleet", "status")
		return strings.Contains(out, "gull has no arrays")
	})
	require.Zero(t, b.stop(syscall.SIGTERM))
	require.Contains(t, office.nidalo("fleet", "status"), "gull (http://"+address+") does not answer")
	kept := func() []string {
		files, err := filepath.Glob(filepath.Join(office.home, "fleet", "*"))
		require.NoError(t, err)
		return files
	}
	require.Len(t, kept(), 1)

	// One that wrote down nonsense hides no other.
	put := exec.Command("etcdctl", "--endpoints", e.address(), "put", "nidalo/watched/ruff", "ftp://x\x1b[2J")
	said, err := put.CombinedOutput()
	require.NoError(t, err, "%s", said)
	out := office.nidalo("fleet", "status")
	require.Contains(t, out, "gull (http")
	require.Contains(t, out, "etcd has no address for it that can be asked")
	require.NotContains(t, out, "\x1b")
	office.nidalo("fleet", "forget", "ruff")
	office.refused(1, []string{"nothing is known of host heron"}, "fleet", "forget", "heron")
	office.nidalo("fleet", "forget", "gull")
	office.refused(1, []string{"no hosts to ask"}, "fleet", "status")
	require.Empty(t, kept())
}
