package test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

type span struct{ Offset, Length int64 }

type rescued struct {
	Stage  string
	Export string
	Back   []struct{ Bay string } `json:"can_be_brought_back"`
	State  int
	States []struct {
		Epoch   uint64
		Members []struct {
			Slot  int
			There bool
			Use   string
		}
	}
	Doubt   string
	Written int64  `json:"written_bytes"`
	Lost    int64  `json:"lost_bytes"`
	Spans   int    `json:"lost_spans"`
	Places  []span `json:"lost"`
	Copy    struct {
		State string
		Lost  int64 `json:"lost_bytes"`
	}
}

// rescue runs the command and returns what it says; the exit status says whether anything is lost.
func (b *bench) rescue(args ...string) (r rescued) {
	b.t.Helper()
	code, out, said := b.try(append([]string{"rescue", "-json"}, args...)...)
	require.NoError(b.t, json.Unmarshal([]byte(out), &r), "%s%s", out, said)
	require.Equal(b.t, r.Lost > 0 || r.Copy.Lost > 0 || r.Doubt != "", code == 1)
	return r
}

// listed reads a list of what was lost.
func listed(t *testing.T, path string) (out []span) {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		if !strings.HasPrefix(line, "#") {
			var s span
			_, err := fmt.Sscan(line, &s.Offset, &s.Length)
			require.NoError(t, err)
			out = append(out, s)
		}
	}
	return out
}

// sameBut wants two files the same except for zeros in the spans.
func sameBut(t *testing.T, x, y string, n int64, lost []span) {
	t.Helper()
	a, err := os.ReadFile(x)
	require.NoError(t, err)
	b, err := os.ReadFile(y)
	require.NoError(t, err)
	for _, l := range lost {
		if l.Offset < n {
			clear(a[l.Offset:min(n, l.Offset+l.Length)])
		}
	}
	require.Equal(t, sha256.Sum256(a[:n]), sha256.Sum256(b[:n]))
}

func (b *bench) disks() (sums map[string][32]byte) {
	b.t.Helper()
	sums = map[string][32]byte{}
	paths, err := filepath.Glob(filepath.Join(b.home, "lab", "*", "disk.img"))
	require.NoError(b.t, err)
	for _, p := range paths {
		text, err := os.ReadFile(p)
		require.NoError(b.t, err)
		sums[p] = sha256.Sum256(text)
	}
	return sums
}

func TestARescueCopiesOutWhatIsLeft(t *testing.T) {
	b, in, out := filled(t, 100*mib)
	b.refused(1, []string{"is in service"}, "rescue", "tides")
	b.nidalo("lab", "pull", "A6") // a member that this service has never seen before it was one
	b.nidalo("lab", "insert", "A6")
	b.eventually("seen", func() bool { return strings.Contains(b.nidalo("next"), "nidalo replace") })
	b.nidalo("replace", "-wait", "tides", "QRN-0228", "A6")
	b.healthy()
	b.refused(1, []string{"no disk carries anything"}, "rescue", "sonar")
	for _, bay := range []string{"A1", "A2", "A3"} {
		b.nidalo("lab", "pull", bay)
		b.eventually("gone", func() bool { return strings.Contains(b.nidalo("disks"), bay+"    -") })
	}
	require.Equal(t, "failed", b.condition())
	require.Contains(t, b.nidalo("next"), "nidalo rescue tides")
	before := b.disks()

	judged := b.rescue("tides")
	require.Positive(t, judged.Lost)
	require.Less(t, judged.Lost, int64(100*mib))
	require.Len(t, judged.States, 1)
	for slot, m := range judged.States[0].Members {
		require.Equal(t, slot > 2, m.There, "slot %d", slot)
	}
	got := b.rescue("-copy", out, "tides")
	require.Equal(t, "done", got.Copy.State)
	lost := listed(t, out+".lost")
	var all int64
	for _, l := range lost {
		all += l.Length
	}
	require.Equal(t, got.Copy.Lost, all)
	require.Equal(t, judged.Lost, all, "what it promised is what is read")
	require.Equal(t, judged.Places, lost[:len(judged.Places)])
	sameBut(t, in, out, 100*mib, lost)
	b.refused(1, []string{"is there already"}, "rescue", "-copy", out, "tides")
	b.refused(1, []string{".lost is there already"}, func() []string {
		require.NoError(t, os.Remove(out))
		return []string{"rescue", "-copy", out, "tides"}
	}()...)
	_, err := os.Stat(out)
	require.ErrorIs(t, err, os.ErrNotExist, "what was begun is taken back")
	require.NoError(t, os.Remove(out+".lost"))
	require.Equal(t, before, b.disks(), "the members are not touched")

	// The disk lost last, as an image of which a part could not be copied.
	image, list := filepath.Join(b.home, "a3.img"), filepath.Join(b.home, "a3.bad")
	drawer, err := os.ReadFile(filepath.Join(b.home, "lab", "drawer", "QRN-0207", "disk.img"))
	require.NoError(t, err)
	clear(drawer[20*mib : 21*mib])
	require.NoError(t, os.WriteFile(image, drawer, 0o400))
	b.refused(1, []string{"line 1", "is not a list of ranges"}, func() []string {
		require.NoError(t, os.WriteFile(list, []byte("-7 12\n"), 0o600))
		return []string{"rescue", "-image", image + "=" + list, "tides"}
	}()...)
	require.NoError(t, os.WriteFile(list, []byte(fmt.Sprintf("# what the copier could not read\n%d %d\n", 20*mib, mib)), 0o600))
	judged = b.rescue("-image", image+"="+list, "tides")
	require.LessOrEqual(t, judged.Lost, int64(4*mib), "one of three lost is more than level 6 needs, but for a part")
	require.Positive(t, judged.Lost)
	b.stop(syscall.SIGTERM) // the command does it by itself as well
	got = b.rescue("-image", image+"="+list, "-copy", out, "tides")
	require.Equal(t, judged.Lost, got.Copy.Lost)
	sameBut(t, in, out, 100*mib, listed(t, out+".lost"))

	// Disks that were gone for a moment come back whole.
	b.start()
	for bay, serial := range map[string]string{"A1": "TMK-0193", "A2": "ORR-0200", "A3": "QRN-0207"} {
		b.nidalo("lab", "insert", bay, "-disk", serial)
	}
	b.eventually("all three are back", func() bool { code, _, _ := b.try("start", "tides"); return code == 0 || b.condition() != "failed" })
	b.healthy()
	require.NoError(t, os.Remove(out))
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 100*mib)
}

// TestDisksThatWentOnWithoutEachOtherAreToldApart: two halves of a mirror were both written to.
func TestDisksThatWentOnWithoutEachOtherAreToldApart(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "2", "-size", "64MiB")
	b.nidalo("create", "-name", "charts", "-level", "1", "A1", "A2")
	serials := map[string]string{}
	b.start()
	for _, m := range b.status().Arrays[0].Members {
		serials[m.Bay] = m.Serial
	}
	b.stop(syscall.SIGTERM)
	for value, other := range map[string]string{"1": "A2", "2": "A1"} {
		b.nidalo("lab", "pull", other)
		b.start()
		b.tool("qemu-io", "-f", "raw", b.uri("charts"), "-c", "write -P "+value+" 0 1M", "-c", "flush")
		b.stop(syscall.SIGTERM)
		b.nidalo("lab", "insert", other, "-disk", serials[other])
	}
	b.start()
	judged := b.rescue("charts")
	require.Contains(t, judged.Doubt, "without each other")
	require.Len(t, judged.States, 2)
	seen := map[byte]bool{}
	for _, state := range []string{"1", "2"} {
		out := filepath.Join(b.home, "out"+state)
		require.Zero(t, b.rescue("-state", state, "-copy", out, "charts").Copy.Lost)
		text, err := os.ReadFile(out)
		require.NoError(t, err)
		require.Equal(t, strings.Repeat(string(text[:1]), mib), string(text[:mib]))
		seen[text[0]] = true
	}
	require.Equal(t, map[byte]bool{1: true, 2: true}, seen)
	b.refused(1, []string{"no state 3"}, "rescue", "-state", "3", "charts")
}

// TestACopyThatWasNotFinishedIsNoMember: of an array nothing is left but the disk a member was being copied onto.
func TestACopyThatWasNotFinishedIsNoMember(t *testing.T) {
	b, _, _ := filled(t, 100*mib)
	b.nidalo("lab", "damage", "A7", "-rate", "2MiB/s")
	b.nidalo("retire", "tides", "A4", "A7")
	b.stop(syscall.SIGTERM)
	for _, bay := range []string{"A1", "A2", "A3", "A4", "A5", "A6"} {
		b.nidalo("lab", "pull", bay)
	}
	b.start()
	b.refused(1, []string{"its copy was not finished"}, "rescue", "tides")
}

// TestARescueIsServedReadOnly: what clients read is what was written, and what is lost is an error, where it was foretold.
func TestARescueIsServedReadOnly(t *testing.T) {
	b, in, _ := filled(t, 60*mib)
	uri := strings.Replace(b.uri("tides"), "/tides", "/rescue/tides", 1)
	for _, bay := range []string{"A1", "A2", "A3"} {
		b.nidalo("lab", "pull", bay)
		b.eventually("gone", func() bool { return strings.Contains(b.nidalo("disks"), bay+"    -") })
	}
	b.eventually("failed", func() bool { return b.condition() == "failed" })
	before := b.disks()
	list := filepath.Join(b.home, "lost")
	served := b.rescue("-serve", "-list", list, "tides")
	all := listed(t, list)
	require.Len(t, all, served.Spans)
	require.Equal(t, served.Places, all[:len(served.Places)])
	require.Equal(t, "served", served.Stage)
	require.Equal(t, uri, served.Export)
	require.Contains(t, b.tool("nbdinfo", "--list", strings.Replace(uri, "/rescue/tides", "/", 1)), `export="rescue/tides"`)
	require.Contains(t, b.tool("nbdinfo", uri), "is_read_only: true")
	want, err := os.ReadFile(in)
	require.NoError(t, err)
	lost := func(off, n int64) bool {
		for _, l := range served.Places {
			if l.Offset < off+n && off < l.Offset+l.Length {
				return true
			}
		}
		return false
	}
	const step = 64 << 10
	last := served.Places[len(served.Places)-1]
	for off, met := int64(0), 0; off < last.Offset+last.Length && met < 40; off += step {
		out := filepath.Join(b.home, "piece")
		c := exec.Command("qemu-img", "dd", "-f", "raw", "-O", "raw", "bs=64k", fmt.Sprintf("skip=%d", off/step), fmt.Sprintf("count=%d", off/step+1), "if="+uri, "of="+out)
		said, err := c.CombinedOutput()
		met++
		if lost(off, step) {
			require.Error(t, err, "byte %d", off)
			require.Contains(t, string(said), "Input/output error")
			continue
		}
		require.NoError(t, err, "byte %d: %s", off, said)
		got, err := os.ReadFile(out)
		require.NoError(t, err)
		require.Equal(t, sha256.Sum256(want[off:off+step]), sha256.Sum256(got), "byte %d", off)
	}
	_, err = exec.Command("qemu-io", "-f", "raw", uri, "-c", "write 0 4k").CombinedOutput()
	require.Error(t, err)
	b.refused(1, []string{"is being served"}, "start", "tides")
	b.refused(1, []string{"is there already"}, func() []string {
		b.nidalo("rescue", "-stop", "tides")
		return []string{"rescue", "-serve", "-list", list, "tides"}
	}()...)
	b.rescue("-serve", "tides")
	b.refused(1, []string{"is being served"}, "rescue", "-copy", filepath.Join(b.home, "x"), "tides")
	require.Equal(t, "served", b.rescue("tides").Stage, "asked again it tells that it is served")
	require.Contains(t, b.nidalo("rescue", "-stop", "tides"), "is ended")
	require.Error(t, exec.Command("nbdinfo", uri).Run())
	require.Equal(t, before, b.disks(), "the members are not touched")
	b.stop(syscall.SIGTERM)
	b.refused(1, []string{"nidalo serve"}, "rescue", "-serve", "tides")
	b.refused(2, []string{"one of"}, "rescue", "-serve", "-in-place", "tides")
}

// TestAMemberFailedByMistakeIsBroughtBack: of an array that failed after that, what was not written meanwhile is whole again,
// the rest is an error and nothing is old.
func TestAMemberFailedByMistakeIsBroughtBack(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "6", "-size", "64MiB")
	b.nidalo("create", "-name", "sonar", "-level", "5", "A1", "A2", "A3", "A4")
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 60*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("sonar"))
	b.refused(1, []string{"is in service"}, "rescue", "-in-place", "-yes", "sonar")
	b.nidalo("fail", "-yes", "sonar", "A2")
	b.tool("qemu-io", "-f", "raw", b.uri("sonar"), "-c", "write -P 9 20M 1M", "-c", "flush")
	b.nidalo("lab", "pull", "A3")
	b.eventually("failed", func() bool { return b.condition() == "failed" })

	judged := b.rescue("sonar")
	require.Positive(t, judged.Lost)
	require.Less(t, judged.Lost, int64(4*mib), "no more than around what was written meanwhile")
	require.Len(t, judged.Back, 1)
	code, said, why := b.try("rescue", "-in-place", "sonar")
	require.Equal(t, 1, code)
	require.Contains(t, said, "given up for good")
	require.Contains(t, why, "needs to be confirmed")
	require.Equal(t, "failed", b.condition(), "nothing is done unasked")
	require.Contains(t, b.nidalo("rescue", "-in-place", "-yes", "sonar"), "A2 is back in sonar")
	require.Equal(t, "exposed", b.condition())
	require.Contains(t, b.history().kinds(), "members-readmitted")

	// It was pulled after A2 had left, so nothing it holds may count beside what was given up.
	b.nidalo("lab", "insert", "A3", "-disk", "QRN-0207")
	b.eventually("told", func() bool { return slices.Contains(b.history().kinds(), "member-stale") })
	require.NotContains(t, b.nidalo("next"), "catches up")
	b.nidalo("replace", "-wait", "sonar", "A3", "A5")
	b.healthy()
	want, err := os.ReadFile(in)
	require.NoError(t, err)
	copy(want[20*mib:], bytes.Repeat([]byte{9}, mib))
	const step = 64 << 10
	var bad int64
	for off := int64(16 * mib); off < 24*mib; off += step {
		_ = os.Remove(out)
		if err := exec.Command("qemu-img", "dd", "-f", "raw", "-O", "raw", "bs=64k", fmt.Sprintf("skip=%d", off/step), fmt.Sprintf("count=%d", off/step+1), "if="+b.uri("sonar"), "of="+out).Run(); err != nil {
			bad += step
			continue
		}
		got, err := os.ReadFile(out)
		require.NoError(t, err)
		require.Equal(t, sha256.Sum256(want[off:off+step]), sha256.Sum256(got), "byte %d", off)
	}
	require.Equal(t, judged.Lost, bad, "what was given up is what cannot be read")
	b.tool("qemu-io", "-f", "raw", b.uri("sonar"), "-c", "write -P 3 16M 8M", "-c", "flush")
	copy(want[16*mib:], bytes.Repeat([]byte{3}, 8*mib))
	b.tool("nbdcopy", b.uri("sonar"), out)
	got, err := os.ReadFile(out)
	require.NoError(t, err)
	require.Equal(t, sha256.Sum256(want), sha256.Sum256(got[:60*mib]), "written again, it is whole")
	b.nidalo("check", "-wait", "sonar")
}
