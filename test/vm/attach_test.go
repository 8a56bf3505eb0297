//go:build linux

package vm

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// kill ends the service or the keeper of the guest at once.
func (r *rig) kill(what string) {
	r.t.Helper()
	r.ok(`for p in /proc/[0-9]*; do c=$(tr '\0' ' ' <$p/cmdline 2>/dev/null); case "$c" in *nidalo\ %s*) kill -9 ${p#/proc/}; found=1;; esac; done; [ -n "$found" ]`, what)
}

// quiet requires that the kernel has told of no failed I/O.
func (r *rig) quiet() {
	r.t.Helper()
	require.Empty(r.t, strings.TrimSpace(r.ok(`dmesg | grep -iE 'I/O error|buffer i/o|remount|aborted|corrupt|shut ?down.*filesystem|metadata.*error' | grep -vE ' sd[a-z]|systemd|dev [snv][dv]' || true`)))
}

// load has fio write to a mounted file system and verify it, from 13 seconds a loop on, while other things happen: not as fast as it can, or the
// emulated processor has time for nothing else.
func load(folder, name string, loops int) string {
	return fmt.Sprintf(`fio --name=%s --directory=%s --rw=randwrite --bs=4k --size=4m --loops=%d --rate_iops=80 --fsync=32 --verify=crc32c --do_verify=1 --verify_fatal=1 `+
		`--ioengine=libaio --direct=1 --iodepth=8 --serialize_overlap=1 --output=/tmp/%s.log || { cat /tmp/%s.log; false; }`, name, folder, loops, name, name)
}

// An array is attached by the kernel's client; the service dies under load, and the keeper, and both.
func TestAnAttachedArrayOutlivesTheService(t *testing.T) {
	all(t)
	r := guestWith(t, func(r *rig) {
		r.payload["keeper.test"] = filepath.Join(r.folder, "keeper.test")
		out, err := exec.Command("go", "test", "-c", "-o", r.payload["keeper.test"], "nidalo/internal/keeper").CombinedOutput()
		require.NoError(t, err, string(out))
	}, scsi1, scsi4k, nvme1)
	grown := r.ok("keeper.test -test.run TestADeviceGrowsWhileMounted -test.v 2>&1")
	require.Contains(t, grown, "kernel")
	require.Contains(t, grown, "--- PASS")
	r.ok("nidalo create -yes -name tides -level 5 TMK-0001 ORR-0003 ORR-0011")
	r.serve()
	out := r.ok("nidalo attach tides 2>&1")
	require.Contains(t, out, "/dev/nidalo/tides")
	t.Log(out)
	require.Equal(t, "4096", strings.TrimSpace(r.ok("cat /sys/block/nbd0/queue/logical_block_size")))
	t.Log(r.ok("cat /sys/block/nbd0/backend /sys/block/nbd0/queue/discard_max_bytes /sys/block/nbd0/queue/write_zeroes_max_bytes /sys/block/nbd0/queue/fua /sys/block/nbd0/queue/write_cache"))
	r.ok("mkfs.ext4 -q /dev/nidalo/tides; mkdir -p /srv/tides; mount /dev/nidalo/tides /srv/tides")
	require.Contains(t, r.refused("nidalo detach tides"), "mounted at /srv/tides")
	require.NotContains(t, r.ok("nidalo disks"), "nbd0")

	run := r.Begin(load("/srv/tides", "one", 2))
	for range 3 {
		time.Sleep(3 * time.Second)
		r.kill("serve")
		time.Sleep(time.Second)
		r.serve()
	}
	r.finished(run)
	r.quiet()

	// The keeper alone: what was under way is sent again when the kernel has waited long enough.
	run = r.Begin(load("/srv/tides", "two", 2))
	time.Sleep(3 * time.Second)
	r.kill("keeper")
	r.finished(run)
	r.quiet()
	t.Log(r.ok("cat /var/lib/nidalo/keeper.log; dmesg | tail -20"))
	r.ok("umount /srv/tides; fsck.ext4 -fn /dev/nidalo/tides; nidalo detach tides; [ ! -e /dev/nidalo/tides ]")
}
