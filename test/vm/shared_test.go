package vm

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// sharedDisks makes three disks that two initiators of the guest see, each by a path of its own, as disks of a common enclosure are there on two hosts. A
// fourth one takes three seconds for a write, and one of the hosts has two paths to it, of which the system makes one device.
const sharedDisks = `set -e
mkdir -p /etc/target/pr; for m in target_core_mod target_core_iblock tcm_loop dm-delay dm-multipath dm-round-robin; do modprobe $m; done
mountpoint -q /sys/kernel/config || mount -t configfs none /sys/kernel/config
c=/sys/kernel/config/target
for i in 1 2 3; do
  b=$c/core/rd_mcp_0/d$i; mkdir -p $b
  echo rd_pages=24576 >$b/control
  echo QRN-020$i >$b/wwn/vpd_unit_serial
  echo 1 >$b/enable
done
slow=/dev/$(grep -l TMK-0010 /sys/block/*/serial | cut -d/ -f4)
agent map slow slow 131072 delay "$slow 0 0 $slow 0 3000"; udevadm settle
b=$c/core/iblock_0/d4; mkdir -p $b
echo udev_path=$(readlink -f /dev/mapper/slow) >$b/control
echo QRN-0204 >$b/wwn/vpd_unit_serial
echo 1 >$b/enable
reach() { # HOST NEXUS DISK...
  t=$c/loopback/naa.500140500000000$2/tpgt_1; mkdir -p $t
  echo naa.600140500000000$2 >$t/nexus
  ls /sys/block >/tmp/before; to=$1; shift 2
  for of; do mkdir -p $t/lun/lun_${of##*d}; ln -s $c/core/$of $t/lun/lun_${of##*d}/; done
  udevadm settle
  ls /sys/block | grep '^sd' | grep -vxFf /tmp/before >>/tmp/path.$to
}
reach 1 1 rd_mcp_0/d1 rd_mcp_0/d2 rd_mcp_0/d3
reach 2 2 rd_mcp_0/d1 rd_mcp_0/d2 rd_mcp_0/d3
reach 4 3 iblock_0/d4
reach 4 4 iblock_0/d4
reach 5 5 iblock_0/d4
set -- $(cat /tmp/path.4)
agent map twice mpath-6001405d4 131072 multipath "0 0 1 1 round-robin 0 2 1 /dev/$1 1 /dev/$2 1"; udevadm settle
basename $(readlink -f /dev/mapper/twice) >>/tmp/path.4
head /tmp/path.?`

// asHost runs something on one of the hosts: of the disks it sees those that its own initiators have.
const asHost = `cat >/usr/local/bin/as-host <<'END'
#!/bin/bash
# as-host NUMBER COMMAND...
mount --make-rprivate /
for of in block class/block; do
  own=/tmp/own.$1/$of; mkdir -p $own; mount -t tmpfs none $own
  for d in $(cat /tmp/path.$1); do ln -s "$(readlink /sys/$of/$d)" $own/$d; done
  mount --move $own /sys/$of
done
mkdir -p /run/nidalo; mount -t tmpfs none /run/nidalo
echo $$ >/tmp/pid.$1
export NIDALO_HOME=/tmp/home.$1
shift
exec "$@"
END
chmod +x /usr/local/bin/as-host`

// Two hosts are attached to the same disks, which take writes from the one that has the array and from no other.
func TestDisksOfTwoHostsAreFenced(t *testing.T) {
	all(t)
	etcd, err := exec.LookPath("etcd")
	if err != nil {
		t.Skip("needs etcd; make tools installs it")
	}
	r := guestWith(t, func(r *rig) {
		r.payload["etcd"], r.payload["disk.test"] = etcd, filepath.Join(r.folder, "disk.test")
		out, err := exec.Command("go", "test", "-c", "-o", r.payload["disk.test"], "nidalo/internal/disk").CombinedOutput()
		require.NoError(t, err, string(out))
	}, Disk{Name: "v", Bus: Virtio, Model: "QN-12", Serial: "TMK-0009", Size: 64 * mib}, Disk{Name: "w", Bus: Virtio, Model: "QN-12", Serial: "TMK-0010", Size: 64 * mib})
	t.Log(r.ok(sharedDisks))
	r.ok(asHost)

	// What a host has under way on a disk when another one takes it is done, or never done, by the time the other one has it.
	owner := r.Begin("NIDALO_OWN=/dev/mapper/twice NIDALO_UNDER_WAY=/tmp/under-way unshare -m as-host 4 disk.test -test.run TestOwnADisk -test.v")
	t.Log(r.ok("for i in $(seq 120); do [ -e /tmp/under-way ] && break; sleep 0.5; done; NIDALO_TAKE=/dev/$(cat /tmp/path.5) unshare -m as-host 5 disk.test -test.run TestTakeADisk -test.v"))
	r.finished(owner)

	r.ok(`ip link set lo up 2>/dev/null || ifconfig lo up 2>/dev/null || busybox ifconfig lo 127.0.0.1 up; mkdir -p /dev/shm && mountpoint -q /dev/shm || mount -t tmpfs none /dev/shm
setsid etcd --data-dir /dev/shm/etcd --name e --listen-client-urls http://127.0.0.1:2379 --advertise-client-urls http://127.0.0.1:2379 --listen-peer-urls http://127.0.0.1:2380 --initial-advertise-peer-urls http://127.0.0.1:2380 --initial-cluster e=http://127.0.0.1:2380 --heartbeat-interval 500 --election-timeout 5000 >/tmp/etcd.log 2>&1 &
for i in $(seq 60); do grep -qi 'ready to serve client\|serving insecure client' /tmp/etcd.log && exit 0; sleep 1; done; tail /tmp/etcd.log; exit 1`)
	for i, name := range []string{"", "gull", "heron", "plover"} {
		r.ok(`mkdir -p /tmp/home.%d; cat >/tmp/home.%d/nidalo.toml <<END
host_name = "%s"
late_disks = "2s"
[ownership]
etcd = ["127.0.0.1:2379"]
lease = "10s"
shared = ["QRN-0201", "QRN-0202", "QRN-0203", "TMK-0009"]
END`, i, i, name)
	}
	serve := func(host int) {
		t.Helper()
		r.ok("setsid unshare -m as-host %d nidalo serve >>/tmp/serve.log 2>&1 & for i in $(seq 120); do [ -S /tmp/home.%d/control.sock ] && NIDALO_HOME=/tmp/home.%d nidalo next >/dev/null 2>&1 && exit 0; sleep 0.5; done; exit 1", host, host, host)
	}
	has := func(host int) {
		t.Helper()
		r.ok("export NIDALO_HOME=/tmp/home.%d; for i in $(seq 60); do timeout 20 nidalo status tides 2>/dev/null >/tmp/st; grep -q 'This host' /tmp/st && grep -q healthy /tmp/st && exit 0; sleep 1; done; timeout 20 nidalo status; exit 1", host)
	}
	uri := func(host int) string { return fmt.Sprintf("nbd+unix:///tides?socket=/tmp/home.%d/nbd.sock", host) }
	refuses := func(path string) {
		t.Helper()
		require.Contains(t, r.refused("d=$(head -1 /tmp/path.%s); dd if=/dev/$d of=/tmp/block bs=4k count=1 iflag=direct status=none; dd if=/tmp/block of=/dev/$d bs=4k count=1 oflag=direct 2>&1", path), "Invalid exchange")
	}

	serve(1)
	serve(2)
	r.ok("sleep 5; export NIDALO_HOME=/tmp/home.1; nidalo create -yes -name tides -level 5 QRN-0201 QRN-0202 QRN-0203 2>&1 && exit 0; for i in $(seq 12); do sleep 5; nidalo start tides && exit 0; done; tail -20 /tmp/etcd.log; exit 1")
	r.ok("for i in $(seq 30); do NIDALO_HOME=/tmp/home.2 nidalo start -stand-by tides 2>&1 && exit 0; sleep 1; done; exit 1")
	require.Contains(t, r.ok("NIDALO_HOME=/tmp/home.2 nidalo status"), "gull has it")
	require.Contains(t, r.ok("NIDALO_HOME=/tmp/home.1 nidalo status"), "3 disks that other hosts are attached to take writes from this host only")
	refuses("2")

	// The clock is set forward and back by a day: leases go by another one.
	for _, by := range []int{90_000, -90_000} {
		r.ok("date -s @$(( $(date +%%s) + %d )) >/dev/null; sleep 13", by)
		has(1)
		require.Contains(t, r.ok("NIDALO_HOME=/tmp/home.2 nidalo status"), "gull has it")
	}
	require.NotContains(t, r.ok("NIDALO_HOME=/tmp/home.1 nidalo history"), "array-ousted")

	r.ok("dd if=/dev/urandom of=/tmp/one bs=1M count=8 status=none; dd if=/dev/urandom of=/tmp/two bs=1M count=8 status=none; nbdcopy --flush /tmp/one '%s'", uri(1))

	// The owner is stopped in the middle of its work, and another one takes over. When it goes on, it finds that it has the array no more.
	load := "fio --name=w --ioengine=nbd --uri='%s' --rw=randwrite --bs=4k --iodepth=8 --offset=16M --size=32M --fsync=4 --time_based --runtime=60 >/tmp/fio.log 2>&1"
	r.ok(load+" & sleep 5; kill -STOP $(cat /tmp/pid.1)", uri(1))
	has(2)
	refuses("1")
	r.ok("nbdcopy '%s' /tmp/got; cmp -n 8388608 /tmp/one /tmp/got; kill -CONT $(cat /tmp/pid.1)", uri(2))
	require.Contains(t, r.ok("for i in $(seq 40); do NIDALO_HOME=/tmp/home.1 nidalo status | grep 'heron has it' && exit 0; sleep 1; done; exit 1"), "heron has it")
	require.Contains(t, r.ok("NIDALO_HOME=/tmp/home.2 nidalo check -wait tides 2>&1"), "no mismatches")
	r.ok("nbdcopy '%s' /tmp/got; cmp -n 8388608 /tmp/one /tmp/got", uri(2))

	// The next one is killed.
	r.ok("NIDALO_HOME=/tmp/home.1 nidalo start -stand-by tides 2>&1; sleep 3")
	r.ok(load+" & sleep 5; kill -KILL $(cat /tmp/pid.2)", uri(2))
	has(1)
	refuses("2")
	r.ok("nbdcopy '%s' /tmp/got; cmp -n 8388608 /tmp/one /tmp/got", uri(1))
	serve(2)
	r.ok("for i in $(seq 30); do NIDALO_HOME=/tmp/home.2 nidalo start -stand-by tides 2>&1 && exit 0; sleep 1; done; exit 1")

	// It is handed over.
	r.ok("NIDALO_HOME=/tmp/home.1 nidalo hand-over tides heron 2>&1")
	has(2)
	refuses("1")
	r.ok("nbdcopy '%s' /tmp/got; cmp -n 8388608 /tmp/one /tmp/got; nbdcopy --flush /tmp/two '%s'", uri(2), uri(2))
	require.Contains(t, r.ok("NIDALO_HOME=/tmp/home.1 nidalo status"), "heron has it")
	r.ok("nbdcopy '%s' /tmp/got; cmp -n 8388608 /tmp/two /tmp/got", uri(2))
	require.Contains(t, r.ok("NIDALO_HOME=/tmp/home.2 nidalo check -wait tides 2>&1"), "no mismatches")
	refuses("1")

	// It comes back, and becomes a device. The disks are given free when the service is stopped in order.
	r.ok("NIDALO_HOME=/tmp/home.1 nidalo start -stand-by -attach tides 2>&1; NIDALO_HOME=/tmp/home.2 nidalo hand-over tides gull 2>&1")
	has(1)
	refuses("2")
	r.ok("for i in $(seq 60); do [ -b /dev/nidalo/tides ] && cmp -n 8388608 /tmp/two /dev/nidalo/tides && exit 0; sleep 0.5; done; exit 1")
	r.ok("NIDALO_HOME=/tmp/home.1 nidalo detach -yes tides 2>&1")
	r.ok("nbdcopy '%s' /tmp/got; cmp -n 8388608 /tmp/two /tmp/got; kill -TERM $(cat /tmp/pid.1); for i in $(seq 60); do readlink /proc/$(cat /tmp/pid.1)/exe >/dev/null || exit 0; sleep 0.5; done; exit 1", uri(1))
	r.ok("d=$(head -1 /tmp/path.2); dd if=/dev/$d of=/tmp/block bs=4k count=1 iflag=direct status=none; dd if=/tmp/block of=/dev/$d bs=4k count=1 oflag=direct status=none")
	serve(2)
	has(2)

	// Another host takes the disks under load, with a later token. The owner ends there, without a word against a disk, and does not take them back.
	r.ok(load+" & sleep 3; NIDALO_SEIZE=\"$(sed s,^,/dev/, /tmp/path.1 | tr '\n' ' ')\" disk.test -test.run TestSeizeDisks -test.v", uri(2))
	history := r.ok("for i in $(seq 40); do NIDALO_HOME=/tmp/home.2 nidalo history | grep -q array-ousted && break; sleep 1; done; NIDALO_HOME=/tmp/home.2 nidalo history")
	require.Contains(t, history, "array-ousted")
	require.NotContains(t, history, "member-failed")
	require.NotContains(t, history, "member-missing")
	t.Log(r.ok("for i in $(seq 60); do NIDALO_HOME=/tmp/home.2 nidalo status tides >/tmp/st; grep -q 'a later owner has reserved it' /tmp/st && break; sleep 1; done; cat /tmp/st; grep -q 'a later owner has reserved it' /tmp/st"))

	// A disk without reservations is refused, unless the array is named.
	r.ok("cp /tmp/home.2/nidalo.toml /tmp/home.3/; d=$(grep -l TMK-0009 /sys/block/*/serial | cut -d/ -f4); echo $d >/tmp/path.3")
	serve(3)
	out := r.refused("NIDALO_HOME=/tmp/home.3 nidalo create -yes -name charts -level concat TMK-0009 2>&1")
	require.True(t, strings.Contains(out, "cannot be fenced") && strings.Contains(out, `unfenced = ["NAME"]`), out)
	t.Log(out)
}
