//go:build machine

package crash

import (
	"slices"
	"time"
)

// schedules is how many other schedules are tried before lines of a script count as needed: without them everything else happens
// at other moments.
const schedules = 6

// Shrink leaves out lines of a script that fails, for as long as it still does, and no longer than it may take. It returns what
// is left and how that fails.
func Shrink(s Script, most time.Duration) (Script, error) {
	end := time.Now().Add(most)
	_, last := Run(s)
	for chunk := (len(s.Ops) + 1) / 2; chunk > 0; {
		less := false
		for at := 0; at < len(s.Ops); {
			if time.Now().After(end) {
				return s, last
			}
			try := s
			try.Ops = slices.Delete(slices.Clone(s.Ops), at, min(at+chunk, len(s.Ops)))
			if smaller, err := failing(try); err != nil {
				s, last, less = smaller, err, true
			} else {
				at += chunk
			}
		}
		if !less || chunk > 1 {
			chunk /= 2
		}
	}
	return s, last
}

// failing looks for a schedule under which a script fails, and for an earlier end of the power.
func failing(s Script) (Script, error) {
	seed, ops := s.Seed, s.Ops
	for i := range schedules {
		s.Seed, s.Ops = seed+uint64(i), slices.Clone(ops)
		for at, o := range s.Ops {
			if i%2 == 1 && o.Verb == "power" {
				s.Ops[at].Args = []int64{o.Args[0] - o.Args[0]/int64(i+1)}
			}
		}
		if _, err := Run(s); err != nil {
			return s, err
		}
	}
	return s, nil
}
