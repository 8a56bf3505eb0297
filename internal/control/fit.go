package control

import "time"

// FitRequest asks for that.
type FitRequest struct {
	Measure string `json:"measure,omitempty"` // a blank disk whose flushes are measured
}

// Verdicts.
const (
	FitFine    = "fine"
	FitConcern = "concern" // it works, and could be better
	FitBad     = "bad"     // something that is needed does not work
)

// FitItem is one thing that was looked at.
type FitItem struct {
	About   string `json:"about"`
	Verdict string `json:"verdict"`
	Found   string `json:"found"`
	Mend    string `json:"mend,omitempty"` // what to do about it
}

// FitReply is all of it, the worst first.
type FitReply struct {
	Time    time.Time `json:"time"`
	Service bool      `json:"service"` // the rights and limits are those of the service, not of a command
	Items   []FitItem `json:"items"`
}
