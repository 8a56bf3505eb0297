package vm

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// Three volumes of a guarded set with XFS on them. A disk is pulled under load, and its volume stays in use without it; a larger disk comes, takes the parity over, and the parity disk the
// lost one's place, with everything mounted and the service killed meanwhile. Then more disks are lost than there is parity, and the volume on the other one goes on.
func TestAGuardedSetUnderMountedFileSystems(t *testing.T) {
	all(t)
	disks := []Disk{}
	for i, size := range []int64{320, 384, 320, 384} {
		disks = append(disks, Disk{Name: fmt.Sprintf("g%d", i), Bus: []Bus{SCSI, NVMe, Virtio}[i%3], Model: "TK-4000", Serial: fmt.Sprintf("TMK-%04d", i+1), Size: size * mib})
	}
	larger := Disk{Name: "g4", Bus: SCSI, Model: "QN-12", Serial: "QRN-0005", Size: 512 * mib}
	r := guest(t, disks...)
	r.serve()
	r.ok("nidalo create -yes -name archive -level guarded -parity TMK-0004 logbooks=TMK-0001 maps=TMK-0002 scans=TMK-0003 2>&1")
	volumes := []string{"logbooks", "maps", "scans"}
	for _, v := range volumes {
		r.ok("nidalo attach archive/%s 2>&1; mkfs.xfs -q -f /dev/nidalo/archive/%s; mkdir -p /mnt/%s; mount /dev/nidalo/archive/%s /mnt/%s; dd if=/dev/urandom of=/mnt/%s/old bs=1M count=24 conv=fsync status=none", v, v, v, v, v, v)
	}
	r.ok("sha256sum /mnt/*/old >/tmp/sums")
	begin := func(name string, of ...string) (done func()) {
		var under []<-chan Answer
		for _, v := range of {
			under = append(under, r.Begin(load("/mnt/"+v, v+name, 1)))
		}
		return func() {
			for _, u := range under {
				r.finished(u)
			}
		}
	}
	whole := func() {
		t.Helper()
		r.ok("echo 3 >/proc/sys/vm/drop_caches; sha256sum -c /tmp/sums")
	}

	done := begin("one", volumes...)
	r.pull(disks[1])
	r.until("archive", "without it", member("TMK-0002", "missing"))
	done()
	whole()
	r.plug(larger)
	r.ok("for i in $(seq 60); do nidalo disks | grep -q QRN-0005 && exit 0; sleep 0.5; done; exit 1")
	done = begin("two", volumes...)
	r.ok("nidalo pace archive 6MiB/s; nidalo replace -yes -parity archive TMK-0002 QRN-0005 2>&1; sleep 3")
	require.Contains(t, r.ok("nidalo status archive"), "Step 1 of 2")
	r.kill("serve")
	r.serve()
	r.ok("sleep 2; nidalo pace archive full")
	r.until("archive", "healthy", condition("healthy"))
	done()
	whole()
	require.Contains(t, r.ok("nidalo history"), "parity-handed-over")
	require.Contains(t, r.ok("nidalo check -wait archive 2>&1"), "no mismatches")
	r.quiet()

	// The disks of two volumes are lost. The third is used, over a kill; what comes back has everything that was flushed.
	done = begin("three", "scans")
	r.ok("umount /mnt/maps")
	r.pull(disks[0])
	r.pull(disks[3]) // which has the maps by now
	r.until("archive", "in service in part", condition("partial"))
	r.kill("serve")
	r.serve()
	done()
	r.ok("dd if=/dev/urandom of=/mnt/scans/new bs=1M count=8 conv=fsync status=none; grep scans /tmp/sums | sha256sum -c")
	r.ok("umount -l /mnt/logbooks")
	r.plug(disks[0])
	r.plug(disks[3])
	r.until("archive", "healthy", condition("healthy"))
	r.ok("nidalo detach archive/logbooks 2>&1; nidalo attach archive/logbooks 2>&1; mount /dev/nidalo/archive/logbooks /mnt/logbooks && mount /dev/nidalo/archive/maps /mnt/maps")
	whole()
	r.ok("for i in $(seq 100); do nidalo status archive | grep -q 'check of' || exit 0; sleep 0.5; done; exit 1")
	require.Contains(t, r.ok("nidalo check -wait archive 2>&1"), "no mismatches")
	r.ok("umount /mnt/logbooks /mnt/maps /mnt/scans; for v in logbooks maps scans; do xfs_repair -n /dev/nidalo/archive/$v 2>&1 || exit 1; done")
}

// The disks of a set are told to sleep by the commands of their buses, and wake with a read. One without moving parts says so.
func TestDisksOfASetSleep(t *testing.T) {
	all(t)
	r := guest(t, scsi1, sata1, nvme1)
	r.serve()
	r.ok("nidalo create -yes -name archive -level guarded -spin-down 1m -parity ORR-0011 logbooks=TMK-0001 maps=QRN-0031 2>&1")
	r.ok(`fio --name=w --ioengine=nbd --uri="nbd+unix:///archive/maps?socket=/var/lib/nidalo/nbd.sock" --rw=write --bs=64k --size=8m --end_fsync=1`)
	r.ok("for i in $(seq 120); do nidalo spin-down | grep -q 'ORR-0011 turns at the moment, the other 2 sleep' && exit 0; sleep 2; done; nidalo spin-down; nidalo status archive; exit 1")
	require.Contains(t, r.ok("nidalo spin-down"), "nothing turns in it")
	r.ok(`fio --name=r --ioengine=nbd --uri="nbd+unix:///archive/maps?socket=/var/lib/nidalo/nbd.sock" --rw=read --bs=64k --size=8m`)
	require.Contains(t, r.ok("nidalo spin-down"), "TMK-0001 sleeps")
	require.Contains(t, r.ok("nidalo check -wait archive 2>&1"), "no mismatches")
}
