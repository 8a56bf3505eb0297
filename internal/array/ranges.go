package array

import (
	"math/bits"

	"nidalo/core/layout"
	"nidalo/internal/env"
)

// ranges keeps apart what clients do and the moves of a change of layout. A request holds the parts of the logical space that it is about
// shared, so what it found in the map holds until it is done; a move holds those that it moves alone.
type ranges struct {
	locks [rangeLocks]env.RWMutex
}

const (
	rangeBytes = 16 << 20 // of the logical space, that share a lock
	rangeLocks = 64
)

func (r *ranges) init() {
	for i := range r.locks {
		env.Ranked(&r.locks[i], env.RankRange)
	}
}

// parts are the locks of a stretch, a bit for each.
func (r *ranges) parts(off, length int64) (set uint64) {
	first, last := off/rangeBytes, (off+max(length, 1)-1)/rangeBytes
	if last-first >= rangeLocks-1 {
		return ^uint64(0)
	}
	for i := first; i <= last; i++ {
		set |= 1 << (i % rangeLocks)
	}
	return set
}

// share holds parts with others; unshare ends that.
func (r *ranges) share(set uint64) {
	for ; set != 0; set &= set - 1 {
		r.locks[bits.TrailingZeros64(set)].RLock()
	}
}

func (r *ranges) unshare(set uint64) {
	for ; set != 0; set &= set - 1 {
		r.locks[bits.TrailingZeros64(set)].RUnlock()
	}
}

// enter holds a stretch of the logical space with other requests, and finds the map that is in force there until the parts are unshared. The array may have
// become smaller meanwhile: then nothing is held, and the error is that of layout.Map.Check.
func (a *Array) enter(off, length int64) (lay *layout.Map, parts uint64, err error) {
	parts = a.ranges.parts(off, length)
	a.ranges.share(parts)
	lay = a.Layout()
	if err = lay.Check(off, length); err != nil {
		a.ranges.unshare(parts)
	}
	return lay, parts, err
}

// hold holds a stretch alone, until what it returns is called.
func (r *ranges) hold(off, length int64) (release func()) {
	all := r.parts(off, length)
	for set := all; set != 0; set &= set - 1 {
		r.locks[bits.TrailingZeros64(set)].Lock()
	}
	return func() {
		for set := all; set != 0; set &= set - 1 {
			r.locks[bits.TrailingZeros64(set)].Unlock()
		}
	}
}
