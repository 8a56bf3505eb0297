//go:build machine

package crash

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"time"

	"nidalo/core/state"
	"nidalo/internal/array/member"
	"nidalo/internal/disk"
	"nidalo/internal/env"
)

const block = 4096

// ErrPower is what every disk returns once the power is gone.
var ErrPower = errors.New("power is gone")

// Power is shared by the disks of one machine: it goes after a set number of operations. Disks need no locks: one goroutine of
// the machine runs at a time, and others only go on where package env is called.
type Power struct {
	left int // operations until the cut; negative: never
	off  bool
	each func() // called at every operation
	gone func() // called when the power goes
}

func (p *Power) use() error {
	if p.each != nil {
		p.each()
	}
	env.Yield()
	if p.off {
		return ErrPower
	}
	if p.left == 0 {
		p.off = true
		p.gone()
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
	power   *Power
	name    string
	size    int64
	durable map[int64][]byte
	cached  map[int64][][]byte // versions since the last sync, oldest first
	gone    bool
	rests   bool           // it was put to sleep, and nothing was asked of it since
	bad     map[int64]bool // unreadable until written
	until   time.Time      // it answers nothing before
	lag     time.Duration  // and takes so long for everything
	cuts    int            // of its power
	faults  []*fault
	severed bool   // its link is broken, see OutOfTouch
	links   int    // how often it broke
	breaks  int    // blocks to be written until it does; 0: it stands
	late    []sent // when it did

	// What the machine knows of it and the array need not.
	pulled   int  // in which session of the machine
	whole    bool // it had all of its contents when it was pulled first
	shaky    bool // it did not do what a disk should, and no check put that right yet
	latent   bool // it did so silently: only a check after a start finds all of it
	reloaded bool // and there was a start since
	touched  bool // blocks of it were changed behind the array's back
}

// access is a kind of operation.
type access int64

const (
	reads access = iota
	writes
	syncs
)

// effect is what goes wrong with an operation.
type effect string

const (
	fails  effect = "fails"         // with an input/output error
	full   effect = "finds no room" // with an error that says so
	lies   effect = "is confirmed and not done"
	strays effect = "is done at another place"
)

// fault is something that goes wrong with some operations of a disk.
type fault struct {
	effect   effect
	on       access
	after    int64 // operations of the kind before the first
	times    int64 // that go wrong
	from, to int64 // blocks it is about; both 0: all
	shift    int64 // strays: by so many blocks
}

// strikes is the fault that an operation meets, or nil.
func (d *Disk) strikes(on access, b int64) *fault {
	for _, f := range d.faults {
		if f.on != on || f.times == 0 || f.to > 0 && (b < f.from || b >= f.to) {
			continue
		}
		if f.after > 0 {
			f.after--
			continue
		}
		f.times--
		seen(fmt.Sprintf("a %s %s", []string{"read", "write", "sync"}[on], f.effect))
		return f
	}
	return nil
}

// NewDisk makes a blank disk of size bytes.
func NewDisk(name string, size int64, power *Power) *Disk {
	return &Disk{power: power, name: name, size: size, durable: map[int64][]byte{}, cached: map[int64][][]byte{}, bad: map[int64]bool{}}
}

var zeros [block]byte

// answer waits until the disk answers. What waits when the power goes is never done.
func (d *Disk) answer() error {
	if d.rests {
		d.rests = false
		seen("a disk woke")
	}
	cuts := d.cuts
	env.Yield()
	if d.lag > 0 {
		env.Wait(d.lag)
	}
	for !d.power.off {
		left := d.until.Sub(env.Now())
		if d.severed {
			left = max(left, 100*time.Millisecond)
		}
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
	if d.gone {
		return disk.ErrGone
	}
	if off < 0 || off+int64(len(p)) > d.size {
		return fmt.Errorf("read beyond the end")
	}
	for len(p) > 0 {
		b, in := off/block, off%block
		if d.bad[b] || d.strikes(reads, b) != nil {
			return fmt.Errorf("%s: block %d is unreadable", d.name, b)
		}
		n := copy(p, d.holds(b)[in:])
		p, off = p[n:], off+int64(n)
	}
	return nil
}

// holds is what a block reads as.
func (d *Disk) holds(b int64) []byte {
	if v := d.cached[b]; len(v) > 0 {
		return v[len(v)-1]
	}
	if v := d.durable[b]; v != nil {
		return v
	}
	return zeros[:]
}

// Peek reads without an operation, unless something was done to the disk that the array has no part in.
func (d *Disk) Peek(p []byte, off int64) bool {
	if d.gone || d.touched || d.shaky || d.latent || off%block != 0 || len(p) != block {
		return false
	}
	copy(p, d.holds(off/block))
	return true
}

func (d *Disk) WriteAt(p []byte, off int64) error {
	if off%block != 0 || len(p)%block != 0 || off < 0 || off+int64(len(p)) > d.size {
		return fmt.Errorf("write of %d bytes at %d", len(p), off)
	}
	if err := d.answer(); err != nil {
		return err
	}
	return d.sending(off, p)
}

// errBroken: the link broke.
var errBroken = errors.New("the link is broken")

// land does a write that reached the disk's host.
func (d *Disk) land(p []byte, off int64) error {
	link := d.links
	for at := 0; at < len(p); at += block {
		// The cut can come between any two blocks of one write.
		if d.gone {
			return disk.ErrGone
		}
		if err := d.power.use(); err != nil {
			return err
		}
		if d.breaksNow() || d.links != link {
			return errBroken
		}
		b := (off + int64(at)) / block
		if f := d.strikes(writes, b); f != nil {
			switch f.effect {
			case fails:
				return fmt.Errorf("%s: block %d: input/output error", d.name, b)
			case full:
				return fmt.Errorf("%s: %w", d.name, disk.ErrFull)
			case lies:
				continue
			case strays:
				b = (b + f.shift) % (d.size / block)
			}
		}
		d.cached[b] = append(d.cached[b], slices.Clone(p[at:at+block]))
		delete(d.bad, b)
	}
	return nil
}

// Discard forgets some blocks: what they hold then may be anything.
func (d *Disk) Discard(off, n int64) error {
	if err := d.answer(); err != nil {
		return err
	}
	for b := off / block; b < (off+n)/block; b++ {
		if d.gone {
			return disk.ErrGone
		}
		link := d.links
		if err := d.power.use(); err != nil {
			return err
		}
		if d.links != link {
			return d.Discard(off, n) // it is sent again
		}
		junk := make([]byte, block)
		for i := range junk {
			junk[i] = byte(b) ^ byte(i) ^ 0x5a
		}
		d.cached[b] = append(d.cached[b], junk)
	}
	return nil
}

// Standby puts the disk to sleep.
func (d *Disk) Standby() error {
	if err := d.answer(); err != nil {
		return err
	}
	d.rests = true
	return nil
}

// Asleep says whether it has to wake up first.
func (d *Disk) Asleep() bool { return d.rests }

// Present says whether the disk is there.
func (d *Disk) Present() error {
	if d.gone {
		return disk.ErrGone
	}
	return nil
}

func (d *Disk) ReadVec(bufs [][]byte, off int64) error  { return eachBuffer(bufs, off, d.ReadAt) }
func (d *Disk) WriteVec(bufs [][]byte, off int64) error { return eachBuffer(bufs, off, d.WriteAt) }

// ReadMany reads stretches, whose answers come in any order.
func (d *Disk) ReadMany(l *disk.Landing, all []disk.Stretch) error {
	return member.Parallel(len(all), func(i int) error {
		got := make([]byte, disk.Length(all[i].Bufs))
		if err := d.ReadAt(got, all[i].Off); err != nil {
			return err
		}
		if !l.Arm(func() {}) {
			return disk.ErrRevoked
		}
		for _, b := range all[i].Bufs {
			got = got[copy(b, got):]
		}
		return nil
	})
}

// WriteMany writes stretches, which arrive in any order.
func (d *Disk) WriteMany(all []disk.Stretch) error {
	seen("writes went out together")
	return member.Parallel(len(all), func(i int) error { return d.WriteVec(all[i].Bufs, all[i].Off) })
}

func (d *Disk) Sync() error {
	if err := d.answer(); err != nil {
		return err
	}
	if d.gone {
		return disk.ErrGone
	}
	if f := d.strikes(syncs, 0); f != nil {
		if f.effect == lies {
			return nil
		}
		return errors.New("input/output error")
	}
	// What is written while the sync runs is not covered by it.
	covered := map[int64]*byte{}
	for b, v := range d.cached {
		covered[b] = &v[len(v)-1][0]
	}
	link := d.links
	if err := d.power.use(); err != nil {
		return err
	}
	if d.gone {
		return disk.ErrGone
	}
	if d.links != link {
		return d.Sync() // it is sent again
	}
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

func (d *Disk) Size() int64              { return d.size }
func (d *Disk) Identity() state.Identity { return state.Identity{Path: d.name} }
func (d *Disk) Close() error             { return nil }

// vanish pulls the disk: what was in its cache is kept or lost as in a power cut.
func (d *Disk) vanish(r *rand.Rand) {
	d.gone = true
	d.cut(r, d.drawKeeping(r))
}

// keeping is which blocks of a cache a cut keeps.
type keeping struct {
	mode int
	seam int64 // block
}

// drawKeeping draws them. Half of the seams lie where the journal begins or ends, or the data begins.
func (d *Disk) drawKeeping(r *rand.Rand) keeping {
	k := keeping{r.IntN(6), r.Int64N(d.size / block)}
	if at := r.Int64N(6); at < 3 {
		k.seam = (1 + at) << 20 / block
	}
	return k
}

// cut is what a power cut leaves: of each cached block one of its versions or the durable one.
func (d *Disk) cut(r *rand.Rand, k keeping) {
	d.drain(r)
	d.until, d.lag, d.faults, d.severed, d.breaks = time.Time{}, 0, nil, false, 0
	d.cuts++
	d.rests = false
	for _, b := range sortedKeys(d.cached) {
		v := d.cached[b]
		keep := -1
		switch k.mode {
		case 0: // nothing reached the platter
		case 1: // everything did
			keep = len(v) - 1
		case 2: // one end of the disk did: the journal without the data, or the data without the journal
			if b < k.seam {
				keep = len(v) - 1
			}
		case 3:
			if b >= k.seam {
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
	return maps.Clone(d.durable)
}

// setBack makes some blocks what they were in a snapshot: all but the first and the last mark, or those that pick chooses.
func (d *Disk) setBack(was map[int64][]byte, pick func(block int64) bool) (changed int) {
	d.touched = true
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

// rot damages about a part of the disk's blocks: bits change, blocks become unreadable, or land in each other's place.
func (d *Disk) rot(r *rand.Rand, part float64) {
	d.touched = true
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

// eachBuffer does a vectored operation as one operation a buffer, for disks that have nothing better.
func eachBuffer(bufs [][]byte, off int64, one func(p []byte, off int64) error) error {
	for _, b := range bufs {
		if err := one(b, off); err != nil {
			return err
		}
		off += int64(len(b))
	}
	return nil
}
