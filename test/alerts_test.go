package test

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// certificates writes a CA, and certificates of a server and a client signed by it, into a folder.
func certificates(t *testing.T, dir string) {
	t.Helper()
	write := func(name, kind string, der []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600))
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	ca := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Saltmarsh test CA"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, ca, ca, &caKey.PublicKey, caKey)
	require.NoError(t, err)
	write("ca-cert.pem", "CERTIFICATE", der)
	for i, name := range []string{"server", "client"} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		c := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 2)), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour),
			NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
			KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
		der, err := x509.CreateCertificate(rand.Reader, c, ca, &key.PublicKey, caKey)
		require.NoError(t, err)
		write(name+"-cert.pem", "CERTIFICATE", der)
		buf, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		write(name+"-key.pem", "PRIVATE KEY", buf)
	}
}

// postOffice is an SMTP server that encrypts, asks for a login, and keeps what it is given.
type postOffice struct {
	address string
	mu      sync.Mutex
	letters []string
	logins  []string
}

func newPostOffice(t *testing.T, dir string) *postOffice {
	cert, err := tls.LoadX509KeyPair(filepath.Join(dir, "server-cert.pem"), filepath.Join(dir, "server-key.pem"))
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	p := &postOffice{address: l.Addr().String()}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c, &tls.Config{Certificates: []tls.Certificate{cert}})
		}
	}()
	return p
}

func (p *postOffice) serve(c net.Conn, settings *tls.Config) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	in := bufio.NewReader(c)
	say := func(s string) { fmt.Fprintf(c, "%s\r\n", s) }
	say("220 post.saltmarsh.example ESMTP")
	secure, known := false, false
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		word := strings.ToUpper(strings.Fields(line + " x")[0])
		switch {
		case word == "EHLO" && secure:
			say("250-post.saltmarsh.example\r\n250 AUTH PLAIN LOGIN")
		case word == "EHLO":
			say("250-post.saltmarsh.example\r\n250 STARTTLS")
		case word == "STARTTLS":
			say("220 go on")
			c = tls.Server(c, settings)
			in, secure = bufio.NewReader(c), true
		case word == "AUTH":
			p.mu.Lock()
			p.logins = append(p.logins, strings.TrimSpace(line))
			p.mu.Unlock()
			known = true
			say("235 welcome")
		case !known && word != "QUIT":
			say("530 log in first")
		case word == "DATA":
			say("354 go on")
			var b strings.Builder
			for {
				l, err := in.ReadString('\n')
				if err != nil || l == ".\r\n" {
					break
				}
				b.WriteString(l)
			}
			p.mu.Lock()
			p.letters = append(p.letters, b.String())
			p.mu.Unlock()
			say("250 taken")
		case word == "QUIT":
			say("221 bye")
			return
		default:
			say("250 ok")
		}
	}
}

func (p *postOffice) got() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.letters...)
}

func TestAlertsArriveByEveryWay(t *testing.T) {
	b := newBench(t)
	certificates(t, b.home)
	post := newPostOffice(t, b.home)
	var mu sync.Mutex
	var bells []map[string]any
	refuse := 2 // the first deliveries fail, and are tried again
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	hook := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if refuse > 0 {
			refuse--
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		body, _ := io.ReadAll(r.Body)
		var m map[string]any
		if json.Unmarshal(body, &m) == nil && r.Header.Get("Authorization") == "Bearer oyster-catcher" {
			bells = append(bells, m)
		}
	})}
	go func() { _ = hook.Serve(l) }()
	t.Cleanup(func() { _ = hook.Close() })
	for name, secret := range map[string]string{"mail.secret": "samphire-7", "hook.secret": "oyster-catcher"} {
		require.NoError(t, os.WriteFile(filepath.Join(b.home, name), []byte(secret+"\n"), 0o600))
	}
	script := filepath.Join(b.home, "ring")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\ncat >> '"+b.home+"/rung'\n"), 0o700))
	b.configure(fmt.Sprintf(`
[alerts]
fold = "1h"
first_retry = "200ms"
[[alerts.email]]
server = %q
user = "storage"
password_file = "%s/mail.secret"
ca_file = "%s/ca-cert.pem"
from = "storage@saltmarsh.example"
to = ["duty@saltmarsh.example"]
least = "warning"
[[alerts.webhook]]
url = "http://%s/ring?key=heron-3"
token_file = "%s/hook.secret"
[[alerts.command]]
run = [%q]
least = "critical"
`, post.address, b.home, b.home, l.Addr(), b.home, script))
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3", "A4")
	b.start()
	b.nidalo("lab", "pull", "A2")
	count := func(kind string) (n int) {
		mu.Lock()
		defer mu.Unlock()
		for _, m := range bells {
			if m["kind"] == kind {
				n++
			}
		}
		return n
	}
	b.eventually("the bell rings", func() bool { return count("member-missing") == 1 && count("exposed") == 1 })
	b.eventually("a letter comes", func() bool { return strings.Contains(strings.Join(post.got(), ""), "exposed") })
	letters := strings.Join(post.got(), "\n")
	require.Contains(t, letters, "Subject: [critical] tides: exposed")
	require.Contains(t, letters, "nidalo replace tides", "a letter says what to do")
	require.NotContains(t, letters, "disk-gone", "below warning")
	b.eventually("the command is run", func() bool {
		text, _ := os.ReadFile(filepath.Join(b.home, "rung"))
		return strings.Contains(string(text), `"kind":"exposed"`)
	})
	text, err := os.ReadFile(filepath.Join(b.home, "rung"))
	require.NoError(t, err)
	require.NotContains(t, string(text), "member-missing", "not critical")

	// Again and again the same: folded. And acknowledged: quiet until something changes.
	for range 3 {
		b.nidalo("lab", "insert", "A2", "-disk", "ORR-0200")
		b.healthy()
		b.nidalo("lab", "pull", "A2")
		b.eventually("missing", func() bool { return b.condition() == "exposed" })
	}
	require.Equal(t, 1, count("member-missing"), "folded")
	b.nidalo("acknowledge", "tides")

	require.Contains(t, b.nidalo("alerts", "-test"), "delivered")
	log := b.log.String()
	for _, secret := range []string{"samphire-7", "oyster-catcher", "heron-3"} {
		require.NotContains(t, log, secret)
	}
	require.Contains(t, log, "will be tried again")
	require.Zero(t, b.stop(syscall.SIGTERM))
	require.NoError(t, os.Chmod(filepath.Join(b.home, "mail.secret"), 0o644))
	code, out, _ := b.try("alerts", "-test")
	require.Equal(t, 1, code)
	require.Contains(t, out, "can be read by others")
}

func TestTheNetworkIsEncryptedOrLoopback(t *testing.T) {
	b := newBench(t)
	certificates(t, b.home)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close())
	b.configure(fmt.Sprintf("[listen.tls]\naddress=%q\ncert='%s/server-cert.pem'\nkey='%s/server-key.pem'\nca='%s/ca-cert.pem'\n", address, b.home, b.home, b.home))
	require.Contains(t, b.nidalo("serve", "-check-config"), "is right")
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 10*mib)
	secure := "nbds://" + address + "/tides?tls-certificates=" + b.home
	b.tool("nbdcopy", "--flush", in, secure)
	b.tool("nbdcopy", secure, out)
	same(t, in, out, 10*mib)
	said, err := exec.Command("nbdinfo", "nbd://"+address+"/tides").CombinedOutput()
	require.Error(t, err, "not encrypted: %s", said)
	stranger := filepath.Join(b.home, "stranger")
	require.NoError(t, os.Mkdir(stranger, 0o700))
	certificates(t, stranger)
	ca, err := os.ReadFile(filepath.Join(b.home, "ca-cert.pem"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(stranger, "ca-cert.pem"), ca, 0o600))
	said, err = exec.Command("nbdinfo", "nbds://"+address+"/tides?tls-certificates="+stranger).CombinedOutput()
	require.Error(t, err, "signed by somebody else: %s", said)
	b.refused(1, []string{"only loopback"}, "serve", "-listen", "0.0.0.0:0")
}

func TestTheConfigurationIsReadAgainOnHangup(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	b.start()
	b.configure("pace = 'gentle'\n")
	require.NoError(t, b.serve.Process.Signal(syscall.SIGHUP))
	b.eventually("gentle", func() bool { return strings.Contains(b.nidalo("pace"), "pace gentle") })
	b.configure("pace = 'wild'\n")
	require.NoError(t, b.serve.Process.Signal(syscall.SIGHUP))
	b.eventually("refused", func() bool { return strings.Contains(b.log.String(), "wrong and was not taken") })
	require.Contains(t, b.nidalo("pace"), "pace gentle", "what was in force stays")
	b.refused(1, []string{"pace", "wild"}, "serve", "-check-config")
}

// TestTheSocketsAreTheOwnersAndTheGroups: another user gets nowhere, unless a group lets it in.
func TestTheSocketsAreTheOwnersAndTheGroups(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can be somebody else")
	}
	open, err := os.MkdirTemp("", "nidalo-open-")
	require.NoError(t, err)
	defer os.RemoveAll(open)
	require.NoError(t, os.Chmod(open, 0o755))
	text, err := os.ReadFile(program)
	require.NoError(t, err)
	other := filepath.Join(open, "nidalo")
	require.NoError(t, os.WriteFile(other, text, 0o755))
	group, err := user.LookupGroup("games")
	require.NoError(t, err)
	gid, err := strconv.Atoi(group.Gid)
	require.NoError(t, err)
	for _, let := range []bool{false, true} {
		b := newBench(t)
		if let {
			b.configure("group = 'games'\n")
		}
		b.nidalo("lab", "new", "-bays", "2", "-size", "64MiB")
		b.start()
		as := func(gid int, args ...string) (string, error) {
			c := exec.Command(other, append(args, "-home", b.home)...)
			c.Dir = open
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: uint32(gid), NoSetGroups: true}}
			out, err := c.CombinedOutput()
			return string(out), err
		}
		out, err := as(gid, "disks")
		if let {
			require.NoError(t, err, out)
			require.Contains(t, out, "A1")
		} else {
			require.Error(t, err)
			require.Contains(t, out, "permission denied")
		}
		out, err = as(65534, "disks")
		require.Error(t, err, out)
		require.Contains(t, out, "permission denied")
		require.NotContains(t, out, "goroutine")
	}
}

// TestSystemdIsTold plays the part of systemd: a socket for notifications, and a watchdog.
func TestSystemdIsTold(t *testing.T) {
	b := newBenchAlone(t)
	b.nidalo("lab", "new", "-bays", "2", "-size", "64MiB")
	socket := filepath.Join(b.home, "notify")
	c, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: socket, Net: "unixgram"})
	require.NoError(t, err)
	defer c.Close()
	t.Setenv("NOTIFY_SOCKET", socket)
	t.Setenv("WATCHDOG_USEC", "600000")
	b.start()
	next := func() string {
		buf := make([]byte, 200)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
		n, err := c.Read(buf)
		require.NoError(t, err)
		return string(buf[:n])
	}
	require.Equal(t, "READY=1", next())
	require.Equal(t, "WATCHDOG=1", next())
	require.Equal(t, "WATCHDOG=1", next())
	require.NoError(t, b.serve.Process.Signal(syscall.SIGTERM))
	said := next()
	for said == "WATCHDOG=1" {
		said = next()
	}
	require.Equal(t, "STOPPING=1", said)
	require.NoError(t, b.serve.Wait())
	b.serve = nil
}

// TestWatchInARealTerminal runs the live view in a terminal multiplexer, at 80 by 24 and after a change of size.
func TestWatchInARealTerminal(t *testing.T) {
	b, _, _ := filled(t, 100*mib)
	tmux := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("tmux", append([]string{"-S", filepath.Join(b.home, "tmux"), "-f", "/dev/null"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	tmux("new-session", "-d", "-x", "80", "-y", "24", "-s", "w", program+" watch -home "+b.home+"; echo done; read word; echo over, $word; sleep 60")
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", filepath.Join(b.home, "tmux"), "kill-server").Run() })
	screen := func() string { return tmux("capture-pane", "-p", "-t", "w") }
	sees := func(words ...string) {
		t.Helper()
		b.eventually(strings.Join(words, ", "), func() bool {
			text := screen()
			for _, w := range words {
				if !strings.Contains(text, w) {
					return false
				}
			}
			return true
		})
	}
	sees("tides", "level 6", "healthy", "margin 2", "A1", "A6", "Lately", "What to do", "q quits")
	b.nidalo("pace", "tides", "1MiB/s")
	b.nidalo("lab", "pull", "A2")
	sees("degraded", "ORR-0200   missing", "since", "nidalo replace tides A2 A7")
	b.nidalo("replace", "tides", "A2", "A7")
	sees("TMK-0235   rebuilding", "rebuild A7", "%", "MiB/s", "ends about")
	for _, line := range strings.Split(screen(), "\n") {
		require.LessOrEqual(t, len([]rune(line)), 80)
	}
	tmux("resize-window", "-t", "w", "-x", "80", "-y", "15")
	sees("A5   A6", "A7 rebuilding   A3", "rebuild A7", "q quits")
	tmux("resize-window", "-t", "w", "-x", "120", "-y", "40")
	sees("TMK-0235   rebuilding", "rebuild A7", "q quits")
	tmux("send-keys", "-t", "w", "?")
	sees("any key goes back", "lists all members")
	tmux("send-keys", "-t", "w", "x")
	sees("rebuild A7")
	tmux("resize-window", "-t", "w", "-x", "60", "-y", "9")
	sees("0 lines above", "…")
	tmux("send-keys", "-t", "w", "Down")
	sees("1 lines above")
	tmux("send-keys", "-t", "w", "Up")
	sees("0 lines above", "q quits")
	tmux("send-keys", "-t", "w", "qtyped ahead")
	sees("done")
	tmux("send-keys", "-t", "w", "Enter")
	sees("over, typed ahead")
}

func TestWatchWithoutATerminalPrintsLines(t *testing.T) {
	b, _, _ := filled(t, 4*mib)
	c := exec.Command(program, "watch", "-home", b.home)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	require.Contains(t, lines.Text(), "tides: healthy, margin 2")
	b.nidalo("lab", "pull", "A4")
	require.True(t, lines.Scan())
	require.Contains(t, lines.Text(), "tides: degraded, margin 1; slot 3 (A4) missing")
	require.NoError(t, c.Process.Signal(syscall.SIGTERM))
	require.NoError(t, c.Wait())
}
