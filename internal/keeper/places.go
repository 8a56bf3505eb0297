package keeper

import (
	"os"
	"runtime"
	"sync"

	"nidalo/internal/env"
)

var places struct {
	sync.Mutex
	more int
}

// OnePlaceMore lets one goroutine more run than there are processors until done is called. A goroutine in a system call keeps its place among those that
// run, also when the kernel has given its processor to a client that the call woke; Go takes the place away only some hundred microseconds later, and
// with as many places as processors one of them idles meanwhile. That pays where the clients are keepers of attached arrays, and where many flushes go
// together, and costs others some percent (docs/performance.md). A GOMAXPROCS in the environment stands.
func OnePlaceMore() (done func()) {
	morePlaces(1)
	return func() { morePlaces(-1) }
}

func morePlaces(n int) {
	if os.Getenv("GOMAXPROCS") != "" {
		return
	}
	places.Lock()
	defer places.Unlock()
	before := min(1, places.more)
	if places.more += n; min(1, places.more) != before {
		runtime.GOMAXPROCS(env.Processors() + min(1, places.more))
	}
}
