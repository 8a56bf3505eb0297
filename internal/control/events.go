package control

import "nidalo/internal/history"

// Event is something that happened, as people are told of it.
type Event = history.Event

// Severities of events.
const (
	Info     = "info"
	Warning  = "warning"
	Critical = "critical"
)
