package nbd

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"nidalo/internal/clock"
)

// Budget is what the clients of one listener may take, all together. Every listener has its own, so that no client on the
// network can take what local clients need.
type Budget struct {
	Clients int   // that have chosen an export; 0: DefaultBudget's
	Memory  int64 // bytes of requests and replies on their way; 0: DefaultBudget's
}

// DefaultBudget is enough for a host with many clients.
var DefaultBudget = Budget{Clients: 256, Memory: 256 << 20}

const (
	// maxGreeting bounds the connections of a listener that have not chosen an export yet. The oldest makes room for a new
	// one: a client that is alive chooses within milliseconds.
	maxGreeting = 256
	// handshakeTime is how long a client may take to choose an export.
	handshakeTime = 30 * time.Second
	// idleFor is how long a client must have asked for nothing to be let go for another, when all slots are taken.
	idleFor = time.Minute
	// clientMemory is what one client may have on its way, bytes; what is shorter than smallRequest is not counted, since its
	// workers and maxPending bound it. All of it together is less than 8 MiB.
	clientMemory = 5 << 20
	smallRequest = 32 << 10
	// relief is how long a request waits for memory before a client that does not read its replies is let go.
	relief = 250 * time.Millisecond
	// writeTime is how long one write of replies, of at most clientMemory, may take.
	writeTime = time.Minute
)

// gate is one listener with its connections.
type gate struct {
	budget   Budget
	memory   *semaphore.Weighted
	mu       sync.Mutex
	greeting []*conn // oldest first
	clients  map[*conn]bool
}

var errNoSlot = errors.New("too many clients are connected; try again later")

func newGate(b Budget) *gate {
	if b.Clients <= 0 {
		b.Clients = DefaultBudget.Clients
	}
	if b.Memory <= 0 {
		b.Memory = DefaultBudget.Memory
	}
	b.Memory = max(b.Memory, clientMemory)
	return &gate{budget: b, memory: semaphore.NewWeighted(b.Memory), clients: map[*conn]bool{}}
}

// greet takes a new connection in, and lets the oldest go that has not chosen anything yet when there are too many.
func (g *gate) greet(c *conn) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.greeting) >= maxGreeting {
		_ = g.greeting[0].nc.Close()
		g.greeting = g.greeting[1:]
	}
	g.greeting = append(g.greeting, c)
}

// enter makes a connection a client, in the place of one that has been idle for long if there is no other.
func (g *gate) enter(c *conn) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.clients) >= g.budget.Clients {
		var oldest *conn
		for x := range g.clients {
			if x.busy.Load() == 0 && (oldest == nil || x.last.Load() < oldest.last.Load()) {
				oldest = x
			}
		}
		if oldest == nil || clock.Since(clock.Moment(oldest.last.Load())) < idleFor {
			return errNoSlot
		}
		delete(g.clients, oldest)
		_ = oldest.nc.Close()
	}
	g.greeting = slices.DeleteFunc(g.greeting, func(x *conn) bool { return x == c })
	g.clients[c] = true
	return nil
}

func (g *gate) leave(c *conn) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.greeting = slices.DeleteFunc(g.greeting, func(x *conn) bool { return x == c })
	delete(g.clients, c)
}

// take waits until n bytes are free for a request of a client. It fails when the connection is over.
func (c *conn) take(n int64) error {
	if n < smallRequest {
		return nil
	}
	if err := c.memory.Acquire(c.ctx, n); err != nil {
		return err
	}
	for !c.gate.memory.TryAcquire(n) {
		wait, cancel := context.WithTimeout(c.ctx, relief)
		err := c.gate.memory.Acquire(wait, n)
		cancel()
		if err == nil {
			return nil
		}
		if c.ctx.Err() != nil {
			c.memory.Release(n)
			return c.ctx.Err()
		}
		c.gate.relieve()
	}
	return nil
}

func (c *conn) give(n int64) {
	if n < smallRequest {
		return
	}
	c.gate.memory.Release(n)
	c.memory.Release(n)
}

// relieve lets the client go that has not read its replies for longest, if any has for a while.
func (g *gate) relieve() {
	g.mu.Lock()
	defer g.mu.Unlock()
	var worst *conn
	for c := range g.clients {
		if at := c.blocked.Load(); at != 0 && (worst == nil || at < worst.blocked.Load()) {
			worst = c
		}
	}
	if worst != nil && clock.Since(clock.Moment(worst.blocked.Load())) > relief {
		delete(g.clients, worst)
		_ = worst.nc.Close()
	}
}
