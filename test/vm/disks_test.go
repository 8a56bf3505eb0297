//go:build linux

package vm

import (
	"testing"

	"github.com/stretchr/testify/require"
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

	// Another goes for good, and a fresh one takes its place.
	r.pull(nvme1)
	r.until("tides", "missing", member(nvme1.Serial, "missing"))
	r.ok("[ ! -e /dev/nvme0n1 ]") // nothing holds its name
	r.plug(nvme2)
	r.ok("for i in $(seq 50); do nidalo disks | grep -q ORR-0012 && exit 0; sleep 0.2; done; exit 1")
	r.ok("nidalo replace tides ORR-0011 ORR-0012")
	load = r.Begin(fio("tides", true))
	r.until("tides", "rebuilt", condition("healthy"))
	r.finished(load)

	// The power goes; the disks come back in another order, one on another bus, one late.
	r.PowerCut()
	moved := scsi2
	moved.Bus = Virtio
	r.boot(fixed, virtio, nvme2, moved, sata1, scsi4k)
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
