//go:build linux

package vm

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What it costs or wins that devices are read and written past the system's memory: a mirror of two NVMe disks, against the same mirror
// of files in file systems on two such disks. The guest's processor is emulated, so only the ratios say something. make bench runs it.
func TestRatesOfNVMeAgainstFiles(t *testing.T) {
	rounds, _ := strconv.Atoi(os.Getenv("NIDALO_VM_BENCH"))
	if rounds == 0 {
		t.Skip("make bench does it")
	}
	size := int64(256 * mib)
	var disks []Disk
	for i := range 4 {
		disks = append(disks, Disk{Name: fmt.Sprint("n", i), Bus: NVMe, Serial: fmt.Sprintf("ORR-001%d", i), Size: size})
	}
	r := guest(t, disks...)
	r.ok("nidalo create -yes -name devices -level 1 ORR-0010 ORR-0011")
	r.ok(`for i in 2 3; do d=$(nidalo disks -json | jq -r ".disks[] | select(.serial == \"ORR-001$i\").path"); mke2fs -q $d; mkdir -p /srv/$i
mount $d /srv/$i; truncate -s 200M /srv/$i/disk; done`)
	r.ok("nidalo create -yes -name files -level 1 /srv/2/disk /srv/3/disk")
	r.serve()
	job := func(array, kind, args string) float64 {
		out := r.ok(`sync; echo 3 >/proc/sys/vm/drop_caches; fio --name=b --ioengine=nbd --uri="nbd+unix:///%s?socket=/var/lib/nidalo/nbd.sock" --size=96m `+
			`--iodepth=4 --output-format=json %s >/tmp/b.json && sed -n '/^{/,$p' /tmp/b.json | jq '.jobs[0].%s.bw_bytes' || cat /tmp/b.json`, array, args, kind)
		rate, err := strconv.ParseFloat(strings.TrimSpace(out), 64)
		require.NoError(t, err, out)
		return rate / 1e6
	}
	cached := func() float64 {
		kib, err := strconv.ParseFloat(strings.TrimSpace(r.ok("awk '/^Cached|^Buffers/ {n += $2} END {print n}' /proc/meminfo")), 64)
		require.NoError(t, err)
		return kib / 1024
	}
	fmt.Printf("| in the guest, on NVMe | devices | files | ratio | system's memory after |\n|---|---|---|---|---|\n")
	for _, j := range [][3]string{{"sequential writing", "write", "--rw=write --bs=1m --end_fsync=1"}, {"sequential reading", "read", "--rw=read --bs=1m"},
		{"random writing", "write", "--rw=randwrite --bs=4k --io_size=8m --end_fsync=1"}, {"random reading", "read", "--rw=randread --bs=4k --io_size=8m"}} {
		rates, memory := map[string][]float64{}, map[string]float64{}
		for range rounds {
			for _, array := range []string{"devices", "files"} {
				rates[array] = append(rates[array], job(array, j[1], j[2]))
				memory[array] = cached()
			}
		}
		middle := func(array string) float64 {
			slices.Sort(rates[array])
			return rates[array][rounds/2]
		}
		fmt.Printf("| %s | %.1f MB/s | %.1f MB/s | %.2f | %.0f MiB, %.0f MiB |\n", j[0], middle("devices"), middle("files"), middle("devices")/middle("files"), memory["devices"], memory["files"])
	}
}

// What it costs that an attached array is one: the kernel's client of the block protocol on a mirror of two disks, by way of the keeper and
// the service, against the same client on a server of a plain file in a file system on such a disk.
func TestRatesOfAttachedAgainstFile(t *testing.T) {
	rounds, _ := strconv.Atoi(os.Getenv("NIDALO_VM_BENCH"))
	if rounds == 0 {
		t.Skip("make bench does it")
	}
	var disks []Disk
	for i := range 3 {
		disks = append(disks, Disk{Name: fmt.Sprint("n", i), Bus: NVMe, Serial: fmt.Sprintf("ORR-001%d", i), Size: 256 * mib})
	}
	r := guest(t, disks...)
	r.ok("nidalo create -yes -name tides -level 1 ORR-0010 ORR-0011")
	r.serve()
	r.ok("nidalo attach tides 2>&1")
	r.ok(`d=$(nidalo disks -json | jq -r '.disks[] | select(.serial == "ORR-0012").path'); mke2fs -q $d; mkdir -p /srv/file; mount $d /srv/file; truncate -s 200M /srv/file/plain
nbdkit -U /tmp/plain.sock file /srv/file/plain; for i in $(seq 50); do [ -S /tmp/plain.sock ] && break; sleep 0.1; done; nbd-client -unix /tmp/plain.sock /dev/nbd5 -b 4096`)
	job := func(device, kind, args string) float64 {
		out := r.ok(`sync; echo 3 >/proc/sys/vm/drop_caches; fio --name=b --ioengine=libaio --direct=1 --filename=%s --size=64m --output-format=json %s >/tmp/b.json && sed -n '/^{/,$p' /tmp/b.json | jq '.jobs[0].%s.bw_bytes' || cat /tmp/b.json`, device, args, kind)
		rate, err := strconv.ParseFloat(strings.TrimSpace(out), 64)
		require.NoError(t, err, out)
		return rate / 1e6
	}
	fmt.Printf("| in the guest, the kernel's client | attached array | plain file | ratio |\n|---|---|---|---|\n")
	for _, j := range [][3]string{{"sequential writing", "write", "--rw=write --bs=1m --iodepth=4 --end_fsync=1"}, {"sequential reading", "read", "--rw=read --bs=1m --iodepth=4"},
		{"random writing", "write", "--rw=randwrite --bs=4k --iodepth=16 --io_size=4m --end_fsync=1"}, {"random reading", "read", "--rw=randread --bs=4k --iodepth=16 --io_size=8m"}} {
		rates := map[string][]float64{}
		for range rounds {
			for _, device := range []string{"/dev/nidalo/tides", "/dev/nbd5"} {
				rates[device] = append(rates[device], job(device, j[1], j[2]))
			}
		}
		middle := func(device string) float64 {
			slices.Sort(rates[device])
			return rates[device][rounds/2]
		}
		x, y := middle("/dev/nidalo/tides"), middle("/dev/nbd5")
		fmt.Printf("| %s | %.1f MB/s | %.1f MB/s | %.2f |\n", j[0], x, y, x/y)
	}
}
