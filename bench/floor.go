package main

import (
	"crypto/subtle"
	"fmt"
	"hash/crc32"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"nidalo/core/parity"
	"nidalo/core/record"
)

// bare measures what the scheme of level 5 must do to its members for each block of 4 KiB, and nothing else: no cache, no
// tables, no protocol. The time left when the peer's own share is taken away, together with the peer's time for a request,
// is a floor below which no engine with this scheme can go on this machine.
type bare struct {
	files [4]*os.File
	plain *os.File
}

const bareSize = 768 << 20

func newBare(dir string) *bare {
	b := &bare{}
	make1 := func(name string, size int64) *os.File {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			log.Fatal(err)
		}
		buf := make([]byte, 1<<20)
		for i := range buf {
			buf[i] = byte(i * 7)
		}
		for at := int64(0); at < size; at += 1 << 20 {
			if _, err := f.WriteAt(buf, at); err != nil {
				log.Fatal(err)
			}
		}
		return f
	}
	for i := range b.files {
		b.files[i] = make1(fmt.Sprint("member", i), bareSize/3)
	}
	b.plain = make1("bare-plain", bareSize)
	return b
}

func (b *bare) close() {
	for _, f := range append(b.files[:], b.plain) {
		_ = f.Close()
		_ = os.Remove(f.Name())
	}
}

// each runs f from a number of goroutines for a second and returns the seconds one takes, all of them together.
func each(workers int, f func(r *rand.Rand, buf [][]byte)) float64 {
	var n int64
	var mu sync.Mutex
	var wg sync.WaitGroup
	began := time.Now()
	for w := range workers {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 7))
			bufs := make([][]byte, 4)
			for i := range bufs {
				bufs[i] = make([]byte, 4096)
			}
			mine := int64(0)
			for time.Since(began) < time.Second {
				f(r, bufs)
				mine++
			}
			mu.Lock()
			n += mine
			mu.Unlock()
		})
	}
	wg.Wait()
	return time.Since(began).Seconds() / float64(n)
}

var table = crc32.MakeTable(crc32.Castagnoli)

func must(_ int, err error) {
	if err != nil {
		log.Fatal(err)
	}
}

// update is the scheme's work for one block: old data and parity are read and verified, the new parity is computed, both
// are written to journals and in place.
func (b *bare) update(r *rand.Rand, bufs [][]byte, sync bool) {
	d := r.IntN(4)
	data, parity := b.files[d], b.files[(d+1)%4]
	at := r.Int64N(bareSize/3/4096-1024) * 4096
	must(data.ReadAt(bufs[0], at+4<<20))
	must(parity.ReadAt(bufs[1], at+4<<20))
	sum := crc32.Checksum(bufs[0], table) + crc32.Checksum(bufs[1], table)
	subtle.XORBytes(bufs[1], bufs[1], bufs[0])
	subtle.XORBytes(bufs[1], bufs[1], bufs[2])
	sum += crc32.Checksum(bufs[1], table) + crc32.Checksum(bufs[2], table)
	bufs[3][0] = byte(sum)
	journal := r.Int64N(512) * 4096
	must(data.WriteAt(bufs[2], journal))
	must(parity.WriteAt(bufs[1], journal))
	if sync {
		both(data.Sync, parity.Sync)
	}
	must(data.WriteAt(bufs[2], at+4<<20))
	must(parity.WriteAt(bufs[1], at+4<<20))
}

func both(f, g func() error) {
	done := make(chan error)
	go func() { done <- f() }()
	if err := g(); err != nil {
		log.Fatal(err)
	}
	if err := <-done; err != nil {
		log.Fatal(err)
	}
}

func (b *bare) one(r *rand.Rand, bufs [][]byte, sync bool) {
	must(b.plain.WriteAt(bufs[2], r.Int64N(bareSize/4096)*4096))
	if sync {
		if err := b.plain.Sync(); err != nil {
			log.Fatal(err)
		}
	}
}

// whole is the scheme's work for whole stripes of level 6 of 8 from several workers: what goes to the members, once or, for an overwrite,
// to a journal first. It returns the seconds that a mebibyte of data takes, all workers together, and those of one plain file.
func whole(dir string, overwrite bool) (scheme, one float64) {
	const k, n, rows = 6, 8, 1500
	files := make([]*os.File, 2*n+1)
	for i := range files {
		f, err := os.Create(filepath.Join(dir, fmt.Sprint("whole", i)))
		if err != nil {
			log.Fatal(err)
		}
		defer os.Remove(f.Name())
		defer f.Close()
		if overwrite || i > n && i <= 2*n { // journals have their room
			buf := make([]byte, 1<<20)
			length := int64(rows * strip)
			if i == 0 {
				length *= k
			} else if i > n {
				length = 64 << 20
			}
			for at := int64(0); at < length; at += 1 << 20 {
				must(f.WriteAt(buf, at))
			}
		}
		files[i] = f
	}
	work := func(f func(row int64, s [][]byte)) float64 {
		var next atomic.Int64
		var wg sync.WaitGroup
		began := time.Now()
		for range 2 {
			wg.Go(func() {
				s := strips(n)
				for row := next.Add(1) - 1; row < rows; row = next.Add(1) - 1 {
					f(row, s)
				}
			})
		}
		wg.Wait()
		for _, f := range files {
			if err := f.Sync(); err != nil {
				log.Fatal(err)
			}
		}
		return time.Since(began).Seconds() / (rows * k * strip / (1 << 20))
	}
	scheme = work(func(row int64, s [][]byte) {
		parity.Encode(s[k:], s[:k])
		for i := range s {
			_ = record.SumsOf(s[i])
			if overwrite {
				must(files[1+n+i].WriteAt(s[i], row*strip%(64<<20)))
			}
		}
		for i := range s {
			must(files[1+i].WriteAt(s[i], row*strip))
		}
	})
	one = work(func(row int64, s [][]byte) {
		for i := range k {
			must(files[0].WriteAt(s[i], (row*k+int64(i))*strip))
		}
	})
	return scheme, one
}

// wholes adds, behind the rows of large writes, what the bare system calls of the scheme leave of the peer's speed.
func wholes(place string) {
	for _, name := range []string{"sequential write into fresh space, level 6 of 8", "sequential overwrite, level 6 of 8"} {
		for _, r := range rows {
			if r.Place != place || r.Name != name || r.Peer != "nbdkit" || !wanted(name) {
				continue
			}
			dir, err := folder(place, "nb")
			if err != nil {
				log.Fatal(err)
			}
			figures := calmest(r.Name+", bare", *rounds, func(int) []float64 {
				s, p := whole(dir, name == "sequential overwrite, level 6 of 8")
				return []float64{s, p}
			})
			_ = os.RemoveAll(dir)
			s, p := median(figures[0]), median(figures[1])
			floor := 1/r.Theirs + max(0, s-p)
			add(row{Place: place, Name: name + ": against the bare system calls of the scheme", Ours: r.Ours, Theirs: 1 / floor, Unit: "MiB/s", Peer: "bare", Target: 0.9,
				Limit: fmt.Sprintf("%.2f ms a mebibyte for the members where one file takes %.2f; with the peer's %.2f ms no more than %.2f of it can be had", s*1e3, p*1e3, 1e3/r.Theirs, 1/floor/r.Theirs)})
		}
	}
}

// floors adds, behind the rows of small writes, what the bare system calls of the scheme leave of the peer's speed.
func floors(place string) {
	const random, flushed, many = "4 KiB random write, depth 32, level 5 of 4", "4 KiB write + flush each, depth 1, level 5 of 4", "4 KiB write + flush each, 16 clients, level 5 of 4"
	if !wanted(random) && !wanted(flushed) && !wanted(many) {
		return
	}
	dir, err := folder(place, "nb")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	b := newBare(dir)
	defer b.close()
	for _, c := range []struct {
		name    string
		sync    bool
		workers int
		target  float64
	}{{random, false, 2, 0.7}, {flushed, true, 1, 0.75}, {many, true, 16, 0.75}} {
		for _, r := range rows {
			if r.Place != place || r.Name != c.name || r.Peer != "nbdkit" || !wanted(c.name) {
				continue
			}
			figures := calmest(r.Name+", bare", *rounds, func(int) []float64 {
				return []float64{each(c.workers, func(r *rand.Rand, bufs [][]byte) { b.update(r, bufs, c.sync) }),
					each(c.workers, func(r *rand.Rand, bufs [][]byte) { b.one(r, bufs, c.sync) })}
			})
			s, p := median(figures[0]), median(figures[1])
			floor := 1/r.Theirs + max(0, s-p)
			add(row{Place: place, Name: c.name + ": against the bare system calls of the scheme", Ours: r.Ours, Theirs: 1 / floor, Unit: "op/s", Peer: "bare", Target: c.target,
				Limit: fmt.Sprintf("%.1f µs a block for the members where one file takes %.1f; with the peer's %.1f µs a request no more than %.2f of it can be had", s*1e6, p*1e6, 1e6/r.Theirs, 1/floor/r.Theirs)})
		}
	}
}
