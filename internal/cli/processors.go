package cli

import (
	"os"
	"runtime"
)

// useProcessors lets one goroutine more run than there are processors. A goroutine in a system call keeps its place among those that run, also when
// the kernel has given its processor to a client that the call woke. Go takes the place away only some hundred microseconds later. With as many places
// as processors one processor idles meanwhile, which cost 16 clients that flush up to a quarter (docs/performance.md). Two places more won nothing over
// one, and one costs a single client with many requests on their way some percent. A GOMAXPROCS in the environment stands.
func useProcessors() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + 1)
	}
}
