package disk_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/internal/disk"
)

// gated is a real file whose operations wait while its gate is shut.
type gated struct {
	*disk.File
	gate chan struct{}
}

func (g *gated) ReadNow([][]byte, int64) (bool, error)  { return false, nil }
func (g *gated) WriteNow([][]byte, int64) (bool, error) { return false, nil }
func (g *gated) SyncNow() (bool, error)                 { return false, nil }
func (g *gated) WriteVec(b [][]byte, off int64) error   { <-g.gate; return g.File.WriteVec(b, off) }
func (g *gated) ReadAt(p []byte, off int64) error       { <-g.gate; return g.File.ReadAt(p, off) }
func (g *gated) WriteAt(p []byte, off int64) error      { <-g.gate; return g.File.WriteAt(p, off) }
func (g *gated) Sync() error                            { <-g.gate; return g.File.Sync() }

func newGated(t *testing.T, p disk.Patience, spare bool) (*gated, *disk.Patient, *atomic.Bool) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte{7}, 1<<20), 0o600))
	f, err := disk.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	var can atomic.Bool
	can.Store(spare)
	g := &gated{f, make(chan struct{})}
	return g, disk.NewPatient(g, p, can.Load), &can
}

func TestALateReadIsGivenUpWhenTheDataIsElsewhere(t *testing.T) {
	g, p, spare := newGated(t, disk.Patience{Read: 40 * time.Millisecond, Hung: time.Hour}, true)
	buf := make([]byte, 8192)
	err := p.ReadSoon([][]byte{buf[:4096], buf[4096:]}, 4096)
	require.ErrorIs(t, err, disk.ErrSlow)
	require.NotErrorIs(t, err, disk.ErrAvoided)
	require.ErrorIs(t, p.ReadSoon([][]byte{buf}, 0), disk.ErrAvoided, "the next one is not even tried")

	// What cannot be had elsewhere is waited for.
	spare.Store(false)
	done := make(chan error, 1)
	go func() { done <- p.ReadSoon([][]byte{buf}, 0) }()
	select {
	case err := <-done:
		t.Fatal("did not wait: ", err)
	case <-time.After(200 * time.Millisecond):
	}
	close(g.gate)
	require.NoError(t, <-done)
	require.Equal(t, bytes.Repeat([]byte{7}, 8192), buf)
}

func TestALateAnswerDoesNotLandInMemoryGivenUp(t *testing.T) {
	g, p, _ := newGated(t, disk.Patience{Read: 20 * time.Millisecond, Hung: time.Hour}, true)
	buf := make([]byte, 4096)
	require.ErrorIs(t, p.ReadSoon([][]byte{buf}, 0), disk.ErrSlow)
	close(g.gate)
	require.NoError(t, p.Sync()) // behind the read that was left to itself
	require.Eventually(t, func() bool { return p.Load().Operations == 2 }, time.Second, time.Millisecond)
	require.Equal(t, make([]byte, 4096), buf)
}

func TestADiskThatHangsIsTold(t *testing.T) {
	g, p, _ := newGated(t, disk.Patience{Read: 20 * time.Millisecond, Hung: 80 * time.Millisecond}, false)
	results := make(chan error, 8)
	for i := range 8 {
		go func() {
			if i%2 == 0 {
				results <- p.WriteAt(make([]byte, 4096), int64(i)*4096)
			} else {
				results <- p.ReadVec([][]byte{make([]byte, 4096)}, int64(i)*4096)
			}
		}()
	}
	for range 8 {
		require.ErrorIs(t, <-results, disk.ErrHung)
	}
	require.ErrorIs(t, p.Sync(), disk.ErrHung, "at once, while nothing comes back")
	close(g.gate)
	require.Eventually(t, func() bool { return p.Sync() == nil }, 5*time.Second, time.Millisecond, "it answers again")
}

func TestPassesErrorsAndBytesThrough(t *testing.T) {
	g, p, _ := newGated(t, disk.DefaultPatience, true)
	close(g.gate)
	require.NoError(t, p.WriteAt([]byte{1, 2, 3}, 100))
	a, b := make([]byte, 2), make([]byte, 3)
	require.NoError(t, p.ReadVec([][]byte{a, b}, 99))
	require.Equal(t, []byte{7, 1, 2, 3, 7}, append(a, b...))
	require.Error(t, p.ReadAt(a, 1<<20), "beyond the end")
	require.NoError(t, g.File.Close())
	require.True(t, errors.Is(p.Sync(), disk.ErrGone))
	require.True(t, errors.Is(p.ReadAt(a, 0), disk.ErrGone))
	require.Positive(t, p.Load().Time)
}

func TestWhatIsRefreshedComesFromTheMedium(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte{9}, 4<<20), 0o600))
	f, err := disk.Open(path)
	require.NoError(t, err)
	defer f.Close()
	if done, _ := f.SyncNow(); done {
		t.Skip("the folder for temporary files is in memory")
	}
	before := readFromDevices(t)
	require.NoError(t, f.Sync())
	buf := make([]byte, 4<<20)
	for range 8 {
		f.Refresh(0, 4<<20)
		require.NoError(t, f.ReadAt(buf, 0))
	}
	require.Equal(t, bytes.Repeat([]byte{9}, 4<<20), buf)
	require.GreaterOrEqual(t, readFromDevices(t)-before, int64(28<<20), "the system says that devices were read")
}

// readFromDevices is how much this process made the system read from devices, bytes.
func readFromDevices(t *testing.T) int64 {
	text, err := os.ReadFile("/proc/self/io")
	require.NoError(t, err)
	for _, line := range strings.Split(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, "read_bytes: "); ok {
			n, err := strconv.ParseInt(rest, 10, 64)
			require.NoError(t, err)
			return n
		}
	}
	t.Skip("this kernel does not count")
	return 0
}

// sleepy is a gated disk that can be put to sleep.
type sleepy struct {
	*gated
	asleep        atomic.Bool
	syncs, writes atomic.Int64
}

func (s *sleepy) Standby() error { s.asleep.Store(true); return nil }
func (s *sleepy) Asleep() bool   { return s.asleep.Load() }
func (s *sleepy) Sync() error    { s.syncs.Add(1); return s.gated.Sync() }
func (s *sleepy) WriteVec(b [][]byte, off int64) error {
	s.writes.Add(1)
	return s.gated.WriteVec(b, off)
}

func TestADiskThatWakesMayTakeItsTime(t *testing.T) {
	g, _, _ := newGated(t, disk.DefaultPatience, true)
	s := &sleepy{gated: g}
	p := disk.NewPatient(s, disk.Patience{Read: 20 * time.Millisecond, Hung: 2 * time.Second}, func() bool { return true })

	// Not while something is written; and a sync that comes while it falls asleep is done.
	wrote := make(chan error, 1)
	go func() { wrote <- p.WriteAt(make([]byte, 4096), 0) }()
	require.Eventually(t, func() bool { return s.writes.Load() == 1 }, time.Second, time.Millisecond)
	asleep, unsynced, err := p.Sleep()
	require.NoError(t, errors.Join(unsynced, err))
	require.False(t, asleep)
	close(g.gate)
	require.NoError(t, <-wrote)
	g.gate = make(chan struct{})
	slept, synced := make(chan bool, 1), make(chan error, 1)
	go func() { asleep, _, _ := p.Sleep(); slept <- asleep }()
	require.Eventually(t, func() bool { return s.syncs.Load() == 1 }, time.Second, time.Millisecond)
	go func() { synced <- p.Sync() }()
	require.Eventually(t, func() bool { return s.syncs.Load() == 2 }, time.Second, time.Millisecond, "it is not asleep yet")
	close(g.gate)
	require.NoError(t, <-synced)
	require.True(t, <-slept)
	require.True(t, s.Asleep())
	require.NoError(t, p.Sync())
	require.EqualValues(t, 2, s.syncs.Load(), "nothing is left to be synced")

	// It takes longer to turn again than a disk may that hangs.
	before := p.Load().Time
	g.gate = make(chan struct{})
	time.AfterFunc(2500*time.Millisecond, func() { close(g.gate) })
	require.NoError(t, p.ReadSoon([][]byte{make([]byte, 4096)}, 0))
	require.False(t, p.Asleep())
	require.Equal(t, before, p.Load().Time, "that is not held against it")
}
