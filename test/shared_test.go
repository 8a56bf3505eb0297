package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Disks that two hosts are attached to and that cannot be fenced, here files, are refused unless the array is named; then it is owned, and taken over.
func TestSharedDisksWithoutFencesAreUsedOnlyByName(t *testing.T) {
	authority := newEtcd(t)
	var paths []string
	for i := range 3 {
		path := filepath.Join(t.TempDir(), fmt.Sprint("shared", i))
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 64<<20))
		paths = append(paths, path)
	}
	quoted := `"` + strings.Join(paths, `", "`) + `"`
	f := &fleet{t: t, hosts: map[string]*bench{}}
	for _, name := range []string{"gull", "heron"} {
		f.hosts[name] = newBench(t)
	}
	configure := func(unfenced string) {
		for name, b := range f.hosts {
			b.configure(fmt.Sprintf("host_name = %q\nlate_disks = \"2s\"\ndisks = [%s]\n[ownership]\netcd = [%q]\nlease = \"3s\"\nshared = [%s]\nunfenced = [%s]\n", name, quoted, authority.address(), quoted, unfenced))
		}
	}
	configure("")
	gull, heron := f.hosts["gull"], f.hosts["heron"]
	gull.start()
	create := append([]string{"create", "-yes", "-name", "tides", "-level", "5"}, paths...)
	gull.refused(1, []string{"cannot be fenced", "no persistent reservations", `unfenced = ["NAME"]`}, append([]string{"create", "-yes", "-name", "tides", "-level", "5"}, paths...)...)
	gull.stop(syscall.SIGTERM)
	configure(`"tides"`)
	gull.start()
	heron.start()
	gull.nidalo(create...)
	require.Contains(t, gull.nidalo("status"), "This host, gull, has it")
	require.Contains(t, gull.nidalo("status"), "3 disks that other hosts are attached to cannot be fenced")
	f.standBy("heron")
	heron.refused(1, []string{"gull has it"}, "start", "tides")
	l := gull.load(1, nil)
	time.Sleep(time.Second)
	gull.stop(syscall.SIGKILL)
	<-l.done
	f.until("heron")
	f.reads("heron", l)
	require.Contains(t, heron.nidalo("check", "-wait", "tides"), "no mismatches")
}
