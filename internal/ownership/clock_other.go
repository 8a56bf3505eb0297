//go:build !linux

package ownership

import "time"

var began = time.Now()

func now() time.Duration { return time.Since(began) }
