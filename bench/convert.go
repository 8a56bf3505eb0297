package main

import (
	"fmt"
	"log"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"nidalo/core/parity"
	"nidalo/core/record"
)

// converted measures changes of layout: how fast data moves, and what it costs clients.
func converted(dir, place string) {
	moving(dir, place)
	shared(dir, place)
}

// moving compares a conversion of level 5 to 6 with a bare loop of it, in memory. Its passes over the members: the data is read once, and written once with
// its parity; what goes where something is, four strips of five here, is written to the journals before.
func moving(dir, place string) {
	name := "conversion, level 5 of 4 to level 6 of 5 in memory: against the bare loop of it"
	if !wanted(name) {
		return
	}
	const each, mb = 300, 1 << 20 // MiB of each member
	var x, y []float64
	for range few() {
		s := array(dir, "5", 4, "1GiB")
		fill(s, 3*each)
		fill(s, each) // so that the journals have their memory as well
		s.take(bay(4))
		time.Sleep(4 * time.Second) // until the journals are emptied
		s.warm(4)
		nidalo(s.dir, "pace", "t", "full")
		nidalo(s.dir, "convert", "-yes", "-wait", "-level", "6", "t", "A5")
		x = append(x, 3*each/s.last().Seconds())
		s.stop()

		b := newBareWork(dir, 5, each*mb)
		const ring = 64 * mb
		var journals []*os.File
		for i := range 4 {
			f, err := os.Create(filepath.Join(dir, fmt.Sprint("journal", i)))
			if err != nil {
				log.Fatal(err)
			}
			must(f.WriteAt(make([]byte, ring), 0))
			journals = append(journals, f)
		}
		b.warm()
		var next atomic.Int64
		took := b.run([]int{3, 4}, []int{0, 1, 2, 3, 4}, func(rows, _ [][]byte) {
			parity.Encode(rows[3:], rows[:3])
			at := (next.Add(strip) - strip) % ring
			for i, f := range journals {
				_ = record.SumsOf(rows[i])
				must(f.WriteAt(rows[i], at))
			}
		})
		y = append(y, 3*each/took.Seconds())
		for _, f := range journals {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
		b.close()
	}
	add(row{Place: place, Name: name, Unit: "MiB/s", Peer: "bare", Target: 0.8,
		Limit: "data read once, written once with its parity, and four strips of five to the journals before; between windows, checkpoints"}.of(x, y))
}

// shared measures what clients have of their reads while the array is converted.
func shared(dir, place string) {
	name := "4 KiB random read while the array is converted at pace normal"
	if !wanted(name) {
		return
	}
	s := array(dir, "5", 4, "2GiB")
	defer s.stop()
	fill(s, 4096)
	nidalo(s.dir, "pace", "t", "normal")
	read := func() float64 {
		_, iops := fio(s.uri, "--rw=randread", "--bs=4k", "--iodepth=16", fmt.Sprintf("--size=%dM", *size), "--time_based", "--runtime=3")
		return iops
	}
	nidalo(s.dir, "convert", "-yes", "-level", "6", "t", "A5")
	x, y := s.beside(name, few(), read)
	add(row{Place: place, Name: name, Unit: "op/s", Peer: "without", Target: 0.6, Limit: "the pace: a third of the time; requests to the window that is moved wait for it"}.of(x, y))
}
