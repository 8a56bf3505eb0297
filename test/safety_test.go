package test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/nbd"

	"nidalo/core/record"
	"nidalo/internal/disk"
)

// in runs the program in a folder.
func (b *bench) in(dir string, args ...string) (code int, out string) {
	c := exec.Command(program, append(args, "-home", b.home)...)
	c.Dir = dir
	text, _ := c.CombinedOutput()
	return c.ProcessState.ExitCode(), string(text)
}

func sparse(t *testing.T, path string, size int64, head string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(head), 0o600))
	require.NoError(t, os.Truncate(path, size))
	return path
}

// A name is what it is where it was written: the service runs in another folder, where a file of the same name is dear to
// somebody.
func TestAPathIsSeenFromWhereItWasWritten(t *testing.T) {
	b := newBench(t)
	here, there := filepath.Join(b.home, "here"), filepath.Join(b.home, "there")
	mine, dear := sparse(t, filepath.Join(here, "old"), 64*mib, "mine"), sparse(t, filepath.Join(there, "old"), 64*mib, "dear")
	b.nidalo("lab", "new", "-bays", "2", "-size", "64MiB")
	sparse(t, filepath.Join(here, "A1"), 64*mib, "a file with the name of a bay")
	b.start()
	wd, err := os.Getwd()
	require.NoError(t, err)
	b.stop(syscall.SIGTERM)
	require.NoError(t, os.Chdir(there)) // the service is started there
	b.start()
	require.NoError(t, os.Chdir(wd))

	for _, name := range []string{"./old", "old"} {
		require.NoError(t, os.WriteFile(mine, append([]byte("mine"), make([]byte, 1<<20)...), 0o600))
		require.NoError(t, os.Truncate(mine, 64*mib))
		code, out := b.in(here, "erase", "-yes", name)
		require.Zero(t, code, out)
		require.Contains(t, out, mine)
		head := make([]byte, 4)
		f, err := os.Open(mine)
		require.NoError(t, err)
		_, err = f.Read(head)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.Equal(t, make([]byte, 4), head, "the file here is erased")
		buf, err := os.ReadFile(dear)
		require.NoError(t, err)
		require.Equal(t, "dear", string(buf[:4]), "and the one there is not")
	}
	code, out := b.in(here, "erase", "-yes", "A1")
	require.Equal(t, 1, code)
	require.Contains(t, out, "the bay or serial of a disk")
}

func TestAWordThatMeansTwoDisksIsRefused(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.relabel("A2", func(label map[string]any) { label["serial"] = "A1" })
	b.refused(1, []string{"means 2 disks"}, "erase", "-yes", "A1")
	b.refused(1, []string{"means 2 disks"}, "create", "-name", "tides", "-level", "1", "A1", "A3")
}

// relabel changes what a disk of the lab says of itself.
func (b *bench) relabel(bay string, change func(map[string]any)) {
	b.t.Helper()
	path := filepath.Join(b.home, "lab", bay, "disk.json")
	buf, err := os.ReadFile(path)
	require.NoError(b.t, err)
	var label map[string]any
	require.NoError(b.t, json.Unmarshal(buf, &label))
	change(label)
	buf, err = json.Marshal(label)
	require.NoError(b.t, err)
	require.NoError(b.t, os.WriteFile(path, buf, 0o600))
}

// What a disk says of itself is a stranger's text: it must not reach a terminal raw, and a command that is printed must not
// do what it says when it is pasted.
func TestWhatADiskSaysIsNeverObeyed(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "6", "-size", "64MiB")
	trap := filepath.Join(b.home, "trapped")
	for i, evil := range []string{"$(touch " + trap + ")", "`touch " + trap + "`", "x; touch " + trap, "'; touch " + trap + " #", "-yes", "a\x1b]0;mine\x07b\nfake: line\r\u202e"} {
		b.relabel(fmt.Sprintf("A%d", i+1), func(label map[string]any) { label["serial"], label["model"] = evil, evil })
	}
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3", "A4")
	b.configure("[listen]\nmetrics='127.0.0.1:0'\n")
	var said strings.Builder
	look := func() {
		for _, args := range [][]string{{"disks"}, {"status"}, {"next"}, {"may-pull", "A1"}, {"may-pull", "A5"}, {"report"}, {"history"}, {"inspect", "A1", "A2", "A5"},
			{"status", "-map", "tides"}, {"plan"}, {"report", "-metrics"}, {"plan", "-lose", "A1"}, {"fail", "tides", "nobody"}, {"erase", "A1"}, {"replace", "tides", "A2", "A1"},
			{"report", "-html", filepath.Join(b.home, "page.html")}, {"spare", "A1"}, {"rescue", "tides"}} {
			_, out, errOut := b.try(args...)
			for _, text := range []string{out, errOut} {
				require.NotContains(t, text, "\x1b]", args)
				require.NotContains(t, text, "\x07", args)
				require.NotContains(t, text, "\u202e", args)
				require.NotContains(t, text, "\nfake:", args)
			}
			said.WriteString(out + errOut)
		}
	}
	look()
	b.start()
	look()
	b.nidalo("fail", "-yes", "tides", "A2")
	look()
	b.nidalo("lab", "pull", "A3")
	b.eventually("it is noticed", func() bool { return b.condition() != "exposed" })
	look()

	// Every command that was printed, pasted into a shell that knows no nidalo.
	commands := regexp.MustCompile(`nidalo [a-z-]+ .*`).FindAllString(said.String(), -1)
	require.NotEmpty(t, commands)
	for _, c := range commands {
		c, _, _ = strings.Cut(c, "   ")
		_ = exec.Command("bash", "-c", "nidalo() { :; }; "+c).Run()
		_, err := os.Stat(trap)
		require.ErrorIs(t, err, fs.ErrNotExist, "%s", c)
	}
	page, err := os.ReadFile(filepath.Join(b.home, "page.html"))
	require.NoError(t, err)
	require.NotContains(t, string(page), "\x1b")
}

// sums are those of all files below some folders.
func sums(t *testing.T, dirs ...string) map[string][32]byte {
	out := map[string][32]byte{}
	for _, dir := range dirs {
		require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			buf, err := os.ReadFile(path)
			out[path] = sha256.Sum256(buf)
			return err
		}))
	}
	return out
}

// Looking changes nothing, whatever state the members are in.
func TestCommandsThatOnlyLookLeaveEveryByte(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "7", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5")
	b.start()
	in := filepath.Join(b.home, "in")
	pattern(t, in, 16*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	b.stop(syscall.SIGKILL)
	look := func(says string) {
		t.Helper()
		before := sums(t, filepath.Join(b.home, "lab"))
		out := ""
		for _, args := range [][]string{{"disks"}, {"status"}, {"status", "-json"}, {"status", "-map", "tides"}, {"inspect", "A1", "A2", "A6"}, {"plan"}, {"plan", "-lose", "A1"},
			{"next"}, {"may-pull", "A1"}, {"history"}, {"report"}, {"report", "-json"}, {"report", "-metrics"}, {"rescue", "tides"}, {"vet"}, {"pace"}} {
			_, text, errText := b.try(args...)
			out += text + errText
		}
		require.Contains(t, out, says)
		after := sums(t, filepath.Join(b.home, "lab"))
		require.Equal(t, len(before), len(after))
		for path, sum := range before {
			require.Equal(t, sum, after[path], path)
		}
	}
	look("a start is needed")
	b.nidalo("lab", "pull", "A2") // not seen by any service
	look("missing")
	require.Equal(t, "degraded", b.condition())
	// A member with a damaged record, and one with a foreign one.
	image := filepath.Join(b.home, "lab", "A3", "disk.img")
	f, err := os.OpenFile(image, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(bytes.Repeat([]byte{7}, 4096), 100)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	look("tides")
}

// A member's path is a path, whatever characters are in it.
func TestPathsArePathsAndPatternsAreASetting(t *testing.T) {
	b := newBench(t)
	dir := filepath.Join(b.home, "d[1]*?")
	args := []string{"create", "-name", "tides", "-level", "5"}
	for i := range 3 {
		args = append(args, sparse(t, filepath.Join(dir, fmt.Sprintf("a[%d].img", i)), 64*mib, ""))
	}
	b.nidalo(args...)
	b.start()
	require.Equal(t, "healthy", b.condition())
	b.stop(syscall.SIGTERM)
	b.start()
	require.Equal(t, "healthy", b.condition())
	for i := range 3 {
		sparse(t, filepath.Join(b.home, "p", fmt.Sprintf("x%d", i)), 64*mib, "")
	}
	b.stop(syscall.SIGTERM)
	b.configure(fmt.Sprintf("disk_patterns = ['%s/p/x*']\ndisks = ['%s/p/x[0]']\n", b.home, b.home))
	out := b.nidalo("disks")
	require.Contains(t, out, "p/x0")
	require.Contains(t, out, "p/x2")
	require.NotContains(t, out, "x[0]")
}

// A disk that is mounted is in use, whatever array it is not in.
func TestAMountedDiskMayNotBePulled(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	b := newBench(t)
	image := sparse(t, filepath.Join(b.home, "fs"), 64*mib, "")
	b.tool("mkfs.ext4", "-q", image)
	loop := strings.TrimSpace(b.tool("losetup", "-f", "--show", image))
	defer func() { _ = exec.Command("losetup", "-d", loop).Run() }()
	mount := filepath.Join(b.home, "mount")
	require.NoError(t, os.Mkdir(mount, 0o700))
	b.tool("mount", loop, mount)
	defer func() { _ = exec.Command("umount", "-l", mount).Run() }()
	code, out, _ := b.try("may-pull", loop)
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "ounted at "+mount)
	code, out, _ = b.try("may-pull", image) // the file below it
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "eld by "+filepath.Base(loop))
	// The system's own disk, where there is one to be seen.
	if root := strings.TrimSpace(b.tool("findmnt", "-n", "-o", "SOURCE", "/")); strings.HasPrefix(root, "/dev/") {
		code, out, _ = b.try("may-pull", root)
		require.Equal(t, 1, code, out)
		require.Contains(t, out, "ounted at /")
	}
}

// A disk that failed is not trusted again unasked, also after it was erased.
func TestADiskThatFailedIsNotTrustedAgainUnasked(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.start()
	b.nidalo("lab", "damage", "A2", "-fail-writes")
	in := filepath.Join(b.home, "in")
	pattern(t, in, 8*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	b.eventually("it failed", func() bool { return b.status().Arrays[0].Members[1].Condition == "failed" })
	b.nidalo("lab", "damage", "A2", "-mend")
	b.eventually("and is let go", func() bool { code, _, _ := b.try("erase", "-yes", "A2"); return code == 0 })
	b.refused(1, []string{"not to be trusted", "it failed in array tides"}, "replace", "tides", "1", "A2")
	b.refused(1, []string{"not to be trusted"}, "spare", "A2")
	require.NotContains(t, b.nidalo("next"), "A2 A2", "nor is it offered")
	b.stop(syscall.SIGTERM)
	b.start()
	b.refused(1, []string{"-although-bad"}, "replace", "tides", "1", "A2")
	b.nidalo("replace", "-wait", "-although-bad", "tides", "1", "A2")
	b.healthy()
}

// A failed member's disk can be erased and returned with the service running.
func TestWhatFailedIsErasedAndReturnedWithoutARestart(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4")
	b.start()
	b.nidalo("fail", "-yes", "tides", "A1")
	b.nidalo("erase", "-yes", "A1")
	b.nidalo("replace", "-wait", "tides", "0", "A1")
	b.healthy()
	for range 3 { // two in one moment, again and again
		s := b.status().Arrays[0].Members
		b.nidalo("lab", "pull", s[1].Bay)
		b.nidalo("lab", "pull", s[3].Bay)
		b.eventually("both are missed", func() bool { return b.condition() == "exposed" })
		b.nidalo("lab", "insert", s[1].Bay, "-disk", s[1].Serial)
		b.nidalo("lab", "insert", s[3].Bay, "-disk", s[3].Serial)
		b.healthy()
	}
}

func TestAStoppedArrayIsReportedAsItsDisksAreNow(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	b.start()
	b.nidalo("stop", "tides")
	require.Equal(t, "healthy", b.condition())
	b.nidalo("lab", "pull", "A1")
	require.Equal(t, "exposed", b.condition())
	b.nidalo("lab", "pull", "A2")
	require.Equal(t, "failed", b.condition())
	code, out, _ := b.try("report", "-verdict")
	require.Equal(t, 2, code, out)
	require.Contains(t, b.nidalo("status"), "could not be started now")
}

// An array from elsewhere that has the name of ours is never taken for it.
func TestAnArrayOfTheSameNameFromElsewhereIsNotOurs(t *testing.T) {
	b, other := newBench(t), newBench(t)
	make := func(b *bench) (disks []string, id string) {
		for i := range 2 {
			disks = append(disks, sparse(t, filepath.Join(b.home, fmt.Sprint("d", i)), 64*mib, ""))
		}
		b.nidalo("create", "-name", "tides", "-level", "1", disks[0], disks[1])
		var s struct{ Arrays []struct{ ID string } }
		require.NoError(t, unmarshal(b.nidalo("status", "-json"), &s))
		return disks, s.Arrays[0].ID
	}
	ours, id := make(b)
	theirs, foreign := make(other)
	for _, d := range ours {
		require.NoError(t, os.Rename(d, d+".away"))
	}
	b.configure(fmt.Sprintf("disks = [%q, %q]\n", theirs[0], theirs[1]))
	b.start()
	b.refused(1, []string{"tides"}, "rescue", "-copy", filepath.Join(b.home, "copy"), "tides")
	b.refused(1, []string{"tides"}, "start", "tides")
	_, err := os.Stat(filepath.Join(b.home, "copy"))
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.Contains(t, b.nidalo("rescue", foreign), "tides", "by its identity it is meant")
	// Both there: the metrics page still is one.
	for _, d := range ours {
		require.NoError(t, os.Rename(d+".away", d))
	}
	b.stop(syscall.SIGTERM)
	b.start()
	require.Contains(t, b.nidalo("status", id), "healthy")
	text := b.nidalo("report", "-metrics")
	require.Contains(t, text, "tides")
	require.Contains(t, text, "array=\"tides\"")
	require.Contains(t, text, "array=\"tides/"+foreign+"\"", "the stranger is told apart")
}

// One forged record with a higher epoch takes nothing over and changes no member.
func TestAForgedRecordIsLeftOut(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5")
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 16*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	b.stop(syscall.SIGTERM)
	d, err := disk.Open(filepath.Join(b.home, "lab", "A3", "disk.img"))
	require.NoError(t, err)
	own, err := disk.ReadRecord(d)
	require.NoError(t, err)
	own.Epoch += 1000
	for i := range own.Roster {
		if i != own.Slot {
			own.Roster[i].Condition = record.Failed
		}
	}
	buf, err := own.Encode()
	require.NoError(t, err)
	for _, off := range disk.RecordCopies(own.Place.Size) {
		require.NoError(t, d.WriteAt(buf, off))
	}
	require.NoError(t, d.Close())
	b.start()
	require.Equal(t, "degraded", b.condition())
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 16*mib)
	require.Contains(t, b.nidalo("history"), "member-stranger")
	require.Contains(t, b.nidalo("disks"), "former or stale")
}

// A list of what is bad in an image names any file: it must not be a way to read one.
func TestAListOfBadPlacesRevealsNothing(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	image := filepath.Join(b.home, "lab", "A1", "disk.img")
	secret := filepath.Join(b.home, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("root:hunter2:19000\n"), 0o600))
	for _, list := range []string{secret, b.home, "/dev/zero"} {
		_, out, errOut := b.try("rescue", "-image", image+"="+list, "tides")
		require.NotContains(t, out+errOut, "hunter2")
	}
}

func TestNonsenseInTheConfigurationIsNamedWithItsLine(t *testing.T) {
	b := newBench(t)
	for text, says := range map[string]string{
		"\n[history]\nkeep_days = 99999999999999999999\n":                                          "line 3",
		"\n[history]\nkeep_days = 9000000000000000000\n":                                           "line 3",
		"\n[history]\nkeep_days = -1\n":                                                            "line 3",
		"[limits]\nhung = '9999999h'\n":                                                            "line 2",
		"[limits]\n\nhung = '0s'\n":                                                                "line 3",
		"[limits]\nslow_factor = inf\n":                                                            "line 2",
		"[listen]\ntcp = '0.0.0.0:1'\n":                                                            "line 2",
		"[listen]\ntcp = '127.0.0.1:99999'\n":                                                      "line 2",
		"[listen]\nmetrics = 'localhost'\n":                                                        "line 2",
		"[listen]\nmemory = '1KiB'\n":                                                              "line 2",
		"[listen]\nmemory = '99999999EiB'\n":                                                       "line 2",
		"\n\n[[alerts.webhook]]\nurl = 'ftp://x/'\n":                                               "line 3",
		"[[alerts.webhook]]\nurl = 'http://bells.saltmarsh.example/'\n":                            "not encrypted",
		"[[alerts.email]]\nserver='a b'\nfrom='x@saltmarsh.example'\nto=['y@saltmarsh.example']\n": "HOST:PORT",
		"[[alerts.email]]\nserver='mail.saltmarsh.example:25'\nfrom='nobody'\nto=['y']\n":          "not a mail address",
		"[fleet]\naddress = '0.0.0.0:10812'\n":                                                     "without a certificate only loopback",
		"[fleet]\nwatchers = ['office']\n":                                                         "line 1",
		"[fleet]\n\nhosts = ['http://heron']\n":                                                    "line 3",
		"[fleet]\nhosts = ['heron/x']\n":                                                           "nothing may follow the host",
		"[fleet]\naddress = '0.0.0.0:1'\ncert = '/a'\nkey = '/b'\nca = '/c'\n":                     "fleet.watchers",
		"[traces]\ncollector = 'http://heron:4318'\n":                                              "without encryption",
		"[traces]\n\nslower = '1s'\n":                                                              "traces.collector",
		"[traces]\ncollector = 'https://heron:4318'\nca = '/is/not/there'\n":                       "no such file",
		"pace = '25:00-26:00 gentle'\n":                                                            "line 1",
		"disks = ['relative']\n":                                                                   "line 1",
		"disk_patterns = ['/a[']\n":                                                                "line 1",
	} {
		b.configure(text)
		b.refused(1, []string{says}, "serve", "-check-config")
		b.refused(1, []string{says}, "serve")
	}
	b.configure("[[alerts.webhook]]\nurl = 'http://bells.saltmarsh.example/'\nplain = true\n[listen]\nmemory='64MiB'\nclients=8\n")
	b.nidalo("serve", "-check-config")
}

// What is in the home is its owner's only.
func TestTheHomeIsItsOwners(t *testing.T) {
	syscall.Umask(0)
	defer syscall.Umask(0o022)
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "3", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	b.start()
	b.nidalo("history")
	for _, name := range []string{"history.db", "history.db-wal", "history.db-shm", "service.json", "service.lock", "control.sock", "nbd.sock"} {
		info, err := os.Stat(filepath.Join(b.home, name))
		if name == "history.db-wal" || name == "history.db-shm" {
			if err != nil {
				continue
			}
		}
		require.NoError(t, err)
		require.Zero(t, info.Mode().Perm()&0o077, "%s has mode %v", name, info.Mode())
	}
}

// A collector that connects and says nothing, three hundred times, keeps no other from the page.
func TestTheMetricsPageSurvivesSilentCollectors(t *testing.T) {
	b := newBench(t)
	b.configure("[listen]\nmetrics='127.0.0.1:0'\n")
	b.start()
	var m []string
	b.eventually("the log names the address", func() bool {
		m = regexp.MustCompile(`address=(http://\S+/metrics)`).FindStringSubmatch(b.log.String())
		return m != nil
	})
	_, rest, _ := strings.Cut(m[1], "//")
	address, _, _ := strings.Cut(rest, "/")
	var s siege
	s.network, s.address, s.stop, s.tries = "tcp", address, make(chan struct{}), newCounter()
	s.lay(40, silent)
	defer func() { close(s.stop); s.wait.Wait() }()
	require.Eventually(t, func() bool { return s.tries.Load() > 40 }, 20*time.Second, 10*time.Millisecond)
	client := http.Client{Timeout: 60 * time.Second}
	reply, err := client.Get(m[1])
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, reply.StatusCode)
	require.NoError(t, reply.Body.Close())
}

// Out of descriptors the service goes on looking after its arrays, says so, and is itself again afterwards.
func TestTheServiceOutlivesAWantOfDescriptors(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.start()
	b.healthy()
	pid := fmt.Sprint(b.serve.Process.Pid)
	b.tool("prlimit", "--pid", pid, "--nofile=3:4096") // nothing more can be opened
	b.nidalo("lab", "pull", "A2")
	b.eventually("a look fails", func() bool { return strings.Contains(b.log.String(), "too many open files") })
	b.nidalo("lab", "insert", "A2", "-size", "64MiB")
	b.tool("prlimit", "--pid", pid, "--nofile=1024:4096")
	b.eventually("the pull was noticed", func() bool { return b.condition() == "exposed" })
	b.eventually("the end of it is said", func() bool { return strings.Contains(b.nidalo("history"), "disks-listed") })
	require.Contains(t, b.log.String(), "too many open files")
	b.nidalo("replace", "-wait", "tides", "1", "A2")
	b.healthy()
}

// Files of one file system are lost together, so they count as one disk; an array of which all members are such files is a trial, and is told so.
func TestFilesOfOneFileSystemCountOnce(t *testing.T) {
	b := newBench(t)
	elsewhere, err := os.MkdirTemp("/dev/shm", "nidalo-test-")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, os.RemoveAll(elsewhere)) })
	var here, there []string
	for i := range 6 {
		here = append(here, sparse(t, filepath.Join(b.home, fmt.Sprint("disk", i)), 64*mib, ""))
	}
	for i := range 2 {
		there = append(there, sparse(t, filepath.Join(elsewhere, fmt.Sprint("disk", i)), 64*mib, ""))
	}
	b.start()
	out := b.nidalo("create", "-name", "mixed", "-level", "6", "-yes", here[0], here[1], there[0], there[1])
	require.Contains(t, out, "margin 1")
	out = b.nidalo("status", "mixed")
	require.Contains(t, out, "margin 1\n")
	require.Regexp(t, `lost\s+together\s+with\s+its\s+disk,\s+and\s+count\s+as\s+one`, out)
	out = b.nidalo("create", "-name", "trial", "-level", "6", "-yes", here[2], here[3], here[4], here[5])
	require.Contains(t, out, "margin 2")
	require.Regexp(t, `whatever\s+the\s+margin\s+says`, b.nidalo("status", "trial"))
}

// A guarded set that had lost more disks than it has parity is checked when they are back, also when they come while nobody looks.
func TestASetThatHadLostTooMuchIsCheckedAfterAKill(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "96MiB")
	b.start()
	b.nidalo("create", "-yes", "-name", "archive", "-level", "guarded", "-parity", "A4", "logbooks=A1", "maps=A2", "scans=A3")
	c, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "archive/scans")
	require.NoError(t, err)
	require.NoError(t, c.WriteAt(bytes.Repeat([]byte("tide"), 4<<20), 0))
	require.NoError(t, c.Flush())
	require.NoError(t, c.Close())
	gone := b.status().Arrays[0].Members[:2]
	for i, m := range gone {
		b.nidalo("lab", "pull", m.Bay)
		b.eventually("away", func() bool { return b.status().Arrays[0].Members[i].Condition == "missing" })
	}
	require.Equal(t, "partial", b.condition())
	time.Sleep(1500 * time.Millisecond) // it is noted within a second
	b.stop(syscall.SIGKILL)
	for _, m := range gone {
		b.nidalo("lab", "insert", m.Bay, "-disk", m.Serial)
	}
	b.nidalo("lab", "damage", "A3", "-rate", "3MiB/s") // so that the check lasts
	b.start()
	b.eventually("all are back", func() bool { return b.condition() == "exposed" })
	require.Contains(t, b.nidalo("status"), "a further loss may cost")
	require.Contains(t, b.nidalo("status", "archive"), "exposed, margin 0")
	code, out, _ := b.try("may-pull", "A1")
	require.Equal(t, 1, code)
	require.Contains(t, out, "had lost more disks than it has parity")
	require.Contains(t, b.nidalo("next"), "Let the check end that follows")
	b.nidalo("lab", "damage", "A3", "-mend")
	b.healthy()
	require.NotContains(t, b.nidalo("status"), "a further loss may cost")
	b.eventually("checked", func() bool { return slices.Contains(b.history().kinds(), "check-done") })
}
