package test

import (
	"encoding/json"
	"path/filepath"
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
	b.nidalo("fail", "tides", "A2")
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "read -P 0 4M 8M")
	require.Contains(t, b.nidalo("replace", "-wait", "tides", "A2", "A7"), "rebuilt")
	b.tool("qemu-io", "-f", "raw", b.uri("tides"), "-c", "read -P 0 4M 8M")
}
