package task

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nidalo/core/state"
)

// TestTheTimeLeftIsRight: with a clock of its own, a task at a steady rate with pieces that take a fifth longer or
// shorter, says within 15% what is left once a fifth is done, from the start and after it was resumed.
func TestTheTimeLeftIsRight(t *testing.T) {
	for _, before := range []int64{0, 40} { // of 100 pieces, done by an earlier run
		for seed := range uint64(50) {
			r := rand.New(rand.NewPCG(seed, 1))
			now := time.Unix(1_000_000, 0)
			w := &Task{kind: state.TaskRebuild, started: now.Add(-time.Duration(before) * time.Hour), state: state.TaskRunning}
			const pieces, bytes = 400, 1 << 20
			first := before * pieces / 100
			w.Count(first*bytes, pieces*bytes)
			w.measureAnew(now)
			took := make([]time.Duration, pieces)
			var end time.Time
			at := now
			for i := first; i < pieces; i++ {
				took[i] = time.Duration(800+r.IntN(400)) * time.Millisecond
				at = at.Add(took[i])
			}
			end = at
			percent := 0.0
			for i := first; i < pieces-1; i++ {
				now = now.Add(took[i])
				w.Advance(now, bytes)
				v := w.view(now)
				require.GreaterOrEqual(t, v.Percent, percent, "progress never goes back")
				percent = v.Percent
				if done := i + 1 - first; done*5 >= pieces-first && pieces-i > 100 {
					require.InEpsilon(t, end.Sub(now).Seconds(), v.Left.Seconds(), 0.15, "seed %d, piece %d", seed, i)
				}
			}
		}
	}
}
