//go:build linux

package vm

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Two file systems are in use while the arrays below them get more disks and other levels, and the service is killed meanwhile. Their devices have
// the new size without being attached anew, and the file systems take it up while they are mounted.
func TestArraysChangeUnderMountedFileSystems(t *testing.T) {
	all(t)
	var disks []Disk
	for i := range 10 {
		size := int64(96 * mib)
		if i == 3 || i == 4 || i == 7 || i == 8 {
			size = 384 * mib // XFS is not made smaller than 300 MiB
		}
		disks = append(disks, Disk{Name: fmt.Sprintf("c%d", i), Bus: []Bus{SCSI, NVMe, Virtio}[i%3], Model: "TK-4000", Serial: fmt.Sprintf("TMK-%04d", i+1), Size: size})
	}
	r := guest(t, disks...)
	r.serve()
	r.ok("nidalo create -yes -name tides -level 5 TMK-0001 TMK-0002 TMK-0003 2>&1")
	r.ok("nidalo create -yes -name sonar -level 1 TMK-0004 TMK-0005 2>&1")
	r.ok("nidalo attach tides 2>&1; nidalo attach sonar 2>&1")
	r.ok("mkfs.ext4 -q /dev/nidalo/tides; mkfs.xfs -q -f /dev/nidalo/sonar; mkdir -p /mnt/tides /mnt/sonar; mount /dev/nidalo/tides /mnt/tides; mount /dev/nidalo/sonar /mnt/sonar")
	r.ok("for f in tides sonar; do dd if=/dev/urandom of=/mnt/$f/old bs=1M count=24 status=none; done; sha256sum /mnt/tides/old /mnt/sonar/old >/tmp/sums")
	bytes := func(name string) string { return strings.TrimSpace(r.ok("blockdev --getsize64 /dev/nidalo/%s", name)) }
	tides, sonar := bytes("tides"), bytes("sonar")
	odd := func(seconds int, names ...string) (done func()) {
		var all []<-chan Answer
		for i, name := range names {
			all = append(all, r.Begin(fmt.Sprintf("agent exercise /mnt/%s/odd %d %d", name, seconds, i+1)))
		}
		return func() {
			for _, b := range all {
				r.finished(b)
			}
		}
	}
	done := odd(20, "tides", "sonar")
	one, two := r.Begin(load("/mnt/tides", "one", 2)), r.Begin(load("/mnt/sonar", "two", 2))
	r.ok("nidalo pace all 4MiB/s; nidalo convert -yes -level 6 tides TMK-0006 TMK-0007 2>&1; nidalo convert -yes -level 10 sonar TMK-0008 TMK-0009 2>&1")
	r.ok("sleep 3")
	require.Contains(t, r.ok("nidalo status"), "being converted")
	r.kill("serve")
	r.serve()
	r.ok("sleep 2; nidalo pace all full")
	r.finished(one)
	r.finished(two)
	settled := func() {
		t.Helper()
		done()
		r.ok("for i in $(seq 300); do nidalo status | grep -q -e 'being converted' -e 'goes back' || exit 0; sleep 0.5; done; nidalo status; exit 1")
		r.ok("sleep 2; sha256sum -c /tmp/sums")
	}
	settled()
	require.NotEqual(t, tides, bytes("tides"))
	require.NotEqual(t, sonar, bytes("sonar"))
	r.ok("resize2fs /dev/nidalo/tides 2>&1; xfs_growfs /mnt/sonar")
	r.ok("for f in tides sonar; do dd if=/dev/urandom of=/mnt/$f/new bs=1M count=70 conv=fsync status=none; done; sha256sum /mnt/*/old /mnt/*/new >/tmp/sums")
	done = odd(20, "tides", "sonar")
	r.ok("nidalo convert -yes -level 10 tides TMK-0010 2>&1")
	settled()
	for _, name := range []string{"tides", "sonar"} {
		require.Equal(t, "healthy", r.array(name).Condition)
		require.Contains(t, r.ok("nidalo check -wait %s 2>&1", name), "no mismatches")
	}
	// And back to two disks' worth of parity; then a disk less, from under a smaller file system.
	// What was begun by mistake goes back.
	back := r.Begin(load("/mnt/tides", "back", 1))
	done = odd(20, "tides")
	r.ok("nidalo convert -yes -level 6 tides 2>&1")
	r.finished(back)
	settled()
	wrong := r.Begin(load("/mnt/tides", "wrong", 1))
	done = odd(20, "tides")
	r.ok("nidalo pace all 8MiB/s; nidalo convert -yes -level 5 tides 2>&1; sleep 3; nidalo cancel tides conversion && nidalo pace all full")
	r.kill("serve")
	r.serve()
	r.finished(wrong)
	settled()
	require.Contains(t, r.ok("nidalo status tides"), "level 6, healthy")
	require.Contains(t, r.ok("nidalo history"), "back to level 6")
	r.ok("umount /mnt/tides; e2fsck -fp /dev/nidalo/tides; [ $? -lt 2 ] && resize2fs /dev/nidalo/tides 200M 2>&1 && mount /dev/nidalo/tides /mnt/tides")
	require.Contains(t, r.refused("nidalo shrink -yes -to 150MiB tides 2>&1"), "the ext4 file system on array tides ends at 200MiB")
	require.Contains(t, r.refused("nidalo shrink -yes -to 200MiB sonar 2>&1"), "XFS cannot be made smaller")
	less := r.Begin(load("/mnt/tides", "less", 1))
	done = odd(20, "tides")
	r.ok("nidalo pace all 8MiB/s; nidalo shrink -yes -discard -free TMK-0002 tides 2>&1")
	r.ok("sleep 3")
	r.kill("serve")
	r.serve()
	r.ok("sleep 2; nidalo pace all full")
	r.finished(less)
	settled()
	r.ok("for i in $(seq 200); do nidalo disks | grep TMK-0002 | grep -q blank && exit 0; sleep 0.5; done; nidalo disks; exit 1")
	require.Len(t, r.array("tides").Members, 5)
	require.Contains(t, r.ok("nidalo check -wait tides 2>&1"), "no mismatches")
	r.quiet()
	r.ok("umount /mnt/tides /mnt/sonar; fsck.ext4 -fn /dev/nidalo/tides && xfs_repair -n /dev/nidalo/sonar 2>&1")
}
