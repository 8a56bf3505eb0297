//go:build linux

package vm

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// installed boots a guest under systemd with disks, in which two versions of the package lie ready.
func installed(t *testing.T, disks ...Disk) *rig {
	t.Helper()
	return guestWith(t, func(r *rig) {
		r.images.Systemd = true
		delete(r.payload, "nidalo")
		for _, version := range []string{"1.0", "1.1"} {
			program := filepath.Join(r.folder, "nidalo-"+version)
			build := exec.Command("go", "build", "-ldflags", "-s -w -X nidalo/internal/cli.Version="+version, "-o", program, "nidalo/cmd/nidalo")
			build.Env = append(os.Environ(), "CGO_ENABLED=0")
			out, err := build.CombinedOutput()
			require.NoError(t, err, string(out))
			out, err = exec.Command("../../packaging/deb.sh", program, version, r.folder).CombinedOutput()
			require.NoError(t, err, string(out))
			r.payload["nidalo_"+version+".deb"] = strings.TrimSpace(string(out))
		}
	}, disks...)
}

// reboot has the guest shut down in order, and starts it again.
func (r *rig) reboot(disks ...Disk) {
	r.t.Helper()
	r.Begin("systemctl reboot")
	require.NoError(r.t, r.Wait(5*time.Minute), r.Console())
	r.boot(disks...)
}

// settled waits until systemd has finished starting, and the service answers.
func (r *rig) settled() {
	r.t.Helper()
	r.ok("for i in $(seq 120); do s=$(systemctl is-system-running); case $s in running|degraded) exit 0;; esac; sleep 1; done; systemctl list-jobs; exit 1")
	r.answering()
}

// answering waits until the service answers.
func (r *rig) answering() {
	r.t.Helper()
	r.ok("for i in $(seq 120); do nidalo next >/dev/null 2>&1 && [ -S /var/lib/nidalo/control.sock ] && exit 0; sleep 1; done; journalctl -u nidalo; exit 1")
}

// process is the number of a unit's main process.
func (r *rig) process(unit string) string {
	r.t.Helper()
	return strings.TrimSpace(r.ok("systemctl show -p MainPID --value %s", unit))
}

const fstab = "/dev/nidalo/tides /srv/tides ext4 nofail,x-systemd.requires=nidalo-keeper.service,x-systemd.after=nidalo.service,x-systemd.device-timeout=5min 0 2"

// From the package, as a new user would: four commands from bare disks to a mounted file system; under load the service is killed and
// upgraded, and a disk is pulled and replaced; a reboot; the end.
func TestFromThePackageToAMountedFileSystem(t *testing.T) {
	r := installed(t, scsi1, scsi4k, nvme1)
	r.ok("dpkg -i /usr/local/bin/nidalo_1.0.deb 2>&1")
	r.settled()
	require.Contains(t, r.ok("nidalo version"), "1.0")
	keeper := r.process("nidalo-keeper")
	for _, unit := range []string{"nidalo", "nidalo-keeper"} {
		security := r.ok("systemd-analyze security --no-pager %s.service | tail -1", unit)
		t.Log(strings.TrimSpace(security))
		require.NotContains(t, security, "UNSAFE")
		require.NotContains(t, security, "EXPOSED")
	}
	require.NotContains(t, r.ok("journalctl -u nidalo-keeper"), "may stall")
	t.Log(r.ok("nidalo fit -measure TMK-0001; true"))

	// The four commands.
	r.ok("nidalo create -yes -name tides -level 5 TMK-0001 ORR-0003 ORR-0011 2>&1")
	r.ok("nidalo attach -boot tides 2>&1")
	r.ok("mkfs.ext4 -q /dev/nidalo/tides")
	r.ok("mkdir -p /srv/tides; mount /dev/nidalo/tides /srv/tides")

	require.Contains(t, r.refused("nidalo detach tides 2>&1"), "mounted at /srv/tides")
	require.Contains(t, r.refused("dpkg -r nidalo 2>&1"), "cannot be removed while arrays are attached: tides")
	run := r.Begin(load("/srv/tides", "one", 2))
	r.ok("sleep 2; systemctl kill -s KILL nidalo; sleep 3")
	r.ok("dpkg -i /usr/local/bin/nidalo_1.1.deb 2>&1")
	require.Contains(t, r.ok("nidalo version"), "1.1")
	require.Equal(t, keeper, r.process("nidalo-keeper"), "the keeper is not restarted")
	r.pull(nvme1)
	r.until("tides", "missing", member(nvme1.Serial, "missing"))
	r.plug(nvme2)
	r.ok("for i in $(seq 50); do nidalo disks | grep -q ORR-0012 && exit 0; sleep 0.2; done; exit 1")
	r.ok("nidalo replace tides ORR-0011 ORR-0012 2>&1")
	r.finished(run)
	r.until("tides", "rebuilt", condition("healthy"))
	r.quiet()

	// A reboot, with the file system in fstab.
	r.ok("sha256sum /srv/tides/one.0.0 >/root/sums; umount /srv/tides; echo '%s' >>/etc/fstab; systemctl daemon-reload; mount /srv/tides", fstab)
	r.reboot(scsi1, scsi4k, nvme2)
	r.settled()
	r.ok("findmnt -n /srv/tides; sha256sum -c /root/sums")
	require.NotContains(t, r.ok("journalctl -b -1 -u nidalo -u srv-tides.mount --no-pager || true"), "Failed")
	r.quiet()

	if everything() { // it takes minutes
		r.userSpace(scsi1, scsi4k, nvme2)
	}

	// The end of it.
	r.ok("umount /srv/tides; fsck.ext4 -fn /dev/nidalo/tides; sed -i /nidalo/d /etc/fstab; systemctl daemon-reload; nidalo detach tides; dpkg -P nidalo 2>&1")
	r.ok("[ ! -e /usr/bin/nidalo ] && [ ! -e /var/lib/nidalo/service.json ] && ! systemctl is-active nidalo")
}

// userSpace is the same with a device in user space, which ends with its keeper, and that after the service.
func (r *rig) userSpace(disks ...Disk) {
	r.t.Helper()
	r.ok("umount /srv/tides; nidalo detach tides; mkdir -p /etc/systemd/system/nidalo-keeper.service.d; " +
		"printf '[Service]\nEnvironment=NIDALO_KEEPER_USER_SPACE=yes\n' >/etc/systemd/system/nidalo-keeper.service.d/user.conf; " +
		"systemctl daemon-reload; systemctl restart nidalo-keeper; modprobe fuse loop; nidalo attach -boot tides 2>&1; mount /srv/tides")
	require.Contains(r.t, r.ok("readlink -f /dev/nidalo/tides"), "/dev/loop")
	r.ok("cp /srv/tides/one.0.0 /srv/tides/late; sed s,one.0.0,late, /root/sums >>/root/sums")
	r.reboot(disks...)
	r.settled()
	r.ok("findmnt -n /srv/tides; sha256sum -c /root/sums")
	require.NotContains(r.t, r.ok("journalctl -b -1 -u nidalo-keeper --no-pager"), "SIGKILL")
}

// insert writes rows into a database, each in a transaction of its own, and notes on the system's disk which are acknowledged. EXTRA, since
// with FULL the end of the rollback journal is not synced: the last transaction may be rolled back after a power cut, on any disk.
const insert = `i=0; while [ ! -e /root/stop ]; do i=$((i+1)); sqlite3 /srv/tides/readings.db "PRAGMA synchronous=EXTRA; INSERT INTO readings VALUES ($i, hex(randomblob(200)));" >/dev/null || exit 1; echo $i >>/root/acked; sync -d /root/acked; done`

// acknowledged requires that the database is sound and has every row that was acknowledged.
func (r *rig) acknowledged() {
	r.t.Helper()
	require.Equal(r.t, "ok", strings.TrimSpace(r.ok(`sqlite3 /srv/tides/readings.db "PRAGMA integrity_check"`)))
	r.ok(`n=$(sqlite3 /srv/tides/readings.db "SELECT count(*) FROM readings"); a=$(tr -d '\0' </root/acked | tail -n 1); echo $n of $a; [ "$n" -ge "$a" ]`)
}

// Two file systems and a database live through everything that happens to a host: disks, services, keepers, memory, power.
func TestADayOfAttachedFileSystems(t *testing.T) {
	all(t)
	disks := []Disk{
		{Name: "s1", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: 192 * mib, Volatile: true},
		{Name: "s2", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0002", Size: 192 * mib},
		{Name: "s3", Bus: SCSI, Model: "OR-8T", Serial: "ORR-0003", Size: 192 * mib, Sector: 4096},
		{Name: "v1", Bus: Virtio, Serial: "QRN-0021", Size: 512 * mib, Volatile: true},
		{Name: "v2", Bus: Virtio, Serial: "QRN-0022", Size: 512 * mib},
	}
	fresh := Disk{Name: "s4", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0004", Size: 192 * mib}
	r := installed(t, disks...)
	r.ok("dpkg -i /usr/local/bin/nidalo_1.0.deb 2>&1")
	r.settled()
	r.ok("nidalo create -yes -name tides -level 5 TMK-0001 TMK-0002 ORR-0003 2>&1; nidalo attach -boot tides 2>&1; mkfs.ext4 -q /dev/nidalo/tides")
	r.ok("nidalo create -yes -name sonar -level 1 QRN-0021 QRN-0022 2>&1; nidalo attach -boot sonar 2>&1; mkfs.xfs -q /dev/nidalo/sonar")
	r.ok("mkdir -p /srv/tides /srv/sonar; printf '%%s\\n%%s\\n' '%s' '%s' >>/etc/fstab; systemctl daemon-reload; mount /srv/tides; mount /srv/sonar",
		fstab, strings.ReplaceAll(strings.ReplaceAll(fstab, "tides", "sonar"), "ext4", "xfs"))
	r.ok(`sqlite3 /srv/tides/readings.db "CREATE TABLE readings (id INTEGER PRIMARY KEY, level TEXT)"; echo 0 >/root/acked`)

	// Five kills, two upgrades, a disk that is pulled and replaced.
	keeper := r.process("nidalo-keeper")
	database, files := r.Begin(insert), r.Begin(load("/srv/sonar", "one", 5))
	for i, what := range []string{"kill", "upgrade 1.1", "kill", "pull", "kill", "upgrade 1.0", "kill", "replace", "kill"} {
		t.Logf("%d: %s", i, what)
		switch verb, arg, _ := strings.Cut(what, " "); verb {
		case "kill":
			r.ok("systemctl kill -s KILL nidalo; sleep 5")
		case "upgrade":
			r.ok("dpkg -i /usr/local/bin/nidalo_%s.deb 2>&1; sleep 2", arg)
		case "pull":
			r.pull(disks[1])
			r.until("tides", "missing", member("TMK-0002", "missing"))
		case "replace":
			r.plug(fresh)
			r.ok("for i in $(seq 100); do nidalo disks | grep -q TMK-0004 && exit 0; sleep 0.5; done; exit 1")
			r.ok("for i in $(seq 50); do nidalo replace tides TMK-0002 TMK-0004 2>&1 && exit 0; sleep 1; done; exit 1")
		}
	}
	require.Equal(t, keeper, r.process("nidalo-keeper"))
	r.until("tides", "rebuilt", condition("healthy"))
	r.finished(files)
	r.quiet()

	// The keeper alone, then both at once.
	files = r.Begin(load("/srv/sonar", "two", 2))
	r.ok("sleep 3; systemctl kill -s KILL nidalo-keeper; sleep 15")
	r.ok("systemctl kill -s KILL nidalo-keeper nidalo; sleep 15")
	r.finished(files)
	require.NotEqual(t, keeper, r.process("nidalo-keeper"))
	r.quiet()

	// Memory is short: dirty pages at their limit, and half of the rest taken, while the service is killed.
	r.ok("sysctl -q vm.dirty_bytes=50331648 vm.dirty_background_bytes=16777216")
	short := r.Begin("stress-ng --vm 1 --vm-bytes 55% --timeout 40 -q; true")
	files = r.Begin("for i in 1 2 3; do dd if=/dev/zero of=/srv/sonar/big bs=1M count=160 conv=fsync 2>&1 || exit 1; done")
	r.ok("sleep 6; systemctl kill -s KILL nidalo; sleep 6; systemctl kill -s KILL nidalo")
	r.finished(files)
	r.finished(short)
	r.quiet()

	// The power goes under load; then a boot without one disk more than the margin allows, which is put in later.
	r.PowerCut()
	now := []Disk{disks[0], fresh, disks[2], disks[3], disks[4]}
	r.boot(now...)
	r.settled()
	r.ok("for i in $(seq 90); do findmnt -n /srv/tides && findmnt -n /srv/sonar && exit 0; sleep 1; done; systemctl list-jobs; exit 1")
	r.acknowledged()
	r.ok("rm -f /srv/sonar/big; xfs_info /srv/sonar")
	r.quiet()
	_ = database
	// What was mounted by hand is unmounted in order too, with what was not synced.
	r.ok("umount /srv/sonar; mount /dev/nidalo/sonar /mnt; dd if=/dev/urandom of=/mnt/late bs=1M count=20 2>&1; sha256sum /mnt/late | sed s,/mnt,/srv/sonar, >/root/late")
	r.reboot(disks[0], disks[3], disks[4])
	r.answering() // the mount that lacks its device is not waited for, but counts as a job of the boot for five minutes
	r.ok("for i in $(seq 60); do findmnt -n /srv/sonar && systemctl is-active -q multi-user.target && exit 0; sleep 1; done; exit 1")
	r.ok("sha256sum -c /root/late; dmesg | grep 'XFS .*Ending clean mount'; ! dmesg | grep 'XFS .*Starting recovery'")
	r.ok("! findmnt -n /srv/tides")
	require.Contains(t, r.ok("nidalo status tides; true"), "not in service")
	r.plug(fresh)
	r.plug(disks[2])
	r.until("tides", "complete", condition("healthy"))
	r.ok("for i in $(seq 60); do [ -e /dev/nidalo/tides ] && exit 0; sleep 1; done; exit 1")
	r.ok("systemctl start srv-tides.mount")
	r.acknowledged()

	id := strings.TrimSpace(r.ok("nidalo status -json sonar | jq -r .arrays[0].id"))

	// What is acknowledged is lost only when the memory of it is: then the next flush says so, once.
	r.ok("umount /srv/sonar; mkdir -p /run/systemd/system/nidalo-keeper.service.d; printf '[Service]\\nRestart=no\\n' >/run/systemd/system/nidalo-keeper.service.d/no.conf; systemctl daemon-reload")
	r.ok("dd if=/dev/urandom of=/dev/nidalo/sonar bs=1M count=4 oflag=direct 2>&1; systemctl kill -s KILL nidalo nidalo-keeper; sleep 1")
	r.ok("printf x | dd of=/run/nidalo/carry-over/%s conv=notrunc bs=1 2>/dev/null; systemctl start nidalo-keeper nidalo", id)
	r.settled()
	require.Equal(t, 1, r.Run("dd if=/dev/zero of=/dev/nidalo/sonar bs=4k count=1 conv=fsync 2>&1").Status)
	r.ok("dd if=/dev/zero of=/dev/nidalo/sonar bs=4k count=1 conv=fsync 2>&1")
}
