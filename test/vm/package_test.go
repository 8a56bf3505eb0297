//go:build linux

package vm

import (
	"fmt"
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
	r.ok("for i in $(seq 60); do nidalo next >/dev/null 2>&1 && [ -S /var/lib/nidalo/control.sock ] && exit 0; sleep 1; done; journalctl -u nidalo; exit 1")
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
	require.NotContains(t, r.ok("journalctl -u nidalo-keeper"), "not as steady")

	// The four commands.
	r.ok("nidalo create -yes -name tides -level 5 TMK-0001 ORR-0003 ORR-0011 2>&1")
	r.ok("nidalo attach -boot tides 2>&1")
	r.ok("mkfs.ext4 -q /dev/nidalo/tides")
	r.ok("mkdir -p /srv/tides; mount /dev/nidalo/tides /srv/tides")

	require.Contains(t, r.refused("nidalo detach tides 2>&1"), "mounted at /srv/tides")
	require.Contains(t, r.refused("dpkg -r nidalo 2>&1"), "cannot be removed while arrays are attached: tides")
	run := r.Begin(load("/srv/tides", "one", 4))
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

	// The end of it.
	r.ok("umount /srv/tides; fsck.ext4 -fn /dev/nidalo/tides; sed -i /nidalo/d /etc/fstab; systemctl daemon-reload; nidalo detach tides; dpkg -P nidalo 2>&1")
	r.ok("[ ! -e /usr/bin/nidalo ] && [ ! -e /var/lib/nidalo/service.json ] && ! systemctl is-active nidalo")
}

var _ = fmt.Sprint
