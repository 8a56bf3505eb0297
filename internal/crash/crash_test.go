package crash

import (
	"flag"
	"os"
	"runtime"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
)

var (
	oneSeed = flag.Uint64("seed", 0, "replay this seed and tell its story")
	from    = flag.Uint64("from", 1, "the first seed")
)

func TestSeed(t *testing.T) {
	if *oneSeed == 0 {
		t.Skip("replays one seed: -seed N")
	}
	if err := Run(*oneSeed); err != nil {
		t.Fatal(err)
	}
}

// TestPowerCuts plays NIDALO_SEEDS seeds (a few hundred when not set).
func TestPowerCuts(t *testing.T) {
	seeds := uint64(400)
	if n, err := strconv.ParseUint(os.Getenv("NIDALO_SEEDS"), 10, 64); err == nil {
		seeds = n
	}
	var next, failures atomic.Uint64
	next.Store(*from - 1)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for {
				seed := next.Add(1)
				if seed >= *from+seeds || failures.Load() > 2 {
					return
				}
				if err := Run(seed); err != nil {
					failures.Add(1)
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	t.Logf("members set back: %d, of which their pages told in %d", setBacks.Load(), accusations.Load())
	t.Logf("disks that came back and caught up: %d; members retired: %d; arrays brought back in place: %d, %d of them whole",
		caughtUp.Load(), retired.Load(), readmitted.Load(), whole.Load())
	if seeds >= 400 && (accusations.Load() == 0 || caughtUp.Load() == 0 || retired.Load() == 0 || readmitted.Load() == 0) {
		t.Error("no disk ever came back, none was retired, or no array was brought back")
	}
}
