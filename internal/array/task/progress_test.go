package task

import (
	"math/rand/v2"
	"testing"
	"testing/synctest"
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

// A task of some seconds saves its progress a few times, since every time is a checkpoint, and never has more to repeat than a second's work. One that
// takes longer saves every grain.
func TestABriefTaskSavesSeldom(t *testing.T) {
	run := func(total, perTick int64) (saves int, unsaved int64) {
		task := &Task{}
		task.Count(0, total)
		s := task.Saves()
		for range 200 { // two seconds
			time.Sleep(10 * time.Millisecond)
			task.done.Add(perTick)
			if s.Due() {
				require.NoError(t, s.Keep(func() error { return nil }))
				saves++
			}
			unsaved = max(unsaved, task.Done()-s.kept)
		}
		return saves, unsaved
	}
	synctest.Test(t, func(t *testing.T) {
		saves, unsaved := run(500<<20, 1<<20)
		require.LessOrEqual(t, saves, 4)
		require.LessOrEqual(t, unsaved, int64(100<<20))

		saves, unsaved = run(500<<20, 100<<10) // at ten mebibytes a second it takes longer
		require.Greater(t, saves, 5)
		require.LessOrEqual(t, unsaved, int64(2*(500<<20)/pieces))
	})
}

// What a task holds of the array follows its speed, so that no client waits long: little before that is known, and little again when it falls.
func TestATaskHoldsWhatItDoesSoon(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		task := &Task{}
		task.Count(0, 1<<40)
		s := task.Saves()
		held := func(perSecond int64) int64 {
			for range 4 {
				time.Sleep(250 * time.Millisecond)
				task.Advance(time.Now(), perSecond/4)
			}
			return s.Part()
		}
		require.LessOrEqual(t, s.Part(), int64(1<<20))
		time.Sleep(20 * time.Millisecond)
		task.Advance(time.Now(), 1<<20)
		require.InEpsilon(t, 4<<20, s.Part(), 0.01, "50 MiB/s in 80 ms, as far as is known")
		require.InEpsilon(t, 80<<20, held(1000<<20), 0.01)
		require.InEpsilon(t, 8<<20/100*8, held(8<<20), 0.01)
	})
}
