package vet_test

import (
	"bytes"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/state"
	"nidalo/internal/array/task"
	"nidalo/internal/control"
	"nidalo/internal/disk"
	"nidalo/internal/lab"
	"nidalo/internal/service/queue"
	"nidalo/internal/service/vet"
)

const size = 16 << 20

var at = time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC)

// bench is a disk in a lab, open for writing.
func bench(t *testing.T) (vet.Host, *lab.Lab, disk.Disk) {
	l := lab.At(t.TempDir())
	require.NoError(t, l.New(1, size))
	d, err := l.Open("A1")
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return vet.Host{Now: func() time.Time { return at }, Ends: make(chan struct{}), Queue: queue.New()}, l, d
}

// fresh reads a disk with a handle that knows nothing of before.
func fresh(t *testing.T, l *lab.Lab, off, n int64) []byte {
	d, err := l.OpenReadOnly("A1")
	require.NoError(t, err)
	defer d.Close()
	out := make([]byte, n)
	require.NoError(t, d.ReadAt(out, off))
	return out
}

func TestAGoodDiskPassesAndIsBlankThen(t *testing.T) {
	h, l, d := bench(t)
	require.NoError(t, d.WriteAt(bytes.Repeat([]byte("x"), 4096), size-4096))
	seen := []int{}
	v := h.Vet(control.Vetting{Size: size, Started: at}, d, "A1", nil, func(v control.Vetting) {
		if len(seen) == 0 || seen[len(seen)-1] != v.Pass {
			seen = append(seen, v.Pass)
		}
		if v.Pass == 0 && v.Cursor == size {
			require.NotEqual(t, make([]byte, 4096), fresh(t, l, size/2, 4096), "something is to be read back")
		}
	})
	require.True(t, vet.Passed(v), v.Result)
	require.Equal(t, []int{0, 1, 2}, seen)
	require.EqualValues(t, 100, v.Percent)
	require.Equal(t, make([]byte, size), fresh(t, l, 0, size))
}

func TestAVetThatWasStoppedGoesOnWhereItWas(t *testing.T) {
	h, _, d := bench(t)
	stop := make(chan struct{})
	var noted control.Vetting
	v := h.Vet(control.Vetting{Size: size, Started: at, State: state.TaskWaiting}, d, "A1", stop, func(v control.Vetting) {
		noted = v
		if v.Pass == 1 && v.Cursor >= size/2 {
			select {
			case <-stop:
			default:
				close(stop)
			}
		}
	})
	require.Equal(t, state.TaskPaused, v.State)
	require.True(t, v.Ended.IsZero())
	require.Equal(t, 1, noted.Pass)
	var first int64 = -1
	v = h.Vet(noted, d, "A1", nil, func(v control.Vetting) {
		if first < 0 {
			first = v.Cursor
			require.Equal(t, 1, v.Pass)
		}
	})
	require.Greater(t, first, int64(size/2), "what was read back is not read again")
	require.True(t, vet.Passed(v), "the pattern that the first part wrote is still right: %s", v.Result)
}

func TestAVetFindsWhatADiskLoses(t *testing.T) {
	h, l, d := bench(t)
	done := false
	v := h.Vet(control.Vetting{Size: size, Started: at}, d, "A1", nil, func(v control.Vetting) {
		if v.Pass == 0 && v.Cursor == size && !done {
			done = true
			require.NoError(t, l.Corrupt("A1", []lab.Range{{Offset: 5 << 20, Length: 4096}}, 7))
			require.NoError(t, l.Unreadable("A1", []lab.Range{{Offset: 9 << 20, Length: 4096}}))
		}
	})
	require.True(t, done)
	require.False(t, vet.Passed(v))
	require.EqualValues(t, 2, v.Errors)
	require.Equal(t, []string{"came back different at byte 5242880", "could not be read at byte 9437184"}, v.Places)

	_, err := l.Pull("A1")
	require.NoError(t, err)
	v = h.Vet(control.Vetting{Size: size, Started: at}, d, "A1", nil, func(control.Vetting) {})
	require.Equal(t, state.TaskFailed, v.State)
	require.False(t, vet.Passed(v))
	require.Contains(t, v.Result, "pulled out")
}

func TestASurfaceTestNamesPlacesToTheBlockAndWhatTheyAreFor(t *testing.T) {
	h, l, d := bench(t)
	data := bytes.Repeat([]byte("low water 0412, high water 1038\n"), size/32)
	require.NoError(t, d.WriteAt(data, 0))
	require.NoError(t, l.Unreadable("A1", []lab.Range{{Offset: 3<<20 + 8192, Length: 8192}, {Offset: 7 << 20, Length: 4096}}))
	s := &vet.Surface{Host: h, Surface: control.Surface{Size: size, Heal: true}, Disk: d, Spindle: "A1",
		Pacer:  task.NewPacer(func() task.Pace { return task.Pace{Mode: task.Full} }, nil),
		Reopen: func() (disk.Disk, error) { return l.OpenReadOnly("A1") },
		Note:   func(control.Surface) {}, Warn: func(int64, error) {}}
	s.Member = func() *vet.Member {
		return &vet.Member{Uses: func(off, n int64) []state.Use { return []state.Use{{Offset: off, Length: n, What: "data"}} },
			Heal: func(off, n int64) (int64, int64, error) {
				if off == 7<<20 {
					return 0, n / 4096, nil // it has no redundancy left
				}
				return n / 4096, 0, d.WriteAt(data[off:off+n], off)
			}}
	}
	s.Run(nil)
	require.Equal(t, state.TaskDone, s.State)
	require.Len(t, s.Places, 2)
	require.Equal(t, control.BadPlace{Offset: 3<<20 + 8192, Length: 8192, Mended: true, Uses: []state.Use{{Offset: 3<<20 + 8192, Length: 8192, What: "data"}}}, s.Places[0])
	require.False(t, s.Places[1].Mended)
	require.EqualValues(t, 4096, s.Bad)
	require.Equal(t, "4.0KiB in 1 place cannot be read; 1 place mended, 2 blocks rewritten, 1 block could not be restored", s.Result)
	require.Equal(t, data[:7<<20], fresh(t, l, 0, 7<<20), "a test writes nothing but what is healed")
}

func TestASurfaceTestGivesWayAndIsHeldAtOnce(t *testing.T) {
	h, _, d := bench(t)
	var noted []state.TaskState
	stop := make(chan struct{})
	rebuild := &queue.Entry{Kind: state.TaskRebuild, Array: "id", Name: "tides", Disks: []string{"A1"}}
	s := &vet.Surface{Host: h, Surface: control.Surface{Size: size}, Disk: d, Spindle: "A1", Member: func() *vet.Member { return nil },
		Pacer: task.NewPacer(func() task.Pace { return task.Pace{Mode: task.Full} }, nil)}
	came := make(chan struct{})
	s.Note = func(n control.Surface) {
		noted = append(noted, n.State)
		switch {
		case n.Cursor == 4<<20 && n.State == state.TaskRunning:
			go func() { h.Queue.Enter(rebuild, nil); close(came) }()
			for !h.Queue.Yields(&queue.Entry{Kind: state.TaskSurface, Disks: []string{"A1"}}) { // until it has come
				runtime.Gosched()
			}
		case n.State == state.TaskWaiting:
			go func() { <-came; h.Queue.Leave(rebuild) }()
		case n.Cursor == 9<<20:
			close(stop)
		}
	}
	s.Run(stop)
	require.Contains(t, noted, state.TaskWaiting, "a rebuild goes first")
	require.Equal(t, state.TaskPaused, s.State)
	require.EqualValues(t, 9<<20, s.Cursor)
	require.Nil(t, s.ETA)
}
