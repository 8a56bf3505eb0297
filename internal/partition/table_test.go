package partition

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/disk"
)

const mib = 1 << 20

func blank(t *testing.T, size int64) *disk.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk")
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, errors.Join(f.Truncate(size), f.Close()))
	d, err := disk.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return d
}

// sfdisk is what another program reads from a table, or writes to one.
func sfdisk(t *testing.T, d disk.Disk, script string) (out struct {
	PartitionTable struct {
		Label, ID  string
		Partitions []struct {
			Node, Type, UUID, Name, Attrs string
			Start, Size                   int64
			Bootable                      bool
		}
	}
}) {
	t.Helper()
	if _, err := exec.LookPath("sfdisk"); err != nil {
		t.Skip("needs sfdisk")
	}
	args := []string{"--json", d.Identity().Path}
	if script != "" {
		args = []string{"-q", "--no-reread", "--no-tell-kernel", d.Identity().Path}
	}
	cmd := exec.Command("sfdisk", args...)
	cmd.Stdin = strings.NewReader(script)
	raw, err := cmd.Output()
	require.NoError(t, err, "%s", raw)
	if script == "" {
		require.NoError(t, json.Unmarshal(raw, &out))
	}
	return out
}

// What this package writes another program reads, and the other way round.
func TestAnotherProgramAgreesAboutAGPT(t *testing.T) {
	d := blank(t, 256*mib)
	_, err := Read(d, 512)
	require.ErrorIs(t, err, ErrNone)
	table := New(d, 512)
	one, err := table.Add(40*mib, "tides")
	require.NoError(t, err)
	require.Equal(t, int64(mib), one.Start)
	_, err = table.Add(0, "the rest")
	require.NoError(t, err)
	_, err = table.Add(mib, "")
	require.ErrorContains(t, err, "no gap")
	require.NoError(t, table.Write(d))
	seen := sfdisk(t, d, "").PartitionTable
	require.Equal(t, "gpt", seen.Label)
	require.Len(t, seen.Partitions, 2)
	require.Equal(t, Member, seen.Partitions[0].Type)
	require.Equal(t, "tides", seen.Partitions[0].Name)
	require.Equal(t, int64(2048), seen.Partitions[0].Start)
	require.Equal(t, int64(40*2048), seen.Partitions[0].Size)
	require.NotEqual(t, seen.Partitions[0].UUID, seen.Partitions[1].UUID)

	// Read what another wrote, with attributes and a boot partition, and carry it over.
	other := blank(t, 256*mib)
	sfdisk(t, other, "label: gpt\nsize=1M, type=uefi, name=boot, attrs=\"RequiredPartition,LegacyBIOSBootable\"\nstart=10M, size=100M, name=\"Tide log\"\n")
	boot := []byte("boot code")
	require.NoError(t, other.WriteAt(append(boot, make([]byte, bootCode-len(boot))...), 0))
	from, err := Read(other, 512)
	require.NoError(t, err)
	require.Len(t, from.Parts, 2)
	require.Equal(t, "Tide log", from.Parts[1].Name)
	to := blank(t, 512*mib)
	carried, err := from.For(to.Size(), 512, false)
	require.NoError(t, err)
	require.NoError(t, carried.Write(to))
	a, b := sfdisk(t, other, "").PartitionTable, sfdisk(t, to, "").PartitionTable
	require.NotEqual(t, a.ID, b.ID, "two disks must not have one identifier")
	for i := range a.Partitions {
		x, y := a.Partitions[i], b.Partitions[i]
		require.NotEqual(t, x.UUID, y.UUID)
		x.UUID, y.UUID, x.Node, y.Node = "", "", "", ""
		require.Equal(t, x, y)
	}
	code := make([]byte, 512)
	require.NoError(t, to.ReadAt(code, 0))
	require.Equal(t, "boot code", string(code[:9]))
	grown, err := from.For(to.Size(), 512, true)
	require.NoError(t, err)
	require.Equal(t, int64(511*mib), grown.Parts[1].Start+grown.Parts[1].Length)

	// With sectors of 4096 bytes the places are the same in bytes; what is not made of whole ones is refused.
	wide := blank(t, 256*mib)
	carried, err = from.For(wide.Size(), 4096, false)
	require.NoError(t, err)
	require.NoError(t, carried.Write(wide))
	again, err := Read(wide, 4096)
	require.NoError(t, err)
	require.Equal(t, from.Parts[1].Start, again.Parts[1].Start)
	require.Equal(t, from.Parts[1].Length, again.Parts[1].Length)
	from.Parts[1].Length -= 512
	_, err = from.For(wide.Size(), 4096, false)
	require.ErrorContains(t, err, "whole sectors")
	_, err = from.For(64*mib, 512, false)
	require.ErrorContains(t, err, "does not lie within the disk")
}

func TestAnotherProgramAgreesAboutAnMBR(t *testing.T) {
	d := blank(t, 256*mib)
	sfdisk(t, d, "label: dos\nlabel-id: 0x1234abcd\nsize=20M, type=83, bootable\nsize=30M, type=82\n")
	table, err := Read(d, 512)
	require.NoError(t, err)
	require.Equal(t, MBR, table.Kind)
	require.Equal(t, "1234abcd", table.ID)
	_, err = table.Add(50*mib, "")
	require.NoError(t, err)
	require.NoError(t, table.Write(d))
	seen := sfdisk(t, d, "").PartitionTable
	require.Equal(t, "0x1234abcd", seen.ID)
	require.Len(t, seen.Partitions, 3)
	require.True(t, seen.Partitions[0].Bootable)
	require.Equal(t, "da", seen.Partitions[2].Type)
	require.Equal(t, int64(50*2048), seen.Partitions[2].Size)

	to := blank(t, 256*mib)
	carried, err := table.For(to.Size(), 512, false)
	require.NoError(t, err)
	require.NoError(t, carried.Write(to))
	require.NotEqual(t, "0x1234abcd", sfdisk(t, to, "").PartitionTable.ID)

	extended := blank(t, 256*mib)
	sfdisk(t, extended, "label: dos\nsize=20M, type=5\n")
	_, err = Read(extended, 512)
	require.ErrorContains(t, err, "logical partitions")
}

// A table is hostile: whatever it says, nothing panics, and what is read lies within the disk and does not overlap.
func FuzzRead(f *testing.F) {
	for _, label := range []string{"gpt", "dos"} {
		path := filepath.Join(f.TempDir(), label)
		_ = os.WriteFile(path, nil, 0o600)
		_ = os.Truncate(path, 8*mib)
		cmd := exec.Command("sfdisk", "-q", "--no-reread", "--no-tell-kernel", path)
		cmd.Stdin = strings.NewReader("label: " + label + "\nsize=1M\nsize=2M\n")
		_ = cmd.Run()
		raw, _ := os.ReadFile(path)
		f.Add(raw[:34*512])
	}
	path := filepath.Join(f.TempDir(), "disk")
	require.NoError(f, os.WriteFile(path, nil, 0o600))
	f.Fuzz(func(t *testing.T, head []byte) {
		require.NoError(t, os.Truncate(path, 0))
		require.NoError(t, os.Truncate(path, 8*mib))
		d, err := disk.Open(path)
		require.NoError(t, err)
		defer d.Close()
		require.NoError(t, d.WriteAt(head[:min(len(head), mib)], 0))
		table, err := Read(d, 512)
		if err != nil {
			return
		}
		end := int64(0)
		for _, p := range table.byPlace() {
			require.GreaterOrEqual(t, p.Start, end)
			end = p.Start + p.Length
		}
		require.LessOrEqual(t, end, d.Size())
	})
}
