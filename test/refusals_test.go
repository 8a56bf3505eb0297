package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/internal/disk"
)

func TestWrongUseIsExplainedInOneLine(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "6", "-size", "64MiB")
	b.refused(2, []string{"-name and -level are needed"}, "create", "A1", "A2")
	b.refused(2, []string{"usage: nidalo create"}, "create", "-name", "x", "-level", "5")
	b.refused(2, []string{"flag provided but not defined"}, "status", "-wrong")
	b.refused(2, []string{"is not a size"}, "create", "-name", "x", "-level", "5", "-strip", "many", "A1", "A2", "A3")
	b.refused(2, []string{"which bay"}, "lab", "pull")
	code, _, errOut := b.try("conjure")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, `there is no command "conjure"`)

	b.refused(1, []string{"level 5 needs at least 3 disks; 2 given"}, "create", "-name", "x", "-level", "5", "A1", "A2")
	b.refused(1, []string{"unknown level"}, "create", "-name", "x", "-level", "7", "A1", "A2")
	b.refused(1, []string{"power of two"}, "create", "-name", "x", "-level", "5", "-strip", "48KiB", "A1", "A2", "A3")
	b.refused(1, []string{"A1 is listed twice"}, "create", "-name", "x", "-level", "5", "A1", "A2", "A1")
	b.refused(1, []string{`no bay, serial or path has that name`, "nidalo disks"}, "create", "-name", "x", "-level", "5", "A1", "A2", "A9")
	b.refused(1, []string{"letters, digits"}, "create", "-name", "a b", "-level", "5", "A1", "A2", "A3")
	b.refused(1, []string{`there is no array "tides"`}, "status", "tides")
	b.refused(1, []string{"only loopback"}, "serve", "-listen", "0.0.0.0:10809")

	b.nidalo("create", "-name", "charts", "-level", "5", "A1", "-strip", "32KiB", "A2", "A3") // options before or after
	b.refused(1, []string{"A2 (Orrery OR-8T ORR-0200) is in use", "charts"}, "create", "-name", "x", "-level", "1", "A2", "A4")
	b.refused(1, []string{"there is an array", "already"}, "create", "-name", "charts", "-level", "1", "A5", "A4")
	b.refused(1, []string{"is no member of array", "A1 A2 A3"}, "fail", "charts", "A5")
	b.refused(1, []string{"works", "falls from 1 to 0", "-yes"}, "fail", "charts", "A1")
	b.refused(1, []string{"is active", "nothing to take back"}, "fail", "-undo", "charts", "A1")
	b.refused(1, []string{"still works", "-yes"}, "replace", "charts", "A1", "A4")
	b.nidalo("fail", "-yes", "charts", "0")
	b.refused(1, []string{"would fail", "unreachable", "-although-fatal"}, "fail", "charts", "A2")
	b.refused(1, []string{"would fail", "unreachable", "-although-fatal"}, "fail", "-yes", "charts", "A2")
	b.nidalo("lab", "pull", "A6")
	b.nidalo("lab", "insert", "A6", "-size", "32MiB")
	b.refused(1, []string{"33554432 bytes", "needs at least"}, "replace", "charts", "A1", "A6")
	b.refused(1, []string{"bay A1", "pull it first"}, "lab", "insert", "A1")
	b.refused(1, []string{"no service is running", "may-pull A2"}, "fail", "-yes", "-although-fatal", "charts", "A2")
	b.start()
	require.Contains(t, b.nidalo("fail", "-yes", "-although-fatal", "charts", "A2"), "unreachable")
	b.refused(1, []string{"has failed", "nidalo start charts"}, "fail", "-undo", "charts", "A2")
	b.stop(syscall.SIGTERM)

	b.nidalo("create", "-name", "fast", "-level", "0", "A4", "A5")
	b.refused(1, []string{"cannot lose any member", "-yes"}, "fail", "fast", "A4")
	b.refused(1, []string{"no redundancy"}, "replace", "-yes", "fast", "A4", "A6")
}

func TestADiskThatHoldsSomethingIsRefusedAndNamed(t *testing.T) {
	b := newBench(t)
	file := func(name string, size int64) string {
		path := filepath.Join(b.home, name)
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, size))
		return path
	}
	blank := file("blank", 64*mib)
	put := func(path string, off int64, mark string) string {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte(mark), off)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		return path
	}
	fs := file("fs", 64*mib)
	b.tool("mkfs.ext4", "-q", "-F", fs)
	for path, says := range map[string]string{
		fs: "an ext2/3/4 file system",
		put(file("gpt", 64*mib), 512, "EFI PART"):            "a GPT partition table",
		put(file("mbr", 64*mib), 510, "\x55\xaa"):            "a partition table or boot sector",
		put(file("other", 64*mib), 4096, "\xfc\x4e\x2b\xa9"): "another system's array",
		put(file("head", 64*mib), 9999, "x"):                 "unknown data from byte 9999",
		put(file("tail", 64*mib), 64*mib-17, "x"):            fmt.Sprintf("from byte %d on", 64*mib-17),
	} {
		before, err := os.ReadFile(path)
		require.NoError(t, err)
		b.refused(1, []string{"is not blank", says, "nidalo erase"}, "create", "-name", "x", "-level", "1", blank, path)
		after, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, before, after, "nothing is written")
	}
	b.refused(1, []string{"-yes"}, "erase", fs)
	b.nidalo("erase", "-yes", fs)
	b.nidalo("create", "-name", "x", "-level", "1", blank, fs)
	b.refused(1, []string{"too small"}, "create", "-name", "y", "-level", "1", file("s1", 3*mib), file("s2", 3*mib))

	// A member that another process holds.
	holder := exec.Command("flock", blank, "sleep", "30")
	require.NoError(t, holder.Start())
	require.Eventually(t, func() bool { return exec.Command("flock", "-n", blank, "true").Run() != nil }, 5e9, 5e7)
	before, err := os.ReadFile(fs)
	require.NoError(t, err)
	require.Contains(t, b.nidalo("status"), "healthy", "it can be read, and looking changes nothing")
	after, err := os.ReadFile(fs)
	require.NoError(t, err)
	require.True(t, string(before) == string(after))
	b.start()
	require.Contains(t, b.nidalo("status"), "missing", "a start needs it for itself")
	_ = holder.Process.Kill()
	_ = holder.Wait()
}

func TestGarbageInTheHomeIsNoReasonToFallOver(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "4", "-size", "64MiB")
	b.nidalo("create", "-name", "tides", "-level", "1", "A1", "A2")
	require.NoError(t, os.WriteFile(filepath.Join(b.home, "lab", "A3", "disk.json"), []byte("{nonsense"), 0o600))
	out := b.nidalo("disks")
	require.Contains(t, out, "not a lab disk's label")
	require.Contains(t, b.nidalo("status"), "healthy")
	require.NoError(t, os.WriteFile(filepath.Join(b.home, "lab", "A4", "signal"), nil, 0o600))
	require.Contains(t, b.nidalo("disks"), "broken")
	// One copy of a record is enough; garbage in all makes the disk a stranger.
	image := filepath.Join(b.home, "lab", "A1", "disk.img")
	garble := func(off int64) {
		f, err := os.OpenFile(image, os.O_RDWR, 0)
		require.NoError(t, err)
		_, err = f.WriteAt([]byte("garbage"), off)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	garble(100)
	require.Contains(t, b.nidalo("status"), "healthy")
	for _, off := range disk.RecordCopies(64 * mib) {
		garble(off + 100)
	}
	require.Contains(t, b.nidalo("status"), "exposed")
	require.NoError(t, os.WriteFile(filepath.Join(b.home, "disks.list"), []byte("relative/path\n"), 0o600))
	b.refused(1, []string{"disks.list, line 1"}, "disks")
}

func TestAHomeIsServedOnce(t *testing.T) {
	b := newBench(t)
	b.nidalo("lab", "new", "-bays", "2", "-size", "64MiB")
	b.start()
	b.refused(1, []string{"another process is using this home", "-home"}, "serve")
	for _, s := range []string{"control.sock", "nbd.sock"} {
		info, err := os.Stat(filepath.Join(b.home, s))
		require.NoError(t, err)
		require.EqualValues(t, 0o600, info.Mode().Perm(), "its owner's only")
	}
	require.Zero(t, b.stop(syscall.SIGINT))
}

// TestAFullFileSystemBelowAMemberIsToldAndSurvived: the members are sparse files on a file system with too little room.
func TestAFullFileSystemBelowAMemberIsToldAndSurvived(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	b := newBench(t)
	mount := filepath.Join(b.home, "small")
	require.NoError(t, os.Mkdir(mount, 0o700))
	b.tool("mount", "-t", "tmpfs", "-o", "size=60M", "tmpfs", mount)
	defer func() { _ = exec.Command("umount", "-l", mount).Run() }()
	var disks []string
	for i := range 3 {
		path := filepath.Join(mount, fmt.Sprint("d", i))
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 64*mib))
		disks = append(disks, path)
	}
	b.nidalo(append([]string{"create", "-name", "tides", "-level", "5"}, disks...)...)
	b.start()
	in, out := filepath.Join(b.home, "in"), filepath.Join(b.home, "out")
	pattern(t, in, 8*mib)
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	big := filepath.Join(b.home, "big")
	pattern(t, big, 100*mib)
	err := exec.Command("nbdcopy", "--flush", big, b.uri("tides")).Run()
	require.Error(t, err, "the client is told")
	b.stop(syscall.SIGTERM)
	b.tool("mount", "-o", "remount,size=400M", mount)
	b.start()
	require.Equal(t, "healthy", b.condition())
	b.tool("nbdcopy", "--flush", in, b.uri("tides"))
	b.tool("nbdcopy", b.uri("tides"), out)
	same(t, in, out, 8*mib)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}

func TestTheDemoHolds(t *testing.T) {
	b := newBench(t)
	out := b.nidalo("demo")
	require.Contains(t, out, "steps held")
	require.NotContains(t, out, "DOES NOT HOLD")
}

func TestHelpCoversEveryCommand(t *testing.T) {
	b := newBench(t)
	for _, name := range []string{"disks", "create", "serve", "status", "fail", "replace", "check", "erase", "dissolve", "lab", "demo", "version", "help"} {
		require.Contains(t, b.nidalo("help"), "  "+name)
		require.Contains(t, b.nidalo("help", name), "usage: nidalo "+name)
	}
}
