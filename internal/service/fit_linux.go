package service

import (
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// fitClock looks whether somebody sets the clock.
func fitClock(add judge) {
	var t unix.Timex
	_, err := unix.Adjtimex(&t)
	switch {
	case time.Now().Year() < 2025:
		add("clock", FitBad, fmt.Sprintf("it says %s", time.Now().Format(time.DateTime)), "set it: the history, alerts and the hours of paces go by it")
	case err != nil:
		add("clock", FitConcern, fmt.Sprintf("whether it is set by others cannot be told: %v", err), "")
	case t.Status&unix.STA_UNSYNC != 0:
		add("clock", FitConcern, "nothing sets it by a time server", "run a time service: the history, alerts and the hours of paces go by it")
	default:
		add("clock", FitFine, "it is set by a time server", "")
	}
}
