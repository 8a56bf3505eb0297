package disks_test

import (
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/event"
	"nidalo/core/state"
	"nidalo/internal/lab"
	"nidalo/internal/remote"
	"nidalo/internal/service/disks"
)

// bench is a survey of a lab of three bays, and of files.
type bench struct {
	*disks.Survey
	t      *testing.T
	lab    *lab.Lab
	home   string
	paths  []string
	serves map[string]bool // by bay
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t, home: t.TempDir(), serves: map[string]bool{}}
	b.lab = lab.At(b.home)
	require.NoError(t, b.lab.New(3, 8<<20))
	b.Survey = disks.New(disks.Host{Lab: b.lab, List: filepath.Join(b.home, "disks.list"), Log: slog.New(slog.DiscardHandler),
		Far: remote.NewHosts(remote.Settings{Owner: "gull"}), Hosts: func() []remote.Address { return nil }, Lent: func(state.Identity) string { return "" }, Token: func(disks.Source) uint64 { return 0 },
		Devices: func() bool { return false }, Paths: func() ([]string, []string) { return b.paths, nil },
		Serves: func(i state.Identity) bool { return b.serves[i.Bay] }, Once: func(string, string, event.Event) {}})
	require.NoError(t, b.Look(true))
	require.Empty(t, b.Changed(), "at the start nothing is news")
	return b
}

func (b *bench) state(bay string) state.DiskState {
	f, ok := b.At(disks.Source{Bay: bay})
	require.True(b.t, ok)
	return f.Info.State
}

// write puts something onto a disk behind the survey's back.
func (b *bench) write(bay string, off int64) {
	f, err := os.OpenFile(b.lab.ImagePath(bay), os.O_WRONLY, 0)
	require.NoError(b.t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte("gauge readings"), off)
	require.NoError(b.t, err)
}

func TestDisksThatComeAndGoAreNoticed(t *testing.T) {
	b := newBench(t)
	require.Equal(t, state.DiskBlank, b.state("A1"))
	_, err := b.lab.Pull("A1")
	require.NoError(t, err)
	require.NoError(t, b.Look(false))
	require.Equal(t, []disks.Source{{Bay: "A1"}}, b.Changed())
	require.Empty(t, b.Changed(), "it is told once")
	require.Equal(t, state.DiskEmpty, b.state("A1"))
	_, err = b.lab.Insert("A1", 8<<20, "")
	require.NoError(t, err)
	require.NoError(t, b.Look(false))
	require.Equal(t, []disks.Source{{Bay: "A1"}}, b.Changed())
	require.Equal(t, state.DiskBlank, b.state("A1"))

	_, err = b.lab.Pull("A1")
	require.NoError(t, err)
	require.NoError(t, b.Look(false))
	_, err = b.lab.Insert("A1", 8<<20, "")
	require.NoError(t, err)
	require.NoError(t, b.Look(false))
	require.Equal(t, []disks.Source{{Bay: "A1"}}, b.Changed(), "one change, if it was not asked for in between")
}

func TestADiskIsReadAnewWhenItIsAskedFor(t *testing.T) {
	b := newBench(t)
	b.write("A2", 0)
	require.NoError(t, b.Look(false))
	require.Equal(t, state.DiskBlank, b.state("A2"), "the same disk is in the bay, and is not read all the time")
	require.NoError(t, b.LookAnew())
	require.Equal(t, state.DiskInUse, b.state("A2"))
	b.write("A3", 0)
	require.Equal(t, state.DiskInUse, b.LookAt(disks.Source{Bay: "A3"}).Info.State)
	require.Equal(t, state.DiskInUse, b.state("A3"), "it is remembered")
}

func TestMembersInServiceAreLeftAlone(t *testing.T) {
	b := newBench(t)
	b.serves["A1"] = true
	require.NoError(t, b.lab.SetFaults("A1", func(f *lab.Faults) { f.Hang = true }))
	require.NoError(t, b.LookAnew(), "it would not come back")
	require.NoError(t, b.lab.SetFaults("A1", func(f *lab.Faults) { f.Hang = false }))
}

func TestAWordMeansOneDisk(t *testing.T) {
	b := newBench(t)
	a1, err := b.lab.Disk("A1")
	require.NoError(t, err)
	for _, word := range []string{"A1", a1.Serial, b.lab.ImagePath("A1")} {
		src, err := b.Locate(word)
		require.NoError(t, err, word)
		require.Equal(t, disks.Source{Bay: "A1"}, src, word)
	}
	for word, why := range map[string]string{"": "no bay, serial or path", "Z9": "no bay, serial or path", "lab/A1": "not an absolute path", "/nowhere/disk": "no such file"} {
		_, err := b.Locate(word)
		require.ErrorContains(t, err, why, word)
	}
	// A disk that was taken out and put back is the same one.
	_, err = b.lab.Pull("A1")
	require.NoError(t, err)
	_, err = b.lab.Insert("A2", 8<<20, a1.Serial)
	require.Error(t, err, "the bay is full")
	_, err = b.lab.Insert("A1", 0, a1.Serial)
	require.NoError(t, err)
	src, err := b.Locate(a1.Serial)
	require.NoError(t, err)
	require.Equal(t, "A1", src.String())
}

func TestFilesAreRememberedByTheirPath(t *testing.T) {
	b := newBench(t)
	file := filepath.Join(b.home, "a disk, with a comma.img")
	require.NoError(t, os.WriteFile(file, make([]byte, 8<<20), 0o600))
	require.NoError(t, b.Remember(file))
	require.NoError(t, b.Remember(file))
	list, err := os.ReadFile(filepath.Join(b.home, "disks.list"))
	require.NoError(t, err)
	require.Equal(t, "# Disks that Nidalo looks at: one absolute path a line.\n"+file+"\n", string(list))
	require.NoError(t, b.Look(true))
	require.Equal(t, []disks.Source{{Path: file}}, b.Changed())
	f, ok := b.At(disks.Source{Path: file})
	require.True(t, ok)
	require.Equal(t, state.DiskBlank, f.Info.State)
	require.Error(t, b.Remember("/tmp/two\nlines"))

	require.NoError(t, os.WriteFile(filepath.Join(b.home, "disks.list"), []byte("relative/path\n"), 0o600))
	require.ErrorContains(t, b.Look(true), "line 1", "a list that is wrong is named, not skipped")
	_, ok = b.At(disks.Source{Path: file})
	require.True(t, ok, "and all that is known stays")
}
