package test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"

	"nidalo/core/say"
	"nidalo/internal/nbd"
)

// TestStories plays the stories in test/stories: commands as they are typed, and what came back. Each has a lab and a service of its own.
// A lab's clock stands still, so nothing in them depends on the day. After a change that is meant,
//
//	go test ./test -run TestStories -rewrite
//
// writes down what comes back now; read the difference.
//
//	run                                  commands, one a line
//	until                                one command, again and again until it says what stands below it
//	serve, stop, kill                    the service: started, ended in order, killed
//	write array=NAME at=1MiB size=1MiB   a client writes made-up data and flushes
//	read array=NAME at=1MiB size=1MiB    a client reads it back and compares
func TestStories(t *testing.T) {
	datadriven.Walk(t, "stories", func(t *testing.T, path string) {
		device := filepath.Base(path) == "a-device.txt"
		if device {
			attachable(t)
		}
		s := &story{bench: newBench(t)}
		if device {
			t.Cleanup(func() { // when the story did not come to its end
				_ = exec.Command("umount", filepath.Join(s.home, "mnt")).Run()
				s.try("detach", "-yes", "-force", "gauges")
			})
		}
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			s.t = t
			return s.plain(s.step(d))
		})
	})
}

// TestEveryCommandHasAStory leaves out those that other tests play: the service and the keeper are steps of stories, and the demo is one.
func TestEveryCommandHasAStory(t *testing.T) {
	var told strings.Builder
	require.NoError(t, filepath.WalkDir("stories", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		told.Write(text)
		return err
	}))
	b := newBench(t)
	commands := regexp.MustCompile(`(?m)^  ([a-z-]+)  `).FindAllStringSubmatch(b.nidalo("help"), -1)
	require.Greater(t, len(commands), 30)
	for _, c := range commands {
		if c[1] != "version" && c[1] != "keeper" {
			examples := regexp.MustCompile(`(?m)^  nidalo `+c[1]+`\b`).FindAllString(b.nidalo("help", c[1]), -1)
			require.GreaterOrEqual(t, len(examples), 2, "help %s has two examples", c[1])
		}
		if c[1] != "serve" && c[1] != "keeper" && c[1] != "demo" {
			require.True(t, regexp.MustCompile(`(?m)^(timeout .* )?nidalo `+c[1]+`\b`).MatchString(told.String()), "no story has %s", c[1])
		}
	}
}

// TestTheProceduresOfTheDocsAreStories holds the sections of docs/replace-a-disk.md to the stories that play them.
func TestTheProceduresOfTheDocsAreStories(t *testing.T) {
	for _, doc := range []string{"replace-a-disk.md", "rescue.md", "change-an-array.md"} {
		text, err := os.ReadFile("../docs/" + doc)
		require.NoError(t, err)
		tries := strings.Count(string(text), "*Try it: ")
		named := regexp.MustCompile(`\*Story: ([a-z-]+)\.\*`).FindAllStringSubmatch(string(text), -1)
		require.Len(t, named, tries, "%s: each has a story", doc)
		for _, n := range named {
			require.FileExists(t, "stories/"+n[1]+".txt")
		}
	}
}

type story struct {
	*bench
}

func (s *story) step(d *datadriven.TestData) string {
	switch d.Cmd {
	case "run":
		var out strings.Builder
		lines := strings.Split(strings.TrimSpace(d.Input), "\n")
		for _, line := range lines {
			if len(lines) > 1 {
				fmt.Fprintf(&out, "$ %s\n", line)
			}
			out.WriteString(s.typed(line))
		}
		return out.String()
	case "until":
		line, says, _ := strings.Cut(strings.TrimSpace(d.Input), "\n")
		for end := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
			out := s.typed(line)
			if strings.Contains(out, says) {
				return out
			}
			require.True(s.t, time.Now().Before(end), "%q does not say %q but\n%s", line, says, out)
		}
	case "serve":
		s.start()
	case "stop":
		require.Zero(s.t, s.stop(syscall.SIGTERM))
	case "kill":
		s.stop(syscall.SIGKILL)
	case "write", "read":
		s.client(d)
	default:
		d.Fatalf(s.t, "there is no step %q", d.Cmd)
	}
	return "ok\n"
}

// typed runs a line as a shell would, and returns what it prints, with its exit status when that is not 0.
func (s *story) typed(line string) string {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "sh", "-c", line)
	c.Env = append(os.Environ(), "NIDALO_HOME="+s.home, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "TZ=UTC")
	c.Dir = s.home
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	_ = c.Run()
	require.NoError(s.t, ctx.Err(), "%s\n%s", line, out.String())
	if code := c.ProcessState.ExitCode(); code != 0 {
		fmt.Fprintf(&out, "[exit status %d]\n", code)
	}
	return out.String()
}

// client writes to an array, or reads what was written.
func (s *story) client(d *datadriven.TestData) {
	var name, text string
	var n [2]int64
	d.ScanArgs(s.t, "array", &name)
	for i, arg := range []string{"at", "size"} {
		d.ScanArgs(s.t, arg, &text)
		var err error
		n[i], err = say.ParseSize(text)
		require.NoError(s.t, err)
	}
	c, err := nbd.Dial("unix", filepath.Join(s.home, "nbd.sock"), name)
	require.NoError(s.t, err)
	defer c.Close()
	const piece = 1 << 20
	data, got := bytes.Repeat([]byte("low water 0412, high water 1038\n"), piece/32), make([]byte, piece)
	for at := int64(0); at < n[1]; at += piece {
		if d.Cmd == "write" {
			require.NoError(s.t, c.WriteAt(data, n[0]+at))
			continue
		}
		require.NoError(s.t, c.ReadAt(got, n[0]+at))
		require.True(s.t, bytes.Equal(data, got), "it reads back differently from byte %d on", n[0]+at)
	}
	if d.Cmd == "write" {
		require.NoError(s.t, c.Flush())
	}
}

var identity = regexp.MustCompile(`[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}`)

// plain puts words in the place of what is another each time: the home, the host, and identities in the order in which they are first seen.
func (s *story) plain(out string) string {
	out = strings.ReplaceAll(out, s.home, "HOME")
	if host, err := os.Hostname(); err == nil {
		out = strings.ReplaceAll(out, "Report of "+host+" ", "Report of gull ")
	}
	known := map[string]string{}
	return identity.ReplaceAllStringFunc(out, func(id string) string {
		if known[id] == "" {
			known[id] = fmt.Sprintf("identity-%d", len(known)+1)
		}
		return known[id]
	})
}
