//go:build linux

package main

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// most is how long the file is that is exercised, at most.
const most = 4 << 20

// exercise does to a file all that programs do to one, in an order that follows a seed, and compares what is read with what was written: parts of
// pages, growth and truncation, holes, mapped memory, reads that go past the page cache.
//
//	agent exercise FILE SECONDS SEED
func exercise(args []string) error {
	seconds, err1 := strconv.Atoi(args[2])
	seed, err2 := strconv.ParseUint(args[3], 10, 64)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	f, err := os.OpenFile(args[1], os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	x := &exercised{Rand: rand.New(rand.NewPCG(seed, 1)), f: f}
	n := 0
	for end := time.Now().Add(time.Duration(seconds) * time.Second); time.Now().Before(end); n++ {
		if err := x.one(); err != nil {
			return fmt.Errorf("operation %d: %w", n, err)
		}
	}
	fmt.Println(n, "operations")
	return x.cold()
}

type exercised struct {
	*rand.Rand
	f    *os.File
	want []byte
}

func (x *exercised) one() error {
	fd := int(x.f.Fd())
	off := x.IntN(most)
	n := 1 + x.IntN(min(most-off, 1<<(4+x.IntN(15))))
	switch x.IntN(12) {
	case 0, 1, 2:
		x.grow(off + n)
		x.noise(x.want[off : off+n])
		_, err := x.f.WriteAt(x.want[off:off+n], int64(off))
		return err
	case 3:
		if off < len(x.want) {
			x.want = x.want[:off]
		} else {
			x.grow(off)
		}
		return x.f.Truncate(int64(off))
	case 4:
		if end := min(off+n, len(x.want)); off < end {
			clear(x.want[off:end])
		}
		return unix.Fallocate(fd, unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, int64(off), int64(n))
	case 5, 6:
		if len(x.want) == 0 {
			return nil
		}
		p, err := unix.Mmap(fd, 0, len(x.want), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
		if err != nil {
			return err
		}
		defer unix.Munmap(p)
		if from, end := min(off, len(p)), min(off+n, len(p)); x.IntN(2) == 0 {
			x.noise(x.want[from:end])
			copy(p[from:end], x.want[from:end])
		}
		return same(p, x.want)
	case 7:
		return x.f.Sync()
	case 8:
		return x.cold()
	}
	got := make([]byte, max(min(n, len(x.want)-off), 0))
	if _, err := x.f.ReadAt(got, int64(off)); err != nil && len(got) > 0 {
		return err
	}
	return same(got, x.want[min(off, len(x.want)):][:len(got)])
}

// cold reads all of it from the device.
func (x *exercised) cold() error {
	if err := x.f.Sync(); err != nil {
		return err
	}
	if err := unix.Fadvise(int(x.f.Fd()), 0, 0, unix.FADV_DONTNEED); err != nil {
		return err
	}
	got, err := os.ReadFile(x.f.Name())
	if err != nil {
		return err
	}
	return same(got, x.want)
}

func (x *exercised) grow(to int) {
	if to > len(x.want) {
		x.want = append(x.want, make([]byte, to-len(x.want))...)
	}
}

func (x *exercised) noise(p []byte) {
	for i := range p {
		p[i] = byte(x.Uint32())
	}
}

func same(got, want []byte) error {
	if bytes.Equal(got, want) {
		return nil
	}
	if len(got) != len(want) {
		return fmt.Errorf("%d bytes are there, %d should be", len(got), len(want))
	}
	for i := range got {
		if got[i] != want[i] {
			return fmt.Errorf("byte %d is %#x, and should be %#x", i, got[i], want[i])
		}
	}
	return nil
}
