//go:build linux

package vm

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// guest boots a machine for a test with the program in it.
func guest(t *testing.T, disks ...Disk) *Machine {
	t.Helper()
	if _, err := exec.LookPath("qemu-system-x86_64"); err != nil {
		t.Skip("needs qemu-system-x86; make tools installs it")
	}
	images, err := Build("linux-image-amd64")
	require.NoError(t, err)
	folder := t.TempDir()
	payload := map[string]string{}
	for name, pkg := range map[string]string{"agent": "nidalo/test/vm/agent", "nidalo": "nidalo/cmd/nidalo"} {
		to := filepath.Join(folder, name+".program")
		cmd := exec.Command("go", "build", "-ldflags", "-s -w", "-o", to, pkg)
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		payload[name] = to
	}
	m, err := Start(folder, images, payload, disks)
	require.NoError(t, err)
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("console:\n%s", m.Console())
		}
		m.PowerCut()
	})
	return m
}

const mib = 1 << 20

func TestAGuestHasRealDisks(t *testing.T) {
	a := Disk{Name: "a", Bus: SCSI, Model: "TK-4000", Serial: "TMK-0001", Size: 64 * mib}
	m := guest(t, a,
		Disk{Name: "b", Bus: NVMe, Serial: "ORR-0002", Size: 64 * mib, Sector: 4096},
		Disk{Name: "c", Bus: Virtio, Serial: "QRN-0003", Size: 64 * mib},
		Disk{Name: "d", Bus: AHCI, Model: "QN-12", Serial: "QRN-0004", Size: 64 * mib})
	list := m.Run("uname -r; lsblk -b -o NAME,SIZE,MODEL,SERIAL,LOG-SEC,TRAN; ls -l /dev/disk/by-id; nidalo disks")
	t.Log(list.Output)
	require.Zero(t, list.Status)
	for _, serial := range []string{"TMK-0001", "ORR-0002", "QRN-0003", "QRN-0004"} {
		require.Contains(t, list.Output, serial)
	}
	require.NoError(t, m.Pull(a))
	require.NotContains(t, m.Run("udevadm settle; lsblk -o SERIAL").Output, "TMK-0001")
	require.NoError(t, m.Plug(a))
	require.Contains(t, m.Run("sleep 1; udevadm settle; lsblk -o SERIAL").Output, "TMK-0001")
}
