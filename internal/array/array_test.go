package array_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/core/state"
	"nidalo/internal/array"
	"nidalo/internal/array/member"
	"nidalo/internal/array/roster"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

const mib = 1 << 20

// folder holds the member files of one test.
type folder struct {
	t    require.TestingT
	path string
	n    int
}

func newFolder(t *testing.T) *folder {
	if _, again := together.LoadOrStore(t, true); !again {
		t.Parallel()
	}
	return &folder{t: t, path: t.TempDir()}
}

// together holds the tests that run in parallel: most of their time they wait for something.
var together sync.Map

// disk makes a sparse file and opens it.
func (f *folder) disk(size int64) disk.Disk {
	f.n++
	path := filepath.Join(f.path, fmt.Sprintf("disk%d", f.n))
	require.NoError(f.t, os.WriteFile(path, nil, 0o600))
	require.NoError(f.t, os.Truncate(path, size))
	return f.open(path)
}

func (f *folder) open(path string) disk.Disk {
	d, err := disk.Open(path)
	require.NoError(f.t, err)
	return d
}

func (f *folder) disks(n int, size int64) []disk.Disk {
	out := make([]disk.Disk, n)
	for i := range out {
		out[i] = f.disk(size)
	}
	return out
}

// reopen finds the array again by what is on the disks of the folder.
func (f *folder) reopen(cfg array.Config) (*array.Array, error) {
	return array.Open(f.judge(), cfg)
}

func (f *folder) judge() roster.Set {
	paths, err := filepath.Glob(filepath.Join(f.path, "disk*"))
	require.NoError(f.t, err)
	var found []roster.Candidate
	for _, p := range paths {
		d := f.open(p)
		if r, _ := disk.ReadRecord(d); r != nil {
			found = append(found, roster.Candidate{Disk: d, Record: r})
		} else {
			_ = d.Close()
		}
	}
	return roster.Judge(found)
}

func create(t require.TestingT, level layout.Level, strip int64, disks []disk.Disk) *array.Array {
	a, err := array.Create(array.Plan{Name: "tides", Level: level, Strip: strip, Disks: disks}, array.Config{Cache: 4 * mib})
	require.NoError(t, err)
	return a
}

func noise(seed uint64, n int) []byte {
	out := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), byte(seed >> 16), byte(seed >> 24)})
	_, _ = r.Read(out)
	return out
}

// TestAnArrayIsAByteSlice: whatever is done to an array, healthy or with any losses it survives, it reads as a plain
// slice of bytes would.
func TestAnArrayIsAByteSlice(t *testing.T) {
	base := t.TempDir()
	round := 0
	rapid.Check(t, func(t *rapid.T) {
		round++
		f := &folder{t: t, path: filepath.Join(base, fmt.Sprint(round))}
		require.NoError(t, os.Mkdir(f.path, 0o700))
		defer os.RemoveAll(f.path)
		level := rapid.SampledFrom(layout.Levels()).Draw(t, "level")
		least, _ := layout.Needs(level)
		n := least + rapid.IntRange(0, 3).Draw(t, "more")
		if level == layout.Mirrors || level == layout.Parities1 || level == layout.Parities2 {
			n = (n + 1) &^ 1
		}
		strip := int64(layout.MinStrip) << rapid.IntRange(0, 3).Draw(t, "strip")
		a := create(t, level, strip, f.disks(n, 10*mib))
		size := min(a.Capacity(), 6*mib)
		want := make([]byte, size)
		start := a.Capacity() - size // the end of the array, and seams between members of concat
		if level != layout.Concat {
			start = 0
		}
		lay := a.Layout()
		lost := map[int]bool{}
		steps := rapid.IntRange(1, 25).Draw(t, "steps")
		for range steps {
			off := rapid.Int64Range(0, size-1).Draw(t, "off")
			length := rapid.Int64Range(1, min(size-off, 900<<10)).Draw(t, "length")
			if rapid.Bool().Draw(t, "aligned") {
				off &^= 4095
				length = max(length&^4095, 4096)
				length = min(length, size-off)
			}
			switch rapid.IntRange(0, 6).Draw(t, "op") {
			case 0, 1, 2:
				p := noise(uint64(rapid.Uint32().Draw(t, "data")), int(length))
				require.NoError(t, a.WriteAt(p, start+off))
				copy(want[off:], p)
			case 3:
				require.NoError(t, a.Zero(start+off, length))
				clear(want[off : off+length])
			case 4:
				require.NoError(t, a.Flush())
			case 5:
				got := make([]byte, length)
				require.NoError(t, a.ReadAt(got, start+off))
				require.True(t, bytes.Equal(want[off:off+length], got), "read %d+%d", off, length)
			case 6:
				slot := rapid.IntRange(0, n-1).Draw(t, "slot")
				if !lost[slot] && lay.Survives(func(s int) bool { return lost[s] || s == slot }) {
					lost[slot] = true
					require.NoError(t, a.Fail(slot, false))
				}
			}
		}
		got := make([]byte, size)
		require.NoError(t, a.ReadAt(got, start))
		require.True(t, bytes.Equal(want, got))
		require.NoError(t, a.Close())
		a, err := f.reopen(array.Config{})
		require.NoError(t, err)
		require.NoError(t, a.ReadAt(got, start))
		require.True(t, bytes.Equal(want, got), "after closing and opening")
		for slot := range lost {
			require.NoError(t, a.Replace(slot, f.disk(11*mib)))
		}
		a.WaitTasks()
		require.Equal(t, state.Healthy, a.Condition())
		require.NoError(t, a.ReadAt(got, start))
		require.True(t, bytes.Equal(want, got), "after the rebuild")
		result, err := a.CheckNow(false)
		require.NoError(t, err)
		require.Zero(t, result.Mismatches, "%+v", result)
		require.NoError(t, a.Close())
	})
}

func TestWrittenRegionsAreKnownToTheBlock(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "nidalo")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		f := &folder{t: t, path: dir}
		a := create(t, layout.Parity1, 16<<10, f.disks(3, 10*mib))
		defer a.Abandon()
		blocks := a.Capacity() / 4096
		written := make([]bool, blocks)
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			first := rapid.Int64Range(0, blocks-1).Draw(t, "first")
			n := rapid.Int64Range(1, min(blocks-first, 40)).Draw(t, "n")
			on := rapid.Bool().Draw(t, "write")
			if on {
				require.NoError(t, a.WriteAt(noise(1, int(n*4096)), first*4096))
			} else {
				require.NoError(t, a.Zero(first*4096, n*4096))
			}
			for b := first; b < first+n; b++ {
				written[b] = on
			}
			if rapid.Bool().Draw(t, "flush") {
				require.NoError(t, a.Flush())
			}
		}
		if rapid.Bool().Draw(t, "degraded") {
			require.NoError(t, a.Fail(1, false))
		}
		extents, err := a.Extents(0, a.Capacity(), 1<<20)
		require.NoError(t, err)
		at := int64(0)
		for _, e := range extents {
			for b := at / 4096; b < (at+e.Length)/4096; b++ {
				if written[b] {
					require.True(t, e.Written, "block %d", b)
				} else if a.Condition() == state.Healthy {
					require.False(t, e.Written, "block %d", b)
				}
			}
			at += e.Length
		}
		require.Equal(t, a.Capacity(), at)
	})
}

// TestReadsAndWritesDuringARebuild keeps clients busy on every part of the array while members come and go.
func TestReadsAndWritesDuringARebuild(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity2, 64<<10, f.disks(6, 48*mib))
	const clients = 4
	span := a.Capacity() / clients &^ 4095
	want := make([][]byte, clients)
	var wg sync.WaitGroup
	stop := make(chan struct{})
	for c := range clients {
		want[c] = noise(uint64(c), int(span))
		require.NoError(t, a.WriteAt(want[c], int64(c)*span))
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(c), 7))
			buf := make([]byte, 300<<10)
			for {
				select {
				case <-stop:
					return
				default:
				}
				n := 1 + r.IntN(len(buf)-1)
				off := r.IntN(int(span) - n)
				if r.IntN(2) == 0 {
					copy(want[c][off:], noise(r.Uint64(), n))
					require.NoError(t, a.WriteAt(want[c][off:off+n], int64(c)*span+int64(off)))
				} else {
					require.NoError(t, a.ReadAt(buf[:n], int64(c)*span+int64(off)))
					require.True(t, bytes.Equal(buf[:n], want[c][off:off+n]), "client %d at %d", c, off)
				}
				if r.IntN(20) == 0 {
					require.NoError(t, a.Flush())
				}
			}
		})
	}
	for slot := range 4 {
		require.NoError(t, a.Fail(slot, false))
		require.NoError(t, a.Replace(slot, f.disk(48*mib)))
		a.WaitTasks()
		require.Equal(t, state.Healthy, a.Condition())
	}
	close(stop)
	wg.Wait()
	require.NoError(t, a.Flush())
	result, err := a.CheckNow(false)
	require.NoError(t, err)
	require.Zero(t, result.Mismatches)
	got := make([]byte, span)
	for c := range clients {
		require.NoError(t, a.ReadAt(got, int64(c)*span))
		require.True(t, bytes.Equal(want[c], got))
	}
	require.NoError(t, a.Close())
}

func TestSilentDamageIsNoticedNamedAndPutRight(t *testing.T) {
	for _, level := range []layout.Level{layout.Mirror, layout.Parity1, layout.Parity2, layout.Parity3} {
		t.Run(string(level), func(t *testing.T) {
			f := newFolder(t)
			a := create(t, level, 64<<10, f.disks(5, 24*mib))
			want := noise(3, 4*mib)
			require.NoError(t, a.WriteAt(want, 0))
			require.NoError(t, a.Close())

			set := f.judge()
			place := set.Current[2].Record.Place
			require.NoError(t, set.Current[2].Disk.WriteAt(noise(9, 12<<10), place.DataStart+128<<10))
			a, err := array.Open(set, array.Config{})
			require.NoError(t, err)
			result, err := a.CheckNow(false)
			require.NoError(t, err)
			require.EqualValues(t, 3, result.Mismatches)
			for _, p := range result.Places {
				require.Equal(t, 2, p.Slot, "the check names the member at fault")
			}
			got := make([]byte, len(want))
			require.NoError(t, a.ReadAt(got, 0))
			require.True(t, bytes.Equal(want, got))
			_, err = a.CheckNow(true)
			require.NoError(t, err)
			result, err = a.CheckNow(false)
			require.NoError(t, err)
			require.Zero(t, result.Mismatches)
			require.NotZero(t, a.MemberStates()[2].Errors.Checksum)
			require.NoError(t, a.Close())
		})
	}
}

func TestAMemberWithManyErrorsIsFailingAndThenFailed(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 64<<10, f.disks(3, 24*mib))
	want := noise(3, 8*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Close())
	set := f.judge()
	place := set.Current[1].Record.Place
	require.NoError(t, set.Current[1].Disk.WriteAt(noise(9, 400<<10), place.DataStart))
	a, err := array.Open(set, array.Config{Limits: member.Limits{Failing: 5, Failed: 60}})
	require.NoError(t, err)
	defer a.Abandon()
	got := make([]byte, 64<<10)
	require.NoError(t, a.ReadAt(got, 64<<10)) // the first strip of slot 1
	require.True(t, bytes.Equal(want[64<<10:128<<10], got))
	require.Eventually(t, func() bool { return a.MemberStates()[1].Condition == record.Failing }, 5*time.Second, time.Millisecond)
	require.Equal(t, state.Healthy, a.Condition(), "it still serves")
	got = make([]byte, len(want))
	require.NoError(t, a.ReadAt(got, 0))
	require.True(t, bytes.Equal(want, got))
	require.Eventually(t, func() bool { return a.MemberStates()[1].Condition == record.Failed }, 5*time.Second, time.Millisecond)
	require.NoError(t, a.ReadAt(got, 0))
	require.True(t, bytes.Equal(want, got))
}

func TestBeyondRedundancyExactlyThoseBlocksAreErrors(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 64<<10, f.disks(3, 24*mib))
	want := noise(3, 2*mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Close())
	set := f.judge()
	for slot := range 2 {
		require.NoError(t, set.Current[slot].Disk.WriteAt(noise(uint64(slot), 4096), set.Current[slot].Record.Place.DataStart+8192))
	}
	a, err := array.Open(set, array.Config{})
	require.NoError(t, err)
	defer a.Abandon()
	bad := 0
	for off := int64(0); off < int64(len(want)); off += 4096 {
		got := make([]byte, 4096)
		if err := a.ReadAt(got, off); err != nil {
			require.ErrorIs(t, err, array.ErrUnreadable)
			bad++
			continue
		}
		require.True(t, bytes.Equal(want[off:off+4096], got))
	}
	require.Equal(t, 2, bad, "two data blocks of one column; the other columns are whole")
}

func TestAStaleMemberNeverJoins(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Mirror, 64<<10, f.disks(3, 24*mib))
	require.NoError(t, a.WriteAt(noise(1, mib), 0))
	require.NoError(t, a.Fail(0, false))
	want := noise(2, mib)
	require.NoError(t, a.WriteAt(want, 0))
	require.NoError(t, a.Close())
	set := f.judge()
	require.Len(t, set.Stale, 1)
	require.Nil(t, set.Current[0].Disk)
	a, err := array.Open(set, array.Config{})
	require.NoError(t, err)
	got := make([]byte, mib)
	require.NoError(t, a.ReadAt(got, 0))
	require.True(t, bytes.Equal(want, got))
	require.Equal(t, record.Failed, a.MemberStates()[0].Condition)
	a.Abandon()
}

func TestHalvesThatPartedAreNotMixed(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Mirror, 64<<10, f.disks(2, 24*mib))
	require.NoError(t, a.Close())
	whole := f.judge()
	for slot := range 2 {
		half := whole
		half.Current = make([]roster.Candidate, 2)
		half.Current[slot] = whole.Current[slot]
		a, err := array.Open(half, array.Config{})
		require.NoError(t, err)
		require.NoError(t, a.WriteAt(noise(uint64(slot), 4096), 0))
		require.NoError(t, a.Close())
	}
	_, err := f.reopen(array.Config{})
	require.ErrorIs(t, err, roster.ErrDoubt)
}

func TestCreatingCostsNothingInProportionToCapacity(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity2, 64<<10, f.disks(8, 12_000_000_000_000))
	require.Greater(t, a.Capacity(), int64(70_000_000_000_000))
	require.NoError(t, a.WriteAt(noise(1, mib), a.Capacity()-mib))
	require.NoError(t, a.Flush())
	var written int64
	for _, m := range a.MemberStates() {
		info, err := os.Stat(m.Disk.Path)
		require.NoError(t, err)
		written += allocated(info)
	}
	require.Less(t, written, int64(16*mib), "bytes allocated on eight members of 12 TB")
	require.Less(t, a.Used(), int64(64*mib))
	require.NoError(t, a.Fail(3, false))
	require.NoError(t, a.Replace(3, f.disk(12_000_000_000_000)))
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
	require.NoError(t, a.Close())
}

func TestAMemberThatIsTooSmallIsRefusedWithBothSizes(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 64<<10, f.disks(3, 24*mib))
	defer a.Abandon()
	d := f.disk(20 * mib)
	err := a.Replace(0, d)
	require.ErrorContains(t, err, fmt.Sprint(20*mib))
	require.ErrorContains(t, err, fmt.Sprint(a.NeedSize(0)))
	require.Equal(t, record.Active, a.MemberStates()[0].Condition, "nothing was done")
	buf := make([]byte, 20*mib)
	require.NoError(t, d.ReadAt(buf, 0))
	require.True(t, bytes.Equal(make([]byte, len(buf)), buf))
	exact := f.disk(a.NeedSize(0))
	require.NoError(t, a.Replace(0, exact))
	a.WaitTasks()
	require.Equal(t, state.Healthy, a.Condition())
}

func TestTheLastMemberIsNotFailedWithoutForce(t *testing.T) {
	f := newFolder(t)
	a := create(t, layout.Parity1, 64<<10, f.disks(3, 24*mib))
	defer a.Abandon()
	require.NoError(t, a.Fail(0, false))
	require.Equal(t, state.Exposed, a.Condition())
	require.ErrorIs(t, a.Fail(1, false), task.ErrMargin)
	require.NoError(t, a.WriteAt(noise(1, 4096), 0))
	require.NoError(t, a.Fail(1, true))
	require.Equal(t, state.Failed, a.Condition())
	require.ErrorIs(t, a.ReadAt(make([]byte, 4096), 0), array.ErrFailed)
}

// In steady state a read, and a write into the cache, take no memory that has to be collected.
func TestReadsAndWritesTakeNoMemory(t *testing.T) {
	f := &folder{t: t, path: t.TempDir()} // by itself: what others allocate would count
	a, err := array.Create(array.Plan{Name: "tides", Level: layout.Parity2, Strip: 64 << 10, Disks: f.disks(5, 48*mib)}, array.Config{})
	require.NoError(t, err)
	defer a.Abandon()
	p := noise(1, 8*mib)
	require.NoError(t, a.WriteAt(p, 0))
	require.NoError(t, a.Flush())
	off := int64(0)
	next := func() int64 {
		off = (off + 37*4096) % (8 * mib)
		return off
	}
	require.Eventually(t, func() bool { // once the blocks have left the cache
		return testing.AllocsPerRun(200, func() {
			if _, err := a.ReadSparse(p[:4096], next()); err != nil {
				t.Error(err)
			}
		}) == 0
	}, 10*time.Second, 10*time.Millisecond)
	client := a.NewClient()
	write := func() {
		if err := client.WriteAt(p[:4096], next()%mib); err != nil {
			t.Error(err)
		}
	}
	for range 2000 {
		write()
	}
	require.Less(t, testing.AllocsPerRun(500, write), 1.0)
}
