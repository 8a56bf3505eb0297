package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// filled is a served array of level 6 on six lab disks with a pattern in it.
func filled(t *testing.T, size int) (b *bench, in, out string) {
	b = newBench(t)
	b.nidalo("lab", "new", "-bays", "8", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5", "A6")
	b.start()
	in, out = filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, size)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	return b, in, out
}

func TestUnreadableSectorsAreServedAndRewritten(t *testing.T) {
	b, in, out := filled(t, 40*mib)
	b.nidalo("lab", "damage", "A2", "-unreadable", "12")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)
	code, checked, _ := b.try("check", "-repair", "-json", "tides") // what reads did not come across: parity
	require.Zero(t, code, checked)
	m := b.status().Arrays[0].Members[1]
	require.Equal(t, "active", m.Condition, "one bad sector is not a bad disk")
	require.Positive(t, m.Errors)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
	// The sectors were rewritten: the disk itself has none left that cannot be read, where the array lives.
	require.Contains(t, b.nidalo("check", "-json", "tides"), `"mismatches": 0`)
}

func TestADiskThatRefusesWritesIsFailedAndTheClientsGoOn(t *testing.T) {
	b, in, out := filled(t, 40*mib)
	b.nidalo("lab", "damage", "A4", "-fail-writes")
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	s := b.status().Arrays[0]
	require.Equal(t, "degraded", s.Condition)
	require.Equal(t, "failed", s.Members[3].Condition)
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)
	require.Contains(t, b.nidalo("status"), "Next: nidalo replace tides A4 A7")
	require.Contains(t, b.nidalo("replace", "-wait", "tides", "A4", "A7"), "healthy, margin 2")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)
}

// A disk that failed by itself comes back when the administrator insists, and then has what was written meanwhile.
func TestADiskThatFailedByItselfIsTakenBackOnlyWhenOneInsists(t *testing.T) {
	b, in, out := filled(t, 40*mib)
	b.nidalo("lab", "damage", "A4", "-fail-writes")
	require.NoError(t, os.WriteFile(in, noise(40*mib), 0o600))
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	require.Equal(t, "failed", b.status().Arrays[0].Members[3].Condition)
	b.nidalo("lab", "damage", "A4", "-mend")
	b.refused(1, []string{"it failed by itself", "-yes"}, "fail", "-undo", "tides", "A4")
	require.Contains(t, b.nidalo("fail", "-undo", "-yes", "tides", "A4"), "catches up")
	b.eventually("it has caught up", func() bool { return b.status().Arrays[0].Condition == "healthy" })
	b.nidalo("fail", "-yes", "tides", "A1")
	b.nidalo("fail", "-yes", "tides", "A2") // so that what came back must serve
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)
	b.nidalo("fail", "-undo", "tides", "A2")
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}

func TestRotIsNamedAndRepairedByTheCheck(t *testing.T) {
	b, in, out := filled(t, 40*mib)
	b.nidalo("lab", "damage", "A1", "-change", "9", "-seed", "5")
	code, text, _ := b.try("check", "-json", "tides")
	require.Equal(t, 1, code, "mismatches are left")
	var r struct {
		Mismatches, Repaired, Unrepairable int
		Places                             []struct{ Disk string }
	}
	require.NoError(t, json.Unmarshal([]byte(text), &r))
	require.Positive(t, r.Mismatches)
	require.Zero(t, r.Repaired)
	for _, p := range r.Places {
		require.Contains(t, p.Disk, "TMK-0193")
	}
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("check", "-repair", "-json", "tides")), &r))
	require.Equal(t, r.Mismatches, r.Repaired)
	require.Zero(t, r.Unrepairable)
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)
}

// TestThreeDisksAtOnceAreTooManyAndComeBackWhole: nothing is written once data is out of reach, so nothing is lost.
func TestThreeDisksAtOnceAreTooManyAndComeBackWhole(t *testing.T) {
	b, in, out := filled(t, 40*mib)
	b.nidalo("lab", "pull", "A1")
	require.Eventually(t, func() bool { return b.condition() == "degraded" }, 5*time.Second, 50*time.Millisecond)
	b.nidalo("lab", "pull", "A2")
	require.Eventually(t, func() bool { return b.condition() == "exposed" }, 5*time.Second, 50*time.Millisecond)
	b.nidalo("lab", "pull", "A3")
	require.Eventually(t, func() bool { return b.condition() == "failed" }, 5*time.Second, 50*time.Millisecond)
	require.Contains(t, b.nidalo("status"), "bring the lost members back")
	b.stop(15)
	b.refused(1, []string{"bay A8", "pull it first"}, "lab", "insert", "A8", "-disk", "QRN-0207")
	b.nidalo("lab", "insert", "A2", "-disk", "QRN-0207") // any bay will do
	b.start()
	s := b.status().Arrays[0]
	require.Equal(t, "exposed", s.Condition, "the last one to go was current, the others are behind")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)
}

func TestTrimmedSpaceIsNeverWrittenAgain(t *testing.T) {
	b, _, _ := filled(t, 16*mib)
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "discard 4M 8M", "-c", "flush")
	var m []struct {
		Offset, Length int64
		Type           int
	}
	require.NoError(t, json.Unmarshal([]byte(b.tool("nbdinfo", "--map", "--json", b.uri("tides"))), &m))
	require.Len(t, m, 4, "%+v", m)
	require.Equal(t, []int64{4 * mib, 8 * mib}, []int64{m[1].Offset, m[1].Length})
	require.Equal(t, 3, m[1].Type)
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "read -P 0 4M 8M")
	b.nidalo("fail", "-yes", "tides", "A2")
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "read -P 0 4M 8M")
	require.Contains(t, b.nidalo("replace", "-wait", "tides", "A2", "A7"), "rebuilt")
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "read -P 0 4M 8M")
}

// configure writes nidalo.toml.
func (b *bench) configure(text string) {
	require.NoError(b.t, os.WriteFile(filepath.Join(b.home, "nidalo.toml"), []byte(text), 0o600))
}

func TestADiskThatHangsDoesNotHangTheArray(t *testing.T) {
	b := newBench(t)
	b.configure("[limits]\nlate_read = '200ms'\nhung = '1s'\n")
	b.nidalo("lab", "new", "-bays", "8", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5", "A6")
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 40*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))

	// Reads alone: served from redundancy, and a disk that was only late stays.
	b.nidalo("lab", "damage", "A3", "-hang")
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "read 0 4M")
	b.nidalo("lab", "damage", "A3", "-mend")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)

	// Writes: the disk is given up after its time, and everything goes on.
	b.nidalo("lab", "damage", "A3", "-hang")
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	m := b.status().Arrays[0].Members[2]
	require.Equal(t, "failed", m.Condition)
	require.Contains(t, m.Reason, "hangs")
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 40*mib)
	require.Contains(t, b.nidalo("replace", "-wait", "tides", "A3", "A7"), "healthy, margin 2")
	require.Zero(t, b.stop(syscall.SIGTERM), "%s", b.log)
}

func TestADiskMuchSlowerThanItsPeersIsFailing(t *testing.T) {
	b := newBench(t)
	b.configure("[limits]\nslow_window = '400ms'\nslow_windows = 2\nslow_least = '5ms'\nslow_factor = 4.0\n")
	b.nidalo("lab", "new", "-bays", "8", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5", "A6")
	b.start()
	b.nidalo("lab", "damage", "A5", "-latency", "40ms")
	b.tool("fio", "--name=load", "--ioengine=nbd", "--uri="+b.uri("tides"), "--rw=randwrite", "--bs=64k", "--size=32m", "--iodepth=8",
		"--fsync=8", "--time_based", "--runtime=4", "--output=/dev/null")
	for _, m := range b.status().Arrays[0].Members {
		if m.Bay == "A5" {
			require.Equal(t, "failing", m.Condition)
			require.Contains(t, m.Reason, "its peers")
		} else {
			require.Equal(t, "active", m.Condition, m.Bay)
		}
	}
	require.Contains(t, b.nidalo("status"), "nidalo retire tides A5 A7")
}

func TestWrongConfigurationIsNamedByLine(t *testing.T) {
	b := newBench(t)
	for text, want := range map[string]string{
		"[limits]\nhangs = '1s'\n":                    "line 2: limits.hangs",
		"[limits]\nhung = 'soon'\n":                   "line 2",
		"disks = ['/a/*'\n":                           "line 1",
		"disks = ['relative']\n":                      "not an absolute path",
		"[limits]\nlate_read='9s'\nhung='3s'\n":       "shorter than late_read",
		"[limits]\nfailing_errors=9\nfailed_errors=3": "less than failing_errors",
	} {
		b.configure(text)
		code, _, said := b.try("status")
		require.Equal(t, 1, code, text)
		require.Contains(t, said, "nidalo.toml")
		require.Contains(t, said, want)
	}
}

func TestWhatADiskSaysOfItselfIsHeard(t *testing.T) {
	b, _, _ := filled(t, 8*mib)
	b.nidalo("lab", "damage", "A2", "-pending", "12")
	b.nidalo("lab", "damage", "A3", "-temperature", "63")
	b.eventually("failing", func() bool { return b.status().Arrays[0].Members[1].Condition == "failing" })
	require.Contains(t, b.nidalo("next"), "12 sectors wait to be")
	require.Contains(t, b.nidalo("next"), "nidalo retire tides A2 A7")
	b.eventually("told of the heat", func() bool { return slices.Contains(b.history().kinds(), "disk-hot") })
	require.Equal(t, "active", b.status().Arrays[0].Members[2].Condition, "heat is no failure")
	b.nidalo("lab", "damage", "A3", "-temperature", "40")
	b.eventually("and of its end", func() bool { return slices.Contains(b.history().kinds(), "disk-cool") })
}
