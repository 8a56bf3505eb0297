package array_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// tenants are clients of an array at work: each owns a stretch of it, writes there at random, flushes now and then, and
// knows what it must read.
type tenants struct {
	t     *testing.T
	a     *array.Array
	stop  chan struct{}
	wait  sync.WaitGroup
	wants [][]byte
	size  int64
	moved atomic.Int64
}

func newTenants(t *testing.T, a *array.Array, n int, size int64) *tenants {
	c := &tenants{t: t, size: size}
	for range n {
		c.wants = append(c.wants, make([]byte, size))
	}
	return newTenantsOn(t, a, c)
}

// newTenantsOn has tenants go on that have left, on an array that was started again.
func newTenantsOn(t *testing.T, a *array.Array, before *tenants) *tenants {
	c := &tenants{t: t, a: a, stop: make(chan struct{}), size: before.size, wants: before.wants}
	for i := range c.wants {
		c.wait.Go(func() { c.live(i) })
	}
	return c
}

func (c *tenants) live(i int) {
	r := rand.New(rand.NewPCG(uint64(i), 99))
	base := int64(i) * c.size
	for step := 0; ; step++ {
		select {
		case <-c.stop:
			return
		default:
		}
		off := r.Int64N(c.size-1) &^ 511
		n := 1 + r.Int64N(min(c.size-off, 200<<10))
		switch r.IntN(10) {
		case 0:
			if err := c.a.Flush(); err != nil {
				c.t.Errorf("flush: %v", err)
				return
			}
		case 1:
			clear(c.wants[i][off : off+n])
			if err := c.a.Zero(base+off, n); err != nil {
				c.t.Errorf("zero: %v", err)
				return
			}
		case 2, 3, 4:
			got := make([]byte, n)
			if err := c.a.ReadAt(got, base+off); err != nil {
				c.t.Errorf("read: %v", err)
				return
			}
			if string(got) != string(c.wants[i][off:off+n]) {
				c.t.Errorf("tenant %d reads something else at %d+%d", i, off, n)
				return
			}
		default:
			p := noise(r.Uint64(), int(n))
			copy(c.wants[i][off:], p)
			if err := c.a.WriteAt(p, base+off); err != nil {
				c.t.Errorf("write: %v", err)
				return
			}
		}
		c.moved.Add(n)
	}
}

// leave ends the tenants' work and checks all they wrote.
func (c *tenants) leave() {
	close(c.stop)
	c.wait.Wait()
	for i, want := range c.wants {
		got := make([]byte, c.size)
		require.NoError(c.t, c.a.ReadAt(got, int64(i)*c.size))
		require.True(c.t, string(got) == string(want), "tenant %d", i)
	}
}

// leaveIn has the tenants leave, and puts what they wrote where it belongs in what the array holds.
func (c *tenants) leaveIn(want []byte) {
	c.leave()
	for i := range c.wants {
		copy(want[int64(i)*c.size:], c.wants[i])
	}
}

// after lets the tenants move some bytes.
func (c *tenants) after(bytes int64) {
	from := c.moved.Load()
	require.Eventually(c.t, func() bool { return c.t.Failed() || c.moved.Load() > from+bytes }, 30*time.Second, time.Millisecond)
}

// gate is a disk that can be taken away, or made to hang, and comes back as another handle on the same file.
type gate struct {
	disk.Disk
	mu   sync.RWMutex
	gone atomic.Bool
	hang chan struct{} // closed: does not
}

func newGate(d disk.Disk) *gate {
	open := make(chan struct{})
	close(open)
	return &gate{Disk: d, hang: open}
}

func (g *gate) pass() error {
	g.mu.RLock()
	hang := g.hang
	g.mu.RUnlock()
	<-hang
	if g.gone.Load() {
		return fmt.Errorf("%s: %w", g.Identity(), disk.ErrGone)
	}
	return nil
}

func (g *gate) setHang(on bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if on {
		g.hang = make(chan struct{})
	} else {
		close(g.hang)
	}
}

func (g *gate) ReadAt(p []byte, off int64) error {
	return cmpErr(g.pass(), func() error { return g.Disk.ReadAt(p, off) })
}
func (g *gate) WriteAt(p []byte, off int64) error {
	return cmpErr(g.pass(), func() error { return g.Disk.WriteAt(p, off) })
}
func (g *gate) ReadVec(b [][]byte, off int64) error {
	return cmpErr(g.pass(), func() error { return g.Disk.ReadVec(b, off) })
}
func (g *gate) WriteVec(b [][]byte, off int64) error {
	return cmpErr(g.pass(), func() error { return g.Disk.WriteVec(b, off) })
}
func (g *gate) Sync() error    { return cmpErr(g.pass(), g.Disk.Sync) }
func (g *gate) Present() error { return g.pass() }

func cmpErr(err error, f func() error) error {
	if err != nil {
		return err
	}
	return f()
}

// gated makes an array of disks with gates.
func gated(t *testing.T, f *folder, level layout.Level, n int, cfg array.Config) (*array.Array, []*gate) {
	gates := make([]*gate, n)
	disks := make([]disk.Disk, n)
	for i := range gates {
		gates[i] = newGate(f.disk(48 * mib))
		disks[i] = gates[i]
	}
	cfg.Cache = 4 * mib
	a, err := array.Create(array.Plan{Name: "tides", Level: level, Strip: layout.MinStrip, Disks: disks}, cfg)
	require.NoError(t, err)
	return a, gates
}

// TestParallelRetiringUnderWrites retires members one after the other while clients write, and checks that the margin
// never drops and that parity is right in the end.
func TestParallelRetiringUnderWrites(t *testing.T) {
	f := newFolder(t)
	a, _ := gated(t, f, layout.Parity2, 5, array.Config{})
	c := newTenants(t, a, 3, 6*mib)
	c.after(20 * mib)
	var lowest atomic.Int64
	lowest.Store(2)
	done := make(chan struct{})
	go func() {
		for {
			select {
			case <-done:
				return
			default:
				if m, _ := a.Margin(); int64(m) < lowest.Load() {
					lowest.Store(int64(m))
				}
			}
		}
	}()
	for slot := range 5 {
		require.NoError(t, a.Retire(slot, f.disk(64*mib)))
		a.WaitTasks()
		states := a.TaskStates()
		require.Equal(t, state.TaskDone, states[len(states)-1].State, "%v", states[len(states)-1].Err)
		c.after(5 * mib)
	}
	close(done)
	c.leave()
	require.EqualValues(t, 2, lowest.Load())
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches, "%+v", result)
	require.NoError(t, a.Close())
}

// TestParallelComingAndGoingUnderWrites pulls a member, lets clients write, and puts it back, again and again; at the end
// the members that were away must serve alone.
func TestParallelComingAndGoingUnderWrites(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Parity2, 5, array.Config{})
	c := newTenants(t, a, 3, 6*mib)
	for round := range 6 {
		slot := round % 2
		c.after(8 * mib)
		gates[slot].gone.Store(true)
		require.Eventually(t, func() bool { a.Probe(); return a.MemberStates()[slot].Condition == record.Missing }, 20*time.Second, time.Millisecond)
		c.after(8 * mib)
		a.LetGo(slot)
		back := newGate(f.open(gates[slot].Identity().Path))
		own, err := disk.ReadRecord(back)
		require.NoError(t, err)
		require.NoError(t, a.Return(back, own, false))
		gates[slot] = back
		a.WaitTasks()
		require.Equal(t, record.Active, a.MemberStates()[slot].Condition)
	}
	require.NoError(t, a.Fail(3, false))
	require.NoError(t, a.Fail(4, false))
	c.after(5 * mib)
	c.leave()
	require.NoError(t, a.Close())
}

// TestParallelHangUnderWrites: a disk that hangs in the middle of everything is given up, and nothing is lost.
func TestParallelHangUnderWrites(t *testing.T) {
	f := newFolder(t)
	limits := member.Limits{Patience: disk.Patience{Read: 100 * time.Millisecond, Hung: 2 * time.Second}}
	a, gates := gated(t, f, layout.Parity1, 4, array.Config{Limits: limits})
	c := newTenants(t, a, 2, 6*mib)
	c.after(10 * mib)
	gates[1].setHang(true)
	c.after(10 * mib) // the clients go on
	require.Eventually(t, func() bool { return a.MemberStates()[1].Condition == record.Failed }, 20*time.Second, time.Millisecond)
	gates[1].setHang(false) // what was late arrives now, on a disk that no longer counts
	require.NoError(t, a.Replace(1, f.disk(48*mib)))
	a.WaitTasks()
	c.leave()
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches)
	require.NoError(t, a.Close())
}

func TestWhoMayComeBack(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Parity2, 4, array.Config{})
	require.NoError(t, a.WriteAt(noise(1, 2*mib), 0))
	require.NoError(t, a.Flush())
	record0 := func() *record.Record {
		r, err := disk.ReadRecord(f.open2(gates[0].Identity().Path))
		require.NoError(t, err)
		return r
	}
	_, err := a.Awaits(record0(), false)
	require.ErrorContains(t, err, "is active")
	gates[0].gone.Store(true)
	require.Eventually(t, func() bool { a.Probe(); return a.MemberStates()[0].Condition == record.Missing }, 20*time.Second, time.Millisecond)
	own := record0()
	slot, err := a.Awaits(own, false)
	require.NoError(t, err)
	require.Zero(t, slot)
	// It went on by itself meanwhile: another epoch, or the same number of another history.
	for _, change := range []func(r *record.Record){
		func(r *record.Record) { r.Epoch++ },
		func(r *record.Record) { r.Epoch-- },
		func(r *record.Record) { r.EpochID[0]++ },
		func(r *record.Record) { r.Member[3]++ },
		func(r *record.Record) { r.Array[3]++ },
	} {
		other := own.Clone()
		change(other)
		_, err := a.Awaits(other, false)
		require.ErrorIs(t, err, roster.ErrStale)
	}
	// One that was failed comes back only when asked for.
	require.NoError(t, a.Fail(1, false))
	failed, err := disk.ReadRecord(f.open2(gates[1].Identity().Path))
	require.NoError(t, err)
	_, err = a.Awaits(failed, false)
	require.Error(t, err)
	_, err = a.Awaits(failed, true)
	require.NoError(t, err)
	require.NoError(t, a.Close())
}

// open2 opens a disk that the array has open, to look at it.
func (f *folder) open2(path string) disk.Disk {
	d, err := disk.OpenReadOnly(path)
	require.NoError(f.t, err)
	return d
}

func TestRetiringRefusesAndGivesUpCleanly(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Parity1, 3, array.Config{})
	require.NoError(t, a.WriteAt(noise(2, 8*mib), 0))
	require.NoError(t, a.Flush())
	small := f.disk(16 * mib)
	require.ErrorContains(t, a.Retire(0, small), "needs at least")
	require.NoError(t, small.Close())
	require.ErrorContains(t, a.Retire(7, nil), "slots 0 to 2")

	// Cancelled: the member stays, and the disk may be used for something else.
	a.SetPace(task.Pace{Rate: 1 * mib})
	onto := f.disk(48 * mib)
	require.NoError(t, a.Retire(0, onto))
	require.ErrorContains(t, a.Retire(0, onto), "being retired already")
	require.NoError(t, a.Steer(state.TaskRetire, 0, state.TaskCancelled))
	a.WaitTasks()
	_, copying := a.Onto(0)
	require.False(t, copying)
	require.Equal(t, state.Healthy, a.Condition())
	require.ErrorIs(t, a.Steer(state.TaskRetire, 0, state.TaskCancelled), task.ErrNone)

	// The member fails on the way: the disk meant for its place is rebuilt.
	require.NoError(t, a.Retire(1, f.disk(48*mib)))
	gates[1].gone.Store(true)
	a.Probe()
	a.SetPace(task.Pace{Mode: task.Full})
	require.Eventually(t, func() bool { a.WaitTasks(); return a.MemberStates()[1].Condition == record.Active }, 20*time.Second, 5*time.Millisecond)
	require.Equal(t, state.Healthy, a.Condition())
	got := make([]byte, 8*mib)
	require.NoError(t, a.ReadAt(got, 0))
	require.True(t, string(got) == string(noise(2, 8*mib)))

	// The disk it is copied onto fails on the way: nothing happens to the array.
	a.SetPace(task.Pace{Rate: 1 * mib})
	bad := newGate(f.disk(48 * mib))
	require.NoError(t, a.Retire(2, bad))
	bad.gone.Store(true)
	a.SetPace(task.Pace{Mode: task.Full})
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	require.NoError(t, a.Close())
}

func TestARetirementGoesOnAfterAStop(t *testing.T) {
	f := newFolder(t)
	a, _ := gated(t, f, layout.Parity1, 3, array.Config{})
	want := noise(3, 16*mib)
	require.NoError(t, a.WriteAt(want, 0))
	a.SetPace(task.Pace{Rate: 4 * mib})
	require.NoError(t, a.Retire(1, f.disk(48*mib)))
	require.Eventually(t, func() bool { return a.TaskStates()[0].Done > 2*mib }, 20*time.Second, time.Millisecond)
	require.Eventually(t, func() bool { // that the members know it
		member, err := disk.OpenReadOnly(filepath.Join(f.path, "disk1"))
		require.NoError(t, err)
		defer member.Close()
		own, _ := disk.ReadRecord(member)
		return own != nil && own.Roster[1].Cursor > 0
	}, 20*time.Second, 10*time.Millisecond)
	require.NoError(t, a.Close())
	b, err := f.reopen(array.Config{Cache: 4 * mib})
	require.NoError(t, err)
	_, copying := b.Onto(1)
	require.True(t, copying)
	b.WaitTasks()
	states := b.TaskStates()
	require.Equal(t, state.TaskDone, states[0].State, "%v", states[0].Err)
	require.Less(t, states[0].Moved, int64(7*mib), "it did not begin again from the start")
	require.Equal(t, filepath.Join(f.path, "disk4"), b.MemberStates()[1].Disk.Path)
	require.NoError(t, b.Fail(0, false))
	got := make([]byte, len(want))
	require.NoError(t, b.ReadAt(got, 0))
	require.True(t, string(got) == string(want))
	require.NoError(t, b.Close())
}

// TestRatesArePaced holds a rebuild to a rate, and lets it go on at once when that changes.
func TestRatesArePaced(t *testing.T) { synctest.Test(t, ratesArePaced) }

func ratesArePaced(t *testing.T) {
	f := &folder{t: t, path: t.TempDir()}
	a, _ := gated(t, f, layout.Parity1, 3, array.Config{})
	require.NoError(t, a.WriteAt(noise(4, 80*mib), 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(0, false))
	a.SetPace(task.Pace{Rate: 1 << 20})
	require.NoError(t, a.Replace(0, f.disk(48*mib)))
	time.Sleep(10 * time.Second)
	require.InDelta(t, 10*mib, a.TaskStates()[0].Done, 1*mib, "of pieces of 1 MiB")
	a.SetPace(task.Pace{Rate: 4 << 20})
	time.Sleep(4 * time.Second)
	require.InDelta(t, 26*mib, a.TaskStates()[0].Done, 2*mib)
	require.NoError(t, a.Steer(state.TaskRebuild, 0, state.TaskPaused))
	require.Eventually(t, func() bool { return a.TaskStates()[0].State == state.TaskPaused }, 5*time.Second, time.Millisecond)
	synctest.Wait() // until the last pieces are written
	at := a.TaskStates()[0].Done
	a.SetPace(task.Pace{Mode: task.Full})
	time.Sleep(100 * time.Millisecond)
	require.Equal(t, at, a.TaskStates()[0].Done)
	require.Error(t, a.Steer(state.TaskRebuild, 0, state.TaskCancelled), "redundancy waits for it")
	require.NoError(t, a.Steer(state.TaskRebuild, 0, state.TaskRunning))
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	require.NoError(t, a.Close())
}

func TestInspectingGarbageIsNoTrouble(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Mirror, 2, array.Config{})
	require.NoError(t, a.WriteAt(noise(5, mib), 0))
	require.NoError(t, a.Close())
	path := gates[0].Identity().Path
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(1, 2))
	for round := range 60 {
		bad := append([]byte(nil), whole[:8*mib]...)
		for range 1 + r.IntN(2000) {
			bad[r.IntN(len(bad))] ^= byte(1 + r.IntN(255))
		}
		other := filepath.Join(f.path, fmt.Sprint("bad", round))
		require.NoError(t, os.WriteFile(other, bad, 0o600))
		require.NoError(t, os.Truncate(other, int64(len(whole))))
		d := f.open2(other)
		_, err := array.Inspect(d)
		require.False(t, errors.Is(err, disk.ErrGone))
		require.NoError(t, d.Close())
		require.NoError(t, os.Remove(other))
	}
	found, err := array.Inspect(f.open2(path))
	require.NoError(t, err)
	require.Equal(t, "tides", found.Record.Name)
	require.True(t, found.Record.Clean)
	require.Zero(t, found.Entries)
	require.GreaterOrEqual(t, found.Written, int64(mib))
}

// TestADamagedJournalIsToldAndSurvived: what a crash left in the journals comes back although one member lost its own.
func TestADamagedJournalIsToldAndSurvived(t *testing.T) {
	f := newFolder(t)
	disks := f.disks(4, 64*mib)
	a := create(t, layout.Parity1, 64<<10, disks)
	want := noise(7, 8*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	for i := range 60 { // overwrites, which go through the journal
		p := noise(uint64(100+i), 4096)
		copy(want[i*81920:], p)
		require.NoError(t, a.WriteAt(p, int64(i)*81920))
		require.NoError(t, a.Flush())
	}
	rec := a.Record()
	a.Abandon()
	d, err := disk.Open(filepath.Join(f.path, "disk2"))
	require.NoError(t, err)
	own, err := disk.ReadRecord(d)
	require.NoError(t, err)
	require.Equal(t, rec.Array, own.Array)
	// Its heads, and every other block of the rest.
	for i := range int64(256) {
		if i < record.JournalHeads || i%2 == 0 {
			require.NoError(t, d.WriteAt(noise(uint64(i), 4096), own.Place.JournalStart+i*4096))
		}
	}
	require.NoError(t, d.Close())
	var mu sync.Mutex
	var told []string
	a, err = f.reopen(array.Config{Event: func(e array.Event) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, string(e.Kind))
	}})
	require.NoError(t, err)
	got := make([]byte, len(want))
	require.NoError(t, a.ReadAt(got, 0))
	require.Equal(t, want, got)
	mu.Lock()
	require.Contains(t, told, "journal-damaged")
	mu.Unlock()
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches)
	require.NoError(t, a.Close())
}
