package array_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"nidalo/core/layout"
	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/array"
	"nidalo/internal/array/task"
	"nidalo/internal/disk"
)

// Benchmarks of the engine without a network, on files in memory where there is such a place.
func benchArray(b *testing.B, level layout.Level, members int) *array.Array {
	dir, err := os.MkdirTemp("/dev/shm", "nidalo")
	if err != nil {
		dir = b.TempDir()
	}
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	f := &folder{t: b, path: dir}
	a, err := array.Create(array.Plan{Name: "t", Level: level, Strip: 64 << 10, Disks: f.disks(members, 512*mib)}, array.Config{})
	require.NoError(b, err)
	b.Cleanup(a.Abandon)
	p := noise(1, mib)
	for off := int64(0); off < 512*mib; off += mib {
		require.NoError(b, a.WriteAt(p, off))
	}
	require.NoError(b, a.Flush())
	return a
}

func BenchmarkRandomWrite4K(b *testing.B) {
	a := benchArray(b, layout.Parity1, 4)
	p := noise(1, 4096)
	b.SetBytes(4096)
	var seed atomic.Uint64
	b.ResetTimer()
	b.RunParallel(func(pb *testing.PB) {
		r := rand.New(rand.NewPCG(seed.Add(1), 1))
		for pb.Next() {
			if err := a.WriteAt(p, r.Int64N(512*mib/4096)*4096); err != nil {
				b.Fatal(err)
			}
		}
	})
	require.NoError(b, a.Flush())
}

func BenchmarkWriteFlush4K(b *testing.B) {
	a := benchArray(b, layout.Parity1, 4)
	p := noise(1, 4096)
	c, r := a.NewClient(), rand.New(rand.NewPCG(1, 1))
	b.ReportAllocs()
	for b.Loop() {
		if c.WriteAt(p, r.Int64N(512*mib/4096)*4096) != nil || c.Flush() != nil {
			b.Fatal("failed")
		}
	}
}

func BenchmarkSequential(b *testing.B) {
	for _, write := range []bool{false, true} {
		b.Run(map[bool]string{false: "read", true: "overwrite"}[write], func(b *testing.B) {
			a := benchArray(b, layout.Parity2, 8)
			p := noise(1, mib)
			b.SetBytes(mib)
			at := int64(0)
			for b.Loop() {
				var err error
				if write {
					err = a.WriteAt(p, at)
				} else {
					err = a.ReadAt(p, at)
				}
				require.NoError(b, err)
				at = (at + mib) % (512 * mib)
			}
		})
	}
}

func BenchmarkWriteFlush4KOf16(b *testing.B) {
	a := benchArray(b, layout.Parity1, 4)
	p := noise(1, 4096)
	b.SetParallelism(8)
	b.ReportAllocs()
	var seed atomic.Uint64
	b.RunParallel(func(pb *testing.PB) {
		c, r := a.NewClient(), rand.New(rand.NewPCG(seed.Add(1), 1))
		for pb.Next() {
			if c.WriteAt(p, r.Int64N(512*mib/4096)*4096) != nil || c.Flush() != nil {
				b.Error("failed")
			}
		}
	})
}

func BenchmarkRandomRead4K(b *testing.B) {
	a := benchArray(b, layout.Parity1, 4)
	b.ReportAllocs()
	r := rand.New(rand.NewPCG(1, 1))
	p := make([]byte, 4096)
	for b.Loop() {
		if _, err := a.ReadSparse(p, r.Int64N(512*mib/4096)*4096); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkWriteIntoTheCache4K(b *testing.B) {
	a := benchArray(b, layout.Parity1, 4)
	b.ReportAllocs()
	p := noise(1, 4096)
	for i := 0; b.Loop(); i++ {
		if a.WriteAt(p, int64(i%1024)*4096) != nil {
			b.Fatal("failed")
		}
	}
}

// BenchmarkConversion lays out level 6 of 8 anew, with a disk more.
func BenchmarkConversion(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		dir, err := os.MkdirTemp("/dev/shm", "conversion")
		require.NoError(b, err)
		open := func(i int) disk.Disk {
			path := filepath.Join(dir, fmt.Sprintf("disk%d", i))
			require.NoError(b, os.WriteFile(path, nil, 0o600))
			require.NoError(b, os.Truncate(path, 96*mib))
			d, err := disk.Open(path)
			require.NoError(b, err)
			return d
		}
		var disks []disk.Disk
		for i := range 8 {
			disks = append(disks, open(i))
		}
		a, err := array.Create(array.Plan{Name: "tides", Level: layout.Parity2, Strip: layout.DefaultStrip, Disks: disks}, array.Config{})
		require.NoError(b, err)
		a.SetPace(task.Pace{Mode: task.Full})
		data := noise(1, 8*mib)
		for off := int64(0); off+int64(len(data)) <= a.Capacity(); off += int64(len(data)) {
			require.NoError(b, a.WriteAt(data, off))
		}
		require.NoError(b, a.Flush())
		b.SetBytes(a.Capacity())
		b.StartTimer()
		require.NoError(b, a.Convert(task.Target{Level: layout.Parity2}, []disk.Disk{open(8)}))
		a.WaitTasks()
		b.StopTimer()
		require.Equal(b, 9, a.Layout().Members)
		require.Nil(b, a.Record().Turn)
		require.NoError(b, a.Close())
		require.NoError(b, os.RemoveAll(dir))
		b.StartTimer()
	}
}

// BenchmarkConversionBare does what BenchmarkConversion has to do and nothing else: each strip is read, summed and held against the sum, the new parity is
// computed, and each new strip summed and written, from two goroutines.
func BenchmarkConversionBare(b *testing.B) {
	const strip, old, new, size = 64 << 10, 8, 9, 90 * mib
	dir, err := os.MkdirTemp("/dev/shm", "bare")
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(dir) })
	var files []*os.File
	for i := range new {
		f, err := os.Create(filepath.Join(dir, fmt.Sprint(i)))
		require.NoError(b, err)
		if i < old {
			_, err = f.Write(noise(uint64(i), size))
			require.NoError(b, err)
		}
		files = append(files, f)
	}
	const data = size / strip * (old - 2) // strips
	b.SetBytes(data * strip)
	for b.Loop() {
		to := make([]*os.File, new)
		for i := range to {
			to[i], err = os.Create(filepath.Join(dir, fmt.Sprint("to", i)))
			require.NoError(b, err)
		}
		var g sync.WaitGroup
		for half := range 2 {
			g.Go(func() {
				bufs := make([][]byte, old)
				for i := range bufs {
					bufs[i] = make([]byte, strip)
				}
				next, rows := make([][]byte, 0, new-2), [][]byte{make([]byte, strip), make([]byte, strip)}
				row := 0
				for r := half; r < size/strip; r += 2 {
					for i := range bufs {
						if _, err := files[i].ReadAt(bufs[i], int64(r)*strip); err != nil {
							panic(err)
						}
						record.SumsOf(bufs[i])
					}
					for i := range old - 2 {
						next = append(next, bytes.Clone(bufs[i]))
						if len(next) < new-2 {
							continue
						}
						parity.Encode(rows, next)
						for j, s := range append(next, rows...) {
							record.SumsOf(s)
							if _, err := to[j].WriteAt(s, int64(2*row+half)*strip); err != nil {
								panic(err)
							}
						}
						next, row = next[:0], row+1
					}
				}
			})
		}
		g.Wait()
		for _, f := range to {
			_ = f.Close()
		}
	}
}
