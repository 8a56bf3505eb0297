package array

import (
	"slices"

	"nidalo/core/layout"
	"nidalo/core/record"
	"nidalo/internal/array/member"
	"nidalo/internal/array/stripe"
	"nidalo/internal/env"
	"nidalo/internal/probe"
)

// What clients trim or zero becomes never-written, and when that is durable the members' blocks are given back: holes in files,
// discarded blocks of devices. What such a block holds then counts for nothing, whatever it is.
//
//	1  a change that empties blocks is in place     they are noted
//	2  a checkpoint has made the tables durable     no start brings back what was there: they may be given back
//	3  with the stripe held, blocks that are still never-written are given back, unless the array stopped: a commit that failed may
//	   have written them
//
// A crash forgets what was noted. The space then comes back when the blocks are written and emptied again.

// emptied is what became never-written and was not given back yet.
type emptied struct {
	mu      env.Mutex
	noted   []stretch // since the last checkpoint began
	durable []stretch
	some    chan struct{}
}

// stretch is some blocks of a member's data.
type stretch struct {
	m        *member.Member
	block, n int64
}

// mostNoted bounds the stretches in memory; more are forgotten.
const mostNoted = 1 << 16

// note takes down that blocks became never-written.
func (e *emptied) note(m *member.Member, block, n int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if l := len(e.noted) - 1; l >= 0 && e.noted[l].m == m && e.noted[l].block+e.noted[l].n == block {
		e.noted[l].n += n
	} else if len(e.noted) < mostNoted {
		e.noted = append(e.noted, stretch{m, block, n})
	}
}

// take is what was noted so far, for a checkpoint that begins. The caller holds the barrier.
func (e *emptied) take() []stretch {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := e.noted
	e.noted = nil
	return out
}

// settled says what became of a checkpoint that took some.
func (e *emptied) settled(list []stretch, durable bool) {
	if len(list) == 0 {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if !durable {
		e.noted = append(list, e.noted...)
		return
	}
	if len(e.durable) < mostNoted {
		e.durable = append(e.durable, list...)
	}
	select {
	case e.some <- struct{}{}:
	default:
	}
}

func (e *emptied) due() []stretch {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := e.durable
	e.durable = nil
	return out
}

func (a *Array) giveBackLoop() {
	for env.Wait(env.Never, a.stop, a.emptied.some) != 0 {
		a.giveBack(a.emptied.due())
	}
}

// giveBackRows is how many rows are held at a time.
const giveBackRows = 32

// giveBack gives stretches back whose state is durable.
func (a *Array) giveBack(list []stretch) {
	lay := a.Layout()
	// What members of a group lost of the same stripes goes together.
	byPlace := map[layout.ID][]stretch{} // by the first stripe that is held
	var order []layout.ID
	for _, s := range list {
		for s.n > 0 {
			st, col, ok := lay.On(s.m.Slot, s.block)
			if !ok {
				break // nothing that the array uses
			}
			first := st.At(st.Group, max(st.Skip, st.Row-st.Row%giveBackRows))
			n := min(s.n, min(giveBackRows-st.Row%giveBackRows, st.Rows-st.Row)*int64(st.StripBlocks())-int64(col))
			if byPlace[first.ID()] == nil {
				order = append(order, first.ID())
			}
			byPlace[first.ID()] = append(byPlace[first.ID()], stretch{s.m, s.block, n})
			s.block, s.n = s.block+n, s.n-n
		}
	}
	slices.SortFunc(order, layout.ID.Compare)
	for _, id := range order {
		if a.alive() != nil {
			return
		}
		if first, ok := lay.Find(id); ok {
			a.giveBackHeld(lay, first, byPlace[id])
		}
	}
}

// giveBackHeld gives back what is still never-written of the rows of a group from a stripe on, which it holds meanwhile.
func (a *Array) giveBackHeld(lay *layout.Map, first layout.Stripe, list []stretch) {
	defer a.stripes.Lock(stripe.Rows(first, min(giveBackRows, first.Rows-first.Row)), true)()
	// A change whose commit failed may be in journals, and in place, without the tables telling of it. It stopped the array.
	if a.alive() != nil && !probe.GivenBackWhenStopped.On() {
		return
	}
	if a.Layout() != lay {
		return // what is there belongs to other stripes by now
	}
	for _, s := range list {
		if a.slots.At(s.m.Slot) != s.m || !s.m.Full() {
			continue
		}
		sums := make([]uint32, s.n)
		if a.tables.Sums(s.m, s.block, sums) != nil {
			continue
		}
		for i := 0; i < len(sums); {
			n := 0
			for i+n < len(sums) && (sums[i+n] == record.SumNever || probe.GivenBackThoughWritten.On()) {
				n++
			}
			if n > 0 && s.m.Discard(s.block+int64(i), int64(n)) {
				probe.GivenBack.Seen()
				a.stats.GivenBack.Add(int64(n) * Block)
			}
			i += n + 1
		}
	}
}
