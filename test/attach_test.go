//go:build linux

package test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/keeper"
)

// attachable skips tests where devices cannot be made.
func attachable(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("attaching needs root")
	}
	for _, path := range []string{"/dev/fuse", "/dev/loop-control"} {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			t.Skipf("this machine does not allow devices: %v", err)
		}
		_ = f.Close()
	}
}

// attached makes an array and a service, and attaches it; at the end all of it is gone.
func attached(t *testing.T) (b *bench, device, mount string) {
	attachable(t)
	b = newBenchAlone(t)
	b.nidalo("lab", "new", "-bays", "6", "-size", "96MiB")
	name := fmt.Sprintf("tides%d", os.Getpid()) // the links are the host's
	b.start()
	b.nidalo("create", "-name", name, "-level", "5", "A1", "A2", "A3", "A4")
	device = strings.TrimSpace(b.nidalo("attach", name))
	require.Equal(t, "/dev/nidalo/"+name, device)
	mount = filepath.Join(b.home, "mnt")
	require.NoError(t, os.Mkdir(mount, 0o700))
	t.Cleanup(func() {
		if b.serve == nil {
			b.start()
		}
		_ = exec.Command("umount", mount).Run()
		b.try("detach", "-yes", "-force", name)
		b.eventually("the keeper ends", func() bool { _, err := os.Stat(keeper.Socket(b.home)); return err != nil })
	})
	return b, device, mount
}

func (b *bench) name() string { return fmt.Sprintf("tides%d", os.Getpid()) }

// A file system on an attached array: the service is killed and stopped under it, a disk is pulled and replaced, and nothing that was
// written is lost, flushed or not.
func TestAnAttachedFileSystemDoesNotNotice(t *testing.T) {
	b, device, mount := attached(t)
	b.tool("mkfs.ext4", "-q", device)
	b.tool("mount", device, mount)
	logged := strings.Split(strings.TrimSpace(b.tool("dmesg")), "\n")
	loop, err := filepath.EvalSymlinks(device)
	require.NoError(t, err)
	b.refused(1, []string{"mounted at " + mount, "umount " + mount}, "detach", b.name())
	b.refused(1, []string{"attached"}, "stop", b.name())
	b.refused(1, []string{"attached"}, "rename", b.name(), "other")
	b.refused(1, []string{"an array must not be built on another"}, "create", "-yes", "-name", "x", "-level", "1", filepath.Join(mount, "one"), filepath.Join(mount, "two"))
	code, _, errOut := b.try("erase", "-yes", device)
	require.Equal(t, 1, code, errOut)

	load := exec.Command("fio", "--name=v", "--directory="+mount, "--rw=randwrite", "--bs=4k", "--size=16m", "--numjobs=2", "--loops=6", "--fsync=16",
		"--verify=crc32c", "--do_verify=1", "--verify_fatal=1", "--serialize_overlap=1", "--ioengine=libaio", "--direct=1", "--iodepth=8")
	var out bytes.Buffer
	load.Stdout, load.Stderr = &out, &out
	require.NoError(t, load.Start())
	ended := make(chan error, 1)
	go func() { ended <- load.Wait() }()
	for i := range 4 {
		b.eventually("the load writes", func() bool { return b.status().Arrays[0].Counters["client_written_bytes"] > 2*mib })
		if i%2 == 0 {
			b.stop(syscall.SIGKILL)
		} else {
			require.Zero(t, b.stop(syscall.SIGTERM))
		}
		b.start()
	}
	b.nidalo("lab", "pull", "A3")
	b.nidalo("replace", "-wait", b.name(), "A3", "A5")
	select {
	case err := <-ended:
		require.NoError(t, err, out.String())
	case <-time.After(4 * time.Minute):
		require.Fail(t, "the load hangs", b.log.String())
	}
	said := b.tool("dmesg")
	if _, after, ok := strings.Cut(said, logged[len(logged)-1]); ok { // what devices of earlier runs left in the log is none of ours
		said = after
	}
	require.NotContains(t, said, "I/O error, dev "+filepath.Base(loop)+",")
	b.tool("umount", mount)
	b.tool("e2fsck", "-fn", device)
	b.nidalo("detach", b.name())
	_, err = os.Lstat(device)
	require.ErrorIs(t, err, os.ErrNotExist)
	kept, err := os.ReadFile(filepath.Join(b.home, "keeper.log"))
	require.NoError(t, err)
	require.GreaterOrEqual(t, bytes.Count(kept, []byte(`"sharing memory"=true`)), 5, "at first, and after each end of the service")
	require.NotContains(t, string(kept), `"sharing memory"=false`)
}

// The volumes of a guarded set are devices by themselves. One that has lost its disk is written under its file system, over a kill of the service.
func TestAVolumeIsADevice(t *testing.T) {
	attachable(t)
	b := newBenchAlone(t)
	b.nidalo("lab", "new", "-bays", "5", "-size", "128MiB")
	set := fmt.Sprintf("archive%d", os.Getpid())
	b.start()
	b.nidalo("create", "-yes", "-name", set, "-level", "guarded", "-parity", "A3", "logbooks=A1", "maps=A2")
	b.refused(1, []string{"each volume is attached by itself", "nidalo attach " + set + "/maps"}, "attach", set)
	b.refused(1, []string{"has no volume"}, "attach", set+"/charts")
	mount := filepath.Join(b.home, "mnt")
	require.NoError(t, os.Mkdir(mount, 0o700))
	t.Cleanup(func() {
		_ = exec.Command("umount", mount).Run()
		for _, v := range []string{"/logbooks", "/maps"} {
			b.try("detach", "-yes", "-force", set+v)
		}
		b.eventually("the keeper ends", func() bool { _, err := os.Stat(keeper.Socket(b.home)); return err != nil })
	})
	device, other := strings.TrimSpace(b.nidalo("attach", set+"/logbooks")), strings.TrimSpace(b.nidalo("attach", set+"/maps"))
	require.Equal(t, "/dev/nidalo/"+set+"/logbooks", device)
	source := filepath.Join(b.home, "source")
	pattern(t, source, 40*mib)
	b.tool("dd", "if="+source, "of="+other, "bs=1M", "oflag=direct", "status=none")
	b.tool("mkfs.ext4", "-q", device)
	b.tool("mount", device, mount)
	b.tool("cp", source, filepath.Join(mount, "one"))
	b.nidalo("lab", "pull", "A1")
	b.eventually("the disk is missed", func() bool { return b.condition() == "exposed" })
	require.Contains(t, b.nidalo("status"), "parity and the other disks")
	b.tool("cp", source, filepath.Join(mount, "two"))
	b.refused(1, []string{set + "/logbooks", "is attached"}, "stop", set)
	b.stop(syscall.SIGKILL)
	b.start()
	b.tool("sync")
	require.NoError(t, os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0))
	b.tool("cmp", source, filepath.Join(mount, "one"))
	b.tool("cmp", source, filepath.Join(mount, "two"))
	b.tool("cmp", "-n", strconv.Itoa(40*mib), source, other)
	b.nidalo("replace", "-wait", "-yes", set, "A1", "A4")
	b.tool("umount", mount)
	b.tool("e2fsck", "-fn", device)
	b.nidalo("detach", set+"/logbooks")
	b.nidalo("detach", set+"/maps")
	require.Contains(t, b.nidalo("check", "-wait", set), "no mismatches")
}

// What was acknowledged and never flushed is there after a kill of the service, and others may only read meanwhile. While the array cannot
// start, a detach is refused at once.
func TestAcknowledgedOutlivesTheService(t *testing.T) {
	b, device, _ := attached(t)
	source := filepath.Join(b.home, "source")
	pattern(t, source, 24*mib)
	b.tool("dd", "if="+source, "of="+device, "bs=1M", "oflag=direct", "status=none")
	b.stop(syscall.SIGKILL)
	b.nidalo("lab", "pull", "A1")
	b.nidalo("lab", "pull", "A2")
	b.start()
	b.refused(1, []string{"cannot be flushed", "nidalo start " + b.name(), "nidalo detach -force " + b.name()}, "detach", b.name())
	b.nidalo("lab", "insert", "-disk", "TMK-0193", "A1")
	b.nidalo("lab", "insert", "-disk", "ORR-0200", "A2")
	b.eventually("the array starts", func() bool { return b.condition() == "healthy" })
	b.tool("cmp", "-n", strconv.Itoa(24*mib), source, device)
	code := exec.Command("nbdcopy", source, b.uri(b.name())).Run()
	require.Error(t, code, "others may not write to an attached array")
	b.tool("nbdinfo", b.uri(b.name()))
}

// In user space a device ends with its keeper. The service starts another, and what was acknowledged and never flushed is there, although
// the service was killed as well.
func TestAKeeperThatIsKilledIsReplaced(t *testing.T) {
	b, device, _ := attached(t)
	source := filepath.Join(b.home, "source")
	pattern(t, source, 8*mib)
	var st struct{ Arrays []struct{ ID string } }
	require.NoError(t, unmarshal(b.nidalo("status", "-json"), &st))
	loops := func() int { return strings.Count(b.tool("losetup", "-a"), "/"+st.Arrays[0].ID+"/") }
	require.Equal(t, 1, loops())
	for range 3 {
		b.tool("dd", "if="+source, "of="+device, "bs=1M", "oflag=direct", "status=none")
		require.NoError(t, syscall.Kill(b.keeper(), syscall.SIGKILL))
		b.stop(syscall.SIGKILL)
		b.start()
		b.attachedAgain(device)
		b.tool("cmp", "-n", strconv.Itoa(8*mib), source, device)
	}
	require.Equal(t, 1, loops(), "the devices of the dead are let go")
}

// keeper is its process.
func (b *bench) keeper() int {
	k, err := keeper.Dial(b.home)
	require.NoError(b.t, err)
	st, err := k.State(false, keeper.AnswerTime)
	require.NoError(b.t, err)
	return st.PID
}

// gone says whether a process is no more, with all of its threads.
func gone(pid int) bool { return syscall.Kill(pid, 0) != nil }

// Another process ends a loop device that is not in use. The array is attached again, and nothing is lost.
func TestALoopDeviceThatIsEndedComesBack(t *testing.T) {
	b, device, _ := attached(t)
	source := filepath.Join(b.home, "source")
	pattern(t, source, 8*mib)
	b.tool("dd", "if="+source, "of="+device, "bs=1M", "oflag=direct", "status=none")
	loop, err := filepath.EvalSymlinks(device)
	require.NoError(t, err)
	b.tool("losetup", "-d", loop)
	b.eventually("it is noticed, and attached a second time", func() bool {
		log, _ := os.ReadFile(filepath.Join(b.home, "keeper.log"))
		_, after, noticed := strings.Cut(string(log), "ended by another process")
		return noticed && strings.Contains(after, "msg=attached")
	})
	b.attachedAgain(device)
	b.tool("cmp", "-n", strconv.Itoa(8*mib), source, device)
}

// A keeper of devices in user space receives SIGTERM while there is no service: it waits, says what for, and ends at the second SIGTERM.
func TestAKeeperEndsWithoutAService(t *testing.T) {
	b, device, _ := attached(t)
	source := filepath.Join(b.home, "source")
	pattern(t, source, 8*mib)
	b.tool("dd", "if="+source, "of="+device, "bs=1M", "oflag=direct", "status=none")
	loop, err := filepath.EvalSymlinks(device)
	require.NoError(t, err)
	pid := b.keeper()
	b.stop(syscall.SIGKILL)
	require.NoError(t, syscall.Kill(pid, syscall.SIGTERM))
	b.eventually("it waits", func() bool {
		log, _ := os.ReadFile(filepath.Join(b.home, "keeper.log"))
		return strings.Contains(string(log), "waiting for the service")
	})
	require.False(t, gone(pid))
	require.NoError(t, syscall.Kill(pid, syscall.SIGTERM))
	b.eventually("it ends", func() bool { return gone(pid) })
	require.NotContains(t, b.tool("losetup", "-a"), filepath.Base(loop)+":", "nothing stays of it")
	b.start()
	b.attachedAgain(device)
	b.tool("cmp", "-n", strconv.Itoa(8*mib), source, device)
}

// A keeper is killed while it waits in the kernel for a flush of its own device, because the service hangs. The next one lets it go.
func TestAKeeperIsKilledInItsOwnDevice(t *testing.T) {
	b, device, _ := attached(t)
	source := filepath.Join(b.home, "source")
	pattern(t, source, 8*mib)
	b.tool("dd", "if="+source, "of="+device, "bs=1M", "oflag=direct", "status=none")
	pid := b.keeper()
	require.NoError(t, b.serve.Process.Signal(syscall.SIGSTOP))
	require.NoError(t, syscall.Kill(pid, syscall.SIGTERM))
	b.eventually("it waits in the kernel", func() bool {
		threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
		require.NoError(t, err)
		for _, path := range threads {
			stat, _ := os.ReadFile(path)
			if strings.Contains(string(stat), ") D ") {
				return true
			}
		}
		return false
	})
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	b.stop(syscall.SIGKILL)
	b.start()
	b.attachedAgain(device)
	b.eventually("the killed one is gone", func() bool { return gone(pid) })
	b.tool("cmp", "-n", strconv.Itoa(8*mib), source, device)
}

func (b *bench) attachedAgain(device string) {
	b.eventually("attached again", func() bool {
		_, out, _ := b.try("status", b.name())
		return strings.Contains(out, "Attached as "+device)
	})
}

// A keeper that does not answer hangs no command that asks how things are.
func TestAKeeperThatHangsHangsNobodyElse(t *testing.T) {
	b, _, _ := attached(t)
	pid := b.keeper()
	require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP))
	defer func() { _ = syscall.Kill(pid, syscall.SIGCONT) }()
	require.Contains(t, b.nidalo("status", b.name()), "the keeper does not answer for 5s")
	require.Contains(t, b.nidalo("next"), "It should be attached and is not (the keeper does not answer")
	require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	b.eventually("it answers again", func() bool { return strings.Contains(b.nidalo("status", b.name()), "not in use") })
}

// A device that hangs, because there is no service, is freed by a forced detach once there is one, which says what is lost.
func TestAHungMountIsFreed(t *testing.T) {
	b, device, mount := attached(t)
	b.tool("mkfs.ext4", "-q", device)
	b.tool("mount", device, mount)
	require.NoError(t, os.WriteFile(filepath.Join(mount, "a"), bytes.Repeat([]byte("a"), mib), 0o600))
	code, _, errOut := b.try("detach", "-force", b.name())
	require.Equal(t, 1, code, "it asks")
	require.Contains(t, errOut, "mounted at "+mount)
	b.nidalo("detach", "-force", "-yes", b.name())
	b.tool("umount", mount)
	require.Equal(t, device, strings.TrimSpace(b.nidalo("attach", b.name())))
	check := exec.Command("e2fsck", "-fy", device)
	_ = check.Run()
	require.LessOrEqual(t, check.ProcessState.ExitCode(), 1, "clean, or mended")
}

// A keeper that finds what a later version wrote leaves it as it is, and says so.
func TestTheMemoryOfALaterVersionIsKept(t *testing.T) {
	b, device, _ := attached(t)
	var st struct{ Arrays []struct{ ID string } }
	require.NoError(t, json.Unmarshal([]byte(b.nidalo("status", "-json")), &st))
	carry := filepath.Join(keeper.RunFolder(), "carry-over", st.Arrays[0].ID)
	b.nidalo("detach", b.name())
	b.eventually("the keeper ends", func() bool { _, err := os.Stat(keeper.Socket(b.home)); return err != nil })

	raw := make([]byte, 12<<20)
	copy(raw, "NIDALOCO")
	binary.LittleEndian.PutUint32(raw[8:], 99)
	require.NoError(t, os.WriteFile(carry, raw, 0o600))
	b.refused(1, []string{"written by another version, 99"}, "attach", b.name())
	now, err := os.ReadFile(carry)
	require.NoError(t, err)
	require.True(t, bytes.Equal(raw, now))
	require.NoError(t, os.Remove(carry))
	require.Equal(t, device, strings.TrimSpace(b.nidalo("attach", b.name())))
}

// A manual page for every command, and completion that the shell takes.
func TestManualAndCompletion(t *testing.T) {
	b := newBenchAlone(t)
	b.nidalo("help", "-manual", filepath.Join(b.home, "man"))
	page, err := os.ReadFile(filepath.Join(b.home, "man", "nidalo-attach.1"))
	require.NoError(t, err)
	require.Contains(t, string(page), `.TH NIDALO-ATTACH 1`)
	require.Contains(t, string(page), `\fB\-boot\fR`)
	for _, line := range strings.Split(b.nidalo("help"), "\n") {
		if f := strings.Fields(line); strings.HasPrefix(line, "  ") && len(f) > 1 && f[0] != "nidalo" {
			_, err := os.Stat(filepath.Join(b.home, "man", "nidalo-"+f[0]+".1"))
			require.NoError(t, err)
		}
	}
	script := filepath.Join(b.home, "completion")
	require.NoError(t, os.WriteFile(script, []byte(b.nidalo("help", "-completion", "bash")), 0o600))
	out := b.tool("bash", "-c", `. `+script+`; COMP_WORDS=(nidalo att) COMP_CWORD=1; _nidalo; echo "${COMPREPLY[@]}"; COMP_WORDS=(nidalo attach -b) COMP_CWORD=2; _nidalo; echo "${COMPREPLY[@]}"`)
	require.Equal(t, "attach\n-boot\n", out)
	require.Contains(t, b.nidalo("help", "-completion", "fish"), "-a attach")
	require.Contains(t, b.nidalo("help", "-completion", "zsh"), "'attach:")
}

func TestFitSaysHowToMend(t *testing.T) {
	b := newBenchAlone(t)
	require.NoError(t, os.WriteFile(filepath.Join(b.home, "nidalo.toml"), []byte("[[alerts.webhook]]\nurl = \"http://127.0.0.1:9/\"\n[[alerts.command]]\nrun = [\"/nowhere/ring\"]\n"), 0o600))
	b.start()
	code, out, _ := b.try("fit")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, "127.0.0.1:9 cannot be reached")
	require.Contains(t, out, "Command /nowhere/ring cannot be run")
	require.Contains(t, out, "Something that is needed does not work.")
	var r struct {
		Service bool
		Items   []struct{ About, Verdict, Found, Mend string }
	}
	_, out, _ = b.try("fit", "-json")
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	require.True(t, r.Service)
	for _, i := range r.Items {
		require.NotEmpty(t, i.Found)
		require.True(t, i.Verdict != "bad" || i.Mend != "", "%+v", i)
	}
}

// Members of one group may look, those of another may do everything, and others nothing.
func TestAGroupThatMayOnlyLook(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("becoming another user needs root")
	}
	b := newBenchAlone(t)
	require.NoError(t, os.WriteFile(filepath.Join(b.home, "nidalo.toml"), []byte("group = \"disk\"\ngroup_looks = \"users\"\n"), 0o600))
	b.nidalo("lab", "new", "-bays", "3", "-size", "96MiB")
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	b.start()
	open, err := os.MkdirTemp("", "nidalo-open-")
	require.NoError(t, err)
	defer os.RemoveAll(open)
	require.NoError(t, os.Chmod(open, 0o755))
	b.tool("cp", program, filepath.Join(open, "nidalo"))
	as := func(group string, args ...string) (int, string) {
		c := exec.Command("setpriv", append([]string{"--reuid=65534", "--regid=65534", "--groups=" + group, filepath.Join(open, "nidalo")}, append(args, "-home", b.home)...)...)
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	group := func(name string) string { return strings.Split(b.tool("getent", "group", name), ":")[2] }
	code, out := as(group("users"), "status")
	require.Zero(t, code, out)
	require.Contains(t, out, "tides")
	for _, args := range [][]string{{"fail", "-yes", "tides", "A1"}, {"erase", "-yes", "A3"}, {"check", "tides"}, {"pace", "full"}, {"inspect", "/etc/shadow"}} {
		code, out = as(group("users"), args...)
		require.Equal(t, 1, code, "%v: %s", args, out)
		require.Contains(t, out, "you may look here, and change nothing", "%v", args)
	}
	c := exec.Command("setpriv", "--reuid=65534", "--regid=65534", "--groups="+group("users"), "nbdinfo", b.uri("tides"))
	require.Error(t, c.Run(), "no byte of an array")
	code, out = as(group("disk"), "check", "-wait", "tides")
	require.Zero(t, code, out)
	code, out = as("65534", "status")
	require.Equal(t, 1, code, out)
}
