package service

import (
	"fmt"
	"time"

	"golang.org/x/sys/unix"

	"nidalo/internal/control"
)

// fitClock looks whether anything sets the clock.
func fitClock(add judge) {
	var t unix.Timex
	_, err := unix.Adjtimex(&t)
	switch {
	case time.Now().Year() < 2025:
		add("clock", control.FitBad, fmt.Sprintf("it says %s", time.Now().Format(time.DateTime)), "set it: the history, alerts and the hours of paces go by it")
	case err != nil:
		add("clock", control.FitConcern, fmt.Sprintf("whether it is set by others cannot be told: %v", err), "")
	case t.Status&unix.STA_UNSYNC != 0:
		add("clock", control.FitConcern, "nothing sets it by a time server", "run a time service: the history, alerts and the hours of paces go by it")
	default:
		add("clock", control.FitFine, "it is set by a time server", "")
	}
}
