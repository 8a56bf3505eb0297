package test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// The file system of the home fills up, as those do that logs are on. Arrays go on, and a failed disk is replaced. What cannot be noted is
// refused, or kept in memory and written when there is room.
func TestAFullHome(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("mounting needs root")
	}
	b := newBench(t)
	b.tool("mount", "-t", "tmpfs", "-o", "size=4m,mode=700", "tmpfs", b.home)
	t.Cleanup(func() {
		b.stop(syscall.SIGTERM)
		require.NoError(t, syscall.Unmount(b.home, 0))
	})
	disks := files(t, 6)
	b.nidalo(append([]string{"create", "-yes", "-name", "tides", "-level", "5"}, disks[:4]...)...)
	b.nidalo("spare", disks[4])
	b.nidalo("spare", "-release", disks[4])
	b.start()
	b.eventually("it is looked at", func() bool { return strings.Contains(b.nidalo("history"), "healthy") })

	listed, err := os.ReadFile(filepath.Join(b.home, "disks.list"))
	require.NoError(t, err)
	b.fill()
	b.refused(1, []string{"pace: it cannot be noted in " + b.home, "no space left on device"}, "pace", "tides", "gentle")
	require.Contains(t, b.nidalo("pace"), "normal", "what was refused is not in force")
	b.refused(1, []string{"cannot be noted"}, "spare", disks[4])
	require.Contains(t, b.nidalo("spare"), "There is no spare")
	b.refused(1, []string{"cannot be added to the list"}, "spare", disks[5])
	now, err := os.ReadFile(filepath.Join(b.home, "disks.list"))
	require.NoError(t, err)
	require.Equal(t, listed, now, "no disk is forgotten because one could not be noted")

	b.nidalo("fail", "-yes", "tides", disks[1])
	require.Contains(t, b.nidalo("replace", "-yes", "-wait", "tides", disks[1], disks[4]), "healthy, margin 1")
	b.nidalo("stop", "tides")
	b.eventually("the history tells of it", func() bool { return strings.Contains(b.nidalo("history"), "home-not-written") })
	history := b.nidalo("history")
	for _, said := range []string{"member-failed", "rebuild-done", "array-stopped", "The newest are not written down yet: the file system is full"} {
		require.Contains(t, history, said)
	}
	require.Contains(t, b.nidalo("history", "-tasks"), "rebuild")
	require.NotContains(t, b.nidalo("history", "-kind", "array-created"), "member-failed", "filters choose among what is not written, too")
	require.Contains(t, strings.Join(strings.Fields(b.nidalo("next")), " "), "Make room for the home of the service, "+b.home)

	require.NoError(t, os.Remove(filepath.Join(b.home, "full")))
	b.eventually("all is written", func() bool { return strings.Contains(b.nidalo("history"), "home-written") })
	require.NotContains(t, b.nidalo("next"), "Make room")
	require.Zero(t, b.stop(syscall.SIGTERM))
	b.start()
	for _, said := range []string{"member-failed", "rebuild-done", "array-stopped", "home-not-written"} {
		require.Equal(t, 1, strings.Count(b.nidalo("history"), said), said)
	}
	require.Contains(t, b.nidalo("status"), "It was taken out of service", "what was noted in memory is written, too")

	// A command without a service has nobody who writes it later.
	b.stop(syscall.SIGTERM)
	b.fill()
	b.refused(1, []string{"what was done is not noted: nothing can be written to " + b.home + ": the file system is full"}, "start", "tides")
}

// fill leaves no room in the file system of the home.
func (b *bench) fill() {
	f, err := os.Create(filepath.Join(b.home, "full"))
	require.NoError(b.t, err)
	defer func() { require.NoError(b.t, f.Close()) }()
	for err == nil {
		_, err = f.Write(make([]byte, 4<<10))
	}
	require.True(b.t, errors.Is(err, syscall.ENOSPC), "%v", err)
}

// files are blank disks in folders of their own.
func files(t *testing.T, n int) []string {
	disks := make([]string, n)
	for i := range disks {
		disks[i] = filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.WriteFile(disks[i], nil, 0o600))
		require.NoError(t, os.Truncate(disks[i], 64*mib))
	}
	return disks
}

// A member file is removed, and another cut short, while the array is in service: no operation fails because of that, but redundancy is not
// what it seems. The array says so, and the removed one can still be copied.
func TestAMemberFileIsRemovedAndAnotherCutShort(t *testing.T) {
	b := newBench(t)
	disks := files(t, 6)
	b.nidalo(append([]string{"create", "-yes", "-name", "tides", "-level", "5"}, disks[:4]...)...)
	b.start()
	source, back := filepath.Join(b.home, "source"), filepath.Join(b.home, "back")
	pattern(t, source, 100*mib)
	b.tool("nbdcopy", "--flush", source, b.uri("tides"))
	require.Equal(t, "healthy", b.condition())

	require.NoError(t, os.Remove(disks[1]))
	said := func(what string) func() bool {
		return func() bool { return strings.Contains(strings.Join(strings.Fields(b.nidalo("next")), " "), what) }
	}
	b.eventually("the removal is noticed", said("its file was removed: what it holds is gone as soon as the array stops"))
	require.Contains(t, b.nidalo("history"), "member-failing")
	b.refused(1, []string{"the file of " + disks[1] + " was removed, and what it holds is gone as soon as array \"tides\" stops: the margin falls from 1 to 0", "nidalo retire tides " + disks[1]}, "stop", "tides")
	require.Equal(t, "healthy", b.condition())
	require.Contains(t, b.nidalo("retire", "-wait", "tides", disks[1], disks[4]), "is retired")

	require.NoError(t, os.Truncate(disks[2], 20*mib))
	b.eventually("the loss of size is noticed", said("it has become smaller: 20MiB, where it had 64MiB"))
	require.Contains(t, b.nidalo("retire", "-wait", "tides", disks[2], disks[5]), "is retired")
	b.nidalo("stop", "tides")
	require.Contains(t, b.nidalo("start", "tides"), "healthy, margin 1")
	require.NoError(t, errors.Join(os.Remove(disks[0]), os.Remove(disks[3])))
	b.eventually("both are noticed", said("retire tides "+disks[3]))
	b.refused(1, []string{"the files of " + disks[0] + " and " + disks[3] + " were removed, and what they hold is gone", "data is lost for good"}, "stop", "tides")
	b.tool("nbdcopy", b.uri("tides"), back)
	same(t, source, back, 100*mib)
	require.Contains(t, b.nidalo("check", "-wait", "tides"), "no mismatches")
}

// The sockets of a service are removed. What its disks tell is then not the whole truth, and commands say so.
func TestAServiceWithoutSocketsIsTold(t *testing.T) {
	b := newBench(t)
	disks := files(t, 2)
	b.nidalo("create", "-yes", "-name", "tides", "-level", "1", disks[0], disks[1])
	require.Contains(t, b.nidalo("status"), "No service is running here")
	_, _, warned := b.try("next")
	require.Empty(t, warned)
	b.start()
	require.NoError(t, os.Remove(filepath.Join(b.home, "control.sock")))
	for _, command := range []string{"status", "next", "disks", "history"} {
		code, out, warned := b.try(command)
		require.Zero(t, code)
		require.Contains(t, strings.Join(strings.Fields(warned), " "), fmt.Sprintf("process %d, '%s serve -home %s', has this home and cannot be reached", b.serve.Process.Pid, program, b.home))
		require.NotContains(t, out, "No service is running")
		require.NotContains(t, out, "not stopped in order")
	}
	b.refused(1, []string{"another process is using this home", "a service runs there already"}, "fail", "-yes", "tides", disks[0])
}
