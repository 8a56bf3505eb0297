package test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"nidalo/internal/nbd"

	"github.com/stretchr/testify/require"
)

// eventually waits for a condition of the array, and for its tasks to have ended.
func (b *bench) eventually(what string, f func() bool) {
	b.t.Helper()
	for end := time.Now().Add(2 * time.Minute); !f(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			_, status, _ := b.try("status")
			require.Fail(b.t, what, "%s\n%s", status, b.log)
		}
	}
}

func (b *bench) healthy() {
	b.t.Helper()
	b.eventually("healthy", func() bool { return b.condition() == "healthy" })
}

type past struct {
	Events []struct{ Kind, Severity, Array, Disk, Detail string }
	Tasks  []struct {
		Kind, State string
		Bytes       int64
		Moved       int64 `json:"moved_bytes"`
	}
}

func (b *bench) history(args ...string) (h past) {
	b.t.Helper()
	require.NoError(b.t, json.Unmarshal([]byte(b.nidalo(append([]string{"history", "-json", "-n", "500"}, args...)...)), &h))
	return h
}

func (h past) kinds() (out []string) {
	for _, e := range h.Events {
		out = append(out, e.Kind)
	}
	return out
}

// appeared is how many disks have come since the service runs.
func appeared(b *bench) int { return len(b.history("-kind", "disk-appeared").Events) }

// TestTheWholeStoryOfAFailedDisk: a client verifies all the while, and sees no error.
func TestTheWholeStoryOfAFailedDisk(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "7", "-size", "96MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5", "A6")
	b.start()
	b.nidalo("spare", "A7")
	load := exec.Command("fio", "--name=load", "--ioengine=nbd", "--uri="+b.uri("tides"), "--rw=randwrite", "--bs=16k", "--iodepth=4",
		"--size=200m", "--rate=12m", "--verify=crc32c", "--verify_backlog=256", "--verify_fatal=1", "--fsync=64", "--time_based", "--runtime=14")
	load.Dir = b.home
	var said strings.Builder
	load.Stdout, load.Stderr = &said, &said
	require.NoError(t, load.Start())
	b.eventually("the load writes", func() bool { return b.status().Arrays[0].Counters["client_written_bytes"] > 15*mib })

	b.nidalo("lab", "pull", "A3")
	b.eventually("the spare takes over", func() bool { return b.status().Arrays[0].Members[2].Bay == "A7" })
	b.healthy()
	require.Contains(t, b.nidalo("next"), "Insert a disk of at least")
	b.nidalo("lab", "insert", "A3", "-size", "96MiB")
	b.eventually("the new disk is noticed", func() bool { return strings.Contains(b.nidalo("next"), "nidalo retire tides A7") })
	b.eventually("and told", func() bool { return slices.Contains(b.history("-kind", "disk-appeared").kinds(), "disk-appeared") })
	b.nidalo("retire", "-wait", "tides", "A7", "A3")
	b.eventually("the spare is free again", func() bool {
		return strings.Contains(b.nidalo("disks"), "spare") && b.status().Arrays[0].Members[2].Bay == "A3"
	})
	b.healthy()
	require.NoError(t, load.Wait(), "%s", &said)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
	require.Contains(t, b.nidalo("next"), "Nothing to do")

	kinds := b.history().kinds()
	order := []string{"array-created", "spare-assigned", "member-missing", "spare-used", "rebuild-done", "disk-appeared", "member-retired", "spare-free", "check-done"}
	at := 0
	for _, k := range kinds {
		if at < len(order) && k == order[at] {
			at++
		}
	}
	require.Equal(t, len(order), at, "in order: %v", kinds)
}

func TestAMemberThatComesBackInAnotherBayCatchesUpOnlyItsShare(t *testing.T) {
	b, in, out := filled(t, 120*mib)
	b.stop(syscall.SIGTERM)
	b.start()
	b.nidalo("lab", "pull", "A2")
	b.nidalo("lab", "pull", "A8")
	b.eventually("missing", func() bool { return b.condition() == "degraded" })
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "write -P 7 40M 4M", "-c", "flush")
	b.nidalo("lab", "insert", "A8", "-disk", "ORR-0200")
	b.eventually("it is back", func() bool {
		m := b.status().Arrays[0].Members[1]
		return m.Bay == "A8" && m.Condition == "active"
	})
	b.healthy()
	h := b.history("-kind", "catch-up")
	require.Len(t, h.Tasks, 1)
	require.Positive(t, h.Tasks[0].Moved)
	require.Less(t, h.Tasks[0].Moved, h.Tasks[0].Bytes/3, "only its share: %+v", h.Tasks)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
	b.nidalo("fail", "-yes", "tides", "A1") // so that what came back must serve
	b.nidalo("fail", "-yes", "tides", "A3")
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "read -P 7 40M 4M", "-c", "write 40M 4M")
	b.tool("nbdcopy", b.uri("tides"), out)
	got, err := os.ReadFile(out)
	require.NoError(t, err)
	want, err := os.ReadFile(in)
	require.NoError(t, err)
	require.Equal(t, string(want[:40*mib]), string(got[:40*mib]))
	require.Equal(t, string(want[44*mib:]), string(got[44*mib:120*mib]))
}

func TestRetiringGoesOnAfterAKillAndKeepsTheMargin(t *testing.T) {
	b, in, out := filled(t, 120*mib)
	b.nidalo("lab", "damage", "A4", "-unreadable", "9")
	b.nidalo("lab", "damage", "A7", "-rate", "8MiB/s")
	b.nidalo("retire", "tides", "A4", "A7")
	progress := func() (percent float64) {
		for _, task := range b.status().Arrays[0].Tasks {
			if task.Kind == "retire" {
				percent = task.Percent
			}
		}
		return percent
	}
	b.eventually("a third of it", func() bool { return progress() > 33 })
	code, text, _ := b.try("may-pull", "A4")
	require.Equal(t, 1, code)
	require.Contains(t, text, "being copied onto another disk")
	code, text, _ = b.try("may-pull", "A7")
	require.Equal(t, 1, code)
	require.Contains(t, text, "is being copied onto it")
	before := progress()
	b.stop(syscall.SIGKILL)
	b.start()
	require.Equal(t, 2, b.status().Arrays[0].Margin, "the margin never drops")
	b.nidalo("lab", "damage", "A7", "-mend")
	b.eventually("retired", func() bool { return b.status().Arrays[0].Members[3].Bay == "A7" })
	require.Equal(t, 2, b.status().Arrays[0].Margin)
	h := b.history("-kind", "retire")
	require.Less(t, h.Tasks[len(h.Tasks)-1].Moved, int64(float64(35*mib)*(1-before/100+0.2)), "it went on where it was")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 120*mib)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
	require.Contains(t, b.nidalo("disks"), "retired")
	code, _, _ = b.try("may-pull", "A4")
	require.Zero(t, code)
	b.refused(1, []string{"retired from array", "nidalo erase A4"}, "replace", "-yes", "tides", "A1", "A4")
	b.nidalo("erase", "-yes", "A4")
}

func TestAdoptingADiskInTheSameBayIsAsConfigured(t *testing.T) {
	for _, adopt := range []string{"never", "same-bay"} {
		b := newBench(t)
		b.configure("adopt = '" + adopt + "'\n")
		b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
		b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3", "A4")
		b.start()
		b.nidalo("lab", "pull", "A2")
		b.eventually("exposed", func() bool { return b.condition() == "exposed" })
		b.nidalo("lab", "insert", "A2", "-size", "32MiB")
		b.eventually("the small disk is seen", func() bool { return appeared(b) == 1 })
		require.Equal(t, "exposed", b.condition(), "too small in any case")
		b.nidalo("lab", "pull", "A2")
		b.nidalo("lab", "insert", "A2", "-size", "64MiB")
		if adopt == "same-bay" {
			b.healthy()
			require.Contains(t, b.history().kinds(), "disk-too-small")
			require.Contains(t, b.history().kinds(), "disk-adopted")
		} else {
			b.eventually("the disk is seen", func() bool { return appeared(b) == 2 })
			require.Equal(t, "exposed", b.condition())
			require.Contains(t, b.nidalo("next"), "nidalo replace tides")
		}
		b.stop(syscall.SIGTERM)
	}
}

func TestADiskChangedWhileNoServiceRanIsAdoptedToo(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.nidalo("lab", "pull", "A2")
	b.nidalo("lab", "insert", "A2", "-size", "64MiB")
	b.start()
	b.eventually("exposed", func() bool { return b.condition() == "exposed" })
	b.configure("adopt = 'same-bay'\n")
	require.NoError(t, b.serve.Process.Signal(syscall.SIGHUP))
	b.healthy()
	b.configure("adopt = 'never'\n")
	require.NoError(t, b.serve.Process.Signal(syscall.SIGHUP))
	b.eventually("the configuration is read again", func() bool { return strings.Count(b.log.String(), "configuration read again") == 2 })
	b.nidalo("fail", "-yes", "tides", "A3")
	b.nidalo("lab", "pull", "A3")
	b.nidalo("lab", "insert", "A3", "-size", "64MiB")
	b.tool("sh", "-c", "printf 'this is not blank' | dd of="+filepath.Join(b.home, "lab/A3/disk.img")+" conv=notrunc bs=1M seek=8 2>/dev/null; printf '\\123\\357' | dd of="+filepath.Join(b.home, "lab/A3/disk.img")+" conv=notrunc bs=1 seek=1080 2>/dev/null")
	b.configure("adopt = 'same-bay'\n")
	require.NoError(t, b.serve.Process.Signal(syscall.SIGHUP))
	b.eventually("why not is told", func() bool { return slices.Contains(b.history().kinds(), "disk-not-adopted") })
	require.Equal(t, "exposed", b.condition())
	b.nidalo("erase", "-yes", "A3")
	b.healthy()
}

func TestASpareTooSmallIsToldWhenItIsAssigned(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3")
	b.nidalo("lab", "pull", "A4")
	b.nidalo("lab", "insert", "A4", "-size", "40MiB")
	b.start()
	b.refused(1, []string{"too small to be a spare", "bytes"}, "spare", "A4")
	b.refused(1, []string{"in use"}, "spare", "A1")
	b.nidalo("lab", "pull", "A4")
	b.nidalo("lab", "insert", "A4", "-size", "80MiB")
	b.nidalo("spare", "A4", "tides")
	b.refused(1, []string{"no array"}, "spare", "A4", "sonar")
	b.nidalo("fail", "-yes", "tides", "A1")
	b.healthy()
	require.Equal(t, "A4", b.status().Arrays[0].Members[0].Bay)
}

func TestStopAndStartAndStrangersAndNames(t *testing.T) {
	b, in, out := filled(t, 20*mib)
	client, err := nbd.Dial("unix", filepath.Join(b.home, "nbd.sock"), "tides")
	require.NoError(t, err)
	b.refused(1, []string{"1 client holds it"}, "stop", "tides")
	b.refused(1, []string{"1 client holds it"}, "rename", "tides", "flood")
	require.NoError(t, client.Close())
	b.eventually("the service has noticed, and renames it", func() bool { code, _, _ := b.try("rename", "tides", "flood"); return code == 0 })
	b.nidalo("stop", "flood")
	require.Contains(t, b.nidalo("status"), "not in service")
	b.stop(syscall.SIGTERM)
	b.start()
	require.Contains(t, b.nidalo("next"), "nidalo start flood", "it stays out over a restart")
	b.nidalo("start", "flood")
	b.tool("nbdcopy", b.uri("flood"), out)
	same(t, in, out, 20*mib)
	b.stop(syscall.SIGTERM)

	// The same disks in another home that has an array of its own: shown, and started only when asked.
	other := newBench(t)
	other.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	other.nidalo("create", "-name", "sonar", "-level", "1", "A1", "A2")
	var list strings.Builder
	for i := 1; i <= 6; i++ {
		fmt.Fprintf(&list, "%s\n", filepath.Join(b.home, "lab", fmt.Sprintf("A%d", i), "disk.img"))
	}
	require.NoError(t, os.WriteFile(filepath.Join(other.home, "disks.list"), []byte(list.String()), 0o600))
	other.start()
	require.Contains(t, other.nidalo("next"), "come from another host or home")
	other.nidalo("start", "flood")
	other.tool("nbdcopy", other.uri("flood"), out)
	same(t, in, out, 20*mib)
}

func TestAnArrayThatFailedIsStartedWhenItsDisksAreBack(t *testing.T) {
	b, in, out := filled(t, 20*mib)
	for i, bay := range []string{"A1", "A2", "A3"} {
		b.nidalo("lab", "pull", bay)
		b.eventually(bay+" is gone", func() bool { return b.condition() == []string{"degraded", "exposed", "failed"}[i] })
	}
	b.refused(1, []string{"more members are missing", "nidalo start tides"}, "start", "tides")
	b.nidalo("lab", "insert", "A3", "-disk", "QRN-0207")
	require.Contains(t, b.nidalo("start", "tides"), "exposed")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 20*mib)
	b.nidalo("lab", "insert", "A1", "-disk", "TMK-0193")
	b.nidalo("lab", "insert", "A2", "-disk", "ORR-0200")
	b.healthy()
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}

// How well a pace is kept is for tests of the engine, which have a clock of their own.
func TestAPaceIsPutInForceToldAndRemembered(t *testing.T) {
	b, _, _ := filled(t, 160*mib)
	b.nidalo("pace", "tides", "4MiB/s")
	b.nidalo("fail", "-yes", "tides", "A2")
	b.nidalo("replace", "tides", "A2", "A7")
	type view struct {
		Kind    string
		Done    int64    `json:"done_bytes"`
		Percent float64  `json:"percent"`
		ETA     *float64 `json:"eta_seconds"`
	}
	rebuild := func() view {
		var s struct{ Arrays []struct{ Tasks []view } }
		require.NoError(t, json.Unmarshal([]byte(b.nidalo("status", "-json")), &s))
		return s.Arrays[0].Tasks[0]
	}
	b.eventually("it says how long it will take", func() bool { v := rebuild(); return v.Percent > 20 && v.ETA != nil })
	require.Less(t, rebuild().Percent, 100.0)
	b.nidalo("pace", "tides", "full")
	b.healthy()
	b.refused(1, []string{"no pace"}, "pace", "tides", "breakneck")
	b.refused(1, []string{"never reached"}, "pace", "all", "else full, 08:00-09:00 gentle")
	b.nidalo("pace", "all", "08:00-18:00", "gentle,", "else", "full")
	require.Contains(t, b.nidalo("pace"), "08:00-18:00 gentle, else full")
	b.stop(syscall.SIGTERM)
	b.start()
	require.Contains(t, b.nidalo("pace"), "08:00-18:00 gentle, else full", "it is remembered")
}

func TestTasksPauseContinueAndWaitForEachOther(t *testing.T) {
	b, _, _ := filled(t, 160*mib)
	b.nidalo("pace", "all", "2MiB/s")
	b.nidalo("fail", "-yes", "tides", "A2")
	b.nidalo("replace", "tides", "A2", "A7")
	b.nidalo("check", "tides")
	state := func(kind string) string {
		for _, task := range b.status().Arrays[0].Tasks {
			if task.Kind == kind {
				return task.State
			}
		}
		return ""
	}
	require.Equal(t, "waiting", state("check"))
	require.Contains(t, b.nidalo("status"), "waits for the rebuild of array tides")
	b.nidalo("pause", "tides", "rebuild")
	b.eventually("paused", func() bool { return state("rebuild") == "paused" })
	b.eventually("the check has its turn", func() bool { return state("check") == "running" })
	b.refused(1, []string{"cannot be cancelled"}, "cancel", "tides", "rebuild")
	b.nidalo("continue", "tides", "rebuild")
	b.eventually("the rebuild goes before the check", func() bool { return state("rebuild") == "running" && state("check") == "waiting" })
	b.nidalo("cancel", "tides", "check")
	b.nidalo("pace", "all", "full")
	b.healthy()
	require.Equal(t, "done", state("rebuild"))
}

// TestArraysThatShareADiskTakeTurns: two arrays on two parts each of the same disks.
func TestArraysThatShareADiskTakeTurns(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("loop devices need root")
	}
	b := newBench(t)
	var first, second []string
	for i := range 3 {
		image := filepath.Join(b.home, fmt.Sprintf("image%d", i))
		require.NoError(t, os.WriteFile(image, nil, 0o600))
		require.NoError(t, os.Truncate(image, 130*mib))
		for part, devices := range []*[]string{&first, &second} {
			device := strings.TrimSpace(b.tool("losetup", "-f", "--show", "-o", fmt.Sprint((1+part*64)*mib), "--sizelimit", fmt.Sprint(60*mib), image))
			t.Cleanup(func() { _ = exec.Command("losetup", "-d", device).Run() })
			*devices = append(*devices, device)
		}
	}
	b.nidalo(append([]string{"create", "-name", "tides", "-level", "5"}, first...)...)
	b.nidalo(append([]string{"create", "-name", "sonar", "-level", "5"}, second...)...)
	b.start()
	in := filepath.Join(b.home, "in")
	pattern(t, in, 40*mib)
	for _, name := range []string{"tides", "sonar"} {
		b.tool("nbdcopy", "--flush", in, b.uri(name))
	}
	b.nidalo("pace", "all", "3MiB/s")
	b.nidalo("check", "tides")
	b.nidalo("check", "sonar")
	require.Contains(t, b.nidalo("status"), "waits for the check of array tides, which uses the same disks")
	b.nidalo("pace", "all", "full")
	b.eventually("both are done", func() bool {
		for _, a := range b.status().Arrays {
			if a.Tasks[0].State != "done" {
				return false
			}
		}
		return true
	})
	b.stop(syscall.SIGTERM)
}

func TestLightsAreLit(t *testing.T) {
	b, _, _ := filled(t, 4*mib)
	lit := func(bay string) bool {
		_, err := os.Stat(filepath.Join(b.home, "lab", bay, "light"))
		return err == nil
	}
	b.nidalo("locate", "QRN-0207")
	require.True(t, lit("A3"))
	b.nidalo("lab", "pull", "A2")
	b.eventually("missing", func() bool { return b.condition() == "degraded" })
	b.nidalo("locate", "-others", "tides")
	require.True(t, lit("A1") && lit("A3") && lit("A6"))
	require.False(t, lit("A2"), "the dark one is the missing")
	require.False(t, lit("A7"))
	b.nidalo("locate", "-off")
	require.False(t, lit("A1"))
}

func TestVettingFindsWhatIsWrongAndGoesOnAfterAStop(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	b.nidalo("create", "-name", "charts", "-level", "1", "A1", "A2")
	b.start()
	b.refused(1, []string{"in use"}, "vet", "A1")
	require.Contains(t, b.nidalo("disks"), "vet: never")
	b.nidalo("vet", "-quick", "-wait", "A3")
	require.Contains(t, b.nidalo("disks"), "vet: passed")
	b.nidalo("lab", "damage", "A3", "-pending", "9") // the proof itself passes
	require.Equal(t, 1, func() int { code, _, _ := b.try("vet", "-quick", "-wait", "A3"); return code }())
	require.Contains(t, b.nidalo("disks"), "vet: it says of itself: 9 sectors wait")
	b.nidalo("lab", "damage", "A3", "-pending", "0")
	b.nidalo("vet", "-quick", "-wait", "A3")
	require.Contains(t, b.nidalo("disks"), "vet: passed")

	b.nidalo("lab", "damage", "A4", "-rate", "30MiB/s")
	b.nidalo("vet", "A4")
	b.refused(1, []string{"being vetted"}, "create", "-name", "tides", "-level", "1", "A3", "A4")
	type proofs struct {
		Vets []struct {
			Disk, State, Result string
			Percent             float64
			Errors              int
			Places              []string
		}
	}
	at := func() (p proofs) {
		_, text, _ := b.try("vet", "-json")
		require.NoError(t, json.Unmarshal([]byte(text), &p))
		return p
	}
	last := func() float64 { p := at(); return p.Vets[len(p.Vets)-1].Percent }
	b.eventually("a quarter", func() bool { return last() > 25 })
	b.stop(syscall.SIGKILL)
	b.start()
	require.Greater(t, last(), 15.0, "it goes on near where it was")
	b.nidalo("vet", "-stop", "A4")
	held := last()
	b.stop(syscall.SIGTERM)
	b.start()
	require.Equal(t, held, last(), "what was stopped does not go on by itself")
	b.nidalo("vet", "A4")
	b.nidalo("lab", "damage", "A4", "-fail-writes")
	b.eventually("the end", func() bool { p := at(); return p.Vets[len(p.Vets)-1].State == "done" })
	p := at()
	require.Positive(t, p.Vets[len(p.Vets)-1].Errors)
	require.Contains(t, p.Vets[len(p.Vets)-1].Places[0], "could not be written")
	code, out, _ := b.try("vet")
	require.Equal(t, 1, code)
	require.Contains(t, out, "pieces wrong")
	require.Contains(t, b.history("-kind", "vet").kinds(), "vet-done")

	b.nidalo("lab", "damage", "A4", "-mend")
	b.nidalo("erase", "-yes", "A4")
	b.refused(1, []string{"is not to be trusted: its vet found"}, "create", "-name", "tides", "-level", "1", "A3", "A4")
	code, _, said := b.try("create", "-although-bad", "-name", "tides", "-level", "1", "A3", "A4")
	require.Zero(t, code)
	require.NotContains(t, said, "Never vetted", "it was, and is not trusted")
}
