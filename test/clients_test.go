package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

func TestAnImageCopiedInComesOutTheSameAtEveryLevel(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "16", "-size", "64MiB")
	b.nidalo("create", "-name", "five", "-level", "5", "-strip", "16KiB", "A1", "A2", "A3")
	b.nidalo("create", "-name", "mirror", "-level", "1", "A4", "A5", "A6")
	b.nidalo("create", "-name", "sixty", "-level", "60", "A7", "A8", "B1", "B2", "B3", "B4", "B5", "B6")
	b.nidalo("create", "-name", "both", "-level", "concat", "B7", "B8")
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 40*mib)
	for _, name := range []string{"five", "mirror", "sixty", "both"} {
		b.tool("nbdcopy", "--flush", in, b.uri(name))
		b.tool("nbdcopy", b.uri(name), out)
		same(t, in, out, 40*mib)
		var m []struct {
			Length int64
			Type   int
		}
		require.NoError(t, json.Unmarshal([]byte(b.tool("nbdinfo", "--map", "--json", b.uri(name))), &m))
		require.Zero(t, m[0].Type, "data first")
		require.EqualValues(t, 40*mib, m[0].Length)
		require.Equal(t, 3, m[1].Type, "and a hole that reads as zeros")
	}
	info := b.tool("nbdinfo", "--list", "nbd+unix:///?socket="+filepath.Join(b.home, "nbd.sock"))
	for _, name := range []string{"five", "mirror", "sixty", "both"} {
		require.Contains(t, info, `export="`+name+`"`)
	}
	require.Contains(t, info, "can_multi_conn: true")
	require.Zero(t, b.stop(syscall.SIGTERM))
	require.Contains(t, b.log.String(), "everything is flushed")
}

func TestQemuSeesAnOrdinaryDisk(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "64MiB")
	b.nidalo("create", "-name", "charts", "-level", "triple", "A1", "A2", "A3", "A4", "A5")
	b.start("-listen", "127.0.0.1:0")
	uri := b.uri("charts")
	b.tool("qemu-io", "-f", "raw", uri, "-c", "write -P 0xab 1000000 3000000", "-c", "read -P 0xab 1000000 3000000",
		"-c", "write -z 2M 64k", "-c", "read -P 0 2M 64k", "-c", "discard 3M 512k", "-c", "read -P 0 3M 512k",
		"-c", "write -f -P 0x11 5M 4k", "-c", "flush", "-c", "read -P 0x11 5M 4k", "-c", "aio_write -P 0x22 6M 1M", "-c", "aio_write -P 0x33 7M 1M",
		"-c", "aio_flush", "-c", "read -P 0x22 6M 1M", "-c", "read -P 0x33 7M 1M")
	b.tool("qemu-img", "map", "--output=json", uri)
	image := filepath.Join(b.home, "image.qcow2")
	b.tool("qemu-img", "convert", "-f", "raw", "-O", "qcow2", uri, image)
	b.tool("qemu-img", "compare", "-f", "raw", "-F", "qcow2", uri, image)
	_, address, ok := strings.Cut(b.log.String(), "address=")
	require.True(t, ok, b.log.String())
	address, _, _ = strings.Cut(address, "\n")
	require.Contains(t, b.tool("nbdinfo", "nbd://"+address+"/charts"), "export-size")
}

func TestFioVerifiesWhatItWroteWhileADiskIsPulled(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "6", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "6", "A1", "A2", "A3", "A4", "A5", "A6")
	b.start()
	pulled := make(chan string)
	go func() {
		for b.status().Arrays[0].Counters["client_written_bytes"] < 8*mib { // while it writes
			runtime.Gosched()
		}
		_, out, errOut := b.try("lab", "pull", "A2")
		pulled <- out + errOut
	}()
	b.tool("fio", "--name=v", "--ioengine=nbd", "--uri="+b.uri("tides"), "--rw=randwrite", "--bs=16k", "--iodepth=16",
		"--size=160M", "--verify=crc32c", "--verify_fatal=1", "--verify_backlog=256", "--randseed=7", "--rate=100M")
	require.Contains(t, <-pulled, "out of bay A2")
	s := b.status().Arrays[0]
	require.Equal(t, "degraded", s.Condition)
	require.Equal(t, 1, s.Margin)
	require.Equal(t, "missing", s.Members[1].Condition)
}

// TestARealFileSystemLivesThroughALostDisk is the whole story with a real ext4: made, filled, a disk pulled under it,
// replaced, rebuilt, and clean.
func TestARealFileSystemLivesThroughALostDisk(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "96MiB")
	b.nidalo("create", "-name", "tides", "-level", "5", "A1", "A2", "A3", "A4")
	b.start()
	folder, mount := filepath.Join(b.home, "fuse"), filepath.Join(b.home, "mnt")
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.Mkdir(mount, 0o700))
	fuse := exec.Command("nbdfuse", filepath.Join(folder, "tides"), b.uri("tides"))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "tides"), nil, 0o600))
	require.NoError(t, fuse.Start())
	defer func() {
		_ = exec.Command("fusermount3", "-u", filepath.Join(folder, "tides")).Run()
		_ = fuse.Wait()
	}()
	image := filepath.Join(folder, "tides")
	require.Eventually(t, func() bool { i, err := os.Stat(image); return err == nil && i.Size() > mib }, 10*time.Second, 50*time.Millisecond)
	loop := strings.TrimSpace(b.tool("losetup", "--show", "-f", image))
	detached := false
	detach := func() {
		if !detached {
			detached = true
			_ = exec.Command("umount", mount).Run()
			_ = exec.Command("losetup", "-d", loop).Run()
		}
	}
	defer detach()
	b.tool("mkfs.ext4", "-q", loop)
	b.tool("mount", loop, mount)
	source := filepath.Join(b.home, "source")
	pattern(t, source, 30*mib)
	b.tool("cp", source, filepath.Join(mount, "before"))
	b.tool("sync", "-f", mount)
	b.nidalo("lab", "pull", "A3")
	b.tool("cp", source, filepath.Join(mount, "after"))
	b.tool("sync", "-f", mount)
	require.Equal(t, "exposed", b.condition())
	require.Contains(t, b.nidalo("replace", "-wait", "tides", "A3", "A5"), "healthy, margin 1")
	b.tool("umount", mount)
	b.tool("e2fsck", "-fn", loop)
	b.tool("mount", "-o", "ro", loop, mount)
	same(t, source, filepath.Join(mount, "before"), 30*mib)
	same(t, source, filepath.Join(mount, "after"), 30*mib)
	detach()
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}

func TestLoopDevicesAreMembersLikeFiles(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("loop devices need root")
	}
	b := newBench(t)
	var devices []string
	for _, name := range []string{"x", "y", "z"} {
		path := filepath.Join(b.home, name)
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 64*mib))
		device := strings.TrimSpace(b.tool("losetup", "--show", "-f", path))
		defer func() { _ = exec.Command("losetup", "-d", device).Run() }()
		devices = append(devices, device)
	}
	b.nidalo(append([]string{"create", "-name", "sonar", "-level", "5"}, devices...)...)
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 20*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("sonar"))
	b.nidalo("fail", "-yes", "sonar", devices[1])
	b.tool("nbdcopy", b.uri("sonar"), out)
	same(t, in, out, 20*mib)
	b.refused(1, []string{"in use", "sonar"}, "create", "-name", "other", "-level", "1", devices[0], devices[2])
	b.stop(syscall.SIGTERM)
	// What is behind another path is still the same member.
	moved := strings.TrimSpace(b.tool("losetup", "--show", "-f", filepath.Join(b.home, "x")))
	b.tool("losetup", "-d", devices[0])
	defer func() { _ = exec.Command("losetup", "-d", moved).Run() }()
	list, err := os.ReadFile(filepath.Join(b.home, "disks.list"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(b.home, "disks.list"), append(list, moved+"\n"...), 0o600))
	b.start()
	b.tool("nbdcopy", b.uri("sonar"), out)
	same(t, in, out, 20*mib)
}
