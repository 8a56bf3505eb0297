//go:build machine

// Package crash runs the engine that ships, with all it does at the same time, on simulated disks with volatile caches, under
// a scheduler (package env with the build tag machine). Several clients write while disks are pulled and put back, members
// fail, are replaced, retired and checked; the power goes at any moment, also during recovery; members are lost, rot, or are
// set back. Then what is read is held against a model. Everything follows from a seed:
//
//	go test -tags machine ./internal/crash -run TestSeed -seed 12345 -v
package crash

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"nidalo/internal/disk"
	"nidalo/internal/env"
)

const block = 4096

// ErrPower is what every disk returns once the power is gone.
var ErrPower = errors.New("power is gone")

// Power is shared by the disks of one machine: it goes after a set number of operations.
type Power struct {
	mu   sync.Mutex
	left int // operations until the cut; negative: never
	off  bool
}

func (p *Power) use() error {
	env.Yield()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.off {
		return ErrPower
	}
	if p.left == 0 {
		p.off = true
		return ErrPower
	}
	if p.left > 0 {
		p.left--
	}
	return nil
}

// Disk is a simulated disk. Writes go to its cache; Sync makes them durable; a power cut keeps of every block in the
// cache any of the versions written since the last sync, or none.
type Disk struct {
	mu      sync.Mutex
	power   *Power
	name    string
	size    int64
	durable map[int64][]byte
	cached  map[int64][][]byte // versions since the last sync, oldest first
	gone    bool
	bad     map[int64]bool // unreadable until written
	until   time.Time      // it answers nothing before
	cuts    int            // of its power
	shaky   bool           // it rotted, hung or failed a sync while in use, and no check put it right yet
	failing bool           // the next sync fails, and nobody knows what it kept
}

// NewDisk makes a blank disk of size bytes.
func NewDisk(name string, size int64, power *Power) *Disk {
	return &Disk{power: power, name: name, size: size, durable: map[int64][]byte{}, cached: map[int64][][]byte{}, bad: map[int64]bool{}}
}

var zeros [block]byte

// answer waits until the disk answers. What waits when the power goes is never done.
func (d *Disk) answer() error {
	cuts := d.cuts
	env.Yield()
	for !d.power.off {
		left := d.until.Sub(env.Now())
		if left <= 0 {
			break
		}
		env.Wait(left)
	}
	if d.power.off || d.cuts != cuts {
		return ErrPower
	}
	return nil
}

func (d *Disk) ReadAt(p []byte, off int64) error {
	if err := d.answer(); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.gone {
		return disk.ErrGone
	}
	if d.power.off {
		return ErrPower
	}
	if off < 0 || off+int64(len(p)) > d.size {
		return fmt.Errorf("read beyond the end")
	}
	for len(p) > 0 {
		b, in := off/block, off%block
		if d.bad[b] {
			return fmt.Errorf("%s: block %d is unreadable", d.name, b)
		}
		src := d.durable[b]
		if v := d.cached[b]; len(v) > 0 {
			src = v[len(v)-1]
		}
		if src == nil {
			src = zeros[:]
		}
		n := copy(p, src[in:])
		p, off = p[n:], off+int64(n)
	}
	return nil
}

func (d *Disk) WriteAt(p []byte, off int64) error {
	if off%block != 0 || len(p)%block != 0 || off < 0 || off+int64(len(p)) > d.size {
		return fmt.Errorf("write of %d bytes at %d", len(p), off)
	}
	if err := d.answer(); err != nil {
		return err
	}
	for at := 0; at < len(p); at += block {
		// The cut can come between any two blocks of one write.
		if d.isGone() {
			return disk.ErrGone
		}
		if err := d.power.use(); err != nil {
			return err
		}
		d.mu.Lock()
		b := (off + int64(at)) / block
		d.cached[b] = append(d.cached[b], slices.Clone(p[at:at+block]))
		delete(d.bad, b)
		d.mu.Unlock()
	}
	return nil
}

func (d *Disk) isGone() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.gone
}

// Present says whether the disk is there.
func (d *Disk) Present() error {
	if d.isGone() {
		return disk.ErrGone
	}
	return nil
}

func (d *Disk) ReadVec(bufs [][]byte, off int64) error  { return disk.EachBuffer(bufs, off, d.ReadAt) }
func (d *Disk) WriteVec(bufs [][]byte, off int64) error { return disk.EachBuffer(bufs, off, d.WriteAt) }

func (d *Disk) Sync() error {
	if err := d.answer(); err != nil {
		return err
	}
	if d.isGone() {
		return disk.ErrGone
	}
	if d.failing {
		d.failing = false
		seen("a sync failed")
		return errors.New("input/output error")
	}
	// What is written while the sync runs is not covered by it.
	d.mu.Lock()
	covered := map[int64]*byte{}
	for b, v := range d.cached {
		covered[b] = &v[len(v)-1][0]
	}
	d.mu.Unlock()
	if err := d.power.use(); err != nil {
		return err
	}
	if d.isGone() {
		return disk.ErrGone
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for b, last := range covered {
		v := d.cached[b]
		n := slices.IndexFunc(v, func(x []byte) bool { return &x[0] == last }) + 1
		if n == 0 {
			continue // another sync has it
		}
		d.durable[b] = v[n-1]
		if len(v) == n {
			delete(d.cached, b)
		} else {
			d.cached[b] = v[n:]
		}
	}
	return nil
}

func (d *Disk) Size() int64             { return d.size }
func (d *Disk) Identity() disk.Identity { return disk.Identity{Path: d.name} }
func (d *Disk) Close() error            { return nil }

// vanish pulls the disk: what was in its cache is kept or lost as in a power cut.
func (d *Disk) vanish(r *rand.Rand) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.gone = true
	d.cut(r)
}

// cut is what a power cut leaves: of each cached block one of its versions or the durable one.
func (d *Disk) cut(r *rand.Rand) {
	d.until, d.failing = time.Time{}, false
	d.cuts++
	mode := r.IntN(6)
	seam := r.Int64N(d.size / block)
	for _, b := range sortedKeys(d.cached) {
		v := d.cached[b]
		keep := -1
		switch mode {
		case 0: // nothing reached the platter
		case 1: // everything did
			keep = len(v) - 1
		case 2: // one end of the disk did: the journal without the data, or the data without the journal
			if b < seam {
				keep = len(v) - 1
			}
		case 3:
			if b >= seam {
				keep = len(v) - 1
			}
		default:
			keep = r.IntN(len(v)+1) - 1
		}
		if keep >= 0 {
			if r.IntN(8) == 0 { // torn: only a sector is whole
				d.durable[b] = tear(r, d.durable[b], v[keep])
			} else {
				d.durable[b] = v[keep]
			}
		}
	}
	clear(d.cached)
}

// tear mixes the sectors of two versions of a block.
func tear(r *rand.Rand, old, now []byte) []byte {
	out := slices.Clone(now)
	if old == nil {
		old = zeros[:]
	}
	for at := 0; at < block; at += 512 {
		if r.IntN(2) == 0 {
			copy(out[at:at+512], old[at:])
		}
	}
	return out
}

// snapshot is what the disk has durably now, for a later setBack.
func (d *Disk) snapshot() map[int64][]byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	return maps.Clone(d.durable)
}

// setBack makes some blocks what they were in a snapshot: all but the first and the last mark, or those that pick chooses.
func (d *Disk) setBack(was map[int64][]byte, pick func(block int64) bool) (changed int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, b := range sortedKeys(d.durable) {
		if !pick(b) || slices.Equal(d.durable[b], was[b]) {
			continue
		}
		changed++
		if was[b] == nil {
			delete(d.durable, b)
		} else {
			d.durable[b] = was[b]
		}
	}
	return changed
}

// stall lets the disk answer nothing for a while.
func (d *Disk) stall(until time.Time) { d.until = until }

// rot damages about a part of the disk's blocks: bits change, blocks become unreadable, or land in each other's place.
func (d *Disk) rot(r *rand.Rand, part float64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	keys := sortedKeys(d.durable)
	for _, b := range keys {
		if r.Float64() >= part {
			continue
		}
		switch r.IntN(3) {
		case 0:
			c := slices.Clone(d.durable[b])
			c[r.IntN(block)] ^= byte(1 + r.IntN(255))
			d.durable[b] = c
		case 1:
			d.bad[b] = true
		case 2:
			d.durable[b] = d.durable[keys[r.IntN(len(keys))]]
		}
	}
}

func sortedKeys[V any](m map[int64]V) []int64 {
	keys := make([]int64, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
