package main

import (
	"fmt"
	"os"
	"sync"
	"sync/atomic"

	"nidalo/core/parity"
	"nidalo/core/record"
	"nidalo/internal/nbd"
)

// bareStripes is a level 6 of eight files of which the engine has been left out: behind the protocol's front that Nidalo has, each write of a mebibyte is
// a stripe, which is summed, goes with its parity to the journals, and then in place. It is done at once by the goroutine that received it, in longer
// pieces than those of an array, and there is nothing that could be recovered.
type bareStripes struct {
	files [stripeData + stripeParity]*os.File
	next  atomic.Int64 // the place in the journals
}

const (
	stripeData   = 6
	stripeParity = 2
	stripeSize   = 1 << 20
	stripStep    = (stripeSize/stripeData + bareBlock) / bareBlock * bareBlock // the last strip is shorter
	stripeRows   = 3 << 10
)

func (a *bareStripes) Names() []string { return []string{""} }

func (a *bareStripes) Open(string, string) (nbd.Export, func(), error) { return a, func() {}, nil }

func (a *bareStripes) Size() int64 { return stripeRows * stripeSize }

// strips are those of a stripe.
func (a *bareStripes) strips(p []byte) (out [stripeData][]byte) {
	for i := range out {
		out[i] = p[i*stripStep : min(len(p), (i+1)*stripStep)]
	}
	return out
}

// row is where a stripe is on each member.
func (a *bareStripes) row(p []byte, at int64) (off int64, err error) {
	if len(p) != stripeSize || at%stripeSize != 0 {
		return 0, fmt.Errorf("%d bytes at %d are not a stripe", len(p), at)
	}
	return bareJournal + at/stripeSize*stripStep, nil
}

// Waits is that of bareClient.
func (a *bareStripes) Waits() int64 { return 0 }

func (a *bareStripes) Read(p []byte, at int64) ([]nbd.Hole, error) {
	off, err := a.row(p, at)
	if err != nil {
		return nil, err
	}
	for i, s := range a.strips(p) {
		if _, err := a.files[i].ReadAt(s, off); err != nil {
			return nil, err
		}
		_ = record.SumsOf(s)
	}
	return nil, nil
}

var (
	parities = sync.Pool{New: func() any { return new([stripeParity][stripStep]byte) }}
	nothing  [stripStep]byte
)

func (a *bareStripes) Write(p []byte, at int64) error {
	off, err := a.row(p, at)
	if err != nil {
		return err
	}
	room := parities.Get().(*[stripeParity][stripStep]byte)
	defer parities.Put(room)
	both := [][]byte{room[0][:], room[1][:]}
	data := a.strips(p)
	least := len(data[stripeData-1])
	var head, tail [][]byte
	for _, s := range data {
		head = append(head, s[:least])
		tail = append(tail, s[least:])
	}
	tail[stripeData-1] = nothing[:stripStep-least]
	parity.Encode([][]byte{both[0][:least], both[1][:least]}, head)
	parity.Encode([][]byte{both[0][least:], both[1][least:]}, tail)
	all := append(data[:], both...)
	journal := a.next.Add(stripStep) / stripStep % (bareJournal/stripStep - 1) * stripStep
	for i, s := range all {
		_ = record.SumsOf(s)
		if _, err := a.files[i].WriteAt(s, journal); err != nil {
			return err
		}
	}
	for i, s := range all {
		if _, err := a.files[i].WriteAt(s, off); err != nil {
			return err
		}
	}
	return nil
}

func (a *bareStripes) Flush() error {
	for _, f := range a.files {
		if err := f.Sync(); err != nil {
			return err
		}
	}
	return nil
}

func (a *bareStripes) FlushRange(int64, int64) error { return a.Flush() }

func (a *bareStripes) Zero(int64, int64) error { return nil }

func (a *bareStripes) Extents(_, length int64, _ int) ([]nbd.Extent, error) {
	return []nbd.Extent{{Length: length, Written: true}}, nil
}

func newBareStripes(dir string) *bareStripes {
	a := &bareStripes{}
	bareMembers(dir, a.files[:], stripeRows*stripStep)
	return a
}
