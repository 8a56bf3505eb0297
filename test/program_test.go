// Package test drives the built program on files in temporary folders, with real clients from Debian's packages.
package test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/control"
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "nidalo-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "nidalo")
	build := exec.Command("go", "build", "-o", program, "nidalo/cmd/nidalo")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if os.Getenv("NIDALO_RACE") != "" { // the same tests against a program that tells of its data races
		build = exec.Command("go", "build", "-race", "-o", program, "nidalo/cmd/nidalo")
		build.Env = append(os.Environ(), "CGO_ENABLED=1")
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n", out)
		os.Exit(1)
	}
	// What these tests see must not depend on the disks of the machine they run on; test/vm has real ones.
	_ = os.Setenv("NIDALO_HOST_DISKS", "no")
	_ = os.Setenv("NIDALO_KEEPER_USER_SPACE", "yes") // the kernel's client is tried in the guest
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

// bench is one home and what runs in it.
type bench struct {
	t     *testing.T
	home  string
	serve *exec.Cmd
	log   *serviceLog
}

func newBench(t *testing.T) *bench {
	if _, again := together.LoadOrStore(t, true); !again {
		t.Parallel()
	}
	return newBenchAlone(t)
}

// together holds the tests that run in parallel: most of their time they wait for something.
var together sync.Map

// newBenchAlone is newBench for a test that runs by itself: because it loads the machine, or changes what is the host's.
func newBenchAlone(t *testing.T) *bench {
	home, err := os.MkdirTemp("", "nidalo-home-") // short, since socket paths are limited
	require.NoError(t, err)
	b := &bench{t: t, home: home}
	t.Cleanup(func() {
		b.stop(syscall.SIGTERM)
		if b.log != nil && strings.Contains(b.log.String(), "DATA RACE") {
			t.Error(b.log)
		}
		_ = os.RemoveAll(home)
	})
	return b
}

// serviceLog is what a service says, which may be read while it goes on.
type serviceLog struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *serviceLog) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *serviceLog) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// start runs `nidalo serve` and waits until it answers.
func (b *bench) start(args ...string) {
	b.t.Helper()
	b.log = &serviceLog{}
	b.serve = exec.Command(program, append([]string{"serve", "-home", b.home}, args...)...)
	b.serve.Stderr = b.log
	require.NoError(b.t, b.serve.Start())
	require.Eventually(b.t, func() bool {
		c, err := control.Dial(b.home)
		return err == nil && c.Close() == nil
	}, 20*time.Second, 5*time.Millisecond, "%s", b.log)
	// Whoever finds the control socket finds the data as well.
	data, err := net.Dial("unix", filepath.Join(b.home, "nbd.sock"))
	require.NoError(b.t, err)
	require.NoError(b.t, data.Close())
}

// stop ends the service with a signal and returns its exit status.
func (b *bench) stop(sig syscall.Signal) int {
	if b.serve == nil {
		return 0
	}
	_ = b.serve.Process.Signal(sig)
	_ = b.serve.Wait()
	code := b.serve.ProcessState.ExitCode()
	b.serve = nil
	return code
}

func (b *bench) uri(name string) string {
	return "nbd+unix:///" + name + "?socket=" + filepath.Join(b.home, "nbd.sock")
}

// try runs the program without a terminal and returns its exit status and output.
func (b *bench) try(args ...string) (code int, stdout, stderr string) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, program, append(args, "-home", b.home)...)
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	if err != nil && c.ProcessState == nil {
		b.t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), out.String(), errOut.String()
}

// nidalo runs the program and wants success.
func (b *bench) nidalo(args ...string) string {
	b.t.Helper()
	code, out, errOut := b.try(args...)
	require.Zero(b.t, code, "nidalo %s\n%s%s", strings.Join(args, " "), out, errOut)
	return out
}

// refused runs the program, wants the exit status, and one line that says all of the given.
func (b *bench) refused(status int, says []string, args ...string) {
	b.t.Helper()
	code, out, errOut := b.try(args...)
	require.Equal(b.t, status, code, "nidalo %s\n%s%s", strings.Join(args, " "), out, errOut)
	first, _, _ := strings.Cut(errOut, "\n")
	for _, s := range says {
		require.Contains(b.t, errOut, s)
	}
	require.True(b.t, strings.HasPrefix(first, "nidalo "+args[0]+": "), "%q", first)
	require.NotContains(b.t, errOut, "goroutine")
}

// tool runs another program and wants success.
func (b *bench) tool(name string, args ...string) string {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, name, args...)
	c.Dir = b.home // fio leaves files where it runs
	out, err := c.CombinedOutput()
	require.NoError(b.t, err, "%s %s\n%s\n%s", name, strings.Join(args, " "), out, b.log)
	return string(out)
}

type status struct {
	Arrays []struct {
		Name, Condition string
		Margin          int
		Capacity        int64 `json:"capacity_bytes"`
		Used            int64 `json:"used_bytes"`
		Counters        map[string]int64
		Members         []struct {
			Slot                                 int
			Bay, Serial, Path, Condition, Reason string
			Errors                               int
		}
		Tasks []struct {
			Kind, State string
			Percent     float64
			Done        int64 `json:"done_bytes"`
			Total       int64 `json:"total_bytes"`
		}
	}
}

func (b *bench) status() status {
	b.t.Helper()
	var s status
	require.NoError(b.t, json.Unmarshal([]byte(b.nidalo("status", "-json")), &s))
	return s
}

func unmarshal(text string, v any) error { return json.Unmarshal([]byte(text), v) }

func (b *bench) condition() string { return b.status().Arrays[0].Condition }

// pattern writes a file that is not all noise and not all the same.
func pattern(t *testing.T, path string, size int) {
	p := make([]byte, size)
	x := uint64(88172645463325252)
	for i := 0; i+8 <= size; i += 8 {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		binary.LittleEndian.PutUint64(p[i:], x&0x0f0f0f0f0f0f0f0f|0x3030303030303030)
	}
	require.NoError(t, os.WriteFile(path, p, 0o600))
}

func same(t *testing.T, x, y string, n int) {
	t.Helper()
	a, err := os.ReadFile(x)
	require.NoError(t, err)
	b, err := os.ReadFile(y)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(b), n)
	require.True(t, bytes.Equal(a[:n], b[:n]), "%s and %s differ", x, y)
}

// On a terminal a line of progress is drawn over and over; nothing but the program's own control sequences reaches it.
func TestProgressIsDrawnOnATerminal(t *testing.T) {
	if _, err := exec.LookPath("script"); err != nil {
		t.Skip("needs script")
	}
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	b.nidalo("create", "-yes", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.start()
	image := b.home + "/image"
	require.NoError(t, os.WriteFile(image, noise(32<<20), 0o600))
	b.tool("nbdcopy", "--flush", image, b.uri("tides"))
	for _, command := range []string{"surface -wait A1", "vet -wait A4", "check -wait tides"} {
		out := b.tool("script", "-qec", fmt.Sprintf("TERM=xterm %s %s -home %s", program, command, b.home), "/dev/null")
		require.Contains(t, out, "\r\x1b[K", command)
		require.NotContains(t, out, "�", command)
	}
}
