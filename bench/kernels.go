package main

import (
	"math/rand/v2"
	"time"

	"github.com/klauspost/reedsolomon"

	"nidalo/core/parity"
)

const strip = 64 << 10

func strips(n int) [][]byte {
	r := rand.NewChaCha8([32]byte{1})
	out := make([][]byte, n)
	for i := range out {
		out[i] = make([]byte, strip)
		_, _ = r.Read(out[i])
	}
	return out
}

// speed is bytes of data per second of f, which works on one stripe of k data strips.
func speed(k int, f func()) float64 {
	n := 0
	began := time.Now()
	for time.Since(began) < 300*time.Millisecond {
		for range 50 {
			f()
		}
		n += 50
	}
	return float64(n*k*strip) / time.Since(began).Seconds()
}

// kernels compares with a general erasure-coding library, one goroutine each.
func kernels() {
	for _, c := range []struct {
		name    string
		k, m    int
		recover bool
		target  float64
	}{
		{"P+Q of 8+2", 8, 2, false, 1.5},
		{"P+Q+R of 8+3", 8, 3, false, 1.5},
		{"recover two of 8+2", 8, 2, true, 1.2},
	} {
		if !wanted(c.name) {
			continue
		}
		enc, err := reedsolomon.New(c.k, c.m, reedsolomon.WithMaxGoroutines(1))
		if err != nil {
			panic(err)
		}
		a, b := strips(c.k+c.m), strips(c.k+c.m)
		parity.Encode(a[c.k:], a[:c.k])
		if err := enc.Encode(b); err != nil {
			panic(err)
		}
		ours := func() { parity.Encode(a[c.k:], a[:c.k]) }
		theirs := func() { _ = enc.Encode(b) }
		if c.recover {
			ours = func() { _ = parity.Recover(a, c.k, []int{1, 5}) }
			theirs = func() {
				b[1], b[5] = b[1][:0], b[5][:0]
				_ = enc.Reconstruct(b)
			}
		}
		var x, y []float64
		for range *rounds * 3 {
			x = append(x, speed(c.k, ours)/1e6)
			y = append(y, speed(c.k, theirs)/1e6)
		}
		add(row{Place: "cpu", Name: c.name, Ours: median(x), Theirs: median(y), Unit: "MB/s", Peer: "the library", Target: c.target,
			Limit: "the second-level cache: all strips of a stripe are touched once"})
	}
}
