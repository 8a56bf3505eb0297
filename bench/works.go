package main

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/parity"
	"nidalo/core/record"
)

// A bare work is the loop that does on files what a rebuild, a check or a retirement must do, strip by strip, and nothing else: it reads,
// sums every block, computes, and writes, from as many goroutines as the machine has processors. It has no cursor that survives a
// crash, no clients and no tables.
type bareWork struct {
	files []*os.File
	bytes int64 // of each file
}

// newBareWork writes n files, of which the last two are the parity of the others.
func newBareWork(dir string, n int, bytes int64) *bareWork {
	b := &bareWork{bytes: bytes}
	row := strips(n)
	parity.Encode(row[n-2:], row[:n-2])
	for i, buf := range row {
		f, err := os.Create(filepath.Join(dir, fmt.Sprint("work", i)))
		if err != nil {
			log.Fatal(err)
		}
		for at := int64(0); at < bytes; at += strip {
			must(f.WriteAt(buf, at))
		}
		b.files = append(b.files, f)
	}
	return b
}

func (b *bareWork) close() {
	for _, f := range b.files {
		_ = f.Close()
		_ = os.Remove(f.Name())
	}
}

// run does the work with f for each row, of which the strips of all files but those that are lost were read and summed, and returns how long
// it took. The strips of some files go to new ones. There are two strips to spare.
func (b *bareWork) run(lost, write []int, f func(row, spare [][]byte)) time.Duration {
	to := map[int]*os.File{}
	for _, i := range write {
		f, err := os.Create(filepath.Join(filepath.Dir(b.files[0].Name()), fmt.Sprint("work-to", i)))
		if err != nil {
			log.Fatal(err)
		}
		defer os.Remove(f.Name())
		defer f.Close()
		take(f, b.bytes)
		to[i] = f
	}
	var next atomic.Int64
	var wg sync.WaitGroup
	began := time.Now()
	for range 2 {
		wg.Go(func() {
			bufs, spare := strips(len(b.files)), strips(2)
			for at := next.Add(strip) - strip; at < b.bytes; at = next.Add(strip) - strip {
				for i, file := range b.files {
					if !slices.Contains(lost, i) {
						must(file.ReadAt(bufs[i], at))
						_ = record.SumsOf(bufs[i])
					}
				}
				f(bufs, spare)
				for i, f := range to {
					_ = record.SumsOf(bufs[i])
					must(f.WriteAt(bufs[i], at))
				}
			}
		})
	}
	wg.Wait()
	return time.Since(began)
}

// take gives a new file all its room, in memory or on the disk. A disk has it, and to take it from the system costs more than a write. The kernel
// takes memory when it is written, not when it is promised.
func take(f *os.File, bytes int64) {
	buf := make([]byte, 1<<20)
	for at := int64(0); at < bytes; at += int64(len(buf)) {
		must(f.WriteAt(buf[:min(int64(len(buf)), bytes-at)], at))
	}
	warm(f.Name())
}

// take gives the images of blank disks all their room.
func (s *server) take(bays ...string) {
	for _, b := range bays {
		f, err := os.OpenFile(filepath.Join(s.dir, "lab", b, "disk.img"), os.O_RDWR, 0)
		if err != nil {
			log.Fatal(err)
		}
		st, err := f.Stat()
		if err != nil {
			log.Fatal(err)
		}
		take(f, st.Size())
		_ = f.Close()
	}
}

// warm reads files twice. When the pages of a file in memory are read for the first or the second time, the kernel also moves them between its lists, at
// a third of the cost of a check. How the pages were written decides on which of the two.
func warm(paths ...string) {
	buf := make([]byte, 1<<20)
	for range 2 {
		for _, path := range paths {
			f, err := os.Open(path)
			if err != nil {
				log.Fatal(err)
			}
			_, err = io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{f}, buf)
			if err := errors.Join(err, f.Close()); err != nil {
				log.Fatal(err)
			}
		}
	}
}

// warm reads what the images of disks hold.
func (s *server) warm(disks int) {
	var paths []string
	for i := range disks {
		paths = append(paths, filepath.Join(s.dir, "lab", bay(i), "disk.img"))
	}
	warm(paths...)
}

func (b *bareWork) warm() {
	var paths []string
	for _, f := range b.files {
		paths = append(paths, f.Name())
	}
	warm(paths...)
}

// works compares rebuild, check and retirement in memory with their bare loops.
func works(dir, place string) {
	for _, c := range []struct{ members, each int }{{8, 600}, {24, 300}} {
		name := func(what string) string {
			return fmt.Sprintf("%s, level 6 of %d in memory: against the bare loop of it", what, c.members)
		}
		if !wanted(name("rebuild")) && !wanted(name("check")) && !wanted(name("retire")) {
			continue
		}
		figures := calmest(name("works"), few(), func(int) []float64 { return worksOf(dir, c.members, c.each) })
		for i, what := range []string{"check", "retire", "rebuild"} {
			if wanted(name(what)) {
				add(row{Place: place, Name: name(what), Unit: "MiB/s", Peer: "bare", Target: 0.8,
					Limit: "a mebibyte of each member a second; what is between them is the cursor that survives a crash, locks, and tables"}.of(figures[2*i], figures[2*i+1]))
			}
		}
	}
}

// worksOf is how many MiB of each member a check, its bare loop, a retirement, its bare loop, a rebuild and its bare loop do in a second.
func worksOf(dir string, members, each int) []float64 {
	rate := func(took time.Duration) float64 { return float64(each) / took.Seconds() }
	s := array(dir, "6", members, "1GiB")
	defer s.stop()
	fill(s, each*(members-2))
	s.take(bay(members), bay(members+1))
	time.Sleep(4 * time.Second) // until the journals are emptied
	s.warm(members)
	b := newBareWork(dir, members, int64(each)<<20)
	defer b.close()
	b.warm()
	k := members - 2

	var checks, bareChecks []float64
	for range 3 {
		nidalo(s.dir, "check", "-wait", "t")
		checks = append(checks, rate(s.last()))
		bareChecks = append(bareChecks, rate(b.run(nil, nil, func(row, spare [][]byte) {
			parity.Encode(spare, row[:k])
			if !bytes.Equal(spare[0], row[k]) || !bytes.Equal(spare[1], row[k+1]) {
				log.Fatal("the bare check found what is not there")
			}
		})))
	}
	var retired, bareRetired []float64
	one := &bareWork{files: b.files[:1], bytes: b.bytes}
	for from, to, n := bay(1), bay(members), 0; n < 3; from, to, n = to, from, n+1 {
		if n > 0 {
			nidalo(s.dir, "erase", "-yes", to)
		}
		nidalo(s.dir, "retire", "-wait", "t", from, to)
		retired = append(retired, rate(s.last()))
		bareRetired = append(bareRetired, rate(one.run(nil, []int{0}, func(_, _ [][]byte) {})))
	}
	nidalo(s.dir, "fail", "-yes", "t", bay(2))
	took, _ := s.rebuild(bay(2), bay(members+1))
	bareRebuild := b.run([]int{2}, []int{2}, func(row, _ [][]byte) { _ = parity.Recover(row, k, []int{2}) })
	return []float64{median(checks), median(bareChecks), median(retired), median(bareRetired), rate(took), rate(bareRebuild)}
}

// last is how long the task that ended last took.
func (s *server) last() time.Duration {
	tasks := s.status().Arrays[0].Tasks
	t := tasks[len(tasks)-1]
	if t.Ended == nil {
		log.Fatalf("the last task has not ended")
	}
	return t.Ended.Sub(t.Started)
}
