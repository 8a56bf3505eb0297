// Package clock reads the clock that never jumps. That takes half as long as time.Now, which counts where requests are small.
package clock

import "time"

// Moment is a time by that clock, since the program began.
type Moment time.Duration

var epoch = time.Now()

// Now is this moment.
func Now() Moment { return Moment(time.Since(epoch)) }

// Since is how long ago a moment was.
func Since(m Moment) time.Duration { return time.Since(epoch) - time.Duration(m) }

// Wall is a moment by the clock on the wall, as that goes now.
func (m Moment) Wall() time.Time { return time.Now().Add(-Since(m)) }
