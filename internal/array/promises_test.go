package array_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
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

// trap is a disk at which a test steps in: before is called with every operation, and its error is the operation's.
type trap struct {
	disk.Disk
	before atomic.Pointer[func(op string, off int64) error]
}

func (d *trap) set(f func(op string, off int64) error) {
	if f == nil {
		d.before.Store(nil)
	} else {
		d.before.Store(&f)
	}
}

func (d *trap) step(op string, off int64) error {
	if f := d.before.Load(); f != nil {
		return (*f)(op, off)
	}
	return nil
}

func (d *trap) ReadAt(p []byte, off int64) error {
	return cmpErr(d.step("read", off), func() error { return d.Disk.ReadAt(p, off) })
}
func (d *trap) WriteAt(p []byte, off int64) error {
	return cmpErr(d.step("write", off), func() error { return d.Disk.WriteAt(p, off) })
}
func (d *trap) ReadVec(b [][]byte, off int64) error {
	return cmpErr(d.step("read", off), func() error { return d.Disk.ReadVec(b, off) })
}
func (d *trap) WriteVec(b [][]byte, off int64) error {
	return cmpErr(d.step("write", off), func() error { return d.Disk.WriteVec(b, off) })
}
func (d *trap) Reserve(off, n int64) error { return d.step("reserve", off) }
func (d *trap) Sync() error                { return cmpErr(d.step("sync", 0), d.Disk.Sync) }

// told collects the events of an array.
type told struct {
	mu  sync.Mutex
	all []array.Event
}

func (t *told) add(e array.Event) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.all = append(t.all, e)
}

func (t *told) has(kind string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, e := range t.all {
		if string(e.Kind) == kind {
			return true
		}
	}
	return false
}

// trapped makes an array of disks with traps.
func trapped(t *testing.T, f *folder, level layout.Level, n int, cfg array.Config) (*array.Array, []*trap, *told) {
	traps, disks, events := make([]*trap, n), make([]disk.Disk, n), &told{}
	for i := range traps {
		traps[i] = &trap{Disk: f.disk(48 * mib)}
		disks[i] = traps[i]
	}
	cfg.Cache, cfg.Event = 4*mib, events.add
	a, err := array.Create(array.Plan{Name: "tides", Level: level, Strip: layout.MinStrip, Disks: disks}, cfg)
	require.NoError(t, err)
	return a, traps, events
}

func placeOf(t *testing.T, d disk.Disk) record.Place {
	own, err := disk.ReadRecord(d)
	require.NoError(t, err)
	return own.Place
}

func requireReads(t *testing.T, a *array.Array, want []byte, off int64) {
	t.Helper()
	got := make([]byte, len(want))
	require.NoError(t, a.ReadAt(got, off))
	require.True(t, string(want) == string(got), "what was flushed reads as something else")
}

// What is flushed while a disk joins must survive the service: the head of the disk's journal may not claim it.
func TestAJoiningDiskClaimsNothingThatWasCommittedMeanwhile(t *testing.T) {
	for _, phase := range []string{"wiped", "synced", "signed"} {
		t.Run(phase, func(t *testing.T) {
			f := newFolder(t)
			a, _, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
			require.NoError(t, a.WriteAt(noise(1, 4*mib), 0))
			require.NoError(t, a.Fail(1, false))
			a.SetPace(task.Pace{Rate: 4 << 10}) // the rebuild must not get to its first checkpoint
			want := noise(2, 256<<10)
			fresh := &trap{Disk: f.disk(48 * mib)}
			done := false
			fresh.set(func(op string, off int64) error {
				hit := map[string]bool{"wiped": op == "write", "synced": op == "sync", "signed": op == "write" && off == 0}[phase]
				if hit && !done {
					done = true
					require.NoError(t, a.WriteAt(want, 8*mib))
					require.NoError(t, a.Flush())
				}
				return nil
			})
			require.NoError(t, a.Replace(1, fresh))
			require.True(t, done)
			a.Abandon() // as kill -9 does
			events := &told{}
			a, err := f.reopen(array.Config{Event: events.add})
			require.NoError(t, err)
			defer a.Abandon()
			require.False(t, events.has("journal-damaged"), "a head had to be refuted")
			requireReads(t, a, want, 8*mib)
		})
	}
}

// The same for a disk that returns: what is flushed while the checkpoint before it joins writes the heads of the others.
func TestAReturningDiskClaimsNothingThatWasCommittedMeanwhile(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
	require.NoError(t, a.WriteAt(noise(1, 4*mib), 0))
	require.NoError(t, a.Flush())
	traps[2].set(func(string, int64) error { return disk.ErrGone })
	require.NoError(t, a.WriteAt(noise(2, mib), 0))
	require.NoError(t, a.Flush())
	require.Equal(t, record.Missing, a.MemberStates()[2].Condition)
	back := f.open(traps[2].Identity().Path)
	own, err := disk.ReadRecord(back)
	require.NoError(t, err)
	a.SetPace(task.Pace{Rate: 4 << 10})
	want, flushed := noise(3, 256<<10), false
	place := placeOf(t, traps[0].Disk)
	traps[0].set(func(op string, off int64) error {
		if op == "write" && !flushed && off >= place.JournalStart && off < place.JournalStart+record.JournalHeads*array.Block {
			flushed = true
			require.NoError(t, a.WriteAt(want, 8*mib))
			require.NoError(t, a.Flush())
		}
		return nil
	})
	require.NoError(t, a.Return(back, own, false))
	require.True(t, flushed)
	a.Abandon()
	events := &told{}
	a, err = f.reopen(array.Config{Event: events.add})
	require.NoError(t, err)
	defer a.Abandon()
	require.False(t, events.has("journal-damaged"), "a head had to be refuted")
	requireReads(t, a, want, 8*mib)
}

func TestAPageIsCleanOnlyWhenItIsOnTheMember(t *testing.T) {
	f := newFolder(t)
	a, traps, events := trapped(t, f, layout.Parity1, 4, array.Config{})
	place := placeOf(t, traps[0])
	for _, area := range []struct{ from, to int64 }{{place.SumStart, place.DataStart}, {place.MapStart, place.SumStart}} {
		want := noise(uint64(area.from), 4*mib)
		off := 4 * mib * (1 + area.from%3)
		require.NoError(t, a.WriteAt(want, off))
		require.NoError(t, a.Flush())
		for _, d := range traps {
			d.set(func(op string, off int64) error {
				if op == "write" && off >= area.from && off < area.to {
					return fmt.Errorf("made up: %w", disk.ErrFull)
				}
				return nil
			})
		}
		require.Eventually(t, func() bool { return errors.Is(a.Trouble(), disk.ErrFull) }, 20*time.Second, 10*time.Millisecond)
		require.True(t, events.has("checkpoint-failed"))
		for _, d := range traps {
			d.set(nil)
		}
		require.Eventually(t, func() bool { return a.Trouble() == nil }, 20*time.Second, 10*time.Millisecond, "it is tried again")
		require.True(t, events.has("checkpoint-recovered"))
		a.Abandon()
		var err error
		a, err = f.reopen(array.Config{Event: events.add})
		require.NoError(t, err)
		requireReads(t, a, want, off)
		a.Abandon()
		f = newFolder(t)
		a, traps, events = trapped(t, f, layout.Parity1, 4, array.Config{})
	}
	a.Abandon()
}

// A sync that fails has lost what was written before, whatever its reason: the member is out, and no head relies on it.
func TestAFailedSyncCostsTheMember(t *testing.T) {
	for _, cause := range []error{disk.ErrFull, errors.New("made up")} {
		f := newFolder(t)
		a, traps, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
		want := noise(1, 4*mib)
		require.NoError(t, a.WriteAt(want, 0))
		require.NoError(t, a.Flush())
		traps[1].set(func(op string, off int64) error {
			if op == "sync" {
				return fmt.Errorf("made up: %w", cause)
			}
			return nil
		})
		require.Eventually(t, func() bool { return a.MemberStates()[1].Condition == record.Failed }, 20*time.Second, 10*time.Millisecond)
		require.NoError(t, a.Trouble())
		require.NoError(t, a.Close())
		a, err := f.reopen(array.Config{})
		require.NoError(t, err)
		requireReads(t, a, want, 0)
		a.Abandon()
	}
}

// What is acknowledged is neither a hole nor escapes being zeroed, while it goes from the cache to the members.
func TestAcknowledgedDataIsNeverAHole(t *testing.T) {
	f := newFolder(t)
	a, _, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
	defer a.Abandon()
	stop := make(chan struct{})
	var wait, clients sync.WaitGroup
	for range 3 {
		wait.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					_ = a.Flush()
				}
			}
		})
	}
	size := a.Layout().Shape.StripeSize()
	stripes := a.Layout().Stripes()
	for c := range int64(8) {
		clients.Go(func() {
			block := noise(uint64(c), 4096)
			for i := c; i < stripes && !t.Failed(); i += 8 {
				off := i * size
				if err := a.WriteAt(block, off); err != nil {
					t.Error(err)
					return
				}
				for range 20 {
					if x, err := a.Extents(off, size, 1); err != nil || !x[0].Written {
						t.Errorf("stripe %d: %v, %v", i, x, err)
					}
				}
				if err := a.Zero(off, size); err != nil {
					t.Error(err)
				}
				got := make([]byte, 4096)
				if err := a.ReadAt(got, off); err != nil || strings.Trim(string(got), "\x00") != "" {
					t.Errorf("stripe %d reads as data after it was zeroed (%v)", i, err)
				}
			}
		})
	}
	clients.Wait()
	close(stop)
	wait.Wait()
}

// A part-block write reads a block, changes some bytes, and writes it: a write of the whole block in between must stay.
func TestAPartBlockWriteKeepsWhatOthersWriteMeanwhile(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity1, 3, array.Config{})
	defer a.Abandon()
	require.NoError(t, a.WriteAt(noise(1, 3*4096), 0))
	require.NoError(t, a.Flush())
	want := noise(2, 3*4096)
	var reads atomic.Int64
	for _, d := range traps {
		d.set(func(op string, off int64) error {
			// The first three read the column of the first block, the next that of the last.
			if op == "read" && reads.Add(1) == 4 {
				require.NoError(t, a.WriteAt(want[:4096], 0))
				require.NoError(t, a.WriteAt(want[2*4096:], 2*4096))
			}
			return nil
		})
	}
	part := noise(3, 2*4096)
	require.NoError(t, a.WriteAt(part, 100))
	copy(want[100:], part)
	requireReads(t, a, want, 0)
	require.GreaterOrEqual(t, reads.Load(), int64(4))
}

func TestADiskThatVanishesInItsReturnCatchesUpAllTheSame(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Parity1, 4, array.Config{})
	defer func() { a.Abandon() }()
	want := noise(1, 16*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	vanish := func(g *gate) {
		g.gone.Store(true)
		a.Probe()
		require.Equal(t, record.Missing, a.MemberStates()[1].Condition)
	}
	back := func() *gate {
		var d disk.Disk
		require.Eventually(t, func() (ok bool) { // a task may have the one that vanished open for a moment longer
			var err error
			d, err = disk.Open(gates[1].Identity().Path)
			return err == nil
		}, 10*time.Second, time.Millisecond)
		g := newGate(d)
		own, err := disk.ReadRecord(g)
		require.NoError(t, err)
		require.NoError(t, a.Return(g, own, false))
		return g
	}
	vanish(gates[1])
	copy(want[2*mib:], noise(2, 6*mib))
	require.NoError(t, a.WriteAt(want[2*mib:8*mib], 2*mib))
	require.NoError(t, a.Flush())
	bounces := newGate(f.open(gates[1].Identity().Path))
	own, err := disk.ReadRecord(bounces)
	require.NoError(t, err)
	bounces.gone.Store(true)
	err = a.Return(bounces, own, false)
	require.Error(t, err, "it is gone before it has joined")
	require.NotErrorIs(t, err, roster.ErrStale, "it may come back")
	require.NoError(t, bounces.Close())
	a.SetPace(task.Pace{Rate: 256 << 10})
	g := back()
	require.Eventually(t, func() bool { return a.TaskStates()[len(a.TaskStates())-1].Done > 0 }, 10*time.Second, time.Millisecond)
	vanish(g)
	copy(want[12*mib:], noise(3, mib))
	require.NoError(t, a.WriteAt(want[12*mib:13*mib], 12*mib))
	require.NoError(t, a.Flush())
	a.SetPace(task.Pace{Mode: task.Full})
	back()
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	require.NoError(t, a.Fail(3, false)) // everything now depends on the one that came back
	requireReads(t, a, want, 0)
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches)
}

// What leaves in one moment comes back and catches up what it missed, also when the first has been replaced meanwhile.
func TestMembersThatVanishTogetherReturn(t *testing.T) {
	for _, replaced := range []bool{false, true} {
		f := newFolder(t)
		a, gates := gated(t, f, layout.Parity2, 5, array.Config{})
		want := noise(1, 24*mib)
		require.NoError(t, a.WriteAt(want, 0))
		_, err := a.CheckNow(true) // ends with empty journals: what is in them is not known to have counted
		require.NoError(t, err)
		gates[1].gone.Store(true)
		gates[3].gone.Store(true)
		a.Probe()
		require.Equal(t, state.Exposed, a.Condition())
		copy(want[4*mib:], noise(2, mib))
		require.NoError(t, a.WriteAt(want[4*mib:5*mib], 4*mib))
		require.NoError(t, a.Flush())
		slots := []int{1, 3}
		if replaced {
			slots = []int{3}
			require.NoError(t, a.Replace(1, f.disk(48*mib)))
			a.WaitTasks()
		}
		for _, slot := range slots {
			d := f.open(gates[slot].Identity().Path)
			own, err := disk.ReadRecord(d)
			require.NoError(t, err)
			require.NoError(t, a.Return(d, own, false), "slot %d", slot)
			a.WaitTasks()
			task := a.TaskStates()[len(a.TaskStates())-1]
			require.Equal(t, state.TaskDone, task.State, "%v", task.Err)
			require.Less(t, task.Moved, int64(6*mib), "it has the rest: what is told apart is 4 MiB of a member")
		}
		require.Equal(t, state.Healthy, a.Condition())
		require.NoError(t, a.Fail(0, false))
		require.NoError(t, a.Fail(2, false))
		requireReads(t, a, want, 0)
		a.Abandon()
	}
}

// A member that was away while another was retired, or replaced, has missed nothing.
func TestRetiringAnotherIsNoReasonToCatchUp(t *testing.T) {
	for _, how := range []string{"retire", "replace"} {
		f := newFolder(t)
		a, gates := gated(t, f, layout.Parity2, 5, array.Config{})
		require.NoError(t, a.WriteAt(noise(1, 16*mib), 0))
		_, err := a.CheckNow(true) // ends with empty journals: what is in them is not known to have counted
		require.NoError(t, err)
		gates[1].gone.Store(true)
		a.Probe()
		if how == "retire" {
			require.NoError(t, a.Retire(3, f.disk(48*mib)))
		} else {
			require.NoError(t, a.Replace(3, f.disk(48*mib)))
		}
		a.WaitTasks()
		require.Equal(t, state.Degraded, a.Condition())
		d := f.open(gates[1].Identity().Path)
		own, err := disk.ReadRecord(d)
		require.NoError(t, err)
		require.NoError(t, a.Return(d, own, false))
		a.WaitTasks()
		task := a.TaskStates()[len(a.TaskStates())-1]
		require.Equal(t, state.TaskCatchUp, task.Kind)
		require.Equal(t, state.TaskDone, task.State, "%v", task.Err)
		require.Zero(t, task.Moved, "nothing was written while it was away")
		a.Abandon()
	}
}

// When the member that is being copied fails and a spare takes its place, the copying that comes to nothing leaves the spare
// alone.
func TestAFailedRetirementLeavesTheSpareAlone(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Parity1, 3, array.Config{})
	defer a.Abandon()
	want := noise(1, 8*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	a.SetPace(task.Pace{Rate: 1 * mib})
	onto, spare := f.disk(48*mib), f.disk(48*mib)
	require.NoError(t, a.Retire(0, onto))
	gates[0].gone.Store(true)
	a.Probe()
	// Either the spare is there first and stays, or the copy is, and the spare is refused.
	err := a.StandIn(0, spare)
	a.SetPace(task.Pace{Mode: task.Full})
	require.Eventually(t, func() bool { return a.Condition() == state.Healthy }, 20*time.Second, 10*time.Millisecond)
	winner := spare
	if err != nil {
		require.ErrorIs(t, err, task.ErrTaken)
		winner = onto
	}
	require.Equal(t, winner.Identity(), a.MemberStates()[0].Disk)
	_, copying := a.Onto(0)
	require.False(t, copying)
	requireReads(t, a, want, 0)
}

func TestReplacingWhileTheRebuildIsPausedLeavesOneMemberAndOneTask(t *testing.T) {
	f := newFolder(t)
	a, _ := gated(t, f, layout.Parity1, 3, array.Config{})
	defer a.Abandon()
	want := noise(1, 8*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(2, false))
	a.SetPace(task.Pace{Rate: 64 << 10})
	first, second := f.disk(48*mib), f.disk(48*mib)
	require.NoError(t, a.Replace(2, first))
	require.NoError(t, a.Steer(state.TaskRebuild, 2, state.TaskPaused))
	require.NoError(t, a.Replace(2, second))
	require.Equal(t, second.Identity(), a.MemberStates()[2].Disk)
	a.SetPace(task.Pace{Mode: task.Full})
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	require.NoError(t, a.Fail(0, false))
	requireReads(t, a, want, 0)
	require.Eventually(t, func() bool { return !contains(openFiles(t), first.Identity().Path) }, 5*time.Second, time.Millisecond)
}

// openFiles lists the files this process holds.
func openFiles(t *testing.T) (out []string) {
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Skip("this system does not tell")
	}
	for _, e := range entries {
		if to, err := os.Readlink(filepath.Join("/proc/self/fd", e.Name())); err == nil {
			out = append(out, to)
		}
	}
	return out
}

func TestWhatLeavesAnArrayIsNotHeldByIt(t *testing.T) {
	f := newFolder(t)
	a, gates := gated(t, f, layout.Parity1, 4, array.Config{})
	defer a.Abandon()
	require.NoError(t, a.WriteAt(noise(1, 4*mib), 0))
	require.NoError(t, a.Fail(1, false))
	failed := gates[1].Identity().Path
	require.Eventually(t, func() bool { return !contains(openFiles(t), failed) }, 5*time.Second, time.Millisecond, "a member that was set failed")
	require.NoError(t, a.Replace(1, f.disk(48*mib)))
	a.WaitTasks()
	gates[2].gone.Store(true)
	a.Probe()
	vanished := gates[2].Identity().Path
	require.Eventually(t, func() bool { return !contains(openFiles(t), vanished) }, 5*time.Second, time.Millisecond, "one that vanished")
	d := f.open(vanished) // exclusively
	own, err := disk.ReadRecord(d)
	require.NoError(t, err)
	require.NoError(t, a.Return(d, own, false))
	a.WaitTasks()
	require.NoError(t, a.Retire(3, f.disk(48*mib)))
	a.WaitTasks()
	retired := gates[3].Identity().Path
	require.Eventually(t, func() bool { return !contains(openFiles(t), retired) }, 5*time.Second, time.Millisecond, "one that was retired")
}

func contains(list []string, want string) bool {
	for _, s := range list {
		if s == want {
			return true
		}
	}
	return false
}

// Each client that wrote what was given up is told at its next flush, once, and no other is.
func TestEveryClientIsToldOfItsOwnLossOnly(t *testing.T) {
	f := newFolder(t)
	a, err := array.Create(array.Plan{Name: "tides", Level: layout.Parity1, Strip: layout.MinStrip, Disks: f.disks(4, 24*mib)}, array.Config{})
	require.NoError(t, err)
	defer a.Abandon()
	strip := int64(layout.MinStrip)
	require.NoError(t, a.WriteAt(noise(1, int(3*strip)), 0))
	require.NoError(t, a.Flush())
	lay := a.Layout()
	st := lay.Stripe(0)
	require.NoError(t, a.Fail(st.Slot(2), false))
	// Rot on another member of the same column leaves nothing to compute it from.
	rotten, err := os.OpenFile(a.MemberStates()[st.Slot(0)].Disk.Path, os.O_WRONLY, 0)
	require.NoError(t, err)
	place, err := record.PlaceFor(24*mib, a.Record().Roster[0].DataSize)
	require.NoError(t, err)
	_, err = rotten.WriteAt(noise(9, 4096), place.DataStart)
	require.NoError(t, err)
	require.NoError(t, rotten.Close())

	one, two, other := a.NewClient(), a.NewClient(), a.NewClient()
	require.NoError(t, other.WriteAt(noise(5, 4096), 10*3*strip))
	require.NoError(t, one.WriteAt(noise(3, 4096), 2*strip))
	require.NoError(t, two.WriteAt(noise(4, 4096), 2*strip))
	require.NoError(t, other.Flush(), "what others lose is no error of this one")
	require.ErrorIs(t, one.Flush(), array.ErrUnkept)
	require.ErrorIs(t, two.Flush(), array.ErrUnkept)
	require.NoError(t, one.Flush(), "once")
	require.NoError(t, two.Flush(), "once")
	require.NoError(t, other.Flush())
}

// No room for what one client wrote is no error for another.
func TestAClientIsNotToldThatOthersFindNoRoom(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
	defer a.Abandon()
	for _, d := range traps {
		d.set(func(op string, off int64) error {
			if op == "reserve" && off >= placeOf(t, d.Disk).DataStart+8*mib {
				return fmt.Errorf("made up: %w", disk.ErrFull)
			}
			return nil
		})
	}
	one, other := a.NewClient(), a.NewClient()
	lot := noise(1, int(a.Layout().Shape.StripeSize()))
	far := a.Layout().Shape.StripeSize() * (9 * mib / layout.MinStrip)
	require.NoError(t, one.WriteAt(lot, far))
	require.NoError(t, other.WriteAt(lot, 0))
	// Give the background a chance to find out first.
	require.ErrorIs(t, one.Flush(), disk.ErrFull)
	require.NoError(t, other.Flush())
	require.ErrorIs(t, one.Flush(), disk.ErrFull, "it is still not durable")
	for _, d := range traps {
		d.set(nil)
	}
	require.NoError(t, one.Flush())
	requireReads(t, a, lot, far)
	require.Equal(t, state.Healthy, a.Condition())
}

// The last batch of a degraded array, rotten on one member: nothing says whether it had been flushed, so the array does.
func TestAGivenUpBatchIsSaid(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
	require.NoError(t, a.WriteAt(noise(1, 12*int(layout.MinStrip)), 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(0, false))
	place := placeOf(t, traps[1])
	var at int64
	traps[1].set(func(op string, off int64) error {
		if op == "write" && off >= place.JournalStart+2*4096 && off < place.MapStart {
			at = off
		}
		return nil
	})
	require.NoError(t, a.WriteAt(noise(2, 3*int(layout.MinStrip)), 0))
	require.NoError(t, a.Flush())
	a.Abandon()
	require.NotZero(t, at)
	d, err := os.OpenFile(traps[1].Identity().Path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = d.WriteAt(noise(3, 4096), at)
	require.NoError(t, err)
	require.NoError(t, d.Close())
	events := &told{}
	a, err = f.reopen(array.Config{Event: events.add})
	require.NoError(t, err)
	defer a.Abandon()
	require.True(t, events.has("batch-dropped"))
}

// A copy for which there is no room is given up; the array goes on.
func TestNoRoomForACopyIsNoErrorOfTheArray(t *testing.T) {
	f := newFolder(t)
	a, _, events := trapped(t, f, layout.Parity1, 3, array.Config{})
	defer a.Abandon()
	want := noise(1, 16*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	onto := &trap{Disk: f.disk(48 * mib)}
	a.SetPace(task.Pace{Rate: 2 * mib})
	require.NoError(t, a.Retire(0, onto))
	require.Eventually(t, func() bool { return a.TaskStates()[0].Done > 0 }, 10*time.Second, time.Millisecond)
	onto.set(func(op string, off int64) error {
		if op == "write" {
			return fmt.Errorf("made up: %w", disk.ErrFull)
		}
		return nil
	})
	copy(want, noise(2, mib))
	require.NoError(t, a.WriteAt(want[:mib], 0))
	require.NoError(t, a.Flush())
	require.Eventually(t, func() bool { _, copying := a.Onto(0); return !copying }, 20*time.Second, 10*time.Millisecond)
	require.True(t, events.has("copy-failed"))
	require.Equal(t, state.Healthy, a.Condition())
	require.NoError(t, a.Flush())
	requireReads(t, a, want, 0)
}

// Nobody may count on a rebuilt member before a start would: a loss in that moment would be one too many.
func TestARebuiltMemberCountsOnlyOnceTheRosterSaysSo(t *testing.T) {
	f := newFolder(t)
	a, traps, _ := trapped(t, f, layout.Parity1, 3, array.Config{})
	defer a.Abandon()
	require.NoError(t, a.WriteAt(noise(1, 4*mib), 0))
	require.NoError(t, a.Fail(1, false))
	before, seen := a.Epoch(), make(chan int, 64)
	traps[0].set(func(op string, off int64) error {
		if op == "write" && off == 0 && a.Epoch() > before+1 { // the record that says it is active
			margin, _ := a.Margin()
			seen <- margin
		}
		return nil
	})
	require.NoError(t, a.Replace(1, f.disk(48*mib)))
	a.WaitTasks()
	traps[0].set(nil)
	require.NotEmpty(t, seen)
	require.Zero(t, <-seen, "the record is not written yet")
	margin, _ := a.Margin()
	require.Equal(t, 1, margin)
}

// A member that is late must not make a check keep clients from a stripe.
func TestACheckThatWaitsHoldsNothing(t *testing.T) {
	f := newFolder(t)
	limits := member.Limits{Patience: disk.Patience{Read: 50 * time.Millisecond, Hung: time.Minute}}
	a, traps, _ := trapped(t, f, layout.Parity2, 4, array.Config{Limits: limits})
	defer a.Abandon()
	require.NoError(t, a.WriteAt(noise(1, 4*mib), 0))
	require.NoError(t, a.Flush())
	hold, late := make(chan struct{}), make(chan struct{}, 1)
	traps[0].set(func(op string, off int64) error {
		if op == "read" {
			select {
			case late <- struct{}{}:
			default:
			}
			<-hold
		}
		return nil
	})
	require.NoError(t, a.StartCheck(false))
	<-late
	done := make(chan error, 1)
	go func() {
		for off := int64(0); off < mib; off += 16 << 10 {
			if err := a.WriteAt([]byte("part of a block"), off+5); err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	// The check asks five times with a second in between; the client must be through while it still waits.
	require.NoError(t, <-done)
	require.Equal(t, state.TaskRunning, a.TaskStates()[0].State)
	close(hold)
	traps[0].set(nil)
	a.WaitTasks()
}

// forged makes a member's record say something else, whole by its checksum.
func forged(t *testing.T, path string, change func(r *record.Record)) {
	d, err := disk.Open(path)
	require.NoError(t, err)
	defer d.Close()
	own, err := disk.ReadRecord(d)
	require.NoError(t, err)
	change(own)
	buf, err := own.Encode()
	require.NoError(t, err)
	for _, off := range disk.RecordCopies(own.Place.Size) {
		require.NoError(t, d.WriteAt(buf, off))
	}
}

func TestAForgedRecordNeitherJoinsNorDecides(t *testing.T) {
	forgeries := map[string]func(r *record.Record){
		"a higher epoch":             func(r *record.Record) { r.Epoch += 100; r.EpochID = uuid.New() },
		"a higher epoch, same name":  func(r *record.Record) { r.Epoch += 100 },
		"one epoch more":             func(r *record.Record) { r.Epoch++; r.EpochID = uuid.New() },
		"two epochs more":            func(r *record.Record) { r.Epoch += 2; r.EpochID = uuid.New(); r.Before = 7 },
		"another creation":           func(r *record.Record) { r.Epoch += 100; r.Created = r.Created.Add(time.Hour) },
		"not in its own roster":      func(r *record.Record) { r.Epoch += 100; r.Roster[r.Slot].ID = uuid.New() },
		"all others were taken out":  func(r *record.Record) { r.Epoch += 100; outBut(r, r.Slot) },
		"set back to an older epoch": func(r *record.Record) { r.Epoch, r.EpochID = 1, uuid.New(); r.Before = 0 },
		"another member as active":   func(r *record.Record) { r.Epoch += 100; r.Slot, r.Member = 0, r.Roster[0].ID },
	}
	for name, change := range forgeries {
		t.Run(name, func(t *testing.T) {
			f := newFolder(t)
			a := create(t, layout.Parity2, 64<<10, f.disks(6, 24*mib))
			want := noise(1, 6*mib)
			require.NoError(t, a.WriteAt(want, 0))
			require.NoError(t, a.Fail(5, false)) // a few epochs, for there to be older ones
			require.NoError(t, a.Replace(5, f.disk(24*mib)))
			a.WaitTasks()
			path := a.MemberStates()[2].Disk.Path
			require.NoError(t, a.Close())
			forged(t, path, change)
			before, err := os.ReadFile(path)
			require.NoError(t, err)
			set := f.judge()
			require.NoError(t, set.Doubt)
			require.Nil(t, set.Current[2].Disk, "the forged one is out")
			a, err = array.Open(set, array.Config{})
			require.NoError(t, err)
			requireReads(t, a, want, 0)
			a.Abandon()
			after, err := os.ReadFile(path)
			require.NoError(t, err)
			require.True(t, string(before) == string(after), "and is not written to")
		})
	}
}

func outBut(r *record.Record, slot int) {
	for i := range r.Roster {
		if i != slot {
			r.Roster[i].Condition = record.Missing
		}
	}
}

// When either of two sides could have gone on without the other, nothing is started and nothing is written.
func TestTwoPlausibleSidesAreRefused(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Mirror, 64<<10, f.disks(2, 24*mib))
	require.NoError(t, a.WriteAt(noise(1, mib), 0))
	path := a.MemberStates()[1].Disk.Path
	require.NoError(t, a.Close())
	forged(t, path, func(r *record.Record) { r.Epoch += 100; r.EpochID = uuid.New() })
	set := f.judge()
	require.ErrorIs(t, set.Doubt, roster.ErrDoubt)
	require.ErrorContains(t, set.Doubt, "disk1")
	require.ErrorContains(t, set.Doubt, "disk2")
	_, err := array.Open(set, array.Config{})
	require.ErrorIs(t, err, roster.ErrDoubt)
}

// A head that claims too much would discard what was flushed; a ring full of nonsense would be read for hours.
func TestForgedJournalsDiscardNothingAndTakeNoTime(t *testing.T) {
	for _, claim := range []uint64{1, 2, 3, 40, 1 << 40, 1 << 61} {
		t.Run(fmt.Sprint(claim), func(t *testing.T) {
			f := newFolder(t)
			a, traps, _ := trapped(t, f, layout.Parity1, 4, array.Config{})
			want := noise(1, 6*64<<10)
			for i := range 6 {
				require.NoError(t, a.WriteAt(want[i*64<<10:(i+1)*64<<10], int64(i*64<<10)))
				require.NoError(t, a.Flush())
			}
			a.Abandon()
			d, err := disk.Open(traps[2].Identity().Path)
			require.NoError(t, err)
			own, err := disk.ReadRecord(d)
			require.NoError(t, err)
			h := record.JournalHead{Sequence: 1000, Batch: 1 + claim}
			require.NoError(t, d.WriteAt(h.Encode(own.Tag()), own.Place.JournalStart))
			require.NoError(t, d.Close())
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			requireReads(t, a, want, 0)
			require.NoError(t, a.Close())
			a, err = f.reopen(array.Config{})
			require.NoError(t, err)
			defer a.Abandon()
			requireReads(t, a, want, 0)
		})
	}
	t.Run("nested", func(t *testing.T) {
		f := newFolder(t)
		a, traps, events := trapped(t, f, layout.Parity1, 4, array.Config{})
		want := noise(1, 64<<10)
		require.NoError(t, a.WriteAt(want, 0))
		require.NoError(t, a.Flush())
		a.Abandon()
		d, err := disk.Open(traps[2].Identity().Path)
		require.NoError(t, err)
		own, err := disk.ReadRecord(d)
		require.NoError(t, err)
		ring := own.Place.JournalSize/4096 - 2
		// Every block is the head of an entry that reaches to the end of the ring.
		for at := range ring {
			e := record.JournalEntry{Batch: 5, Involved: 4, Slot: 2}
			buf := e.EncodeHeader(own.Tag(), nil)
			n := uint32(ring - at)
			buf[36], buf[37], buf[38], buf[39] = byte(n), byte(n>>8), byte(n>>16), byte(n>>24)
			require.NoError(t, d.WriteAt(buf, own.Place.JournalStart+(2+at)*4096))
		}
		require.NoError(t, d.WriteAt(make([]byte, 2*4096), own.Place.JournalStart))
		require.NoError(t, d.Close())
		var read atomic.Int64
		set := f.judge()
		set.Current[2].Disk = &counter{set.Current[2].Disk, &read}
		a, err = array.Open(set, array.Config{Event: events.add})
		require.NoError(t, err)
		defer a.Abandon()
		require.Less(t, read.Load(), 8*own.Place.JournalSize+128*mib)
		requireReads(t, a, want, 0)
	})
}

// counter counts what is read of a disk, in bytes.
type counter struct {
	disk.Disk
	read *atomic.Int64
}

func (c *counter) ReadAt(p []byte, off int64) error {
	c.read.Add(int64(len(p)))
	return c.Disk.ReadAt(p, off)
}

// All disks of a bus can stall at the same time, each with data that could be had from the others: nothing is lost by that.
func TestWhatIsLateEverywhereIsNotLost(t *testing.T) {
	f := newFolder(t)
	limits := member.Limits{Patience: disk.Patience{Read: 50 * time.Millisecond, Hung: time.Minute}}
	a, traps, _ := trapped(t, f, layout.Parity2, 5, array.Config{Limits: limits})
	want := noise(1, 4*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Flush())
	require.NoError(t, a.Fail(0, false))
	stall := func() {
		hold := make(chan struct{})
		for _, d := range traps {
			d.set(func(op string, _ int64) error {
				if op == "read" {
					<-hold
				}
				return nil
			})
		}
		time.AfterFunc(500*time.Millisecond, func() { close(hold) })
	}
	stall()
	copy(want[mib:], noise(2, 4096))
	require.NoError(t, a.WriteAt(want[mib:mib+4096], mib))
	require.NoError(t, a.Flush())
	stall()
	got := make([]byte, len(want))
	require.NoError(t, a.ReadAt(got, 0))
	require.Equal(t, want, got)
	require.NoError(t, a.Replace(0, f.disk(48*mib)))
	stall()
	a.WaitTasks()
	for _, d := range traps {
		d.set(nil)
	}
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches)
	require.NoError(t, a.ReadAt(got, 0))
	require.Equal(t, want, got)
	require.NoError(t, a.Close())
}
