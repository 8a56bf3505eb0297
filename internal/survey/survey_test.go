//go:build linux

package survey

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// tree is a recorded part of /sys and /run, as a kernel and udev write them.
type tree struct {
	t    *testing.T
	root string
}

func (x tree) file(path, text string) {
	x.t.Helper()
	path = filepath.Join(x.root, path)
	require.NoError(x.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(x.t, os.WriteFile(path, []byte(text), 0o644))
}

func (x tree) link(path, to string) {
	x.t.Helper()
	path = filepath.Join(x.root, path)
	require.NoError(x.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(x.t, os.Symlink(to, path))
}

// disk records a whole disk at a place among the devices, and returns the folder of its block device.
func (x tree) disk(at, name, number string, files map[string]string) string {
	dir := filepath.Join("sys/devices", at, "block", name)
	x.link("sys/class/block/"+name, filepath.Join("../../..", dir))
	x.link(filepath.Join(dir, "device"), "../..")
	x.file(filepath.Join(dir, "dev"), number+"\n")
	x.file(filepath.Join(dir, "size"), "204800\n")
	x.file(filepath.Join(dir, "queue/rotational"), "1\n")
	for file, text := range files {
		x.file(filepath.Join(dir, file), text)
	}
	return dir
}

// A shelf with an enclosure that counts its bays, a disk with two paths, partitions, and what no emulator has.
func TestTheSurveyOfARecordedHost(t *testing.T) {
	x := tree{t, t.TempDir()}
	const port = "pci0000:00/0000:00:03.0/host2/"
	sda := x.disk(port+"target2:0:0/2:0:0:0", "sda", "8:0", map[string]string{"queue/logical_block_size": "512\n", "queue/physical_block_size": "4096\n",
		"diskseq": "7\n", "device/model": "TK-4000         \n", "device/wwid": "naa.5000c500a1b2c301\n", "device/state": "running\n",
		"device/vpd_pg80": "\x00\x80\x00\x08TMK-0193", "sda1/partition": "1\n", "sda1/dev": "8:1\n", "sda1/size": "2048\n", "sda1/start": "2048\n"})
	x.link("sys/class/block/sda1", "../../../"+sda+"/sda1")
	x.link("sys/class/enclosure/2:0:9:0/Slot 04/device", "../../../../devices/"+port+"target2:0:0/2:0:0:0")
	x.disk("pci0000:00/0000:00:04.0/host3/target3:0:0/3:0:0:0", "sdb", "8:16", map[string]string{"device/model": "TK-4000\n",
		"device/wwid": "naa.5000c500a1b2c301\n"})
	// A name that the kernel cannot put into a word, and none of its own: page 0x83 has it.
	x.disk("pci0000:00/0000:00:1f.2/ata5/host5/target5:0:0/5:0:0:0", "sdc", "8:32", map[string]string{"ro": "1\n", "queue/zoned": "host-managed\n",
		"device/vpd_pg83": "\x00\x83\x00\x0c\x01\x03\x00\x08\x50\x00\xc5\x00\xa1\xb2\xc3\x99"})
	x.file("run/udev/data/b8:32", "E:ID_MODEL=QN-12\x1b[31m\nE:ID_SERIAL_SHORT=QRN-0007\n")
	x.disk("virtual", "loop0", "7:0", map[string]string{"size": "0\n"})
	x.disk("virtual", "zram0", "252:0", nil)
	// What another system says of itself is cut and cleaned.
	x.disk("pci0000:00/0000:00:05.0/nvme/nvme0", "nvme0n1", "259:0", map[string]string{"device/model": "OR-8T\n", "device/serial": "ORR-0200\n", "wwid": "eui.0025385b71b0c9d1\n", "queue/rotational": "0\n"})

	h, err := look(x.root)
	require.NoError(t, err)
	var names []string
	for _, d := range h.Sorted() {
		names = append(names, d.Name)
	}
	require.Equal(t, []string{"nvme0n1", "sda", "sda1", "sdb", "sdc"}, names)

	a := h["sda"]
	require.Equal(t, "TK-4000", a.Model)
	require.Equal(t, "TMK-0193", a.Serial)
	require.Equal(t, "5000c500a1b2c301", a.WWN)
	require.Equal(t, "Slot-04", a.Bay)
	require.Equal(t, "SCSI", a.Bus)
	require.Equal(t, "2:0:0:0", a.Address)
	require.Equal(t, 4096, a.Physical)
	require.Equal(t, int64(204800*512), a.Size)
	require.True(t, a.Rotating)
	require.Equal(t, "TMK-0193-part1", h["sda1"].Named())
	require.Equal(t, int64(2048*512), h["sda1"].Start)
	require.Equal(t, "sda", h["sda1"].Disk)

	twins := h.Twins(h["sdb"])
	require.Len(t, twins, 2, "two paths to one disk")
	require.Equal(t, "sda", twins[0].Name)

	c := h["sdc"]
	require.Equal(t, "QN-12[31m", c.Model, "without what a terminal would obey")
	require.Equal(t, "QRN-0007", c.Serial)
	require.Equal(t, "5000c500a1b2c399", c.WWN)
	require.Equal(t, "SATA", c.Bus)
	require.Equal(t, "port 5", c.Address)
	require.True(t, c.ReadOnly)
	require.Equal(t, "host-managed", c.Zones)
	require.Equal(t, "NVMe", h["nvme0n1"].Bus)
	require.False(t, h["nvme0n1"].Rotating)
}

// Pages that a disk answers with are hostile.
func FuzzPages(f *testing.F) {
	f.Add([]byte("\x00\x80\x00\x08TMK-0193"))
	f.Add([]byte("\x00\x83\x00\x0c\x01\x03\x00\x08\x50\x00\xc5\x00\xa1\xb2\xc3\x99"))
	path := filepath.Join(f.TempDir(), "page")
	f.Fuzz(func(t *testing.T, page []byte) {
		require.NoError(t, os.WriteFile(path, page, 0o600))
		require.LessOrEqual(t, len(serialPage(path)), len(page))
		require.LessOrEqual(t, len(wwnOf("", path)), 2*len(page))
	})
}
