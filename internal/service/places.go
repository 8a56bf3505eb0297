package service

import (
	"time"

	"nidalo/internal/clock"
	"nidalo/internal/keeper"
)

// manyJoined is how many flushes a second that go with others make it worth that one goroutine more may run.
const manyJoined = 2000

// places sees to how many goroutines may run.
type places struct {
	looked clock.Moment // when it looked last
	joined int64        // flushes that had gone with others by then
	less   func()       // ends that one more may run; nil: none more may, for this reason
}

// look lets one goroutine more run than there are processors as long as many flushes go with others, since their clients wake each other.
func (p *places) look(arrays []*running) {
	since := clock.Since(p.looked)
	if since < time.Second {
		return
	}
	joined := int64(0)
	for _, r := range arrays {
		joined += r.Stats().Joined.Load()
	}
	many := float64(joined-p.joined) > manyJoined*since.Seconds()
	p.looked, p.joined = clock.Now(), joined
	switch {
	case many && p.less == nil:
		p.less = keeper.OnePlaceMore()
	case !many:
		p.end()
	}
}

func (p *places) end() {
	if p.less != nil {
		p.less()
		p.less = nil
	}
}
