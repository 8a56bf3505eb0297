//go:build linux

package vm

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

var (
	scsi1  = Disk{Name: "s1", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: 96 * mib}
	scsi2  = Disk{Name: "s2", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0002", Size: 96 * mib, Volatile: true}
	scsi4k = Disk{Name: "s3", Bus: SCSI, Model: "OR-8T", Serial: "ORR-0003", Size: 96 * mib, Sector: 4096}
	nvme1  = Disk{Name: "n1", Bus: NVMe, Serial: "ORR-0011", Size: 96 * mib}
	nvme2  = Disk{Name: "n2", Bus: NVMe, Serial: "ORR-0012", Size: 96 * mib, Sector: 4096}
	virtio = Disk{Name: "v1", Bus: Virtio, Serial: "QRN-0021", Size: 96 * mib, Volatile: true}
	sata1  = Disk{Name: "a1", Bus: AHCI, Model: "QN-12", Serial: "QRN-0031", Size: 96 * mib}
	fixed  = Disk{Name: "r1", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0009", Size: 96 * mib, ReadOnly: true}
)

// What docs/screenshots shows of real disks.
func TestShowRealDisks(t *testing.T) {
	to := os.Getenv("NIDALO_VM_SHOW")
	if to == "" {
		t.Skip("make screenshots does it")
	}
	r := guest(t, scsi1, scsi2, scsi4k, virtio, sata1, fixed)
	r.ok("nidalo create -name tides -level 6 -use 60MiB TMK-0001 TMK-0002 ORR-0003 QRN-0021")
	r.ok("nidalo create -name charts -level 1 -use 20MiB TMK-0001 TMK-0002")
	r.serve()
	r.ok("%s", fio("tides", true))
	r.until("tides", "healthy", condition("healthy"))
	require.NoError(t, os.WriteFile(to, []byte(r.ok("nidalo disks; echo; nidalo status")), 0o644))
}

// What happens to real disks in a week, as a new user would live it: without any configuration.
func TestTheFirstWeekWithRealDisks(t *testing.T) {
	r := guest(t, scsi1, scsi2, scsi4k, nvme1, virtio, sata1, fixed)

	// The survey.
	disks := r.disks()
	for _, d := range []Disk{scsi1, scsi2, scsi4k, nvme1, virtio, sata1} {
		require.Equal(t, "blank", disks[d.Serial].State, "%s: %+v", d.Serial, disks[d.Serial])
		require.Equal(t, d.Size, disks[d.Serial].Size)
	}
	require.Equal(t, "read-only", disks[fixed.Serial].State)
	require.Equal(t, "in use", disks["system"].State)
	require.Contains(t, disks["system-part1"].Holds, "mounted at /")
	require.Equal(t, "SCSI", disks[scsi1.Serial].Hardware.Bus)
	require.Equal(t, "NVMe", disks[nvme1.Serial].Hardware.Bus)
	require.Equal(t, "SATA", disks[sata1.Serial].Hardware.Bus)
	require.Equal(t, 4096, disks[scsi4k.Serial].Hardware.Sector)
	require.Equal(t, "TK-4000", disks[scsi1.Serial].Model)
	require.Equal(t, "fine", disks[nvme1.Serial].Health)
	require.Equal(t, "fine", disks[sata1.Serial].Health)

	// Whatever cannot be used is refused before anything is written.
	require.Contains(t, r.refused("nidalo create -name x -level 1 TMK-0001 TMK-0009"), "read-only")
	require.Contains(t, r.refused("nidalo create -name x -level 1 TMK-0001 /dev/vda1"), "mounted at /")
	require.Equal(t, "blank", r.disks()[scsi1.Serial].State)

	// The first try, with udev running.
	r.ok("nidalo create -name tides -level 6 TMK-0001 TMK-0002 ORR-0003 ORR-0011 QRN-0021")
	r.serve()
	require.Equal(t, "healthy", r.array("tides").Condition)

	// A disk is pulled under load, and put back: the client sees nothing of it.
	load := r.Begin(fio("tides", true))
	r.ok("sleep 2")
	r.pull(scsi1)
	r.until("tides", "missing", member(scsi1.Serial, "missing"))
	r.plug(scsi1)
	r.until("tides", "back", condition("healthy"))
	r.finished(load)

	// Another goes for good, and a fresh one takes its place: in a usual run TestFromThePackageToAMountedFileSystem does that.
	nvme := nvme1
	if everything() {
		r.pull(nvme1)
		r.until("tides", "missing", member(nvme1.Serial, "missing"))
		r.ok("[ ! -e /dev/nvme0n1 ]") // nothing holds its name
		r.plug(nvme2)
		r.ok("for i in $(seq 50); do nidalo disks | grep -q ORR-0012 && exit 0; sleep 0.2; done; exit 1")
		r.ok("nidalo replace tides ORR-0011 ORR-0012")
		load = r.Begin(fio("tides", true))
		r.until("tides", "rebuilt", condition("healthy"))
		r.finished(load)
		nvme = nvme2
	}

	// The power goes; the disks come back in another order, one on another bus, one late.
	r.PowerCut()
	moved := scsi2
	moved.Bus = Virtio
	r.boot(fixed, virtio, nvme, moved, sata1, scsi4k)
	r.serve()
	a := r.array("tides")
	require.Contains(t, a.Reason, "it waits until", "%+v", a)
	require.Contains(t, a.Reason, "TMK-0001")
	r.plug(scsi1)
	r.until("tides", "complete", condition("healthy"))
	r.ok("%s", fio("tides", false))
	r.ok("nidalo check tides -wait")
	require.Contains(t, r.ok("nidalo status tides"), "no mismatches")
}

// Partitions of one disk are lost together, and everything that counts disks says so.
func TestTwoPartitionsOfOneDiskAreOneLoss(t *testing.T) {
	all(t)
	r := guest(t, scsi1, scsi4k, nvme1, virtio)
	r.ok(`printf 'label: gpt\nsize=40M\nsize=40M\n' | sfdisk -q /dev/disk/by-id/scsi-0TIDES_TK-4000_TMK-0001; udevadm settle`)
	disks := r.disks()
	require.Equal(t, "in use", disks["TMK-0001"].State)
	require.Contains(t, disks["TMK-0001"].Holds, "2 partitions")
	require.Equal(t, "blank", disks["TMK-0001-part2"].State)

	require.Contains(t, r.refused("nidalo create -name charts -level 5 TMK-0001-part1 TMK-0001-part2 ORR-0003"),
		"TMK-0001-part1 and TMK-0001-part2 are on one disk, and are lost together")
	r.ok("nidalo create -yes -name charts -level 6 TMK-0001-part1 TMK-0001-part2 ORR-0003 ORR-0011 QRN-0021")
	r.serve()
	a := r.array("charts")
	require.Equal(t, 1, a.Margin, "%+v", a) // any one disk, and no second for certain
	require.Equal(t, "healthy", a.Condition)
	pull := r.Run("nidalo may-pull TMK-0001").Output
	require.Contains(t, pull, "would fall from 1 to 0")
	require.Contains(t, r.refused("nidalo erase -yes TMK-0001"), "charts")

	load := r.Begin(fio("charts", true))
	r.ok("sleep 2")
	r.pull(scsi1)
	r.until("charts", "exposed", condition("exposed"))
	r.plug(scsi1)
	r.until("charts", "healthy", condition("healthy"))
	r.finished(load)
}

// A disk and its copy cannot both be the member; two paths to one disk are one.
func TestCopiesAreRefusedAndPathsAreOne(t *testing.T) {
	all(t)
	path := scsi1
	path.WWN = 0x5000c500a1b2c301
	other := Disk{Name: "p2", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: 96 * mib, WWN: path.WWN, Shared: path.Name}
	path.Shared = path.Name
	r := guest(t, path, other, scsi4k, nvme1)
	var seen []disk
	for serial, d := range r.disks() {
		if serial == "TMK-0001" {
			seen = append(seen, d)
		}
	}
	require.Len(t, seen, 1)
	require.Len(t, seen[0].Hardware.Paths, 1, "%+v", seen[0])
	r.ok("nidalo create -name tides -level 5 TMK-0001 ORR-0003 ORR-0011")
	r.serve()
	r.ok("%s", fio("tides", true))
	require.Equal(t, "healthy", r.array("tides").Condition)
	r.ok("kill -TERM $(cat /var/lib/nidalo/service.lock); for i in $(seq 100); do [ -S /var/lib/nidalo/control.sock ] || exit 0; sleep 0.1; done")

	// The same contents under another serial and world-wide name.
	r.PowerCut()
	copied := Disk{Name: "c1", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0099", Size: 96 * mib}
	raw, err := os.ReadFile(r.File(path))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(r.File(copied), raw, 0o600))
	r.boot(path, copied, scsi4k, nvme1)
	r.serve()
	r.until("tides", "exposed", condition("exposed"))
	a := r.array("tides")
	require.True(t, member("TMK-0001", "missing")(a), "%+v", a)
	require.Contains(t, r.ok("cat /tmp/serve.log"), "one is a copy of the other")
	r.ok("nidalo choose -yes TMK-0001")
	r.until("tides", "healthy", condition("healthy"))
	require.Contains(t, r.disks()["TMK-0099"].Holds, "it is a copy of TMK-0001, which was chosen")
	r.ok("%s", fio("tides", false))
}

// One disk, three arrays: carved, pulled, and replaced by one command, beside partitions that are none of our business.
func TestOneDiskWithThreeArraysIsReplacedAtOnce(t *testing.T) {
	all(t)
	size := int64(160 * mib)
	disks := []Disk{{Name: "w1", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: size}, {Name: "w2", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0002", Size: size},
		{Name: "w3", Bus: NVMe, Serial: "ORR-0003", Size: size}, {Name: "w4", Bus: Virtio, Serial: "QRN-0004", Size: size}}
	fresh := Disk{Name: "w5", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0005", Size: size + 64*mib}
	r := guest(t, disks...)
	// A boot partition on the first one, which is mounted.
	r.ok(`printf 'label: gpt\nsize=8M, name=boot\n' | sfdisk -q /dev/disk/by-id/scsi-0TIDES_TK-4000_TMK-0001; udevadm settle
mke2fs -q /dev/disk/by-id/scsi-0TIDES_TK-4000_TMK-0001-part1; mkdir -p /mnt; mount /dev/disk/by-id/scsi-0TIDES_TK-4000_TMK-0001-part1 /mnt; echo hello >/mnt/kernel; sync`)
	r.ok("nidalo create -name tides -level 5 -use 40MiB TMK-0001 TMK-0002 ORR-0003")
	r.serve()
	r.ok("nidalo create -name sonar -level 1 -use 32MiB TMK-0001 TMK-0002") // while partitions of both are in use
	r.ok("nidalo create -name charts -level 10 -use 24MiB TMK-0001 TMK-0002 ORR-0003 QRN-0004")
	require.Contains(t, r.refused("nidalo create -name x -level 1 -use 100MiB TMK-0001 QRN-0004"), "largest free room")
	require.Contains(t, r.refused("nidalo erase -yes TMK-0001"), "in use")
	for _, name := range []string{"tides", "sonar", "charts"} {
		require.Equal(t, "healthy", r.array(name).Condition)
		r.ok("%s", fio(name, true))
	}
	r.ok("umount /mnt")
	require.Contains(t, r.ok("nidalo replace TMK-0001 TMK-0002 2>&1; true"), "not blank")

	r.pull(disks[0])
	r.until("tides", "missing", condition("exposed"))
	r.plug(fresh)
	r.ok("for i in $(seq 50); do nidalo disks | grep -q TMK-0005 && exit 0; sleep 0.2; done; exit 1")
	// The old one is gone: the table comes from a disk with the same arrays, which has no boot partition.
	out := r.ok("nidalo replace -wait TMK-0001 TMK-0005 2>&1")
	require.Contains(t, out, "like that of /dev/")
	require.Contains(t, out, "TMK-0002")
	require.Contains(t, out, "All 3 members on it are whole again")
	for _, name := range []string{"tides", "sonar", "charts"} {
		require.Equal(t, "healthy", r.array(name).Condition, name)
		r.ok("%s", fio(name, false))
		r.ok("nidalo check %s -wait", name)
	}

	// The old one comes back, with the boot partition. Blank again, another is made of it as a whole, with a copy of that partition.
	r.plug(disks[0])
	r.ok("for i in $(seq 50); do nidalo disks | grep -q 'former or stale member' && exit 0; sleep 0.5; done; exit 1")
	require.Contains(t, r.disks()["TMK-0001-part1"].Holds, "an ext2/3/4 file system")
}

// A disk with an MBR, a boot partition and two arrays moves to a larger one; then a spare with other sectors takes the place of
// another disk in both arrays. What is trimmed is given back to the devices.
func TestASpareTakesThePlaceOfAWholeDisk(t *testing.T) {
	all(t)
	size := int64(160 * mib)
	first := Disk{Name: "w1", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: size}
	second := Disk{Name: "w2", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0002", Size: size}
	third := Disk{Name: "w3", Bus: NVMe, Serial: "ORR-0003", Size: size}
	larger := Disk{Name: "w4", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0004", Size: size + 64*mib}
	coarse := Disk{Name: "w5", Bus: SCSI, Model: "OR-8T", Serial: "ORR-0005", Size: size + 64*mib, Sector: 4096}
	r := guest(t, first, second, third, larger)
	old, fresh := "/dev/disk/by-id/scsi-0TIDES_TK-4000_TMK-0001", "/dev/disk/by-id/scsi-0TIDES_TK-4000_TMK-0004"
	r.ok(`printf 'label: dos\nsize=8M, type=83, bootable\n' | sfdisk -q %[1]s; udevadm settle; printf BOOTCODE | dd of=%[1]s bs=1 conv=notrunc; udevadm settle
set -e; mke2fs -q %[1]s-part1; mkdir -p /mnt; mount %[1]s-part1 /mnt; echo hello >/mnt/kernel; sync`, old)
	r.ok("nidalo create -name tides -level 5 -use 40MiB TMK-0001 TMK-0002 ORR-0003")
	r.ok("nidalo create -name sonar -level 1 -use 32MiB TMK-0001 TMK-0002")
	r.serve()
	for _, name := range []string{"tides", "sonar"} {
		r.ok("%s", fio(name, true))
	}
	same := func() {
		t.Helper()
		for _, name := range []string{"tides", "sonar"} {
			r.until(name, "healthy", condition("healthy"))
			r.ok("%s", fio(name, false))
			r.ok("nidalo check %s -wait", name)
		}
	}

	// Copied while it still works, with what no array has.
	require.Contains(t, r.refused("nidalo retire -whole -copy-others -grow TMK-0001 TMK-0004"), "mounted at /mnt")
	r.ok("umount /mnt")
	out := r.ok("nidalo retire -whole -copy-others -grow -wait TMK-0001 TMK-0004 2>&1")
	require.Contains(t, out, "All 2 members on it are whole again")
	require.Contains(t, out, "same identifiers twice")
	require.Equal(t, "BOOTCODE", strings.TrimSpace(r.ok("head -c 8 %s", fresh)))
	dump := r.ok("sfdisk -d %s", fresh)
	require.Contains(t, dump, "label: dos")
	require.Contains(t, dump, "bootable")
	require.NotEqual(t, r.ok("sfdisk --disk-id %s", old), r.ok("sfdisk --disk-id %s", fresh))
	r.ok("mount -o ro %s-part1 /mnt; grep -q hello /mnt/kernel; umount /mnt", fresh)
	parts := r.disks()
	require.Greater(t, parts["TMK-0004-part3"].Size, parts["TMK-0001-part3"].Size+60*mib)
	same()

	// A spare with larger sectors: the table is converted.
	r.plug(coarse)
	r.ok("for i in $(seq 50); do nidalo disks | grep -q ORR-0005 && exit 0; sleep 0.2; done; exit 1")
	require.Contains(t, r.refused("nidalo retire -whole -copy-others TMK-0004 ORR-0005"), "byte for byte")
	r.ok("nidalo spare ORR-0005")
	r.pull(second)
	for _, name := range []string{"tides", "sonar"} {
		r.until(name, "on the spare", func(a array) bool {
			for _, m := range a.Members {
				if m.Condition == "active" && strings.HasPrefix(m.Serial, "ORR-0005-part") {
					return true
				}
			}
			return false
		})
	}
	same()
	require.Equal(t, "fine", r.disks()["ORR-0003-part1"].Health, "a partition is asked by its disk")

	// Trimmed blocks leave the files that stand for the devices.
	taken := func() (n int64) {
		for _, d := range []Disk{third, larger, coarse} {
			var st unix.Stat_t
			require.NoError(t, unix.Stat(r.File(d), &st))
			n += st.Blocks * 512
		}
		return n
	}
	before := taken()
	r.ok(`fio --name=t --ioengine=nbd --uri="nbd+unix:///tides?socket=/var/lib/nidalo/nbd.sock" --rw=trim --bs=1m --size=8m --end_fsync=1`)
	require.Eventually(t, func() bool { return taken() < before-8*mib }, time.Minute, time.Second, "%d before, %d now", before, taken())
	r.ok("nidalo check tides -wait")
}

// Disks that other programs hold, that cannot be written as an array would, or that go bad in places.
func TestDisksThatCannotBeUsedSayWhy(t *testing.T) {
	all(t)
	r := guest(t, scsi1, scsi4k, nvme1, virtio)
	// A program that holds a disk is named, and nothing is written to any.
	r.ok("(exec 9<>/dev/vdb; flock 9; exec busybox sleep 25) >/dev/null 2>&1 & sleep 1; mkdir -p /mnt; mke2fs -q /dev/nvme0n1; mount /dev/nvme0n1 /mnt")
	require.Contains(t, r.refused("nidalo create -name x -level 1 TMK-0001 ORR-0011"), "mounted at /mnt")
	r.ok("umount /mnt; nidalo erase -yes ORR-0011")
	// So is one that has locked a disk, as programs that change partition tables do; when it is done, the disk is free.
	require.Contains(t, r.refused("nidalo create -name charts -level 1 TMK-0001 QRN-0021"), "busybox")
	require.Equal(t, "blank", r.disks()["TMK-0001"].State)
	r.ok("sleep 20; nidalo create -name charts -level 1 TMK-0001 QRN-0021")
	require.Equal(t, "blank", r.disks()["ORR-0011"].State)

	// Host-managed zones.
	r.ok("modprobe null_blk nr_devices=1 zoned=1 zone_size=4 gb=1 memory_backed=0; for i in $(seq 50); do nidalo disks | grep -q host-managed && exit 0; sleep 0.2; done; exit 1")
	require.Contains(t, r.refused("nidalo create -name y -level 1 ORR-0011 /dev/nullb0"), "host-managed")

	// A SCSI disk that answers log pages, and has a place that cannot be read: sector 0x1234 and 9 more (SCSI debug).
	r.ok("modprobe scsi_debug dev_size_mb=64 opts=2; for i in $(seq 50); do nidalo disks | grep -q scsi_debug && exit 0; sleep 0.2; done; exit 1")
	var debug disk
	for _, d := range r.disks() {
		if d.Model == "scsi_debug" {
			debug = d
		}
	}
	require.Equal(t, "fine", debug.Health, "%+v", debug)
	r.ok("nidalo create -name sonar -level 1 ORR-0011 %s", debug.Path)
	r.serve()
	out := r.Run("nidalo surface -wait " + debug.Path).Output
	require.Contains(t, out, "cannot be read")
	require.Contains(t, out, "2383872") // the block in which 0x1234 * 512 lies
}

// A SATA disk that the kernel gives up, and finds again under another name.
func TestASATADiskGoesAndComesBack(t *testing.T) {
	all(t)
	r := guest(t, scsi1, nvme1, sata1)
	r.ok("nidalo create -name tides -level 5 TMK-0001 ORR-0011 QRN-0031")
	r.serve()
	load := r.Begin(fio("tides", true))
	r.ok("sleep 1; d=/sys/block/$(basename %s)/device; readlink -f $d/../.. >/tmp/port; echo 1 >$d/delete", r.disks()[sata1.Serial].Path)
	r.until("tides", "without it", member(sata1.Serial, "missing"))
	r.finished(load)
	r.ok("sleep 2; for h in /sys/class/scsi_host/host*; do echo '- - -' >$h/scan; done")
	r.until("tides", "healthy", condition("healthy"))
	r.ok("%s", fio("tides", false))
	r.ok("nidalo check tides -wait")
}

// Two paths to one disk that the system made one device of: that device is the disk.
func TestAMultipathDeviceIsTheDisk(t *testing.T) {
	all(t)
	path := scsi1
	path.WWN = 0x5000c500a1b2c301
	other := Disk{Name: "p2", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: 96 * mib, WWN: path.WWN, Shared: path.Name}
	path.Shared = path.Name
	r := guest(t, path, other, scsi4k, nvme1)
	r.ok(`modprobe dm-multipath; modprobe dm-round-robin; set -- $(lsblk -dno MAJ:MIN,SERIAL | awk '$2 == "TMK-0001" {print $1}')
[ $# = 2 ] && agent map mpatha mpath-35000c500a1b2c301 196608 multipath "0 0 1 1 round-robin 0 2 1 $1 1 $2 1"; udevadm settle`)
	var found []disk
	for _, d := range r.disks() {
		if d.Serial == "TMK-0001" {
			found = append(found, d)
		}
	}
	require.Len(t, found, 1)
	require.Equal(t, "/dev/mapper/mpatha", found[0].Path)
	// What something else is made of is not to be had.
	r.ok(`agent map scratch scratch 8192 linear "$(readlink -f %s) 0"; udevadm settle`, r.disks()["ORR-0011"].Path)
	require.Contains(t, r.refused("nidalo create -name tides -level 5 TMK-0001 ORR-0003 ORR-0011"), "scratch")
	require.Equal(t, "blank", r.disks()["ORR-0003"].State)
	r.ok("agent unmap scratch; udevadm settle")
	r.ok("nidalo create -name tides -level 5 TMK-0001 ORR-0003 ORR-0011")
	r.serve()
	r.ok("%s", fio("tides", true))

	// One of the paths goes: nothing notices.
	load := r.Begin(fio("tides", true))
	r.pull(other)
	r.finished(load)
	require.Equal(t, "healthy", r.array("tides").Condition)
	r.ok("nidalo check tides -wait")
}
