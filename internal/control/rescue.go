package control

// Stages of a rescue.
const (
	RescueJudging  = "judging"
	RescueCopying  = "copying"
	RescueServed   = "served"
	RescueBringing = "bringing back"
	RescueDone     = "done"
	RescueStopped  = "stopped"
	RescueFailed   = "failed"
)
