//go:build machine

package probe

import "sync/atomic"

// The machine runs one goroutine at a time; tests of the engine under the same tag do not, hence the atomics.
var (
	counts [Events]atomic.Int64
	chosen atomic.Int64
	asked  atomic.Bool
)

// Seen counts an event.
func (e Event) Seen() { counts[e].Add(1) }

// Count is how often it was seen.
func (e Event) Count() int { return int(counts[e].Load()) }

// On says whether the engine is to make the mistake.
func (m Mistake) On() bool {
	if Mistake(chosen.Load()) != m {
		return false
	}
	asked.Store(true)
	return true
}

// Make has the engine make a mistake from now on; None ends that.
func Make(m Mistake) {
	asked.Store(false)
	chosen.Store(int64(m))
}

// Made says whether the engine came to the place of the mistake.
func Made() bool { return asked.Load() }

// Soil fills memory that its new user is to overwrite, so that a user that does not is noticed, and always the same.
func Soil(b []byte) {
	for len(b) > 0 {
		b = b[copy(b, soil[:]):]
	}
}

var soil = func() (out [64 << 10]byte) {
	for i := range out {
		out[i] = 0xd7
	}
	return out
}()
